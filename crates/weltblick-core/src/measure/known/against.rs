//! What speaks against the figures of one row, each once, with the figures that it touches.

use crate::figure::{Doubt, Figure, Objection, ObjectionRow};

/// A kind of figures, and which of many: `own` and `max`; nothing where there is one.
type Name = (&'static str, &'static str);

/// Gathers what speaks against the figures of a row.
#[derive(Debug, Default)]
pub(crate) struct Against {
    /// The figures that are there.
    found: Vec<Name>,
    against: Vec<(Doubt, Vec<Name>)>,
}

impl Against {
    /// One more figure.
    pub(crate) fn note(&mut self, kind: &'static str, of: &'static str, figure: &Figure) {
        self.found.push((kind, of));
        for doubt in &figure.evidence.against {
            match self.against.iter_mut().find(|(known, _)| known == doubt) {
                Some((_, touched)) => touched.push((kind, of)),
                None => self.against.push((doubt.clone(), vec![(kind, of)])),
            }
        }
    }

    /// As results state it: a kind of figures by its name alone, where all of them are touched.
    pub(crate) fn rows(&self) -> Vec<ObjectionRow> {
        let row = |(doubt, touched): &(Doubt, Vec<Name>)| ObjectionRow {
            figures: self.names(touched),
            objection: Objection::from(doubt),
        };
        self.against.iter().map(row).collect()
    }

    fn names(&self, touched: &[Name]) -> Vec<String> {
        let of_kind =
            |all: &[Name], wanted: &str| all.iter().filter(|name| name.0 == wanted).count();
        let mut names: Vec<String> = Vec::new();
        for &(kind, of) in touched {
            let is_all = of_kind(touched, kind) == of_kind(&self.found, kind);
            let name =
                if is_all || of.is_empty() { kind.to_owned() } else { format!("{kind}.{of}") };
            if !names.contains(&name) {
                names.push(name);
            }
        }
        names
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Basis;

    #[test]
    fn each_objection_stands_once_with_the_figures_that_it_touches() {
        let mut against = Against::default();
        let mut figure = Figure::exact(1.0, 1, Basis::Counted);
        against.note("own", "min", &figure);
        figure.doubt(Doubt::OpenAtEnd { count: 1 });
        against.note("own", "max", &figure);
        against.note("elapsed", "max", &figure);
        against.note("load", "", &figure);
        let rows = against.rows();
        assert_eq!(rows.len(), 1);
        assert_eq!(rows[0].figures, ["own.max", "elapsed", "load"]);
        assert_eq!(rows[0].objection.code, "open_at_end");
    }
}

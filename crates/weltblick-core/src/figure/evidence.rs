//! On what a figure rests: as data. Results state it in words.

use super::Doubt;
use crate::stats::ShareEstimate;
use crate::time::duration_ns;

/// On what a figure rests.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Evidence {
    /// What was counted.
    pub basis: Basis,
    /// What is missing of it.
    pub missing: Missing,
    /// What else to know of how it came about.
    pub notes: Vec<Note>,
    /// Something is missing, and that is why the figure is not known better.
    pub lossy: bool,
    /// What would narrow the bounds, where nothing else is wrong.
    pub narrows: &'static str,
    /// It was estimated from samples.
    pub sampled: Option<Sampled>,
    /// What speaks against it.
    pub against: Vec<Doubt>,
    /// It may break a budget, and meets none.
    pub meets_nothing: bool,
}

/// What a figure was made of.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Basis {
    /// Every single one was counted.
    #[default]
    Counted,
    /// So many that were seen from beginning to end.
    Whole(u64),
    /// None was seen from beginning to end, but one for so long.
    OpenOnly,
    /// What so many runs took of all time.
    Runs(u64),
    /// The part of all time that something took.
    Time,
    /// Every position of a window of so many nanoseconds.
    Windows(f64),
    /// The deepest that a stack of `size` bytes was used.
    Stack {
        /// Bytes.
        used: u64,
        /// All of its bytes.
        size: u32,
    },
    /// So many values.
    Values(u64),
    /// Samples.
    Samples {
        /// Samples of this figure.
        hits: u64,
        /// All of them.
        all: u64,
        /// So many independent ones say as much.
        worth: f64,
        /// There may be so many more; absent where nothing bounds it.
        missing: Option<u64>,
    },
    /// Code that ran, of all that there is.
    Covered {
        /// So much.
        covered: u64,
        /// Of so much.
        total: u64,
        /// Functions, lines.
        what: &'static str,
        /// What was not seen may have run all the same.
        at_least: bool,
    },
    /// Calls, or ways through the code.
    Occurrences {
        /// How many.
        count: u64,
        /// What they are called.
        what: &'static str,
        /// Not seen to their end.
        cut: u64,
    },
    /// Instructions and their time.
    Instructions {
        /// How many.
        count: u64,
        /// Nothing is missing.
        exact: bool,
    },
}

/// What is missing of what a figure was made of.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Missing {
    /// In so many places.
    pub places: u64,
    /// None of what is missing lasted longer, in nanoseconds; absent where nothing bounds it.
    pub longest_ns: Option<f64>,
    /// Of so large a part of the time nothing is known.
    pub unknown: f64,
}

/// How a figure came about.
#[derive(Debug, Clone, PartialEq)]
pub enum Note {
    /// Lateness is known against the grid of a period.
    ByGrid,
    /// Only runs that followed another handler are known.
    Chained,
    /// After the last none came for so many nanoseconds.
    Silence(f64),
    /// The budget guarantees that it happens at most so often, in hertz.
    AtMost(f64),
    /// Sleep is separated from running by the pace of instructions.
    ByPace,
    /// Cycle counts may stand still in sleep, so that more of it is possible than they say.
    MayStandStill,
    /// These copies that a compiler made count with it.
    Clones(Vec<String>),
}

/// How a share was estimated.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sampled {
    /// The share and its interval, before anything that is missing was counted for and against it.
    pub estimate: ShareEstimate,
    /// How long the recording is, in nanoseconds.
    pub duration_ns: Option<f64>,
}

impl From<Basis> for Evidence {
    fn from(basis: Basis) -> Self {
        Self { basis, ..Self::default() }
    }
}

impl Evidence {
    /// On what it rests, and what speaks against it, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        let notes: String = self.notes.iter().map(Note::in_words).collect();
        let basis = self.basis.in_words(&self.missing) + &notes;
        [basis]
            .into_iter()
            .chain(self.against.iter().map(Doubt::why))
            .collect::<Vec<_>>()
            .join("; ")
    }
}

impl Basis {
    fn in_words(&self, missing: &Missing) -> String {
        let unknown = || format!("{:.1} % of the time unknown", 100.0 * missing.unknown);
        match self {
            Self::Counted if missing.places == 0 => "counted".into(),
            Self::Counted => "counted; some may be missing".into(),
            Self::Whole(count) => format!("{count} of them{}", missing.in_words()),
            Self::OpenOnly => {
                "none was seen from its beginning to its end, but one for so long".into()
            }
            Self::Runs(count) => format!("of {count} runs, {}", unknown()),
            Self::Time => unknown(),
            Self::Windows(ns) => {
                let known = match missing.places {
                    0 => "",
                    _ => "; who had the core is unknown in some",
                };
                format!("over every position of a window of {}{known}", duration_ns(*ns))
            }
            Self::Stack { used, size } => format!("{used} of {size} bytes"),
            Self::Values(count) if missing.places == 0 => format!("{count} values, none missing"),
            Self::Values(count) => format!("{count} values"),
            Self::Samples { hits, all, worth, missing } => {
                let worth = match *worth < 0.95 * *all as f64 {
                    true => format!(", worth {worth:.0} independent ones"),
                    false => String::new(),
                };
                let missing = match missing {
                    Some(0) | None => String::new(),
                    Some(missing) => format!(", up to {missing} missing"),
                };
                format!("{hits} of {all} samples{worth}{missing}")
            }
            Self::Covered { covered, total, what, at_least } => {
                format!("{}{covered} of {total} {what}", if *at_least { "at least " } else { "" })
            }
            Self::Occurrences { count, what, cut: 0 } => format!("{count} {what}"),
            Self::Occurrences { count, what, cut } => {
                format!("{count} {what}, {cut} not seen to their end")
            }
            Self::Instructions { count, exact: true } => {
                format!("exact: {count} instructions and their time")
            }
            Self::Instructions { count, exact: false } => format!(
                "{count} instructions that are known; something is missing, nobody knows how long"
            ),
        }
    }
}

impl Missing {
    fn in_words(&self) -> String {
        let longest = self.longest_ns.map(duration_ns);
        let longest =
            longest.map_or_else(String::new, |longest| format!(", none longer than {longest}"));
        match self.places {
            0 => ", none missing".into(),
            1 => format!("; something is missing in one place{longest}"),
            places => format!("; something is missing in {places} places{longest}"),
        }
    }
}

impl Note {
    fn in_words(&self) -> String {
        match self {
            Self::ByGrid => ", against the grid of its period".into(),
            Self::Chained => ", of runs that followed another handler only".into(),
            Self::Silence(ns) => format!(", then none for {}", duration_ns(*ns)),
            Self::AtMost(hertz) => format!(", relying on at most {hertz} Hz"),
            Self::MayStandStill => {
                "; cycle counts may stand still in sleep, which would make it more".into()
            }
            Self::ByPace => "; sleep is told apart by the pace of instructions".into(),
            Self::Clones(names) => format!(", with {}", names.join(", ")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn evidence_is_data_and_is_stated_in_words() {
        let mut evidence = Evidence::from(Basis::Whole(74));
        assert_eq!(evidence.in_words(), "74 of them, none missing");
        evidence.missing = Missing { places: 3, longest_ns: Some(82_200.0), unknown: 0.0 };
        evidence.notes = vec![Note::Silence(2e6), Note::AtMost(4000.0)];
        evidence.against = vec![Doubt::OpenAtEnd { count: 1 }];
        assert_eq!(
            evidence.in_words(),
            "74 of them; something is missing in 3 places, none longer than 82.2 us, then none for 2.00 ms, relying on at most 4000 Hz; one had not ended when the recording did"
        );
        let samples = Basis::Samples { hits: 3, all: 100, worth: 20.0, missing: Some(2) };
        let words = Evidence::from(samples).in_words();
        assert_eq!(words, "3 of 100 samples, worth 20 independent ones, up to 2 missing");
    }
}

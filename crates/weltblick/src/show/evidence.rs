//! What weakens figures, at the head of a result.

use super::{Paint, count, plain, wrapped};
use anyhow::Result;
use std::io::Write;
use weltblick_core::figure::{Objection, ObjectionRow};
use weltblick_core::measure::losses::LossRow;

/// What is missing, what speaks against all figures, and doubts, each with its mark.
pub(crate) fn doubts(
    losses: &[LossRow],
    objections: &[Objection],
    doubts: &[String],
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    for loss in losses {
        writeln!(out, "{}", paint.alarm(&format!("! {} x {}", count(loss.count), loss.reason)))?;
    }
    let against = objections.iter().map(|objection| sentence(&objection.why));
    for doubt in against.chain(doubts.iter().cloned()) {
        marked("?", &doubt, paint, out)?;
    }
    Ok(())
}

/// More kinds of figures are not listed.
const MOST_KINDS: usize = 4;
/// More rows are counted.
const MOST_NAMES: usize = 6;

/// What speaks against figures of single rows: each once, with the rows and the kinds of their figures. What the head of
/// the result has said already is left out.
pub(crate) fn objections<'r>(
    rows: impl Iterator<Item = (&'r str, &'r [ObjectionRow])>,
    said: &[Objection],
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let mut told: Vec<Against<'_>> = Vec::new();
    let mut all = 0;
    for (name, objections) in rows {
        all += 1;
        for ObjectionRow { figures, objection } in objections {
            if said.contains(objection) {
                continue;
            }
            let known = told.iter().position(|against| against.objection == objection);
            let place = known.unwrap_or_else(|| {
                told.push(Against { objection, names: Vec::new(), kinds: Vec::new() });
                told.len() - 1
            });
            told[place].names.push(name);
            for figure in figures {
                let kind = figure.split('.').next().unwrap_or(figure);
                if !told[place].kinds.contains(&kind) {
                    told[place].kinds.push(kind);
                }
            }
        }
    }
    // The end of every trace is so: no reason to be alarmed.
    if told.iter().any(Against::is_usual) {
        let text = "  what ran after the last synchronisation is unconfirmed: bounds hold with it, and without it";
        writeln!(out, "{}", paint.faint(text))?;
    }
    told.retain(|against| !against.is_usual());
    if !told.is_empty() {
        writeln!(out, "\nwhat speaks against single figures")?;
    }
    for Against { objection, names, kinds } in told {
        let is_all = names.len() > 1 && names.len() == all;
        let names = match names.len() {
            _ if is_all => "all".to_owned(),
            0..=MOST_NAMES => names.join(", "),
            many => format!("{many} of {all}"),
        };
        let kinds = match kinds.len() {
            0..=MOST_KINDS => kinds.join(", "),
            _ => "most figures".to_owned(),
        };
        marked("?", &format!("{names} ({kinds}): {}", objection.why), paint, out)?;
    }
    Ok(())
}

/// An objection, whose figures it touches, and which kinds of them.
struct Against<'r> {
    objection: &'r Objection,
    names: Vec<&'r str>,
    kinds: Vec<&'r str>,
}

impl Against<'_> {
    fn is_usual(&self) -> bool {
        self.objection.code == "unconfirmed"
    }
}

fn marked(mark: &str, text: &str, paint: Paint, out: &mut dyn Write) -> Result<()> {
    for (number, line) in wrapped(text).into_iter().enumerate() {
        let lead = if number == 0 { mark } else { " " };
        writeln!(out, "{}", paint.alarm(&format!("{lead} {}", plain(&line))))?;
    }
    Ok(())
}

/// A reason as a sentence of its own.
fn sentence(why: &str) -> String {
    let mut letters = why.chars();
    let first = letters.next().map_or_else(String::new, |first| first.to_uppercase().collect());
    format!("{first}{}.", letters.as_str())
}

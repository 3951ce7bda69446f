//! A budget file from a recording: what matters, with limits a little beyond what was seen.
//!
//! A draft is made in two steps. First every figure that could have a limit is judged by one that anything keeps; what
//! that says of it, with its bounds, gives the limit. Then the file is judged as any other: what the recording proves
//! stands in it as a budget, and the rest as a comment that says why it is none.

use super::file::BudgetFile;
use super::judgement::{Judgement, Verdict};
use super::place::{function_of, function_point};
use super::timing::Timings;
use crate::document::Fault;
use crate::event::Thing;
use crate::image::{FunctionId, Image};
use crate::time::duration_ns;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

/// Which way a limit goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    AtMost,
    AtLeast,
}
use Way::{AtLeast, AtMost};

/// The figures that get a limit, and one that any figure keeps.
type Key = (&'static str, Way, &'static str);
const OWN: Key = ("own.max", AtMost, "1000000000 s");
const ELAPSED: Key = ("elapsed.max", AtMost, "1000000000 s");
const RESPONSE: Key = ("response.max", AtMost, "1000000000 s");
const INTERRUPT: [Key; 3] = [RESPONSE, OWN, ("load", AtMost, "100 %")];
const TASK: [Key; 4] =
    [RESPONSE, OWN, ("load.max", AtMost, "100 %"), ("stack_peak", AtMost, "100 %")];
const SPAN: [Key; 1] = [ELAPSED];
const SIGNAL: [Key; 2] =
    [("value.max", AtMost, "1000000000000000000"), ("value.min", AtLeast, "-1000000000000000000")];
const FUNCTION: [Key; 3] = [
    ("self_share", AtMost, "100 %"),
    ("total.elapsed.max", AtMost, "1000000000 s"),
    ("total.own.max", AtMost, "1000000000 s"),
];
const SLEEP: [Key; 1] = [("share", AtLeast, "0 %")];
const COVERAGE: [Key; 2] = [("functions", AtLeast, "0 %"), ("lines", AtLeast, "0 %")];

/// A subject, as a budget file heads it: `interrupt.adc_ready`.
struct Subject {
    header: String,
    /// As judgements call it.
    name: String,
    keys: &'static [Key],
}

impl Subject {
    fn new(kind: &str, name: &str, keys: &'static [Key]) -> Self {
        let is_bare = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
        let quoted = if !name.is_empty() && name.chars().all(is_bare) {
            name.to_owned()
        } else {
            quoted(name)
        };
        Self { header: format!("{kind}.{quoted}"), name: format!("{kind}.{name}"), keys }
    }
}

/// A basic string of TOML.
fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() => {
                let _ = write!(quoted, "\\u{:04X}", u32::from(c));
            }
            c => quoted.push(c),
        }
    }
    quoted + "\""
}

/// Asks for everything that a draft may be about: what is measured for it is measured for any draft.
pub const EVERYTHING: &str = "[interrupt.\"1\"]\ncount = '>= 0'\n[task.\"1\"]\ncount = '>= 0'\n\
    [span.\"1\"]\ncount = '>= 0'\n[signal.\"1\"]\ncount = '>= 0'\n[coverage.\"*\"]\nlines = '>= 0 %'\n";

/// What a budget file is drafted from.
#[derive(Debug)]
pub struct Draft<'a> {
    /// Interrupts, tasks, spans and signals.
    pub timings: &'a Timings<'a>,
    /// What names belong to.
    pub image: &'a Image,
    /// The functions that ran longest.
    pub functions: &'a [FunctionId],
    /// It is known how often the core was asleep.
    pub sleeps: bool,
    /// What is known of executed code is worth a limit: there is an instruction trace.
    pub executed: bool,
    /// How far limits lie from what was seen, as a part of it.
    pub headroom: f64,
}

impl Draft<'_> {
    /// The budget file. `judged` is what a file comes to; `title` says what it was drafted from.
    ///
    /// # Errors
    ///
    /// Those of `judged`, and where what was written is no budget file: that is a bug.
    pub fn write<E: From<Fault>>(
        &self,
        title: &str,
        judged: impl Fn(&BudgetFile) -> Result<Vec<Judgement>, E>,
    ) -> Result<String, E> {
        let subjects = self.subjects();
        let anything = self.text(&subjects, |_, key| Some((None, anything(key))));
        let seen = judged(&parsed(&anything)?)?;
        let limits = self.limits(&seen);
        let limited = self.text(&subjects, |budget, key| {
            limits.get(budget).map(|limit| (None, limit.text(key.1)))
        });
        let drafted = judged(&parsed(&limited)?)?;
        // Of several subjects of one name the first that does not keep the limit.
        let mut verdicts: BTreeMap<&str, &Judgement> = BTreeMap::new();
        for judgement in &drafted {
            let known = verdicts.entry(judgement.budget.as_str()).or_insert(judgement);
            if known.verdict == Verdict::Met {
                *known = judgement;
            }
        }
        let mut file = format!(
            "# Drafted from {}: what was seen, and {} more.\n# A draft says what is, not what must be: set each limit to what the design needs.\n",
            one_line(title),
            percent(self.headroom)
        );
        file += &self.text(&subjects, |budget, key| {
            let (limit, judgement) = (limits.get(budget)?, verdicts.get(budget)?);
            Some((Some(*judgement), limit.text(key.1)))
        });
        Ok(file)
    }

    fn subjects(&self) -> Vec<Subject> {
        let mut subjects = Vec::new();
        let interrupts = self.timings.interrupts.rows().filter(|row| row.entries > 0);
        for row in interrupts {
            subjects.push(Subject::new(
                "interrupt",
                &self.timings.facts.interrupt_names.name(row.exception, Some(self.image)),
                &INTERRUPT,
            ));
        }
        if let Some((_, figures)) = self.timings.tasks.first() {
            // The idle task has no time that would be too long.
            let idle = figures.idle();
            for row in figures.rows().filter(|row| !idle.contains(&row.task)) {
                let name = figures.name(Thing::Task(row.task), Some(self.image));
                subjects.push(Subject::new("task", &name, &TASK));
            }
        }
        for row in self.timings.spans.list() {
            let name = self.timings.spans.name(row.span, |address| self.image.text_at(address));
            subjects.push(Subject::new("span", &name, &SPAN));
        }
        if let Some(signals) = self.timings.signals {
            for signal in signals.list() {
                subjects.push(Subject::new("signal", &signals.name(signal.key), &SIGNAL));
            }
        }
        let keys = if self.executed { &FUNCTION[..] } else { &FUNCTION[..1] };
        for &function in self.functions {
            if let Some(name) = self.spelling(function) {
                subjects.push(Subject::new("function", &name, keys));
            }
        }
        if self.sleeps {
            subjects.push(Subject { header: "sleep".into(), name: "sleep".into(), keys: &SLEEP });
        }
        if self.executed {
            subjects.push(Subject::new("coverage", "*", &COVERAGE));
        }
        // Several of one name are one subject in a file.
        let mut known = BTreeSet::new();
        subjects.retain(|subject| known.insert(subject.name.clone()));
        // An interrupt that several cores take is one subject with a verdict for each of them.
        let mut seen = BTreeSet::new();
        subjects.retain(|subject| seen.insert(subject.header.clone()));
        subjects
    }

    /// How a budget file names a function; `None` where it cannot.
    fn spelling(&self, id: FunctionId) -> Option<String> {
        let name = &self.image.function(id).name;
        let file = self.image.location_at(self.image.function(id).range.start);
        let spellings = [Some(name.clone()), file.map(|place| format!("{}#{name}", place.file))];
        spellings.into_iter().flatten().find(|spelling| {
            let point = function_point(spelling);
            point.is_ok_and(|point| function_of(&point, self.image).is_ok_and(|found| found == id))
        })
    }

    /// A file with a line for each figure that `line` has a limit for; a judgement that is not *met* makes a comment of
    /// it.
    fn text<'j>(
        &self,
        subjects: &[Subject],
        line: impl Fn(&str, &Key) -> Option<(Option<&'j Judgement>, String)>,
    ) -> String {
        let mut text = String::new();
        for subject in subjects {
            let mut lines = String::new();
            for key in subject.keys {
                let budget = format!("{}.{}", subject.name, key.0);
                if let Some((judgement, limit)) = line(&budget, key) {
                    write_line(&mut lines, key, judgement, &limit);
                }
            }
            if !lines.is_empty() {
                let _ = write!(text, "\n[{}]\n{lines}", subject.header);
            }
        }
        text
    }

    /// Limits by budget: beyond the bound that is known, or else beyond what was seen. The widest of several.
    fn limits<'j>(&self, seen: &'j [Judgement]) -> BTreeMap<&'j str, Limit> {
        let mut limits: BTreeMap<&str, Limit> = BTreeMap::new();
        for judgement in seen {
            let Some(observed) = judgement.observed else { continue };
            let [low, high] =
                [judgement.observed_low, judgement.observed_high].map(|b| b.unwrap_or(observed));
            let unit = judgement.unit.clone();
            let more = self.headroom * high.abs();
            let less = self.headroom * low.abs();
            let limit = Limit { unit, most: high + more, least: low - less };
            let known = limits.entry(judgement.budget.as_str()).or_insert_with(|| limit.clone());
            known.most = known.most.max(limit.most);
            known.least = known.least.min(limit.least);
        }
        limits
    }
}

fn parsed(text: &str) -> Result<BudgetFile, Fault> {
    BudgetFile::parse("draft", text)
}

/// A limit that every figure keeps.
fn anything(&(_, way, most): &Key) -> String {
    format!("{} {most}", if way == AtMost { "<=" } else { ">=" })
}

/// What a limit may be, in the unit of its judgement.
#[derive(Debug, Clone)]
struct Limit {
    unit: String,
    most: f64,
    least: f64,
}

impl Limit {
    /// As a budget file writes it: three digits, rounded away from what was seen.
    fn text(&self, way: Way) -> String {
        let (sign, value) = match way {
            AtMost => ("<=", self.most),
            AtLeast => (">=", self.least),
        };
        let (scale, unit) = match self.unit.as_str() {
            "share" => (100.0, " %"),
            "hertz" => (1.0, " Hz"),
            "ns" => match value.abs() {
                ns if ns >= 1e9 => (1e-9, " s"),
                ns if ns >= 1e6 => (1e-6, " ms"),
                ns if ns >= 1e3 => (1e-3, " us"),
                _ => (1.0, " ns"),
            },
            _ => (1.0, ""),
        };
        let rounded = outward(value * scale, way);
        let possible = match (self.unit.as_str(), way) {
            ("share", AtMost) => rounded.min(100.0),
            ("share", AtLeast) => rounded.max(0.0),
            _ => rounded,
        };
        format!("{sign} {possible}{unit}")
    }
}

/// Three digits, the last rounded up or down.
fn outward(value: f64, way: Way) -> f64 {
    if value == 0.0 || !value.is_finite() {
        return value;
    }
    let digits = 2 - value.abs().log10().floor() as i32;
    let unit = 10_f64.powi(digits);
    // What is so many tens of thousands is whole, whatever the powers of ten come to.
    let scaled = value * unit;
    let scaled = if (scaled - scaled.round()).abs() < 1e-6 { scaled.round() } else { scaled };
    let whole = if way == AtMost { scaled.ceil() } else { scaled.floor() };
    // Divided, or multiplied, by a whole number: so it is written with few digits.
    if digits >= 0 { whole / unit } else { whole * 10_f64.powi(-digits) }
}

fn write_line(lines: &mut String, key: &Key, judgement: Option<&Judgement>, limit: &str) {
    let Some(judgement) = judgement else {
        let _ = writeln!(lines, "{} = '{limit}'", key.0);
        return;
    };
    let unit = &judgement.unit;
    let seen = judgement.observed.map_or(String::new(), |value| stated(value, unit));
    let far = match (key.1, judgement.observed_low, judgement.observed_high) {
        (AtMost, _, Some(high)) => ("at most", high),
        (AtLeast, Some(low), _) => ("at least", low),
        _ => ("", judgement.observed.unwrap_or_default()),
    };
    let bound = match stated(far.1, unit) {
        bound if bound == seen => String::new(),
        bound => format!(", {} {bound}", far.0),
    };
    let _ = writeln!(lines, "# seen: {seen}{bound}; {}", one_line(&judgement.evidence));
    if judgement.verdict == Verdict::Met {
        let _ = writeln!(lines, "{} = \"{limit}\"", key.0);
        return;
    }
    let advice = judgement.advice.as_deref().unwrap_or("measure longer");
    let _ = writeln!(lines, "# This recording does not prove it: {}.", one_line(advice));
    let _ = writeln!(lines, "# {} = \"{limit}\"", key.0);
}

/// A comment ends with its line, whatever names a capture or its firmware has.
fn one_line(text: &str) -> String {
    text.replace(char::is_control, " ")
}

fn stated(value: f64, unit: &str) -> String {
    match unit {
        "share" => format!("{:.2} %", 100.0 * value),
        "ns" => duration_ns(value),
        "hertz" => format!("{value:.1} Hz"),
        _ => format!("{value}"),
    }
}

fn percent(part: f64) -> String {
    format!("{} %", (part * 1e4).round() / 100.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn limits_lie_outside_of_what_was_seen(value in -1e12_f64..1e12, scale in -9_i32..3) {
            let value = value * 10_f64.powi(scale);
            let (most, least) = (outward(value, AtMost), outward(value, AtLeast));
            let slack = value.abs() * 1e-7;
            prop_assert!(most >= value - slack && least <= value + slack, "{least} {value} {most}");
            prop_assert!(most - least <= value.abs() * 0.011);
            prop_assert!(format!("{most}").len() <= 16, "{most}");
        }

        #[test]
        fn any_name_makes_a_file(name in "\\PC{1,12}") {
            let subject = Subject::new("task", &name, &TASK);
            let text = format!("[{}]\nown.max = \"<= 1 us\"\n", subject.header);
            prop_assert!(BudgetFile::parse("draft", &text).is_ok(), "{}", text);
        }
    }

    #[test]
    fn limits_read_as_people_write_them() {
        let text =
            |unit: &str, most: f64, way| Limit { unit: unit.into(), most, least: most }.text(way);
        assert_eq!(text("ns", 12_341.0, AtMost), "<= 12.4 us");
        assert_eq!(text("ns", 1_200_000.0, AtMost), "<= 1.2 ms");
        assert_eq!(text("share", 0.9999, AtMost), "<= 100 %");
        assert_eq!(text("share", 0.7218, AtLeast), ">= 72.1 %");
        assert_eq!(text("value", -41.26, AtLeast), ">= -41.3");
        assert_eq!(text("value", 123_456.0, AtMost), "<= 124000");
    }
}

//! Two figures of one recording, held against each other: equal rates, an order.
//!
//! ```toml
//! [relation.same_rate]
//! holds = "task.sampler.count = task.logger.count +- 1 %"
//! ```
//!
//! Both figures have bounds, and nothing says that they err together: a relation is *met* only if it
//! holds for every pair within them, and *broken* only if it holds for none.

use super::entry::{About, TimingSubject};
use super::judgement::{Judgement, Verdict, result_factor, unit_name};
use super::limit::{COMPARISONS, Comparison};
use super::place::function_point;
use super::timing_file::{figure_named, read_access, read_by, read_window};
use crate::document::{At, Fault, Table};
use crate::figure::{Absent, Doubt, Figure, LOSE_NOTHING, Objection};
use crate::measure::known::{Found, Of};
use crate::time::{Quantity, Unit};
use std::ops::Range;

/// `[relation.NAME]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Relation {
    /// What the file calls it.
    pub name: String,
    /// The figure before the sign.
    pub left: Side,
    /// How it must stand to the other.
    pub sign: Sign,
    /// The figure behind the sign.
    pub right: Side,
    /// The relation as it was written.
    pub written: String,
    /// The line in the file.
    pub line: usize,
    /// Where the text stands.
    pub(super) span: Range<usize>,
    pub(super) unit: Unit,
}

/// A figure, or a multiple of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Side {
    /// How many times the figure is meant.
    pub factor: f64,
    /// The figure.
    pub about: About,
}

/// How one figure must stand to another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Sign {
    /// As limits have it.
    Ordered(Comparison),
    /// `=`, give or take.
    Equal {
        /// In base units.
        absolute: f64,
        /// As a part of the right figure.
        relative: f64,
    },
}

impl Sign {
    fn parse(word: &str) -> Option<Self> {
        if word == "=" {
            return Some(Self::Equal { absolute: 0.0, relative: 0.0 });
        }
        let known = COMPARISONS.iter().find(|(spelling, _)| *spelling == word);
        known.map(|(_, comparison)| Self::Ordered(*comparison))
    }
}

impl Relation {
    /// Its figures are of subjects that happen at most so often, in hertz.
    pub(super) fn rely_on(&mut self, guaranteed: &[(TimingSubject, &str, f64)]) {
        for side in [&mut self.left, &mut self.right] {
            let About::Timing(figure) = &mut side.about else { continue };
            let known = guaranteed
                .iter()
                .find(|(subject, name, _)| *subject == figure.subject && *name == figure.name);
            figure.ask.at_most = known.map(|(_, _, hertz)| *hertz);
        }
    }
}

/// Reads the table of one relation.
pub(super) fn read_relation(name: &At<&str>, table: Table<'_>) -> Result<Relation, Fault> {
    let text = table.required_text("holds")?;
    let window = read_window(&table)?;
    let by = read_by(&table)?;
    let access = read_access(&table)?;
    let parsed = parse(text.value);
    let (mut left, sign, mut right, unit) =
        parsed.map_err(|why| table.fault(text.span.clone(), format!("`holds`: {why}")))?;
    for side in [&mut left, &mut right] {
        if let About::Timing(figure) = &mut side.about {
            (figure.window, figure.ask.by, figure.access) = (window, by, access);
        }
    }
    let line = table.fault(text.span.clone(), "").line;
    let (name, written) = (name.value.to_owned(), text.value.trim().to_owned());
    table.finish()?;
    Ok(Relation { name, left, sign, right, written, line, span: text.span, unit })
}

/// `[NUMBER *] FIGURE SIGN [NUMBER *] FIGURE [+- TOLERANCE]`, words apart.
fn parse(text: &str) -> Result<(Side, Sign, Side, Unit), String> {
    let words: Vec<&str> = text.split_whitespace().collect();
    let mut signs = words.iter().enumerate();
    let sign = signs.find_map(|(at, word)| Some((at, Sign::parse(word)?)));
    let Some((at, mut sign)) = sign else {
        return Err("write two figures with =, <=, <, >= or > between them, and blanks around it, such as task.sampler.count = task.logger.count +- 1 %".into());
    };
    let (before, behind) = (&words[..at], &words[at + 1..]);
    let tolerance = behind.iter().position(|word| *word == "+-");
    let (behind, tolerance) = match tolerance {
        Some(at) => (&behind[..at], Some(behind[at + 1..].join(" "))),
        None => (behind, None),
    };
    let (left, left_unit) = side(before)?;
    let (right, unit) = side(behind)?;
    if left_unit != unit {
        return Err(format!("{} cannot be held against {}", kind_of(left_unit), kind_of(unit)));
    }
    match (&mut sign, tolerance) {
        (_, None) => {}
        (Sign::Equal { absolute, relative }, Some(text)) => {
            let read = Quantity::parse(&text, &[unit, Unit::Share]);
            let Quantity { value, unit: given } = read.map_err(|error| error.to_string())?;
            if value < 0.0 {
                return Err("a tolerance must not be negative".into());
            }
            // As everywhere: per cent are a part of the figure; of shares, of the whole.
            let part = given == Unit::Share && unit != Unit::Share;
            *if part { relative } else { absolute } = value;
        }
        (_, Some(_)) => return Err("a tolerance goes with `=` only".into()),
    }
    Ok((left, sign, right, unit))
}

fn kind_of(unit: Unit) -> &'static str {
    match unit {
        Unit::Share => "a share",
        Unit::Count => "a count",
        Unit::Hertz => "a rate",
        Unit::Plain => "a value",
        _ => "a time",
    }
}

fn side(words: &[&str]) -> Result<(Side, Unit), String> {
    let (factor, words) = match words {
        [factor, "*", rest @ ..] => {
            let number = factor.replace('_', "").parse().ok();
            let number = number.filter(|number: &f64| number.is_finite() && *number > 0.0);
            (number.ok_or_else(|| format!("`{factor}` is no number above zero"))?, rest)
        }
        words => (1.0, words),
    };
    let (figure, unit) = figure(&words.join(" "))?;
    Ok((Side { factor, about: figure }, unit))
}

/// The figure that a JSON path with its subject means: `task.logger.own.max`.
fn figure(text: &str) -> Result<(About, Unit), String> {
    let unknown = || {
        format!(
            "`{text}` is no figure: write its subject, its name and its key, such as task.logger.own.max"
        )
    };
    match text {
        "sleep.share" => return Ok((About::SleepShare, Unit::Share)),
        "recording.samples" => return Ok((About::Samples, Unit::Count)),
        _ => {}
    }
    let (kind, rest) = text.split_once('.').ok_or_else(unknown)?;
    if kind == "function" {
        let name = rest.strip_suffix(".self_share").ok_or_else(unknown)?;
        return Ok((About::SelfShare { function: function_point(name)? }, Unit::Share));
    }
    let subject = TimingSubject::ALL.into_iter().find(|(_, name)| *name == kind);
    let found = subject.and_then(|(subject, _)| figure_named(subject, rest));
    let (figure, unit) = found.ok_or_else(unknown)?;
    if figure.ask.of == Of::Each {
        return Err("`each` is none single figure; compare min or max".into());
    }
    Ok((About::Timing(figure), unit))
}

impl Sign {
    /// The least and the most by which the relation is kept, over all pairs of figures between bounds;
    /// negative where it is not.
    fn slack(self, left: [f64; 2], right: [f64; 2]) -> [f64; 2] {
        let [left_low, left_high] = left;
        let [right_low, right_high] = right;
        match self {
            Self::Ordered(Comparison::Below | Comparison::AtMost) => {
                [right_low - left_high, right_high - left_low]
            }
            Self::Ordered(Comparison::Above | Comparison::AtLeast) => {
                [left_low - right_high, left_high - right_low]
            }
            Self::Equal { absolute, relative } => {
                // absolute + relative * |right| - |left - right| has its extremes at corners, and
                // where one of the amounts is zero.
                let inside = |x: f64, [low, high]: [f64; 2]| x.max(low).min(high);
                let lefts =
                    [left_low, left_high, inside(right_low, left), inside(right_high, left)];
                let rights = [
                    right_low,
                    right_high,
                    inside(0.0, right),
                    inside(left_low, right),
                    inside(left_high, right),
                ];
                let mut slack = [f64::INFINITY, f64::NEG_INFINITY];
                for left in lefts {
                    for right in rights {
                        let kept = absolute + relative * right.abs() - (left - right).abs();
                        // Nothing bounds either: anything may be.
                        let kept = if kept.is_nan() {
                            [f64::NEG_INFINITY, f64::INFINITY]
                        } else {
                            [kept; 2]
                        };
                        slack = [slack[0].min(kept[0]), slack[1].max(kept[1])];
                    }
                }
                slack
            }
        }
    }

    /// Whether what is kept by this much is kept.
    fn is_kept_by(self, slack: f64) -> bool {
        match self {
            Self::Ordered(Comparison::Below | Comparison::Above) => slack > 0.0,
            _ => slack >= 0.0,
        }
    }
}

/// Judges a relation by what is known of its two figures.
pub(super) fn judge(relation: &Relation, left: Found, right: Found) -> Judgement {
    let subject = format!("relation.{}", relation.name);
    let unit = unit_name(relation.unit);
    let blank = Judgement::blank(subject.clone(), subject, relation.line, &relation.written, unit);
    let missing = |side: &str, Absent { why, advice }: Absent| Judgement {
        evidence: format!("{side}: {why}"),
        advice: Some(advice),
        ..blank.clone()
    };
    match (left, right) {
        (Ok(left), Ok(right)) => match units_differ(relation, &left, &right) {
            Some(evidence) => Judgement {
                evidence,
                advice: Some("write a factor before one of them: it converts".into()),
                ..blank
            },
            None => weigh(relation, &left, &right, blank),
        },
        (Err(absent), _) => missing("left", absent),
        (_, Err(absent)) => missing("right", absent),
    }
}

/// Values in two units are no two of a kind; whoever writes a factor has converted one.
fn units_differ(relation: &Relation, left: &Figure, right: &Figure) -> Option<String> {
    let told = |figure: &Figure| figure.unit.clone().unwrap_or_else(|| "no stated unit".into());
    let converts = relation.left.factor != 1.0 || relation.right.factor != 1.0;
    (left.unit != right.unit && !converts)
        .then(|| format!("one is in {}, the other in {}", told(left), told(right)))
}

fn weigh(relation: &Relation, left: &Figure, right: &Figure, blank: Judgement) -> Judgement {
    let of = |figure: &Figure, side: &Side| {
        [figure.observed(), figure.low, figure.high].map(|amount| amount * side.factor)
    };
    let [left_seen, left_low, left_high] = of(left, &relation.left);
    let [right_seen, right_low, right_high] = of(right, &relation.right);
    let sign = relation.sign;
    let [least, most] = sign.slack([left_low, left_high], [right_low, right_high]);
    let [seen, _] = sign.slack([left_seen; 2], [right_seen; 2]);
    // Times are judged in seconds, and stated in nanoseconds.
    let factor = result_factor(relation.unit);
    let bound = |amount: f64| amount.is_finite().then_some(amount * factor);
    let meets_nothing = left.evidence.meets_nothing || right.evidence.meets_nothing;
    let verdict = if sign.is_kept_by(least) && !meets_nothing {
        Verdict::Met
    } else if !sign.is_kept_by(most) {
        Verdict::Broken
    } else {
        Verdict::Undecided
    };
    let against = left.evidence.against.iter().chain(&right.evidence.against);
    let advice = || {
        against.clone().next().map(Doubt::advice).unwrap_or_else(|| {
            let lossy = left.evidence.lossy || right.evidence.lossy;
            let overlap =
                "the bounds of the two overlap: measure longer, or sharpen the timestamps";
            if lossy { LOSE_NOTHING } else { overlap }.to_owned()
        })
    };
    Judgement {
        verdict,
        observed: Some(left_seen * factor),
        observed_low: bound(left_low),
        observed_high: bound(left_high),
        compared: Some(right_seen * factor),
        compared_low: bound(right_low),
        compared_high: bound(right_high),
        margin: Some(if right_seen == 0.0 { seen } else { seen / right_seen.abs() }),
        evidence: format!(
            "left: {}; right: {}",
            left.evidence.in_words(),
            right.evidence.in_words()
        ),
        advice: (verdict == Verdict::Undecided).then(advice),
        objections: against.clone().map(Objection::from).collect(),
        ..blank
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn relations_read_as_they_are_written() {
        let (left, sign, right, unit) =
            parse("64 * task.wave_estimator.count = interrupt.adc_ready.count +- 1 %").unwrap();
        assert_eq!((left.factor, right.factor, unit), (64.0, 1.0, Unit::Count));
        assert_eq!(sign, Sign::Equal { absolute: 0.0, relative: 0.01 });
        for good in [
            "task.a.own.max <= task.b.own.max",
            "task.a b.own.p99 < interrupt.c.d.pending.mean",
            "function.src/dsp.c#clamp.self_share >= sleep.share",
            "signal.v.value.min > signal.w.value.max",
            "task.a.rate = span.b.rate +- 2 Hz",
            "recording.samples = task.a.count +- 5",
        ] {
            assert!(parse(good).is_ok(), "{good}: {:?}", parse(good));
        }
        for (bad, why) in [
            ("task.a.count", "write two figures"),
            ("task.a.count = 5", "is no figure"),
            ("task.a.count = task.b.own.max", "a count cannot be held against a time"),
            ("task.a.count <= task.b.count +- 1 %", "goes with `=` only"),
            ("task.a.count = task.b.count +- 1 ms", "not a unit expected here"),
            ("task.a.count = task.b.count +- -1", "must not be negative"),
            ("task.a.own.each = task.b.own.max", "compare min or max"),
            ("0 * task.a.count = task.b.count", "is no number above zero"),
            ("task.own.max = task.b.own.max", "`task.own.max` is no figure"),
            ("sleep.load = sleep.share", "is no figure"),
        ] {
            let told = parse(bad).unwrap_err();
            assert!(told.contains(why), "{bad}: {told}");
        }
    }

    fn bounds() -> impl Strategy<Value = [f64; 2]> {
        (-20_i32..20, 0_i32..20).prop_map(|(low, width)| [f64::from(low), f64::from(low + width)])
    }

    fn signs() -> impl Strategy<Value = Sign> {
        prop_oneof![
            Just(Sign::Ordered(Comparison::Below)),
            Just(Sign::Ordered(Comparison::AtMost)),
            Just(Sign::Ordered(Comparison::Above)),
            Just(Sign::Ordered(Comparison::AtLeast)),
            (0_u8..6, 0_u8..6).prop_map(|(absolute, relative)| Sign::Equal {
                absolute: f64::from(absolute),
                relative: f64::from(relative) / 4.0,
            }),
        ]
    }

    proptest! {
        /// What is kept at least and at most, against all pairs on a fine grid.
        #[test]
        fn slack_bounds_every_pair(sign in signs(), left in bounds(), right in bounds()) {
            let [least, most] = sign.slack(left, right);
            let steps = |[low, high]: [f64; 2]| {
                (0..=16).map(move |step| low + (high - low) * f64::from(step) / 16.0)
            };
            let (mut seen_least, mut seen_most) = (f64::INFINITY, f64::NEG_INFINITY);
            for l in steps(left) {
                for r in steps(right) {
                    let [slack, same] = sign.slack([l; 2], [r; 2]);
                    prop_assert_eq!(slack, same);
                    seen_least = seen_least.min(slack);
                    seen_most = seen_most.max(slack);
                    let kept = match sign {
                        Sign::Ordered(Comparison::Below) => l < r,
                        Sign::Ordered(Comparison::AtMost) => l <= r,
                        Sign::Ordered(Comparison::Above) => l > r,
                        Sign::Ordered(Comparison::AtLeast) => l >= r,
                        Sign::Equal { absolute, relative } => {
                            (l - r).abs() <= absolute + relative * r.abs()
                        }
                    };
                    prop_assert!(kept == sign.is_kept_by(slack) || slack.abs() < 1e-9);
                }
            }
            prop_assert!(least <= seen_least + 1e-9 && most >= seen_most - 1e-9);
            // No wider than it must be, either: corners are on the grid.
            prop_assert!(seen_least - least < 3.0 && most - seen_most < 3.0);
        }

        #[test]
        fn any_text_is_an_answer(text in "[a-z. *0-9<>=+%-]{0,40}") {
            let _ = parse(&text);
        }
    }

    #[test]
    fn values_in_two_units_are_not_held_against_each_other() {
        let judged = |text: &str, units: [Option<&str>; 2]| {
            let (left, sign, right, unit) = parse(text).unwrap();
            let (written, name) = (text.into(), "r".into());
            let relation = Relation { name, left, sign, right, written, line: 1, span: 0..0, unit };
            let [left, right] = units.map(|unit| {
                let unit = unit.map(str::to_owned);
                Ok(Figure { unit, ..Figure::exact(3.0, 1, crate::figure::Basis::Counted) })
            });
            judge(&relation, left, right).verdict
        };
        let plain = "signal.a.value.max <= signal.b.value.max";
        assert_eq!(judged(plain, [Some("mV"), Some("V")]), Verdict::Undecided);
        assert_eq!(judged(plain, [None, Some("V")]), Verdict::Undecided);
        assert_eq!(judged(plain, [Some("V"), Some("V")]), Verdict::Met);
        let converted = "1000 * signal.a.value.max >= signal.b.value.max";
        assert_eq!(judged(converted, [Some("V"), Some("mV")]), Verdict::Met);
    }

    #[test]
    fn what_nothing_bounds_decides_nothing() {
        let open = [0.0, f64::INFINITY];
        for sign in ["<", "<=", ">", ">=", "="].map(|word| Sign::parse(word).unwrap()) {
            let [least, most] = sign.slack(open, open);
            assert!(!sign.is_kept_by(least) && sign.is_kept_by(most), "{sign:?}");
        }
    }
}

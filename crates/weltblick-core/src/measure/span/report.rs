//! The stable form of a way's figures.

use super::way::{Occurrence, Way};
use crate::measure::duration::Duration;
use crate::measure::statistic::Statistic;
use crate::stats::{Bounds, Durations};
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/span/2";
/// Columns of the distribution.
const COLUMNS: usize = 48;
/// Fewer occurrences than this have no distribution worth drawing, and deserve a word.
const FEW: u64 = 20;

/// What a report needs beside the figures.
#[derive(Debug)]
pub struct Context<'a> {
    /// What the points are called, first to last.
    pub points: &'a [String],
    /// The core clock.
    pub clock: Option<Frequency>,
}

/// From one point to the next, or from the first to the last.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Leg {
    /// Where it begins.
    pub from: String,
    /// Where it ends.
    pub until: String,
    /// How long it took.
    pub elapsed: Statistic,
}

/// Once the whole way.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct OccurrenceRow {
    /// Its number, from 0.
    pub number: u64,
    /// When it began, in nanoseconds on the host's clock after the capture's start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host_ns: Option<u64>,
    /// The byte of the stream at which it began.
    pub byte: u64,
    /// How long it took.
    pub elapsed: Duration,
    /// How long each leg took.
    pub legs: Vec<Duration>,
}

/// How far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SpanEvidence {
    /// `lap_cycles`: the core's cycle counter; `lap_host_times`: the host's clock.
    pub basis: String,
    /// The core was stopped at every point: its timing is not its own.
    pub intrusive: bool,
    /// Begun, and begun again before it ended.
    pub unfinished: u64,
    /// Something was not recorded on the way: no duration.
    pub cut: u64,
    /// Longer than the cycle counter counts: no duration.
    pub too_long: u64,
    /// The cycle counter says more than the host waited: no duration.
    pub contradicted: u64,
    /// Reasons for doubt, each a sentence.
    pub doubts: Vec<String>,
}

/// The time from one point to another.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SpanReport {
    /// `weltblick/span/2`.
    pub schema: String,
    /// The points, first to last.
    pub points: Vec<String>,
    /// The core clock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core_clock_hz: Option<f64>,
    /// The whole way.
    pub total: Leg,
    /// Its legs, where there are several.
    pub legs: Vec<Leg>,
    /// How many occurrences lie in each of equal parts from the shortest to the longest; empty for a
    /// few.
    pub distribution: Vec<u64>,
    /// The longest, longest first.
    pub worst: Vec<OccurrenceRow>,
    /// How far to believe it.
    pub evidence: SpanEvidence,
}

/// States what came out.
#[must_use]
pub fn report(way: &Way, context: &Context<'_>) -> SpanReport {
    let points = context.points;
    let (first, last) = (&points[0], &points[points.len() - 1]);
    let clock = context.clock.filter(|_| !way.by_host);
    let leg = |from: &String, until: &String, durations: &Durations| Leg {
        from: from.clone(),
        until: until.clone(),
        elapsed: statistic(durations, clock),
    };
    let legs = match way.legs.as_slice() {
        [_] => Vec::new(),
        legs => points.windows(2).zip(legs).map(|(pair, d)| leg(&pair[0], &pair[1], d)).collect(),
    };
    let count = way.total.count();
    SpanReport {
        schema: SCHEMA.into(),
        points: points.to_vec(),
        core_clock_hz: context.clock.map(Frequency::hertz),
        total: leg(first, last, &way.total),
        legs,
        distribution: if count >= FEW { way.total.columns(COLUMNS) } else { Vec::new() },
        worst: way.worst.iter().map(|occurrence| row(occurrence, clock)).collect(),
        evidence: SpanEvidence {
            basis: if way.by_host { "lap_host_times" } else { "lap_cycles" }.into(),
            intrusive: true,
            unfinished: way.unfinished,
            cut: way.cut,
            too_long: way.too_long,
            contradicted: way.contradicted,
            doubts: doubts(way, context),
        },
    }
}

/// The extremes are exact, and so are their cycles.
fn statistic(durations: &Durations, clock: Option<Frequency>) -> Statistic {
    let mut statistic = Statistic::from(durations);
    for extreme in [&mut statistic.min, &mut statistic.max].into_iter().flatten() {
        extreme.cycles = cycles(extreme, clock);
    }
    statistic
}

fn cycles(duration: &Duration, clock: Option<Frequency>) -> Option<u64> {
    let exact = duration.ns_high == Some(duration.ns_low);
    clock.filter(|_| exact).map(|clock| (duration.ns * clock.hertz() / 1e9).round() as u64)
}

fn row(occurrence: &Occurrence, clock: Option<Frequency>) -> OccurrenceRow {
    let stated = |bounds: Bounds| {
        let duration = Duration::from(bounds);
        Duration { cycles: cycles(&duration, clock), ..duration }
    };
    OccurrenceRow {
        number: occurrence.number,
        host_ns: occurrence.from.time.map(|time| time.earliest),
        byte: occurrence.from.offset,
        elapsed: stated(occurrence.total),
        legs: occurrence.legs.iter().copied().map(stated).collect(),
    }
}

fn doubts(way: &Way, context: &Context<'_>) -> Vec<String> {
    let mut doubts = vec![
        "Intrusive: the core was stopped at each of these points, so interrupts and timers ran otherwise than they would have; what runs between two points is timed, what is waited for is not.".to_owned(),
    ];
    if way.by_host {
        let why = if context.clock.is_some() {
            "This core has no cycle counter"
        } else {
            "No core clock is stated (--core-clock)"
        };
        doubts.push(format!(
            "{why}: durations are the host's, which include stopping and going on; milliseconds mean little."
        ));
    }
    let mut tell = |count: u64, what: &str| {
        if count > 0 {
            let times = if count == 1 { "Once".to_owned() } else { format!("{count} times") };
            doubts.push(format!("{times} {what}"));
        }
    };
    tell(way.unfinished, "it was begun again before it had ended: only the last beginning counts.");
    tell(way.cut, "something on the way was not recorded: left out.");
    tell(way.too_long, "it took longer than the cycle counter counts: left out.");
    tell(
        way.contradicted,
        "the cycle counter said more than the host waited: left out. Does the firmware set the counter, or is the core clock higher than stated?",
    );
    let count = way.total.count();
    if count < FEW {
        doubts.push(format!("Only {count} occurrences: extremes are rough; record longer."));
    }
    doubts
}

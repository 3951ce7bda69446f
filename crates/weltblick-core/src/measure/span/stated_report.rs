//! The stable form of the figures of spans that the firmware states.

use super::stated::{StatedSpan, StatedSpans};
use crate::figure::{Objection, ObjectionRow};
use crate::image::Image;
use crate::measure::duration::Duration;
use crate::measure::interrupts::longest_hidden;
use crate::measure::known::{Ask, Facts, Measure, Often, RowFigures};
use crate::measure::losses::LossRow;
use crate::measure::statistic::{Distribution, Scale, Statistic};
use crate::measure::timing::Timing;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/spans/4";

/// What a report needs beside the figures.
#[derive(Debug, Clone, Copy)]
pub struct StatedContext<'a> {
    /// Has the names that stand in the program.
    pub image: Option<&'a Image>,
    /// The recording and its clocks.
    pub timing: Timing<'a>,
    /// How ticks are stated.
    pub scale: Scale,
    /// A debugger stopped the core now and then.
    pub intrusive: bool,
    /// They are ways between marks, and not what the firmware states.
    pub between: bool,
    /// What every figure rests on.
    pub facts: &'a Facts,
}

/// One of the longest.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StatedCase {
    /// Its number among those that were seen whole, from 0.
    pub number: u64,
    /// How long it took.
    pub elapsed: Duration,
    /// When it began, in nanoseconds since the trace began.
    pub began_ns: f64,
    /// When it ended.
    pub ended_ns: f64,
}

/// Figures of one span.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StatedRow {
    /// Its number, as the firmware states it.
    pub id: u32,
    /// What the firmware calls it; the marks that it lies between.
    pub name: String,
    /// How often it began.
    #[serde(flatten)]
    pub often: Often,
    /// Without a duration: something is missing inside, or it began again before it ended.
    pub cut: u64,
    /// Of these, those that may have taken longer than any other.
    pub unfinished: u64,
    /// How long one lasted at most of which something is missing; absent where nothing is, or nothing
    /// bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hidden: Option<Duration>,
    /// From begin to end.
    pub elapsed: Statistic,
    /// From begin to begin.
    pub period: Statistic,
    /// From one such period to the next, the difference.
    pub jitter: Statistic,
    /// How `elapsed` is spread.
    pub distribution: Distribution,
    /// What speaks against these figures: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
    /// The longest, longest first.
    pub worst: Vec<StatedCase>,
}

/// On what the figures rest.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StatedEvidence {
    /// `statements`; of ways between marks `events`.
    pub basis: String,
    /// The core was stopped now and then: its timing is not its own.
    pub intrusive: bool,
    /// Places where something is missing.
    pub gaps: u64,
    /// What is missing.
    pub losses: Vec<LossRow>,
    /// What speaks against figures of this recording, whichever they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// All spans that the firmware states.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StatedReport {
    /// `weltblick/spans/4`.
    pub schema: String,
    /// From the first event to the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// The longest first.
    pub spans: Vec<StatedRow>,
    /// How far to believe it.
    pub evidence: StatedEvidence,
}

/// States what came out.
#[must_use]
pub fn stated_report(spans: &StatedSpans, context: &StatedContext<'_>) -> StatedReport {
    let text_at = |address| context.image.and_then(|image| image.text_at(address));
    let mut rows: Vec<StatedRow> = spans
        .list()
        .iter()
        .map(|span| row(span, spans.name(span.span, text_at), spans, context))
        .collect();
    let longest = |row: &StatedRow| row.elapsed.max.map_or(-1.0, |max| max.ns);
    rows.sort_by(|a, b| longest(b).total_cmp(&longest(a)));
    StatedReport {
        schema: SCHEMA.into(),
        duration: context.timing.duration(),
        spans: rows,
        evidence: StatedEvidence {
            basis: if context.between { "events" } else { "statements" }.into(),
            intrusive: context.intrusive,
            gaps: spans.gaps,
            losses: context.timing.recording.losses.rows(),
            objections: context.facts.objections(),
            doubts: doubts(spans, context),
        },
    }
}

fn row(
    span: &StatedSpan,
    name: String,
    spans: &StatedSpans,
    context: &StatedContext<'_>,
) -> StatedRow {
    let scale = context.scale;
    let find = |ask: Ask| spans.figure(span, ask, context.facts);
    let mut figures = RowFigures::new(scale, None, &find);
    let ns = |tick: u64| tick as f64 * scale.ns;
    let case = |bad: &crate::measure::worst::Bad| StatedCase {
        number: bad.number,
        elapsed: scale.duration(bad.ticks),
        began_ns: ns(bad.began.latest),
        ended_ns: ns(bad.ended.latest),
    };
    StatedRow {
        id: span.span,
        name,
        often: figures.often(),
        cut: span.cut,
        unfinished: span.overlapping + span.open_count[1],
        hidden: scale.hidden(span.hidden),
        elapsed: figures.statistic(Measure::Elapsed),
        period: figures.statistic(Measure::Period),
        jitter: figures.statistic(Measure::Jitter),
        distribution: scale.distribution(&span.elapsed),
        worst: span.worst.list().iter().map(case).collect(),
        objections: figures.objections(),
    }
}

fn doubts(spans: &StatedSpans, context: &StatedContext<'_>) -> Vec<String> {
    let mut doubts = Vec::new();
    let cut: u64 = spans.list().iter().map(|span| span.cut).sum();
    if cut > 0 {
        doubts.push(format!(
            "{cut} of them {} without a duration: something is missing inside, or they began again before they ended, or the recording began or ended there.",
            if cut == 1 { "is" } else { "are" }
        ));
    }
    let hidden = spans.list().iter().map(|span| span.hidden).max().unwrap_or(0);
    if spans.gaps > 0 {
        doubts.push(format!(
            "Something is missing in {} {}. {}.",
            spans.gaps,
            if spans.gaps == 1 { "place" } else { "places" },
            longest_hidden(context.scale.hidden(hidden), "span"),
        ));
    }
    if spans.left_out > 0 {
        doubts.push(format!(
            "The firmware states more than 1024 spans: {} statements are left out.",
            spans.left_out
        ));
    }
    doubts
}

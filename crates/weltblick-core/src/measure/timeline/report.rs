//! The stable form of a timeline.

use super::columns::Cell;
use super::gather::Gather;
use super::lane::{Entry, LaneKey, What};
use crate::event::Stop;
use crate::image::{Image, interrupt_name};
use crate::measure::losses::GapRow;
use crate::measure::statistic::Scale;
use crate::time::Window;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/timeline/2";

/// What a report needs beside what was gathered.
#[derive(Debug, Clone, Copy)]
pub struct Context<'a> {
    /// Names interrupts and texts.
    pub image: Option<&'a Image>,
    /// How ticks are stated.
    pub scale: Scale,
    /// The names of values, by number.
    pub values: &'a [String],
}

impl Context<'_> {
    /// A tick as nanoseconds since the trace began.
    #[must_use]
    pub fn ns(&self, tick: u64) -> f64 {
        tick as f64 * self.scale.ns
    }

    /// What a lane is called.
    #[must_use]
    pub fn name(&self, gather: &Gather<'_>, lane: LaneKey) -> String {
        let told = lane
            .thing()
            .and_then(|thing| gather.names.get(&thing)?.told(|at| self.image?.text_at(at)));
        let name = told.unwrap_or_else(|| match lane {
            LaneKey::Interrupt(_, number) => interrupt_name(self.image, number),
            LaneKey::Thread(_) => "[thread mode]".into(),
            LaneKey::Kernel(_) => "[kernel]".into(),
            LaneKey::Task(number) => format!("task {number}"),
            LaneKey::Call(depth) => format!("calls {}", depth + 1),
            LaneKey::Span(number) => format!("span {number}"),
            LaneKey::Object(number) => format!("object {number}"),
            LaneKey::Text(Some(port)) => format!("port {port}"),
            LaneKey::Text(None) => "texts".into(),
            LaneKey::Value(at) | LaneKey::Accessed(at) => {
                self.values.get(at).cloned().unwrap_or_default()
            }
            LaneKey::Load => "[awake]".into(),
            LaneKey::Recording => "[recording]".into(),
        });
        match lane.core().filter(|_| gather.cores.count() > 1) {
            Some(core) => format!("{name} (core {core})"),
            None => name,
        }
    }

    /// What happened, in words.
    #[must_use]
    pub fn what(&self, gather: &Gather<'_>, what: &What) -> String {
        match what {
            What::Entered => "starts".into(),
            What::Left(_) => "ends".into(),
            What::Ready => "ready".into(),
            What::Runs => "runs".into(),
            What::Preempted => "pre-empted".into(),
            What::Stops(Stop::Sleeps) => "sleeps".into(),
            What::Stops(Stop::Waits(object)) => {
                format!("waits for {}", self.name(gather, LaneKey::Object(*object)))
            }
            What::Stops(Stop::WaitsForSomething) => "waits".into(),
            What::Stops(Stop::Ended) => "ended".into(),
            What::Stops(Stop::Untold) => "loses the core".into(),
            What::Takes => "taken".into(),
            What::Gives => "given".into(),
            What::Begins => "begins".into(),
            What::Ends => "ends".into(),
            What::Said(text) => text.to_string(),
            What::Value(value) => format!("{value}"),
            What::Accessed => "accessed".into(),
            What::Lost => "something is missing before this".into(),
        }
    }
}

/// What kind of lane it is, in results.
#[must_use]
pub const fn kind(lane: LaneKey) -> &'static str {
    match lane {
        LaneKey::Interrupt(..) => "interrupt",
        LaneKey::Thread(_) | LaneKey::Kernel(_) => "thread",
        LaneKey::Task(_) => "task",
        LaneKey::Call(_) => "call",
        LaneKey::Span(_) => "span",
        LaneKey::Object(_) => "object",
        LaneKey::Text(_) => "text",
        LaneKey::Value(_) => "value",
        LaneKey::Accessed(_) => "access",
        LaneKey::Load => "load",
        LaneKey::Recording => "recording",
    }
}

/// A part of the time on a lane. Shares are parts of that time.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CellRow {
    /// It ran.
    pub runs: f64,
    /// It had begun, and something else ran.
    pub preempted: f64,
    /// It was pending, or ready.
    pub wants: f64,
    /// It waited for something else.
    pub waits: f64,
    /// Moments.
    pub marks: u64,
}

/// One lane.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LaneRow {
    /// Its name.
    pub name: String,
    /// `interrupt`, `thread`, `task`, `call`, `span`, `object`, `text`, `value`, `access`, `load` or `recording`.
    pub kind: String,
    /// Equal parts of the time, first to last.
    pub cells: Vec<CellRow>,
    /// Of a lane of calls: the functions that were on the stack for long enough to be drawn by name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub calls: Vec<CallRow>,
}

/// A function that was on the stack for a while, with or without having the core.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CallRow {
    /// The function.
    pub function: String,
    /// Since when, in nanoseconds since the trace began: at the latest.
    pub from_ns: f64,
    /// Until when, at the latest.
    pub until_ns: f64,
}

/// Something that happened at a moment.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct EntryRow {
    /// When, in nanoseconds since the trace began.
    pub time_ns: f64,
    /// Not before this.
    pub time_ns_low: f64,
    /// Since the entry before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delta_ns: Option<f64>,
    /// The lane's kind.
    pub kind: String,
    /// The lane.
    pub lane: String,
    /// What happened.
    pub what: String,
    /// How long it took, where it is an end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elapsed_ns: Option<f64>,
}

/// Everything on one axis.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct TimelineReport {
    /// `weltblick/timeline/2`.
    pub schema: String,
    /// Where the axis begins, in nanoseconds since the trace began.
    pub from_ns: f64,
    /// Where it ends.
    pub until_ns: f64,
    /// The lanes, from above.
    pub lanes: Vec<LaneRow>,
    /// Where something may be missing.
    pub gaps: Vec<GapRow>,
    /// Reasons for doubt, each a sentence.
    pub doubts: Vec<String>,
}

/// States what lanes did in `cells` equal parts of the ticks from `start` to `end`.
#[must_use]
pub fn report(
    gather: &Gather<'_>,
    lanes: &[LaneKey],
    (start, end): (u64, u64),
    cells: usize,
    context: &Context<'_>,
) -> TimelineReport {
    let base = gather.range.map_or(0, |(base, _)| base);
    let part = (end - start).max(1) as f64 / cells.max(1) as f64;
    let calls = |key: LaneKey| {
        let LaneKey::Call(depth) = key else { return Vec::new() };
        let here = gather.calls.iter().filter(|call| call.depth == depth);
        here.map(|call| CallRow {
            function: context.image.map(|image| call.function.name(image)).unwrap_or_default(),
            from_ns: context.ns(call.from.latest),
            until_ns: context.ns(call.until.latest),
        })
        .collect()
    };
    let lane = |&key: &LaneKey| LaneRow {
        name: context.name(gather, key),
        calls: calls(key),
        kind: kind(key).into(),
        cells: gather.lanes.get(&key).map_or_else(Vec::new, |columns| {
            let (from, until) = (start.saturating_sub(base), end.saturating_sub(base));
            let parts = columns.parts(from, until, cells);
            parts
                .iter()
                .map(|cell| if key == LaneKey::Load { awake(cell) } else { row(cell, part) })
                .collect()
        }),
    };
    let gap = |&(from, until): &(Window, Window)| GapRow {
        from_ns: context.ns(from.earliest),
        until_ns: context.ns(until.latest),
    };
    let inside = |gap: &&(Window, Window)| gap.1.latest >= start && gap.0.earliest <= end;
    TimelineReport {
        schema: SCHEMA.into(),
        from_ns: context.ns(start),
        until_ns: context.ns(end),
        lanes: lanes.iter().map(lane).collect(),
        gaps: gather.gaps.iter().filter(inside).map(gap).collect(),
        doubts: Vec::new(),
    }
}

/// Ticks as parts of a cell's time.
#[must_use]
pub fn row(cell: &Cell, ticks: f64) -> CellRow {
    let share = |of: u64| (of as f64 / ticks).min(1.0);
    CellRow {
        runs: share(cell.runs),
        preempted: share(cell.open.saturating_sub(cell.runs)),
        wants: share(cell.wants),
        waits: share(cell.waits),
        marks: cell.marks,
    }
}

/// Of the samples in a part of the time, how many found the core awake.
fn awake(cell: &Cell) -> CellRow {
    let runs = cell.runs as f64 / cell.open.max(1) as f64;
    CellRow { runs: runs.min(1.0), preempted: 0.0, wants: 0.0, waits: 0.0, marks: 0 }
}

/// States what happened, moment by moment.
#[must_use]
pub fn entries(gather: &Gather<'_>, list: &[&Entry], context: &Context<'_>) -> Vec<EntryRow> {
    let mut before: Option<f64> = None;
    let row = |entry: &&Entry| {
        let time_ns = context.ns(entry.time.latest);
        let elapsed = match entry.what {
            What::Left(Some(ticks)) => Some(ticks.doubled() as f64 / 2.0 * context.scale.ns),
            _ => None,
        };
        EntryRow {
            time_ns,
            time_ns_low: context.ns(entry.time.earliest),
            delta_ns: before.replace(time_ns).map(|before| time_ns - before),
            kind: kind(entry.lane).into(),
            lane: context.name(gather, entry.lane),
            what: context.what(gather, &entry.what),
            elapsed_ns: elapsed,
        }
    };
    list.iter().map(row).collect()
}

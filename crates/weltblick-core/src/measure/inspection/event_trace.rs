//! What is in an event trace, and what speaks against it.

use super::diagnosis::{Finding, doubt, fault};
use crate::capture::EventTrace;
use crate::event::{LossReason, Means};
use crate::measure::losses::Losses;
use schemars::JsonSchema;
use serde::Serialize;

/// How often each kind of event was read, and what was not understood.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct KindsSeen {
    pub(super) counts: Vec<u64>,
    pub(super) unclear: u64,
}

/// One kind of event of an event trace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct EventKindRow {
    /// What the trace calls it.
    pub event: String,
    /// How often it was read.
    pub count: u64,
    /// What the manifest says that it means; empty if nothing does.
    pub means: Vec<String>,
    /// Its fields.
    pub fields: Vec<String>,
}

/// The kinds of events, most frequent first.
pub(super) fn rows(trace: &EventTrace, seen: &KindsSeen) -> Vec<EventKindRow> {
    let schema = trace.schema();
    let row = |(number, class): (usize, &crate::wire::ctf::EventClass)| {
        let means = trace.translation().meanings_of(number).map(|means| means.name().to_owned());
        let fields = schema.fields_of(class).map(|(_, field)| field.path.clone());
        EventKindRow {
            event: class.name.clone(),
            count: seen.counts.get(number).copied().unwrap_or(0),
            means: means.collect(),
            fields: fields.collect(),
        }
    };
    let mut rows: Vec<EventKindRow> = schema.events().iter().enumerate().map(row).collect();
    rows.sort_by_key(|row| std::cmp::Reverse(row.count));
    rows
}

/// What speaks against an event trace.
pub(super) fn findings(
    trace: &EventTrace,
    seen: &KindsSeen,
    losses: &Losses,
    has_clock: bool,
) -> Vec<Finding> {
    [
        no_meaning(trace, seen),
        unclear(seen),
        (!has_clock).then(no_clock),
        dropped(losses),
        damage(losses),
        no_switches(trace),
    ]
    .into_iter()
    .flatten()
    .collect()
}

fn has(trace: &EventTrace, means: Means) -> bool {
    let mut all = 0..trace.schema().events().len();
    all.any(|class| trace.translation().meanings_of(class).any(|other| other == means))
}

fn no_meaning(trace: &EventTrace, seen: &KindsSeen) -> Option<Finding> {
    let known = |class: usize| trace.translation().meanings_of(class).next().is_some();
    if (0..trace.schema().events().len()).any(known) {
        return None;
    }
    let events: u64 = seen.counts.iter().sum();
    Some(fault(
        "no_meaning",
        format!("Nothing says what the {events} events mean, so no figure can be made of them."),
        "Write one [[stream.meaning]] per kind of event into capture.toml: `event`, `means`, and which field says what, such as task = \"thread\" (docs/formats/ctf.md). The kinds and their fields are below.",
    ))
}

fn unclear(seen: &KindsSeen) -> Option<Finding> {
    (seen.unclear > 0).then(|| {
        doubt(
            "unclear_events",
            format!("{} events lack what their meaning needs: a field that a variant left out, or a number that is none of the kind.", seen.unclear),
            "Tell them apart with `where` and `is` in their [[stream.meaning]].",
        )
    })
}

fn no_clock() -> Finding {
    fault(
        "no_clock",
        "The trace names no clock: its events have an order, and no times that anybody knows the unit of.",
        "Map the timestamps of the event header to a clock in the tracer, or say its rate: clock_hz in [stream.settings].",
    )
}

fn damage(losses: &Losses) -> Option<Finding> {
    let bytes = losses.bytes();
    (bytes > 0).then(|| {
        fault(
            "damaged",
            format!("{bytes} bytes of the trace cannot be read; below is why, and where."),
            "Check that metadata and packets are of one recording, and that nothing cut or converted the files on their way.",
        )
    })
}

fn dropped(losses: &Losses) -> Option<Finding> {
    let dropped = losses.of(LossReason::Dropped);
    let packets = losses.of(LossReason::PacketsMissing);
    let places = match dropped + packets {
        0 => return None,
        1 => "one place".to_owned(),
        places => format!("{places} places"),
    };
    Some(doubt(
        "dropped",
        format!(
            "Events are missing in {places}: the tracer dropped them, or their packets never came."
        ),
        "Give the tracer larger or more buffers, trace fewer kinds of events, or read the buffers out sooner.",
    ))
}

/// Interrupts without tasks are fine; tasks without switches are not.
fn no_switches(trace: &EventTrace) -> Option<Finding> {
    let tasks = [Means::TaskReady, Means::TaskSleeps, Means::TaskWaits];
    let told = tasks.into_iter().any(|means| has(trace, means));
    (told && !has(trace, Means::TaskRuns)).then(|| {
        doubt(
            "no_switches",
            "Tasks become ready and wait, but no event means `task runs`: nothing tells who has the core.",
            "Name the kernel's switch event in a [[stream.meaning]] with means = \"task runs\".",
        )
    })
}

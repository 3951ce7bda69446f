//! What is in an event trace, and what speaks against it.

use super::diagnosis::{Finding, doubt, fault};
use crate::capture::{EventCounts, EventTrace};
use crate::event::{Lacking, LossReason, Means};
use crate::measure::losses::Losses;
use crate::wire::ctf::Damage;
use schemars::JsonSchema;
use serde::Serialize;

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
pub(super) fn rows(trace: &EventTrace, seen: &EventCounts) -> Vec<EventKindRow> {
    let schema = trace.schema();
    let row = |(number, class): (usize, &crate::wire::ctf::EventClass)| {
        let means = trace.translation().meanings_of(number).map(|means| means.name().to_owned());
        let fields = schema.fields_of(class).map(|(_, field)| field.path.clone());
        EventKindRow {
            event: class.name.clone(),
            count: seen.kinds.get(number).copied().unwrap_or(0),
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
    seen: &EventCounts,
    losses: &Losses,
    has_clock: bool,
) -> Vec<Finding> {
    [
        no_meaning(trace, seen),
        unclear(seen),
        (!has_clock).then(no_clock),
        dropped(seen, losses),
        packets(seen, losses),
        cut(losses),
        damage(losses),
        slips(losses),
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

fn no_meaning(trace: &EventTrace, seen: &EventCounts) -> Option<Finding> {
    let known = |class: usize| trace.translation().meanings_of(class).next().is_some();
    if (0..trace.schema().events().len()).any(known) {
        return None;
    }
    let events: u64 = seen.kinds.iter().sum();
    Some(fault(
        "no_meaning",
        format!("Nothing says what the {events} events mean, so no figure can be made of them."),
        "Write one [[stream.meaning]] per kind of event into capture.toml: `event`, `means`, and which field says what, such as task = \"thread\" (docs/formats/ctf.md). The kinds and their fields are below.",
    ))
}

fn unclear(seen: &EventCounts) -> Option<Finding> {
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

/// How often something is missing for such a reason, whether the clock may have wrapped meanwhile or not.
fn places(losses: &Losses, plain: LossReason, lacking: Lacking) -> Option<String> {
    match losses.of(plain) + losses.of(LossReason::EventTraceSlip(lacking)) {
        0 => None,
        1 => Some("in one place".to_owned()),
        several => Some(format!("in {several} places")),
    }
}

fn cut(losses: &Losses) -> Option<Finding> {
    let why = Damage::CutOff;
    places(losses, LossReason::EventTrace(why), Lacking::Bytes(why)).map(|_| {
        fault(
            "cut_off",
            "A file of the trace ends inside a packet: what its core did after that is not known.",
            "Stop the tracer, or let it write its last packet out, before its files are copied; and copy them whole.",
        )
    })
}

fn damage(losses: &Losses) -> Option<Finding> {
    // What is behind the end of a file that was cut was not damaged.
    let cut = LossReason::EventTrace(Damage::CutOff);
    let slip = LossReason::EventTraceSlip(Lacking::Bytes(Damage::CutOff));
    let bytes = losses.bytes() - losses.bytes_of(cut) - losses.bytes_of(slip);
    (bytes > 0).then(|| {
        fault(
            "damaged",
            format!("{bytes} bytes of the trace cannot be read; below is why, and where."),
            "Check that metadata and packets are of one recording, and that nothing converted the files on their way.",
        )
    })
}

fn dropped(seen: &EventCounts, losses: &Losses) -> Option<Finding> {
    let places = places(losses, LossReason::Dropped, Lacking::Events)?;
    let what = match seen.dropped {
        0 => "Events are missing".to_owned(),
        1 => "The trace counts one dropped event".to_owned(),
        events => format!("The trace counts {events} dropped events"),
    };
    Some(doubt(
        "dropped",
        format!("{what}, {places}."),
        "Give the tracer larger or more buffers, trace fewer kinds of events, or read the buffers out sooner.",
    ))
}

fn packets(seen: &EventCounts, losses: &Losses) -> Option<Finding> {
    let places = places(losses, LossReason::PacketsMissing, Lacking::Packets)?;
    let what = match seen.packets {
        1 => "One packet of events is missing".to_owned(),
        packets => format!("{packets} packets of events are missing"),
    };
    Some(doubt(
        "packets_missing",
        format!("{what}, {places}: the numbers of packets leave some out."),
        "Let the tracer stop when its buffers are full instead of writing over the oldest, or read them out sooner; and copy its files whole.",
    ))
}

/// The clock is so short that it may wrap while nothing is read.
fn slips(losses: &Losses) -> Option<Finding> {
    let slips = losses.all_of(|why| matches!(why, LossReason::EventTraceSlip(_)));
    (slips > 0).then(|| {
        doubt(
            "clock_may_wrap",
            "The trace's clock has so few bits that it may have wrapped unseen where something is missing: no time across these places is known.",
            "Let the tracer write longer timestamps, or the beginning and the end of each packet with all bits.",
        )
    })
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

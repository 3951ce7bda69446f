//! A capture folder: its manifest, and the line from its streams to events.
//!
//! The core reads no files: a manifest comes as text, streams come as byte slices.

mod event_trace;
#[cfg(test)]
mod event_trace_tests;
mod flow_line;
mod journal;
mod line;
#[cfg(test)]
mod line_tests;
mod manifest;
mod priorities;
mod segments;
#[cfg(test)]
mod tests;

pub use event_trace::{EventCounts, EventReading, EventTrace, First};
pub(crate) use flow_line::State;
pub use flow_line::{Anchor, FlowLine};
pub use journal::{Entry, JOURNAL, JournalError, What, parse_journal};
pub use line::{Instructions, Line, Tap};
pub use manifest::{
    CtfSettings, Framing, InterruptSpec, ItmSettings, LapPoint, MANIFEST, Manifest, PollSettings,
    Protocol, SignalSpec, SourceSpec, StreamSpec, Target,
};
pub(crate) use manifest::{read_marks_port, read_meaning, read_signals, write_signals};
pub use priorities::Priorities;
pub use segments::{segment_file, segment_number};

//! Time from one point in the code to another, and to more of them on the way.
//!
//! [`Passages`] turns events into passages of the points that were asked for; [`Way`] pairs them
//! into occurrences and counts; [`report`] states what came out. [`StatedSpans`] are those of which the
//! firmware itself says where they begin and end.

mod passages;
mod report;
mod stated;
mod stated_report;
#[cfg(test)]
mod tests;
mod way;

pub use passages::Passages;
pub use report::{Context, Leg, OccurrenceRow, SCHEMA, SpanEvidence, SpanReport, report};
pub use stated::{StatedSpan, StatedSpans};
pub use stated_report::{
    StatedCase, StatedContext, StatedEvidence, StatedReport, StatedRow, stated_report,
};
pub use way::{Occurrence, Passage, Way};

//! Time from one point in the code to another, and to more of them on the way.
//!
//! [`Passages`] turns events into passages of the points that were asked for; [`Way`] pairs them
//! into occurrences and counts; [`report`] states what came out.

mod passages;
mod report;
mod stated;
#[cfg(test)]
mod tests;
mod way;

pub use passages::Passages;
pub use report::{Context, Leg, OccurrenceRow, SCHEMA, SpanEvidence, SpanReport, report};
pub use stated::{StatedSpan, StatedSpans};
pub use way::{Occurrence, Passage, Way};

//! Time from one point in the code to another, and to more of them on the way.
//!
//! [`Passages`] turns events into passages of the points that were asked for; [`Way`] pairs them
//! into occurrences and counts; [`report`] states what came out. [`StatedSpans`] are those of which the
//! firmware itself says where they begin and end; [`Between`] makes such of ways between events. Ways that an instruction trace tells are followed by
//! [`execution::Crossings`](crate::measure::execution::Crossings); [`code_report`] states them, and
//! [`StartUp`] times what is before `main`.

mod between;
mod code_report;
mod known;
mod passages;
mod report;
mod start_up;
mod stated;
mod stated_report;
#[cfg(test)]
mod tests;
mod way;

pub use between::{Between, Mark};
pub use code_report::{
    CODE_SCHEMA, CodeCase, CodeContext, CodeEvidence, CodeLeg, CodeSpanReport, CodeTook,
    StartUpRow, code_report,
};
pub use passages::Passages;
pub use report::{Context, Leg, OccurrenceRow, SCHEMA, SpanEvidence, SpanReport, report};
pub use start_up::StartUp;
pub use stated::{StatedSpan, StatedSpans};
pub use stated_report::{
    StatedCase, StatedContext, StatedEvidence, StatedReport, StatedRow, stated_report,
};
pub use way::{Occurrence, Passage, Way};

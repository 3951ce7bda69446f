//! What is in a recording, and how far to believe it.

mod agreement;
mod contradictions;
mod cross_check;
mod diagnosis;
mod event_trace;
mod executed_code;
mod gather;
mod globals;
mod kinds;
mod rate;
mod report;
mod shared;
mod trial;
mod unannounced;

pub use agreement::{Agreement, agreement};
pub use contradictions::Contradictions;
pub use cross_check::{Entries, cross_check};
pub use diagnosis::{Finding, Weight};
pub use event_trace::EventKindRow;
pub use executed_code::{executed_code, trace_doubts};
pub use gather::{Counted, Settings, Wire};
pub use globals::GlobalTimestamps;
pub use kinds::Kind;
pub use report::{InspectReport, Inspection, SCHEMA};
pub use shared::SharedTimestamps;
pub use unannounced::Unannounced;

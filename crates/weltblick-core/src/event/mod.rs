//! The one vocabulary between decoders and analyses.
//!
//! Every decoder produces these events; every analysis reads only these. A new protocol touches no
//! analysis, and the reverse.

mod ahead;
mod cores;
mod current_task;
mod from_ctf;
mod from_flow;
mod from_itm;
mod from_poll;
mod global_clock;
mod group;
mod marks;
mod meaning;
mod ranges;
mod statement;
#[cfg(test)]
mod tests;
mod vocabulary;

pub use ahead::{Ahead, read_apart};
pub use cores::{CoreSet, Parked};
pub use current_task::CurrentTask;
pub(crate) use from_ctf::Grounding;
pub use from_ctf::{CtfReader, StrangeCore, Translation};
pub use from_flow::FlowEvents;
pub use from_itm::{ItmClock, ItmEvents, ItmReader};
pub use from_poll::{PollEvents, PollReader};
pub(crate) use group::OneTick;
pub use meaning::{Meaning, Means, Only, Part};
pub use ranges::{CodeRanges, Filtered};
pub use statement::{Arguments, MOST_ARGUMENTS, Name, Number, Statement, Stop, Thing};
pub use vocabulary::{
    Access, Bytes, ClockFault, Event, Lacking, LossReason, Origin, Position, Sink, Value,
};

//! What was executed, how often, on whose behalf and how long: exact, from instruction flow.

mod calls;
mod contexts;
mod counts;
mod figures;
mod interval;
mod tree;

pub use calls::Calls;
pub use counts::{BlockCounts, Gaps, Run, Tally};
pub use figures::{CallFigures, Clocking, Longest};
pub use tree::{Named, Node, NodeId, Root, SelfTime, Tree};

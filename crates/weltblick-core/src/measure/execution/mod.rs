//! What was executed, how often, on whose behalf and how long: exact, from instruction flow.

mod calls;
mod contexts;
mod counts;
mod crossings;
mod doubts;
mod figures;
mod history;
mod index;
mod interval;
mod listing;
mod piece;
mod report;
mod roster;
mod rows;
mod seen;
mod stacks;
mod sums;
mod times;
mod tree;
mod turns;

pub use calls::{Ahead, Calls};
pub use counts::{BlockCounts, Gaps, Run, Tally};
pub use crossings::{Crossing, Crossings, LegFigures, MOST_POINTS, Took};
pub use figures::{CallFigures, Longest};
pub use history::{History, Place, Step, What};
pub use index::{FlowIndex, Found, Indexing};
pub use listing::{Listed, ListedFunction, Listing, Role};
pub use piece::FlowPiece;
pub use report::{CodeBy, ExactContext, by_code, by_function, by_interrupt, by_task};
pub use roster::Roster;
pub use rows::{ExactEvidence, ExactProfile, ExactRow, LongestCall, Numbers, Partner, SCHEMA};
pub use seen::Seen;
pub use stacks::OnStack;
pub use times::{InstructionTimes, Times};
pub use tree::{Named, Node, NodeId, Root, SelfTime, Tree};
pub use turns::{TaskEvents, Threads};

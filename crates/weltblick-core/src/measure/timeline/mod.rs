//! Everything on one time axis, lane by lane.

mod columns;
mod gather;
mod lane;
mod report;
mod search;
mod seek;
mod spacing;
mod stack;
#[cfg(test)]
mod tests;
mod turns;

pub use columns::{Cell, Columns};
pub use gather::{Gather, MOST_ENTRIES};
pub use lane::{Doing, Entry, LaneKey, Piece, What};
pub use report::{
    CallRow, CellRow, Context, EntryRow, LaneRow, TimelineReport, entries, kind, report, row,
};
pub use search::Wanted;
pub use seek::{Names, Seek, Target};
pub use spacing::Spacing;
pub use stack::CallLanes;
pub use turns::{TurnList, Turns};

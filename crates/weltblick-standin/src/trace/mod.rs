//! The trace unit: what a debug block makes of a running core, and the link that carries it away.

mod etb;
pub mod itm;
mod link;
pub mod tpiu;
mod unit;

pub use link::Link;
pub use unit::TraceUnit;

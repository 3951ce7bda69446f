//! The trace unit: what a debug block makes of a running core, and the link that carries it away.

mod etb;
pub mod itm;
mod link;
mod mtb;
pub mod tpiu;
mod unit;

pub use link::Link;
pub(crate) use mtb::Mtb;
pub use unit::TraceUnit;

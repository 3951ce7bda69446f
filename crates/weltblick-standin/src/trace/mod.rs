//! The trace unit: what a debug block makes of a running core, and the link that carries it away.

mod etb;
mod etmv4;
pub mod itm;
mod link;
mod mtb;
pub mod tpiu;
mod unit;

pub(crate) use etmv4::Step;
pub use etmv4::{Etm, Manners, Segment, TailChain};
pub use link::Link;
pub(crate) use mtb::Mtb;
pub use unit::TraceUnit;

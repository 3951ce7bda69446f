//! The trace unit: what a debug block makes of a running core, and the link that carries it away.

mod comparators;
mod etb;
pub mod etmv3;
pub mod etmv4;
mod fitted;
pub mod itm;
mod link;
mod mtb;
mod step;
pub mod tpiu;
mod unit;

pub use fitted::Fitted;
pub use link::Link;
pub(crate) use mtb::Mtb;
pub use step::Segment;
pub(crate) use step::Step;
pub use unit::TraceUnit;

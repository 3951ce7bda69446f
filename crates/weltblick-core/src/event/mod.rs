//! The one vocabulary between decoders and analyses.
//!
//! Every decoder produces these events; every analysis reads only these. Executed code will travel
//! beside it; see the design notes in `ARCHITECTURE.md`.

mod from_itm;
#[cfg(test)]
mod tests;
mod vocabulary;

pub use from_itm::{ItmClock, ItmEvents, ItmReader};
pub use vocabulary::{Access, Bytes, Event, LossReason, Origin, Position, Sink, Value};

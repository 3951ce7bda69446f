//! Bytes to packets: one folder per public protocol, no meaning attached.
//!
//! Every decoder here is a push parser. It takes byte slices of any length, hands packets and
//! losses to a sink as soon as they are certain, and keeps nothing but the half packet at the end
//! of a slice. Packets and losses together tile the stream: no byte is unaccounted for.

mod alignment;
pub mod ctf;
mod decoder;
pub mod etmv3;
pub mod etmv4;
mod fields;
pub mod itm;
mod malformed;
pub mod mtb;
pub mod poll;
#[cfg(test)]
mod seen;
pub mod tpiu;

pub use alignment::Stop;
pub use decoder::{Decoder, Grammar, Sink};
pub use malformed::Malformed;

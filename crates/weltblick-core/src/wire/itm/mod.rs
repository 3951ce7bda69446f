//! The ITM and DWT packet protocol of Arm M-profile cores.
//!
//! Follows the *Armv7-M Architecture Reference Manual*, DDI 0403E, appendix D4 ("Debug ITM and DWT
//! packet protocol"), and the additions of the *Armv8-M Architecture Reference Manual*, DDI 0553:
//! the prohibited form of the PC sample, the data trace match packet, and the PMU overflow packet.
//!
//! Where the manuals leave room, this decoder assumes:
//!
//! * A stream starts at a packet boundary. A stream that starts inside a packet shows a wrong
//!   packet or a loss before its first synchronisation, never after it.
//! * A synchronisation is byte-aligned: five or more zero bytes, then `0x80`. (The manual says "at
//!   least 47 zero bits, then a one".) No other packet contains five zero bytes in a row, so the
//!   pattern is believed even where the decoder thinks that it is inside another packet's payload.
//! * Reserved headers are damage, not extensions: everything up to the next synchronisation is
//!   lost, since nothing says where the next packet starts.

mod carried;
mod decoder;
mod packet;
mod parse;
#[cfg(test)]
pub(crate) mod tests;

pub use super::Malformed;
pub use carried::Carried;
pub use decoder::{Decoder, Sink};
pub use packet::{Action, Counters, Packet, Relation, Size};

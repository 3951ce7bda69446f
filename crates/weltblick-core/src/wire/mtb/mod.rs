//! Micro trace buffer packets (CoreSight MTB-M0+, ARM DDI 0486, "MTB execution trace packet
//! format"; the MTB-M23 and MTB-M33 write the same).
//!
//! A packet is two little-endian words for one change of the program flow that was not sequential:
//! where it came from and where it went. There is no synchronisation and no time: a buffer is read
//! out from a packet's start, and packets are all eight bytes long.

mod decoder;
mod position;
#[cfg(test)]
mod tests;

pub use decoder::{Decoder, PACKET, Packet, Sink, is_exception_return};
pub use position::Settings;

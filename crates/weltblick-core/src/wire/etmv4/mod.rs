//! Instruction trace of ETM architecture version 4 (*Arm Embedded Trace Macrocell Architecture
//! Specification, ETMv4.0 to ETMv4.6*, IHI 0064), as Cortex-M7 and Cortex-M33 class cores send it.
//!
//! Every packet of the instruction stream is read, also those that M-profile cores never send.
//! Addresses, timestamps and contexts travel as differences from what was sent before; packets here
//! carry the whole value. What the packets mean together with an image is the work of
//! [`flow`](crate::flow).
//!
//! Where the document leaves room, or where we are not sure of it, this is what the decoder does:
//!
//! * An exact match address moves its entry to the front of the address history, as every other
//!   address does, even entry 0.
//! * A cycle count is its field plus the threshold of the last trace info packet, in all three
//!   formats; the count inside a timestamp packet is not.
//! * A packet header that the document reserves is damage: nothing says how long it is.

mod decoder;
mod history;
mod packet;
mod parse;
mod settings;
#[cfg(test)]
mod tests;

pub use decoder::{Decoder, Etmv4};
pub use packet::{
    Address, Atoms, Conditional, Context, DataSync, Exception, InstructionSet, Packet, Returns,
    TraceInfo,
};
pub use settings::Settings;

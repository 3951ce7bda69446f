//! Instruction trace of ETM architecture version 3 (*Embedded Trace Macrocell Architecture
//! Specification, ETMv1.0 to ETMv3.5*, IHI 0014), as Cortex-M3 and Cortex-M4 class cores send it.
//!
//! Every instruction has an atom: its condition passed (E) or failed (N). Headers of atoms (P-headers)
//! have two encodings, with and without cycles; branch packets have two as well; which ones are in use
//! is in the [`Settings`]. Packets of data trace, which trace units of M-profile cores do not send, are
//! recognised so that nothing behind them is lost.
//!
//! Where the document leaves room, or where we are not sure of it, this is what the decoder does:
//!
//! * Of two addresses in an I-sync packet with a load or store in progress, execution goes on at the
//!   second one, which is written as a difference from the first.
//! * The second and third byte of exception information are told apart by their bit 6.
//! * A timestamp in Gray code is a difference from the code that was sent before, not from its value.
//! * A fifth address byte of the original branch encoding that says "exception" without information
//!   about it (as before ETMv3) is an exception whose number is not told.
//! * Headers that the document reserves are damage, and so is a P-header without any atom or cycle.

mod atoms;
mod decoder;
mod history;
mod packet;
mod parse;
mod settings;
#[cfg(test)]
mod tests;

pub use decoder::{Decoder, Etmv3};
pub use packet::{Atoms, Branch, Data, Exception, InstructionSet, Packet, Reason, Start};
pub use settings::Settings;

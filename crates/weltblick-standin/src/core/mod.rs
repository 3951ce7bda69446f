//! The processor core: Armv7-M, Thumb-2, the integer instructions that compilers emit for a
//! Cortex-M3 class core.
//!
//! Follows the *Armv7-M Architecture Reference Manual*, DDI 0403E, chapters A5 (encodings) and A7
//! (instructions).

mod alu;
mod branch;
pub mod cycles;
mod decode16;
mod decode32;
mod execute;
mod instruction;
mod registers;

pub use branch::{Branch, branch};
pub use execute::{Effect, execute};
pub use instruction::{Instruction, Op};
pub use registers::{Mode, Registers};

/// Decodes the instruction at `address`, given its first two halfwords.
///
/// `None` if it is not one that this core executes.
#[must_use]
pub fn decode(address: u32, first: u16, second: u16) -> Option<Instruction> {
    match first >> 11 {
        0b11101..=0b11111 => {
            decode32::decode(address, first, second).map(|op| Instruction { op, length: 4 })
        }
        _ => decode16::decode(address, first).map(|op| Instruction { op, length: 2 }),
    }
}

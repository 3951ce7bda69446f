//! Where a reader stands between two bytes, so that a recording can be read in pieces beside each other:
//! whoever begins shortly before a piece stands at its beginning where the reader of the piece before it
//! ends, or the two are not joined.

use super::return_stack::ReturnStack;
use crate::wire::etmv4::{Exception, Packet};

/// Where execution is. Blocks go by their first address: numbers differ from reader to reader.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    /// Nobody knows.
    Unknown,
    /// In a block, after so many of its instructions.
    Inside { start: u64, done: u32, last: u32 },
    /// Behind the indirect branch that ends a block.
    Behind(u64),
    /// In an exception's entry.
    Entry,
}

/// Everything that what an ETMv4 sends later is read by, but for the return stack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Etmv4State {
    pub(super) place: Place,
    pub(super) waiting: Vec<(u64, Packet)>,
    pub(super) speculation: [u32; 3],
    pub(super) exception: Option<(u64, Exception)>,
    /// Whose entries of the return stack are.
    pub(super) owners: Vec<u32>,
    pub(super) flags: [bool; 4],
}

/// The same of an ETMv3.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Etmv3State {
    pub(super) place: Place,
    pub(super) held: (u8, u32),
    pub(super) stamp: Option<(u64, u64)>,
    pub(super) cycles: u32,
    pub(super) flags: [bool; 5],
}

/// The return stack of a reader, where it has one: entries, the oldest first.
pub(super) fn entries(stack: Option<&ReturnStack>) -> Vec<u64> {
    stack.map_or_else(Vec::new, ReturnStack::entries)
}

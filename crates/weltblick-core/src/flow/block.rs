//! A stretch of code without a branch inside.

use crate::isa::thumb::Indirect;

/// The number of a block in its [`Code`](super::Code).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct BlockId(pub u32);

/// Instructions that run one after the other, up to and with the first one that the trace tells of.
///
/// Blocks may overlap: one begins wherever execution was seen to arrive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Block {
    /// The address of its first instruction.
    pub start: u64,
    /// The address of its last instruction.
    pub last: u64,
    /// How many instructions.
    pub instructions: u32,
    /// Its number.
    pub id: BlockId,
    /// Where execution goes on if the last instruction does not branch, and if it does: a block's
    /// number, or one of [`next`].
    pub(super) next: [u32; 2],
    /// Bytes of the last instruction.
    pub last_length: u8,
    /// What the last instruction is.
    pub end: End,
    /// The last instruction may not branch.
    pub conditional: bool,
    /// The last instruction leaves a return address.
    pub links: bool,
    /// An instruction in it waits: for an interrupt, or an event.
    pub waits: bool,
    /// Where the first that does begins, in bytes from the block's start.
    pub(super) wait: u16,
    /// One writes a stack pointer: behind a handler that did, another thread may go on.
    pub sets_stack: bool,
}

/// How a block ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// A branch to a fixed address.
    Jump,
    /// A call of a fixed address.
    Call,
    /// A branch to where a register or memory says.
    Indirect(Indirect),
    /// A barrier or a wait that the trace tells of: goes on with the next instruction.
    Marked,
    /// It would be too long: it goes on in the block behind it.
    Through,
    /// Nothing that could be executed follows.
    Edge,
}

/// Successors that are no block numbers.
pub(super) mod next {
    /// Not looked up yet.
    pub(in crate::flow) const UNKNOWN: u32 = u32::MAX;
    /// It is not decided by the image, or something must be done on the way.
    pub(in crate::flow) const SPECIAL: u32 = u32::MAX - 1;
    /// Numbers from here on are none of blocks.
    pub(in crate::flow) const FIRST: u32 = u32::MAX - 1;
}

impl Block {
    /// The address behind it.
    #[must_use]
    pub const fn after(&self) -> u64 {
        self.last + self.last_length as u64
    }
}

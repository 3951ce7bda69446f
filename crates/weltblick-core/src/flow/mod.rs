//! Packets and an image to executed instructions.
//!
//! An instruction trace says only what cannot be known beforehand: whether a branch was taken, where
//! an indirect one went, where an exception came in. Together with the image that is every
//! instruction that ran. [`Code`] cuts the image into [`Block`]s as they are reached, a [`Follower`]
//! runs through them as the packets say, and a [`Sink`] is told block by block.
//!
//! Packets and image may disagree: another build, damaged bytes, code that is not in the image. What
//! cannot be is never followed: it is a [`Gap`] with the place of the first disagreement.

mod block;
mod clocking;
mod code;
mod follower;
mod from_etmv3;
mod from_etmv4;
mod from_mtb;
mod held;
mod only;
mod piece;
mod return_stack;
mod slowest;
mod speculation;
mod stepper;
#[cfg(test)]
mod tests;

pub use block::{Block, BlockId, End};
pub use clocking::{Clocking, Passage, Passed};
pub use code::Code;
pub use follower::Follower;
pub use from_etmv3::Etmv3Flow;
pub use from_etmv4::Etmv4Flow;
pub use from_mtb::MtbFlow;
pub(crate) use held::{Held, Holding, Receive, To};
pub use only::{Edge, Only};
pub use piece::{Etmv3State, Etmv4State};
pub(crate) use slowest::{EXCEPTION, Ran, Slowest};
pub use stepper::Stepper;

use crate::wire::Malformed;

/// Receives what ran, in order.
pub trait Sink {
    /// A block ran to its end, and its last instruction branched or did not.
    fn ran(&mut self, block: &Block, taken: bool);
    /// The beginning of a block ran: so many instructions, those before `until`, an address inside it.
    fn ran_part(&mut self, _block: &Block, _until: u64, _instructions: u32) {}
    /// The instruction at this address, which is about to be told, was passed over: its condition
    /// failed. Only where the trace tells of every instruction; branches that are not taken are none.
    fn skipped(&mut self, _address: u64) {}
    /// Execution goes on at the start of this block: after an indirect branch, an exception's entry
    /// or return, or a gap.
    fn arrived(&mut self, _block: &Block) {}
    /// What follows is told by the packet at this byte of the origin.
    #[inline(always)]
    fn at(&mut self, _offset: u64) {}
    /// Something other than code: where in the origin's bytes, and what.
    fn moment(&mut self, _offset: u64, _moment: &Moment) {}
    /// A synchronisation says where execution is, and everything so far agrees with that. Only whoever holds code back
    /// needs to know.
    fn agreed(&mut self, _code: &Code<'_>) {}
    /// Whether the rest of the recording is of no interest: whoever reads it may stop.
    fn has_enough(&self) -> bool {
        false
    }
}

impl<S: Sink + ?Sized> Sink for &mut S {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        (**self).ran(block, taken);
    }
    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        (**self).ran_part(block, until, instructions);
    }
    fn skipped(&mut self, address: u64) {
        (**self).skipped(address);
    }
    #[inline(always)]
    fn at(&mut self, offset: u64) {
        (**self).at(offset);
    }
    #[inline(always)]
    fn arrived(&mut self, block: &Block) {
        (**self).arrived(block);
    }
    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        (**self).moment(offset, moment);
    }
    fn agreed(&mut self, code: &Code<'_>) {
        (**self).agreed(code);
    }
    fn has_enough(&self) -> bool {
        (**self).has_enough()
    }
}

/// Nobody wants to know.
impl Sink for () {
    fn ran(&mut self, _: &Block, _: bool) {}
}

/// Hears everything, if there is one.
impl<S: Sink> Sink for Option<S> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        if let Some(sink) = self {
            sink.ran(block, taken);
        }
    }
    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        if let Some(sink) = self {
            sink.ran_part(block, until, instructions);
        }
    }
    fn skipped(&mut self, address: u64) {
        if let Some(sink) = self {
            sink.skipped(address);
        }
    }
    #[inline(always)]
    fn at(&mut self, offset: u64) {
        if let Some(sink) = self {
            sink.at(offset);
        }
    }
    #[inline(always)]
    fn arrived(&mut self, block: &Block) {
        if let Some(sink) = self {
            sink.arrived(block);
        }
    }
    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        if let Some(sink) = self {
            sink.moment(offset, moment);
        }
    }
    fn has_enough(&self) -> bool {
        self.as_ref().is_none_or(Sink::has_enough)
    }
}

/// Both are told everything.
impl<A: Sink, B: Sink> Sink for (A, B) {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.0.ran(block, taken);
        self.1.ran(block, taken);
    }
    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.0.ran_part(block, until, instructions);
        self.1.ran_part(block, until, instructions);
    }
    fn skipped(&mut self, address: u64) {
        self.0.skipped(address);
        self.1.skipped(address);
    }
    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.0.at(offset);
        self.1.at(offset);
    }
    #[inline(always)]
    fn arrived(&mut self, block: &Block) {
        self.0.arrived(block);
        self.1.arrived(block);
    }
    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.0.moment(offset, moment);
        self.1.moment(offset, moment);
    }
    fn has_enough(&self) -> bool {
        self.0.has_enough() && self.1.has_enough()
    }
}

/// What happens beside code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moment {
    /// An exception was taken.
    Entered {
        /// Its number; `None`: none that a handler has, such as a debugger's halt.
        exception: Option<u16>,
        /// The preferred return address, as the trace unit tells it.
        returns_to: u64,
    },
    /// A handler ended.
    Left,
    /// So many cycles since the count before, up to the last branch; `None`: not known.
    Cycles(Option<u32>),
    /// The global timestamp. 0: not known.
    Time {
        /// Its value.
        value: u64,
        /// Cycles since the last cycle count.
        cycles: Option<u32>,
    },
    /// Who executes from here on.
    Context {
        /// The context ID.
        id: u32,
        /// In non-secure state.
        non_secure: bool,
    },
    /// What ran from here on is not known, until the next arrival.
    Gap(Gap),
    /// What follows ran behind the last synchronisation: nothing agrees with it, and the recording ends.
    Unconfirmed,
    /// What follows was held back for as long as possible, and no synchronisation came.
    Overdue,
    /// A synchronisation agrees with everything since [`Overdue`](Self::Overdue).
    Confirmed,
}

/// Why it is not known what ran.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gap {
    /// By choice: a window, a range, or trace was off.
    Unwatched,
    /// The trace unit's buffer was full.
    Overflow,
    /// Trace was switched off before the buffer was empty.
    Discarded,
    /// So many bytes could not be read.
    Damaged {
        /// Why.
        why: Malformed,
        /// How many bytes.
        bytes: u64,
    },
    /// The recording ends inside a packet: so many bytes of it are there.
    CutOff {
        /// How many bytes.
        bytes: u64,
    },
    /// Bytes are missing here.
    Missing,
    /// The trace unit only counted: so many instructions, if it said so.
    Uncounted(Option<u32>),
    /// Packets and image disagree.
    Mismatch(Mismatch),
}

impl Gap {
    /// Whether it says that what was read before it may be wrong, too: bytes are not as they were sent.
    pub(crate) const fn contradicts(self) -> bool {
        match self {
            Self::Mismatch(mismatch) => !matches!(mismatch, Mismatch::Outside(_)),
            Self::Damaged { .. } => true,
            Self::Unwatched
            | Self::Overflow
            | Self::Discarded
            | Self::CutOff { .. }
            | Self::Missing
            | Self::Uncounted(_) => false,
        }
    }
}

/// How packets and image disagree.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mismatch {
    /// This address is nothing that the image could execute.
    Outside(u64),
    /// The branch at this address always branches, and the packets say that it did not.
    AlwaysTaken(u64),
    /// The instruction at this address has no condition, and the packets say that it failed.
    Unconditional(u64),
    /// From this address on there is no branch in the image, and the packets tell of one.
    NoBranch(u64),
    /// The packets do not say where the branch at this address went.
    NoTarget(u64),
    /// The packets do not say where an exception's handler is.
    NoHandler,
    /// The branch before `expected` leads there, and the packets say that execution went on elsewhere.
    OtherTarget {
        /// Where the image leads.
        expected: u64,
        /// Where the packets lead.
        told: u64,
    },
    /// The packets say where a branch went, here, and there is none whose target the image leaves open.
    NotAsked(u64),
    /// An exception came in at an address that the code since `since` does not reach.
    NotReached {
        /// Where execution was.
        since: u64,
        /// Where it came in.
        told: u64,
    },
}

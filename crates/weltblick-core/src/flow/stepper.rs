//! Running through blocks instruction by instruction, as a trace says that tells of each.

use super::block::{Block, BlockId, End, next};
use super::code::Code;
use super::piece::Place;
use super::{Mismatch, Sink};
use rustc_hash::FxHashMap;

/// Where execution is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum At {
    /// Nobody knows.
    Unknown,
    /// Inside a block, after `done` of its instructions, of which the last has the number `last`.
    Inside { block: u32, done: u32, last: u32 },
    /// Behind the indirect branch at the end of this block.
    Behind(u32),
}

/// Follows execution through the blocks of an image.
#[derive(Debug)]
pub struct Stepper<'a> {
    code: Code<'a>,
    at: At,
    /// Instructions that were passed over, by block and number: their addresses, if an `it` makes them
    /// conditional.
    conditional: FxHashMap<(u32, u32), Option<u64>>,
}

impl<'a> Stepper<'a> {
    /// A stepper that does not know yet where execution is.
    #[must_use]
    pub fn new(code: Code<'a>) -> Self {
        Self { code, at: At::Unknown, conditional: FxHashMap::default() }
    }

    /// The blocks that were reached so far.
    #[must_use]
    pub const fn code(&self) -> &Code<'a> {
        &self.code
    }

    /// Blocks begin at these addresses, and none runs across them. Before anything was followed.
    pub fn cut_at(&mut self, addresses: &[u64]) {
        self.code.cut_at(addresses);
    }

    /// Every instruction is a block of its own. Before anything was followed.
    pub const fn cut_everywhere(&mut self) {
        self.code.cut_everywhere();
    }

    /// The blocks, when all is read.
    #[must_use]
    pub fn into_code(self) -> Code<'a> {
        self.code
    }

    /// Where execution is, by address.
    pub(super) fn place(&self) -> Place {
        let start = |number: u32| self.code.block(BlockId(number)).start;
        match self.at {
            At::Unknown => Place::Unknown,
            At::Inside { block, done, last } => Place::Inside { start: start(block), done, last },
            At::Behind(number) => Place::Behind(start(number)),
        }
    }

    /// Whether it is not known where execution is.
    #[must_use]
    pub fn is_lost(&self) -> bool {
        self.at == At::Unknown
    }

    /// Nothing is known any more, until the next address. What was stepped through of a block ran.
    pub fn lose(&mut self, sink: &mut impl Sink) {
        self.leave(sink);
        self.at = At::Unknown;
    }

    /// So many instructions ran, each on its condition.
    ///
    /// The hot loop: one look at a block and one call of the sink per block.
    ///
    /// # Errors
    ///
    /// If the image does not lead on; the rest is dropped then.
    #[inline]
    pub fn run(&mut self, mut count: u32, sink: &mut impl Sink) -> Result<(), Mismatch> {
        while count > 0 {
            let At::Inside { block: mut number, mut done, .. } = self.at else {
                return self.run_elsewhere(sink);
            };
            while let Some(block) = self.code.get(number) {
                let left = block.instructions - done;
                if count < left {
                    let last = block.instructions - 1;
                    self.at = At::Inside { block: number, done: done + count, last };
                    return Ok(());
                }
                let follows = block.next[1];
                if follows >= next::FIRST {
                    break;
                }
                sink.ran(block, true);
                count -= left;
                (number, done) = (follows, 0);
            }
            let last = self.code.block(BlockId(number)).instructions - 1;
            self.at = At::Inside { block: number, done, last };
            if count > 0 {
                count -= self.code.block(BlockId(number)).instructions - done;
                self.end(BlockId(number), true, sink)?;
            }
        }
        Ok(())
    }

    /// Instructions while it is not known where.
    #[cold]
    fn run_elsewhere(&mut self, sink: &mut impl Sink) -> Result<(), Mismatch> {
        match self.at {
            At::Behind(from) => {
                let last = self.code.block(BlockId(from)).last;
                Err(self.fail(Mismatch::NoTarget(last), sink))
            }
            // Nothing was known before, nothing is now.
            At::Unknown | At::Inside { .. } => Ok(()),
        }
    }

    /// An instruction did not run: its condition failed, or it is a branch that was not taken.
    ///
    /// # Errors
    ///
    /// If it has no condition, or the image does not lead on.
    pub fn skip(&mut self, sink: &mut impl Sink) -> Result<(), Mismatch> {
        let At::Inside { block: number, done, last } = self.at else {
            return self.run_elsewhere(sink);
        };
        let block = *self.code.block(BlockId(number));
        let is_last = done == last;
        if is_last && !matches!(block.end, End::Through | End::Edge) {
            if !block.conditional {
                return Err(self.fail(Mismatch::AlwaysTaken(block.last), sink));
            }
            return self.end(BlockId(number), false, sink);
        }
        let (code, known) = (&self.code, &mut self.conditional);
        let look = || code.conditional(&block, done);
        let Some(address) = *known.entry((number, done)).or_insert_with(look) else {
            let address = self.code.nth(&block, done).unwrap_or(block.last);
            return Err(self.fail(Mismatch::Unconditional(address), sink));
        };
        sink.skipped(address);
        if is_last {
            return self.end(BlockId(number), false, sink);
        }
        self.at = At::Inside { block: number, done: done + 1, last };
        Ok(())
    }

    /// One instruction ran, if it is not the last of its block: then nothing is told yet.
    #[inline(always)]
    pub fn step_inside(&mut self) -> bool {
        match &mut self.at {
            At::Inside { done, last, .. } if *done < *last => {
                *done += 1;
                true
            }
            _ => false,
        }
    }

    const fn start_of(block: &Block) -> At {
        At::Inside { block: block.id.0, done: 0, last: block.instructions - 1 }
    }

    /// The last instruction of a block ran, or was skipped.
    #[inline(never)]
    fn end(&mut self, id: BlockId, ran: bool, sink: &mut impl Sink) -> Result<(), Mismatch> {
        let block = *self.code.block(id);
        let taken = ran && !matches!(block.end, End::Through | End::Edge);
        sink.ran(&block, taken);
        self.at = At::Unknown;
        if taken && matches!(block.end, End::Indirect(_)) {
            self.at = At::Behind(id.0);
            return Ok(());
        }
        // The way was gone before, mostly.
        let known = block.next[usize::from(taken)];
        let found = if known < next::FIRST {
            BlockId(known)
        } else {
            self.code.successor(id, taken).map_err(Mismatch::Outside)?
        };
        self.at = Self::start_of(self.code.block(found));
        Ok(())
    }

    /// The packets say where execution is.
    ///
    /// # Errors
    ///
    /// If that is not where the image leads, or outside of it.
    pub fn address(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        match self.position() {
            Some(expected) if expected == address => Ok(()),
            Some(expected) => {
                Err(self.fail(Mismatch::OtherTarget { expected, told: address }, sink))
            }
            None => self.arrive(address, sink),
        }
    }

    /// Execution goes on at `address`, wherever it was.
    ///
    /// # Errors
    ///
    /// If that is outside of the image.
    pub fn arrive(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        self.leave(sink);
        match self.code.block_at(address) {
            Some(id) => {
                self.at = Self::start_of(self.code.block(id));
                sink.arrived(self.code.block(id));
                Ok(())
            }
            None => {
                self.at = At::Unknown;
                Err(Mismatch::Outside(address))
            }
        }
    }

    /// The address of the next instruction, where that is known.
    #[must_use]
    pub fn position(&self) -> Option<u64> {
        match self.at {
            At::Inside { block, done: 0, .. } => Some(self.code.block(BlockId(block)).start),
            At::Inside { block, done, .. } => self.code.nth(self.code.block(BlockId(block)), done),
            At::Unknown | At::Behind(_) => None,
        }
    }

    /// At the very start of a block: the last thing that was told was where execution is.
    #[must_use]
    pub const fn is_at_start(&self) -> bool {
        matches!(self.at, At::Inside { done: 0, .. })
    }

    /// In the middle of a block.
    #[must_use]
    pub const fn is_inside(&self) -> bool {
        matches!(self.at, At::Inside { done: 1.., .. })
    }

    /// Execution leaves the block that it is in: what was stepped through ran.
    pub fn leave(&mut self, sink: &mut impl Sink) {
        if let At::Inside { block, done, .. } = self.at
            && done > 0
        {
            let block = *self.code.block(BlockId(block));
            if let Some(until) = self.code.nth(&block, done) {
                sink.ran_part(&block, until, done);
            }
        }
        self.at = At::Unknown;
    }

    /// What cannot be is not followed.
    fn fail(&mut self, mismatch: Mismatch, sink: &mut impl Sink) -> Mismatch {
        self.lose(sink);
        mismatch
    }
}

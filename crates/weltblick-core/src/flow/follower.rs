//! Running through blocks as a trace says.

use super::block::{Block, BlockId, End, next};
use super::code::Code;
use super::piece::Place;
use super::return_stack::ReturnStack;
use super::{Gap, Mismatch, Moment, Sink};

/// Where execution is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum At {
    /// Nobody knows.
    Unknown,
    /// At the start of this block.
    Start(u32),
    /// Behind the indirect branch at the end of this block.
    Behind(u32),
    /// In an exception's entry, before its handler's first instruction; or behind its return.
    Entry,
}

/// Follows execution through the blocks of an image.
#[derive(Debug)]
pub struct Follower<'a> {
    code: Code<'a>,
    at: At,
    /// Where calls return to, if the trace unit leaves that out.
    stack: Option<ReturnStack>,
}

impl<'a> Follower<'a> {
    /// A follower that does not know yet where execution is.
    #[must_use]
    pub fn new(code: Code<'a>, return_stack: bool) -> Self {
        Self { code, at: At::Unknown, stack: return_stack.then(ReturnStack::default) }
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
            At::Start(number) => Place::Inside { start: start(number), done: 0, last: 0 },
            At::Behind(number) => Place::Behind(start(number)),
            At::Entry => Place::Entry,
        }
    }

    /// Where calls return to.
    pub(super) const fn stack(&self) -> Option<&ReturnStack> {
        self.stack.as_ref()
    }

    /// The same, to be changed.
    pub(super) const fn stack_mut(&mut self) -> Option<&mut ReturnStack> {
        self.stack.as_mut()
    }

    /// Whether it is known where execution is.
    #[must_use]
    pub fn is_lost(&self) -> bool {
        self.at == At::Unknown
    }

    /// Nothing is known any more, until the next address.
    pub fn lose(&mut self) {
        self.at = At::Unknown;
        if let Some(stack) = &mut self.stack {
            stack.clear();
        }
    }

    /// Branches that were taken (1) or not, the oldest in bit 0.
    ///
    /// The hot loop: one look at a block and one call of the sink per branch whose way is known. Made to be
    /// inlined where packets are read; all that is special happens elsewhere.
    ///
    /// # Errors
    ///
    /// If the image does not allow it; the rest of the branches is dropped then.
    #[inline(always)]
    pub fn branches(
        &mut self,
        mut bits: u32,
        count: u8,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        let mut left = count;
        if let At::Start(mut number) = self.at {
            while left > 0 {
                let Some(block) = self.code.get(number) else { break };
                let taken = bits & 1 == 1;
                let follows = block.next[usize::from(taken)];
                if follows >= next::FIRST {
                    break;
                }
                sink.ran(block, taken);
                if block.links & taken
                    && let Some(stack) = &mut self.stack
                {
                    stack.push(block.after());
                }
                number = follows;
                bits >>= 1;
                left -= 1;
            }
            self.at = At::Start(number);
        }
        if left == 0 { Ok(()) } else { self.special_branch(bits, left, sink) }
    }

    /// The next branch must be looked up, or it is not known which block it ends; then the others.
    #[inline(never)]
    fn special_branch(
        &mut self,
        bits: u32,
        left: u8,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        match self.at {
            // Nothing was known before, nothing is now.
            At::Unknown => Ok(()),
            At::Entry => Err(self.fail(Mismatch::NoHandler)),
            At::Behind(from) => {
                self.pop(from, sink)?;
                self.branches(bits, left, sink)
            }
            At::Start(number) => {
                self.branch(BlockId(number), bits & 1 == 1, sink)?;
                self.branches(bits >> 1, left - 1, sink)
            }
        }
    }

    /// The packets do not say where a branch went: then to where the last call said.
    fn pop(&mut self, from: u32, sink: &mut impl Sink) -> Result<(), Mismatch> {
        let Some(address) = self.stack.as_mut().and_then(ReturnStack::pop) else {
            let last = self.code.block(BlockId(from)).last;
            return Err(self.fail(Mismatch::NoTarget(last)));
        };
        self.arrive(address, sink)
    }

    /// One branch whose way must be looked up.
    fn branch(&mut self, id: BlockId, taken: bool, sink: &mut impl Sink) -> Result<(), Mismatch> {
        let id = self.run_through(id, sink)?;
        let block = *self.code.block(id);
        if block.end == End::Edge {
            return Err(self.fail(Mismatch::NoBranch(block.start)));
        }
        if !taken && !block.conditional {
            return Err(self.fail(Mismatch::AlwaysTaken(block.last)));
        }
        sink.ran(&block, taken);
        if block.links
            && taken
            && let Some(stack) = &mut self.stack
        {
            stack.push(block.after());
        }
        self.at = match block.end {
            End::Indirect(_) if taken => At::Behind(id.0),
            _ => match self.code.successor(id, taken) {
                Ok(found) => At::Start(found.0),
                Err(outside) => return Err(self.fail(Mismatch::Outside(outside))),
            },
        };
        Ok(())
    }

    /// Runs blocks that end only because they would be too long.
    fn run_through(&mut self, mut id: BlockId, sink: &mut impl Sink) -> Result<BlockId, Mismatch> {
        while self.code.block(id).end == End::Through {
            let block = *self.code.block(id);
            sink.ran(&block, false);
            id = match self.code.successor(id, false) {
                Ok(found) => found,
                Err(_) => return Err(self.fail(Mismatch::NoBranch(block.start))),
            };
        }
        Ok(id)
    }

    /// The packets say where execution is.
    ///
    /// # Errors
    ///
    /// If that is not where the image leads, or outside of it.
    pub fn address(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        if let At::Start(number) = self.at {
            let expected = self.code.block(BlockId(number)).start;
            return if expected == address {
                Ok(())
            } else {
                Err(self.fail(Mismatch::OtherTarget { expected, told: address }))
            };
        }
        self.arrive(address, sink)
    }

    fn arrive(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        match self.code.block_at(address) {
            Some(id) => {
                self.at = At::Start(id.0);
                sink.arrived(self.code.block(id));
                Ok(())
            }
            None => Err(self.fail(Mismatch::Outside(address))),
        }
    }

    /// An exception came in before the instruction at `address`. `at_target`: right after the last
    /// branch.
    ///
    /// Behind an indirect branch whose target was not told, several readings are possible: it went to
    /// where the last call of the same handler said and ran on from there, if that leads to `address`;
    /// otherwise nothing ran since (a tail-chained exception, whatever address it carries).
    ///
    /// # Errors
    ///
    /// If the code since the last branch does not lead there. The exception was entered all the same.
    pub fn interrupted(
        &mut self,
        address: u64,
        at_target: bool,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        let ran = match (self.at, at_target) {
            (At::Unknown | At::Entry, _) => Ok(()),
            (At::Start(_), true) if !is_code(address) => Ok(()),
            (At::Start(number), true) => match self.code.block(BlockId(number)).start {
                start if start == address => Ok(()),
                expected => Err(Mismatch::OtherTarget { expected, told: address }),
            },
            (At::Start(number), false) => self.run_up_to(BlockId(number), address, sink),
            (At::Behind(_), _) => {
                if !self.run_from_return(address, at_target, sink) {
                    self.leave();
                }
                Ok(())
            }
        };
        if let Err(mismatch) = ran {
            self.fail(mismatch);
        }
        self.at = At::Entry;
        if let Some(stack) = &mut self.stack {
            stack.enter();
        }
        ran
    }

    /// A handler ended: what comes then is told by an address.
    pub fn left(&mut self) {
        self.leave();
        if let At::Behind(_) = self.at {
            self.at = At::Entry;
        }
    }

    fn leave(&mut self) {
        if let Some(stack) = &mut self.stack {
            stack.leave();
        }
    }

    /// Behind an indirect branch: where the last call said, if `address` is reached from there. A handler does
    /// not return to where others called. Returns whether it is so.
    fn run_from_return(&mut self, address: u64, at_target: bool, sink: &mut impl Sink) -> bool {
        let Some(stack) = self.stack.as_mut().filter(|stack| stack.is_own()) else { return false };
        let Some(top) = stack.peek() else { return false };
        let Some(id) = self.code.block_at(top) else { return false };
        let reaches = if at_target { top == address } else { self.ahead(id, address).is_some() };
        if reaches {
            if let Some(stack) = &mut self.stack {
                stack.pop();
            }
            sink.arrived(self.code.block(id));
            if let Some(last) = self.ahead(id, address) {
                self.tell_up_to(id, last, address, sink);
            }
        }
        reaches
    }

    /// Everything from where execution is up to the branch at `source` ran, no branch before it was taken,
    /// and that one was.
    ///
    /// # Errors
    ///
    /// If the code does not lead there, or there is no branch.
    pub fn run_to_branch(&mut self, source: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        let Some(id) = self.run_ahead(source, sink)? else { return Ok(()) };
        let block = *self.code.block(id);
        if block.last != source || matches!(block.end, End::Through | End::Edge) {
            return Err(self.fail(Mismatch::NoBranch(source)));
        }
        sink.ran(&block, true);
        self.at = At::Behind(id.0);
        Ok(())
    }

    /// The same up to an exception before the instruction at `address`.
    ///
    /// # Errors
    ///
    /// If the code does not lead there. The exception was entered all the same.
    pub fn run_to_exception(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        let ran = self.run_ahead(address, sink).map(|id| {
            let block = id.map(|id| *self.code.block(id)).filter(|block| address > block.start);
            if let Some(block) = block {
                self.tell_part(&block, address, sink);
            }
        });
        self.at = At::Entry;
        ran
    }

    /// Runs whole blocks whose branches are not taken, up to the one that holds `address`; `None` if it
    /// is not known where execution is.
    fn run_ahead(
        &mut self,
        address: u64,
        sink: &mut impl Sink,
    ) -> Result<Option<BlockId>, Mismatch> {
        let At::Start(number) = self.at else { return Ok(None) };
        let mut id = BlockId(number);
        let since = self.code.block(id).start;
        loop {
            let block = *self.code.block(id);
            if self.code.holds(&block, address) {
                return Ok(Some(id));
            }
            if address < block.start || block.end == End::Edge {
                return Err(self.fail(Mismatch::NotReached { since, told: address }));
            }
            if !block.conditional && !matches!(block.end, End::Through | End::Marked) {
                return Err(self.fail(Mismatch::AlwaysTaken(block.last)));
            }
            sink.ran(&block, false);
            id = match self.code.successor(id, false) {
                Ok(found) => found,
                Err(outside) => return Err(self.fail(Mismatch::Outside(outside))),
            };
        }
    }

    /// Where the branch that was run to went: a fixed target must be that.
    ///
    /// # Errors
    ///
    /// If it is not, or outside of the image.
    pub fn went_to(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        if let At::Behind(number) = self.at {
            let block = *self.code.block(BlockId(number));
            if let Some(expected) = self.code.target(&block).filter(|&target| target != address) {
                return Err(self.fail(Mismatch::OtherTarget { expected, told: address }));
            }
        }
        self.arrive(address, sink)
    }

    /// Runs the instructions before `address`, none of which branches.
    fn run_up_to(
        &mut self,
        id: BlockId,
        address: u64,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        let since = self.code.block(id).start;
        let not_reached = Mismatch::NotReached { since, told: address };
        // Looked for first: nothing runs unless it is reached.
        let last = self.ahead(id, address).ok_or(not_reached)?;
        self.tell_up_to(id, last, address, sink);
        Ok(())
    }

    /// The block that `address` lies in, if the code from `id` on leads there without a branch.
    fn ahead(&mut self, id: BlockId, address: u64) -> Option<BlockId> {
        let mut ahead = id;
        while !self.reaches(self.code.block(ahead), address) {
            if self.code.block(ahead).end != End::Through {
                return None;
            }
            ahead = self.code.successor(ahead, false).ok()?;
        }
        Some(ahead)
    }

    /// Everything from block `id` on, up to `address` in block `last`, ran.
    fn tell_up_to(&mut self, id: BlockId, last: BlockId, address: u64, sink: &mut impl Sink) {
        let mut at = id;
        while at != last {
            sink.ran(&self.code.block(at).to_owned(), false);
            let Ok(next) = self.code.successor(at, false) else { return };
            at = next;
        }
        let block = *self.code.block(at);
        if address > block.start {
            self.tell_part(&block, address, sink);
        }
    }

    fn tell_part(&self, block: &Block, until: u64, sink: &mut impl Sink) {
        let instructions = self.code.instructions(block, until).count() as u32;
        sink.ran_part(block, until, instructions);
    }

    /// Whether the block leads to `address` without a branch. Behind its last instruction it does only
    /// where nothing more is known.
    fn reaches(&self, block: &Block, address: u64) -> bool {
        self.code.holds(block, address) || block.end == End::Edge && block.after() == address
    }

    /// What cannot be is not followed.
    fn fail(&mut self, mismatch: Mismatch) -> Mismatch {
        self.lose();
        mismatch
    }
}

/// Addresses from here on are no code, but exception return values (DDI 0403E, B1.5.8).
const fn is_code(address: u64) -> bool {
    address < 0xf000_0000
}

/// The moment of a disagreement.
pub(super) const fn mismatch(mismatch: Mismatch) -> Moment {
    Moment::Gap(Gap::Mismatch(mismatch))
}

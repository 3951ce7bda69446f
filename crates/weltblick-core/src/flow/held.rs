//! Executed code that waits until the trace agrees with it.
//!
//! The formats have no checksums: where bytes vanished, or changed, what follows mostly reads as other packets, and runs
//! through code for a while before it contradicts itself. So nothing is told before the next synchronisation says the same
//! address as the packets before it led to. What is contradicted before that is withdrawn: nobody has seen it.

use super::{Block, BlockId, Code, Moment, Sink};

/// Steps that wait at most: where trace units synchronise as they usually do, few thousand do.
const MOST: usize = 1 << 16;

/// A step in 32 bits: what it is in the lowest two, and a block's number, a distance in bytes, or a place in `others`.
const STAYED: u32 = 0;
const BRANCHED: u32 = 1;
const AT: u32 = 2;
const OTHER: u32 = 3;
/// What fits beside that.
const MOST_BESIDE: u64 = u32::MAX as u64 >> 2;

/// What waits, in order.
#[derive(Debug, Default)]
pub(crate) struct Held {
    steps: Vec<u32>,
    others: Vec<Other>,
    /// Distances in bytes are from here.
    base: u64,
    /// More came than can wait: it was told, and nothing has agreed with it yet.
    overdue: bool,
    /// Each branch is told whole, and confirms itself.
    confirms_itself: bool,
    first: Option<Fate>,
}

/// What became of what waited.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fate {
    /// The trace agreed with it, after so many steps.
    Confirmed(usize),
    /// It was contradicted.
    Withdrawn,
    /// It was more than can wait.
    Overdue,
}

/// What is seldom told.
#[derive(Debug, Clone, Copy)]
enum Other {
    Part { block: BlockId, until: u64, instructions: u32 },
    Skipped(u64),
    Arrived(BlockId),
    At(u64),
    Moment(u64, Moment),
}

/// Who is told what waited.
pub(crate) trait Receive {
    /// Everything, in order.
    fn receive(&mut self, held: &Held, code: &Code<'_>);
    /// Something else.
    fn moment(&mut self, offset: u64, moment: &Moment);
}

/// A sink that is told, compiled for it alone.
pub(crate) struct To<'s, S: ?Sized>(pub(crate) &'s mut S);

impl<S: Sink + ?Sized> Receive for To<'_, S> {
    fn receive(&mut self, held: &Held, code: &Code<'_>) {
        let (sink, blocks) = (&mut *self.0, code.blocks());
        for &step in &held.steps {
            let beside = step >> 2;
            match step & 3 {
                STAYED => sink.ran(&blocks[beside as usize], false),
                BRANCHED => sink.ran(&blocks[beside as usize], true),
                AT => sink.at(held.base + u64::from(beside)),
                _ => tell(sink, &held.others[beside as usize], code),
            }
        }
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.0.moment(offset, moment);
    }
}

fn tell<S: Sink + ?Sized>(sink: &mut S, other: &Other, code: &Code<'_>) {
    match *other {
        Other::Part { block, until, instructions } => {
            sink.ran_part(code.block(block), until, instructions);
        }
        Other::Skipped(address) => sink.skipped(address),
        Other::Arrived(block) => sink.arrived(code.block(block)),
        Other::At(offset) => sink.at(offset),
        Other::Moment(offset, moment) => sink.moment(offset, &moment),
    }
}

impl Held {
    /// For a trace each branch of which is told whole.
    pub(crate) fn that_confirms_itself() -> Self {
        Self { confirms_itself: true, ..Self::default() }
    }

    fn clear(&mut self) {
        self.steps.clear();
        self.others.clear();
    }

    fn other(&mut self, other: Other) {
        self.steps.push((self.others.len() as u32) << 2 | OTHER);
        self.others.push(other);
    }

    /// The trace agrees: what waited is told.
    fn confirm(&mut self, code: &Code<'_>, to: &mut dyn Receive) {
        self.first.get_or_insert(Fate::Confirmed(self.steps.len()));
        to.receive(self, code);
        self.clear();
        if std::mem::take(&mut self.overdue) {
            to.moment(self.base, &Moment::Confirmed);
        }
    }

    /// It contradicts: of what waited only that remains which is not known either way.
    fn withdraw(&mut self) {
        self.first.get_or_insert(Fate::Withdrawn);
        self.overdue = false;
        let mut others = std::mem::take(&mut self.others);
        others.retain(|other| matches!(other, Other::Moment(_, Moment::Gap(_))));
        self.steps.clear();
        others.into_iter().for_each(|gap| self.other(gap));
    }

    /// After some bytes: what is more than can wait is told as it is.
    pub(crate) fn limit(&mut self, code: &Code<'_>, to: &mut dyn Receive) {
        if self.confirms_itself {
            return self.confirm(code, to);
        }
        if self.steps.len() < MOST {
            return;
        }
        self.first.get_or_insert(Fate::Overdue);
        if !std::mem::replace(&mut self.overdue, true) {
            to.moment(self.base, &Moment::Overdue);
        }
        to.receive(self, code);
        self.clear();
    }

    /// The end of the recording: nothing agrees with what still waits, and nothing contradicts it.
    pub(crate) fn finish(&mut self, code: &Code<'_>, to: &mut dyn Receive) {
        let is_code = |step: &u32| matches!(step & 3, STAYED | BRANCHED);
        if !self.confirms_itself && !self.overdue && self.steps.iter().any(is_code) {
            to.moment(self.base, &Moment::Unconfirmed);
        }
        to.receive(self, code);
        self.clear();
    }

    /// What waits is another reader's, who says what becomes of it.
    pub(crate) fn begin_piece(&mut self) {
        self.clear();
        (self.first, self.overdue) = (None, false);
    }

    /// What this reader, who read on behind another, found out about what waited there: whether it is told.
    pub(crate) fn settle_for(
        &self,
        before: &mut Self,
        code: &Code<'_>,
        to: &mut dyn Receive,
    ) -> bool {
        match self.first {
            _ if before.overdue => return false,
            Some(Fate::Confirmed(steps)) if before.steps.len() + steps < MOST => {}
            Some(Fate::Withdrawn) => before.withdraw(),
            _ => return false,
        }
        before.confirm(code, to);
        true
    }
}

/// Lets everything wait until the trace agrees.
pub(crate) struct Holding<'h> {
    pub(crate) held: &'h mut Held,
    pub(crate) to: &'h mut dyn Receive,
}

impl Sink for Holding<'_> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.held.steps.push(block.id.0 << 2 | u32::from(taken));
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.held.other(Other::Part { block: block.id, until, instructions });
    }

    fn skipped(&mut self, address: u64) {
        self.held.other(Other::Skipped(address));
    }

    fn arrived(&mut self, block: &Block) {
        self.held.other(Other::Arrived(block.id));
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        let held = &mut *self.held;
        if held.steps.is_empty() {
            held.base = offset;
        }
        let distance = offset.wrapping_sub(held.base);
        if distance <= MOST_BESIDE {
            // Packets that told nothing need no place.
            match held.steps.last_mut() {
                Some(last) if *last & 3 == AT => *last = (distance as u32) << 2 | AT,
                _ => held.steps.push((distance as u32) << 2 | AT),
            }
        } else {
            held.other(Other::At(offset));
        }
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        if self.held.steps.is_empty() {
            self.held.base = offset;
        }
        if let Moment::Gap(gap) = moment
            && gap.contradicts()
            && !self.held.confirms_itself
        {
            self.held.withdraw();
        }
        self.held.other(Other::Moment(offset, *moment));
    }

    fn agreed(&mut self, code: &Code<'_>) {
        self.held.confirm(code, self.to);
    }
}

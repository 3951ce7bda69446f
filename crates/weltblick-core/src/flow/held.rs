//! Executed code that waits until the trace agrees with it.
//!
//! The formats have no checksums: where bytes vanished, or changed, what follows mostly reads as other packets, and runs
//! through code for a while before it contradicts itself. So it is held back until the next synchronisation reports the
//! address that the packets before it arrive at. What is contradicted before that is withdrawn: nobody has seen it.

use super::{Block, BlockId, Code, Moment, Sink};

/// Steps that wait at most: where trace units synchronise as they usually do, few thousand do.
const MOST: usize = 1 << 16;

/// A step in 64 bits: what it is in the lowest three; then a block's number, cycles, or a place in `others`; and how many
/// bytes lie between the packet of the first step and that of this one, in the upper half.
const STAYED: u64 = 0;
const BRANCHED: u64 = 1;
const CYCLES: u64 = 2;
const OTHER: u64 = 3;
const KIND: u64 = 7;
const MOST_BESIDE: u32 = u32::MAX >> 3;

const fn beside(step: u64) -> u32 {
    step as u32 >> 3
}

const fn distance(step: u64) -> u64 {
    step >> 32
}

/// What waits, in order.
#[derive(Debug, Default)]
pub(crate) struct Held {
    steps: Vec<u64>,
    others: Vec<Other>,
    /// Distances in bytes are from here.
    base: u64,
    /// The distance of the packet that is read; in the upper half.
    now: u64,
    /// More came than can wait: it was passed on, and nothing has agreed with it yet.
    overdue: bool,
    /// Each branch comes with both of its ends, and confirms itself.
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

/// Rare steps.
#[derive(Debug, Clone, Copy)]
enum Other {
    Part { block: BlockId, until: u64, instructions: u32 },
    Skipped(u64),
    Arrived(BlockId),
    Moment(Moment),
}

/// Who gets what waited.
pub(crate) trait Receive {
    /// Everything, in order.
    fn receive(&mut self, held: &Held, code: &Code<'_>);
    /// Something else.
    fn moment(&mut self, offset: u64, moment: &Moment);
}

/// Passes it on to a sink, compiled for that alone.
pub(crate) struct To<'s, S: ?Sized>(pub(crate) &'s mut S);

impl<S: Sink + ?Sized> Receive for To<'_, S> {
    fn receive(&mut self, held: &Held, code: &Code<'_>) {
        let (sink, blocks, mut now) = (&mut *self.0, code.blocks(), u64::MAX);
        for &step in &held.steps {
            let offset = held.base + distance(step);
            if step & KIND == CYCLES {
                sink.moment(offset, &Moment::Cycles(Some(beside(step))));
                continue;
            }
            if offset != now {
                now = offset;
                sink.at(offset);
            }
            if step & KIND == OTHER {
                pass_on(sink, offset, &held.others[beside(step) as usize], code);
            } else {
                sink.ran(&blocks[beside(step) as usize], step & KIND == BRANCHED);
            }
        }
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.0.moment(offset, moment);
    }
}

fn pass_on<S: Sink + ?Sized>(sink: &mut S, offset: u64, other: &Other, code: &Code<'_>) {
    match *other {
        Other::Part { block, until, instructions } => {
            sink.ran_part(code.block(block), until, instructions);
        }
        Other::Skipped(address) => sink.skipped(address),
        Other::Arrived(block) => sink.arrived(code.block(block)),
        Other::Moment(moment) => sink.moment(offset, &moment),
    }
}

impl Held {
    /// For a trace whose branches come with both ends.
    pub(crate) fn that_confirms_itself() -> Self {
        Self { confirms_itself: true, ..Self::default() }
    }

    fn clear(&mut self) {
        self.steps.clear();
        self.others.clear();
    }

    /// The packet at this byte is read. More than four gigabytes behind the first step it is taken to be there.
    #[inline(always)]
    fn at(&mut self, offset: u64) {
        if self.steps.is_empty() {
            self.base = offset;
        }
        self.now = offset.saturating_sub(self.base).min(u32::MAX.into()) << 32;
    }

    #[inline(always)]
    fn step(&mut self, kind: u64, beside: u32) {
        self.steps.push(kind | u64::from(beside) << 3 | self.now);
    }

    fn other(&mut self, other: Other) {
        self.step(OTHER, self.others.len() as u32);
        self.others.push(other);
    }

    /// The trace agrees, or what comes has nothing to do with what waited: that is passed on.
    pub(crate) fn confirm(&mut self, code: &Code<'_>, to: &mut dyn Receive) {
        self.first.get_or_insert(Fate::Confirmed(self.steps.len()));
        to.receive(self, code);
        self.clear();
        if std::mem::take(&mut self.overdue) {
            to.moment(self.base, &Moment::Confirmed);
        }
    }

    /// It contradicts: of what waited only that remains which is not known either way.
    pub(crate) fn withdraw(&mut self) {
        if self.confirms_itself {
            return;
        }
        self.first.get_or_insert(Fate::Withdrawn);
        self.overdue = false;
        let (steps, others) = (std::mem::take(&mut self.steps), std::mem::take(&mut self.others));
        for step in steps.into_iter().filter(|step| step & KIND == OTHER) {
            if let gap @ Other::Moment(Moment::Gap(_)) = others[beside(step) as usize] {
                self.now = distance(step) << 32;
                self.other(gap);
            }
        }
    }

    /// After some bytes: what is more than can wait is passed on as it is.
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
        let is_code = |step: &u64| matches!(step & KIND, STAYED | BRANCHED);
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

    /// Passes on, or withdraws, what waited at the end of the piece before, as this reader found it; `false` if it
    /// did not find out, or one reader of both might have done otherwise.
    pub(crate) fn flush_for(
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
        self.held.step(u64::from(taken), block.id.0);
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
        self.held.at(offset);
    }

    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        match *moment {
            Moment::Cycles(Some(cycles)) if cycles <= MOST_BESIDE => {
                self.held.at(offset);
                self.held.step(CYCLES, cycles);
            }
            _ => self.seldom(offset, moment),
        }
    }

    fn agreed(&mut self, code: &Code<'_>) {
        self.held.confirm(code, self.to);
    }
}

impl Holding<'_> {
    #[inline(never)]
    fn seldom(&mut self, offset: u64, moment: &Moment) {
        if let Moment::Gap(gap) = moment
            && gap.contradicts()
        {
            self.held.withdraw();
        }
        self.held.at(offset);
        self.held.other(Other::Moment(*moment));
    }
}

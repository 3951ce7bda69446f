//! A part of what ran: as if only that had been traced.

use super::{Block, Clocking, Gap, Moment, Passage, Passed, Sink};

/// Where a part begins, or ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Edge {
    /// Before this instruction, each time that it is about to run. Blocks must begin there: see
    /// [`Code::cut_at`](super::Code::cut_at).
    Address(u64),
    /// At the first packet from this byte on.
    Byte(u64),
    /// At the first cycle count, or timestamp, from so many ticks on.
    Cycles(u64),
}

/// Hands on what ran between two edges, again and again; what is left out is not traced by choice. A gap
/// in which an edge may lie ends a part: what follows it is told from the next beginning on.
#[derive(Debug, Clone)]
pub struct Only<S> {
    /// Without one, from the beginning.
    from: Option<Edge>,
    /// Without one, up to the end.
    until: Option<Edge>,
    inside: bool,
    /// It is inside for good, or outside.
    over: bool,
    offset: u64,
    /// How much time has passed.
    passage: Passage,
    cycles: u64,
    /// Something ran since the last cycle count.
    ran: bool,
    /// Something was told.
    begun: bool,
    /// The cycles of the next count began outside.
    cut: bool,
    /// Cycles that passed outside are told where it goes on.
    one_clock: bool,
    outside: u64,
    /// What is told.
    pub sink: S,
}

impl<S: Sink> Only<S> {
    /// Between these edges.
    pub fn new(from: Option<Edge>, until: Option<Edge>, sink: S) -> Self {
        Self {
            from,
            until,
            inside: from.is_none(),
            over: from.is_none() && until.is_none(),
            offset: 0,
            passage: Passage::by(Clocking::Cycles),
            cycles: 0,
            ran: false,
            begun: false,
            cut: false,
            one_clock: false,
            outside: 0,
            sink,
        }
    }

    /// Time is what this carries; else cycle counts.
    #[must_use]
    pub fn timed_by(self, clocking: Clocking) -> Self {
        Self { passage: Passage::by(clocking), ..self }
    }

    /// The same; the sink is told of cycles that passed outside, so that its clock is that of the recording.
    #[must_use]
    pub fn on_one_clock(self) -> Self {
        Self { one_clock: true, ..self }
    }

    /// Whether what runs now is told.
    #[must_use]
    pub const fn is_inside(&self) -> bool {
        self.inside
    }

    fn tell_outside(&mut self) {
        let mut left = std::mem::take(&mut self.outside);
        while self.one_clock && left > 0 {
            let now = left.min(u64::from(u32::MAX));
            self.sink.moment(self.offset, &Moment::Cycles(Some(now as u32)));
            left -= now;
        }
    }

    /// What ran is not known: it may have passed an edge.
    fn lose(&mut self) {
        if self.inside && self.begun && matches!(self.until, Some(Edge::Address(_))) {
            self.inside = false;
            self.over = !matches!(self.from, Some(Edge::Address(_)));
        }
    }

    fn is_at(&self, edge: Option<Edge>, block: &Block) -> bool {
        match edge {
            None => false,
            Some(Edge::Address(address)) => block.start == address,
            Some(Edge::Byte(byte)) => self.offset >= byte,
            Some(Edge::Cycles(cycles)) => self.cycles >= cycles,
        }
    }

    /// Whether this block is told, before it is.
    #[inline(always)]
    fn takes(&mut self, block: &Block) -> bool {
        if !self.over {
            self.look(block);
        }
        self.ran = true;
        self.begun |= self.inside;
        self.inside
    }

    #[inline(never)]
    fn look(&mut self, block: &Block) {
        if self.inside && self.is_at(self.until, block) {
            self.inside = false;
            self.sink.moment(self.offset, &Moment::Gap(Gap::Unwatched));
            // A byte and a time are passed once.
            self.over = !matches!(self.from, Some(Edge::Address(_)));
        }
        if !self.inside && !self.over && self.is_at(self.from, block) {
            // Nothing ran between the two: the core slept.
            if matches!(self.until, Some(Edge::Byte(_) | Edge::Cycles(_)))
                && self.is_at(self.until, block)
            {
                self.over = true;
                return;
            }
            self.inside = true;
            self.cut = self.ran;
            self.tell_outside();
            self.sink.at(self.offset);
            self.sink.arrived(block);
            self.over = self.until.is_none();
        }
    }
}

impl<S: Sink> Sink for Only<S> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        if self.takes(block) {
            self.sink.ran(block, taken);
        }
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        if self.takes(block) {
            self.sink.ran_part(block, until, instructions);
        }
    }

    fn skipped(&mut self, address: u64) {
        if self.inside {
            self.sink.skipped(address);
        }
    }

    fn arrived(&mut self, block: &Block) {
        if self.inside {
            self.sink.arrived(block);
        }
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.offset = offset;
        if self.inside {
            self.sink.at(offset);
        }
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.offset = offset;
        let mut told = *moment;
        if let Some(passed) = self.passage.of(moment) {
            let passed = if let Passed::Ticks(ticks) = passed { ticks } else { 0 };
            self.cycles = self.cycles.saturating_add(passed);
            self.outside += if self.inside { 0 } else { passed };
            self.ran = false;
            // After what was left out the first timestamp has no other before it.
            if std::mem::take(&mut self.cut) && matches!(moment, Moment::Cycles(_)) {
                told = Moment::Cycles(None);
            }
        }
        let gap = matches!(moment, Moment::Gap(_));
        // What is missing outside may hide a part that should have been told.
        let hides = gap && !self.over && *moment != Moment::Gap(Gap::Unwatched);
        if self.inside || hides {
            self.sink.moment(offset, &told);
        }
        if gap {
            self.lose();
        }
    }

    fn has_enough(&self) -> bool {
        self.over && !self.inside || self.sink.has_enough()
    }
}

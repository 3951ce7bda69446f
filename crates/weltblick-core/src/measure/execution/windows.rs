//! What ran, taken apart by time: one figure for each window, in one reading.

use crate::flow::{Block, Clocking, Gap, Moment, Passage, Passed, Sink};
use crate::measure::profile::{MOST_WINDOWS, TooManyWindows};

/// Hands on what ran to one sink for each window of time, as if only that window had been traced.
///
/// A window ends at the first cycle count, or timestamp, from its end on: what ran between two counts is of one
/// window, and sleep is of the window in which the core fell asleep.
pub struct Windows<S, F> {
    every: u64,
    make: F,
    /// What is done with a window that is over, so that it takes less memory.
    close: fn(&mut S),
    windows: Vec<Window<S>>,
    passage: Passage,
    ticks: u64,
    /// When the last window began, in ticks.
    began: u64,
    /// Time is missing that nothing counts.
    slipped: bool,
    offset: u64,
    /// Whose turn it is, as it was said last.
    context: Option<Moment>,
    /// No synchronisation has confirmed what ran since.
    unconfirmed: Option<Moment>,
    overflowed: bool,
}

/// One window.
#[derive(Debug)]
pub struct Window<S> {
    /// Time was lost in it, or before it: it lies later than its ticks say.
    pub slipped: bool,
    /// What ran in it.
    pub sink: S,
}

impl<S: Sink, F: FnMut() -> S> Windows<S, F> {
    /// Windows of so many ticks, at least one; each is made by `make`, and given to `close` when it is over.
    pub fn new(every: u64, clocking: Clocking, mut make: F, close: fn(&mut S)) -> Self {
        let windows = vec![Window { slipped: false, sink: make() }];
        Self {
            every: every.max(1),
            make,
            close,
            windows,
            passage: Passage::by(clocking),
            ticks: 0,
            began: 0,
            slipped: false,
            offset: 0,
            context: None,
            unconfirmed: None,
            overflowed: false,
        }
    }

    /// The windows, in order.
    ///
    /// # Errors
    ///
    /// If the recording did not fit.
    pub fn finish(self) -> Result<Vec<Window<S>>, TooManyWindows> {
        if self.overflowed { Err(TooManyWindows) } else { Ok(self.windows) }
    }

    #[inline]
    fn now(&mut self) -> &mut S {
        let last = self.windows.len() - 1;
        &mut self.windows[last].sink
    }

    /// The sink for this block, which is about to run.
    #[inline]
    fn of(&mut self, block: &Block) -> &mut S {
        if self.ticks - self.began >= self.every && !self.overflowed {
            self.go_on(block);
        }
        self.now()
    }

    fn slip(&mut self) {
        // Before the first instruction there is no time to lose.
        if self.ticks > 0 {
            self.slipped = true;
            let last = self.windows.len() - 1;
            self.windows[last].slipped = true;
        }
    }

    /// Another window begins with this block.
    #[cold]
    fn go_on(&mut self, block: &Block) {
        let (offset, close) = (self.offset, self.close);
        let further = (self.ticks - self.began) / self.every;
        close(self.now());
        if self.windows.len() as u64 + further > MOST_WINDOWS as u64 {
            self.overflowed = true;
            return;
        }
        self.began += further * self.every;
        for _ in 0..further {
            let sink = (self.make)();
            self.windows.push(Window { slipped: self.slipped, sink });
        }
        let before = [self.context, self.unconfirmed];
        let now = self.now();
        for moment in before.into_iter().flatten() {
            now.moment(offset, &moment);
        }
        now.at(offset);
        now.arrived(block);
    }
}

impl<S: Sink, F: FnMut() -> S> Sink for Windows<S, F> {
    fn ran(&mut self, block: &Block, taken: bool) {
        self.of(block).ran(block, taken);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.of(block).ran_part(block, until, instructions);
    }

    fn skipped(&mut self, address: u64) {
        self.now().skipped(address);
    }

    fn arrived(&mut self, block: &Block) {
        self.now().arrived(block);
    }

    fn at(&mut self, offset: u64) {
        self.offset = offset;
        self.now().at(offset);
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.offset = offset;
        match self.passage.of(moment) {
            Some(Passed::Ticks(ticks)) => self.ticks = self.ticks.saturating_add(ticks),
            Some(Passed::Unknown) => self.slip(),
            Some(Passed::Begins) | None => {}
        }
        match moment {
            Moment::Gap(gap) if !matches!(gap, Gap::CutOff { .. }) => self.slip(),
            Moment::Context { .. } => self.context = Some(*moment),
            Moment::Unconfirmed | Moment::Overdue => self.unconfirmed = Some(*moment),
            Moment::Confirmed => self.unconfirmed = None,
            _ => {}
        }
        self.now().moment(offset, moment);
    }

    fn has_enough(&self) -> bool {
        self.overflowed
    }
}

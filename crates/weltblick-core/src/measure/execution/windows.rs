//! What ran, taken apart by time: one figure for each window, in one reading.

use crate::flow::{Block, Clocking, Moment, Passage, Passed, Sink};
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
    /// When each began, in ticks, and what it is of; the last is open.
    windows: Vec<(u64, S)>,
    passage: Passage,
    ticks: u64,
    offset: u64,
    /// Whose turn it is, which was told before.
    context: Option<Moment>,
    /// No synchronisation has confirmed what was told since.
    unconfirmed: Option<Moment>,
    overflowed: bool,
}

impl<S: Sink, F: FnMut() -> S> Windows<S, F> {
    /// Windows of so many ticks, at least one; each is made by `make`, and given to `close` when it is over.
    pub fn new(every: u64, clocking: Clocking, mut make: F, close: fn(&mut S)) -> Self {
        let windows = vec![(0, make())];
        Self {
            every: every.max(1),
            make,
            close,
            windows,
            passage: Passage::by(clocking),
            ticks: 0,
            offset: 0,
            context: None,
            unconfirmed: None,
            overflowed: false,
        }
    }

    /// The windows, in order: when each began, in ticks, and what ran in it.
    ///
    /// # Errors
    ///
    /// If the recording did not fit.
    pub fn finish(self) -> Result<Vec<(u64, S)>, TooManyWindows> {
        if self.overflowed { Err(TooManyWindows) } else { Ok(self.windows) }
    }

    #[inline]
    fn now(&mut self) -> &mut S {
        let last = self.windows.len() - 1;
        &mut self.windows[last].1
    }

    /// The sink for this block, which is about to run.
    #[inline]
    fn of(&mut self, block: &Block) -> &mut S {
        let last = self.windows.len() - 1;
        if self.ticks - self.windows[last].0 >= self.every && !self.overflowed {
            self.go_on(block);
        }
        self.now()
    }

    /// Another window begins with this block.
    #[cold]
    fn go_on(&mut self, block: &Block) {
        let (offset, began) = (self.offset, self.windows[self.windows.len() - 1].0);
        let (further, close) = ((self.ticks - began) / self.every, self.close);
        close(self.now());
        if self.windows.len() as u64 + further > MOST_WINDOWS as u64 {
            self.overflowed = true;
            return;
        }
        for number in 1..=further {
            let window = (self.make)();
            self.windows.push((began + number * self.every, window));
        }
        let told = [self.context, self.unconfirmed];
        let now = self.now();
        for moment in told.into_iter().flatten() {
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
        if let Some(Passed::Ticks(ticks)) = self.passage.of(moment) {
            self.ticks = self.ticks.saturating_add(ticks);
        }
        match moment {
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

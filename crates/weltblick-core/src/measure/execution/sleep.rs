//! How much of the time the core slept, by an instruction trace: nothing is sampled.

use crate::flow::{Block, Clocking, EXCEPTION, Moment, Passage, Passed, Ran, Sink, Slowest};

/// Adds up the time in which the core waited for an interrupt or an event.
///
/// No count says when it fell asleep. An interval between two of them in which something waited was slept through at
/// most; what the instructions in it cannot have taken, by the slowest pace that was seen where nothing waited, was
/// slept for certain.
#[derive(Debug, Clone)]
pub struct Sleep {
    passage: Passage,
    slowest: Slowest,
    /// What ran since time was known last.
    ran: Ran,
    /// The last that ran waits, and nothing came in since.
    dozes: bool,
    /// A handler ended, and nothing ran since: the core may sleep before the next begins.
    left: bool,
    /// It may have slept in this interval.
    may_sleep: bool,
    /// A debugger stopped it in this interval: that is no sleep.
    halted: bool,
    /// Ticks in all, in which it slept for certain, and at most.
    ticks: [u64; 3],
    /// Something waited, or may have.
    waited: bool,
    /// What was known at the last synchronisation, where something ran behind it.
    confirmed: Option<Box<Self>>,
}

impl Sleep {
    /// Nothing was read yet.
    #[must_use]
    pub fn new(clocking: Clocking) -> Self {
        Self {
            passage: Passage::by(clocking),
            slowest: Slowest::default(),
            ran: Ran::default(),
            dozes: false,
            left: false,
            may_sleep: false,
            halted: false,
            ticks: [0; 3],
            waited: false,
            confirmed: None,
        }
    }

    /// The parts of all time in which the core slept for certain, and at most; `None` where no time is known.
    ///
    /// Cycle counts may stand still in sleep: then it slept longer than they say, and only the first is certain.
    #[must_use]
    pub fn shares(&self) -> Option<[f64; 2]> {
        let [all, least, most] = self.ticks.map(|ticks| ticks as f64);
        (all > 0.0).then(|| [least / all, most / all])
    }

    /// Whether time without a count may be sleep, too: something waited, and cycles are counted.
    #[must_use]
    pub fn may_stand_still(&self) -> bool {
        self.waited && self.passage.clocking() == Clocking::Cycles
    }

    /// What was known at the last synchronisation, where something ran behind it.
    pub fn take_confirmed(&mut self) -> Option<Self> {
        self.confirmed.take().map(|confirmed| *confirmed)
    }

    fn ran(&mut self, instructions: u32, waits: bool) {
        self.ran.instructions += u64::from(instructions);
        self.ran.waits += u64::from(waits);
        self.dozes = waits;
        self.left = false;
        self.may_sleep |= waits;
    }

    fn passed(&mut self, ticks: u64) {
        let Ran { instructions, waits } = std::mem::take(&mut self.ran);
        let halted = std::mem::take(&mut self.halted);
        self.ticks[0] = self.ticks[0].saturating_add(ticks);
        if std::mem::replace(&mut self.may_sleep, self.dozes || self.left) {
            let longest = self.slowest.longest(instructions).filter(|_| waits > 0 && !halted);
            let least = longest.map_or(0, |longest| ticks.saturating_sub(longest));
            self.ticks[1] = self.ticks[1].saturating_add(least);
            self.ticks[2] = self.ticks[2].saturating_add(ticks);
            self.waited = true;
        } else if instructions > 0 && !halted {
            self.slowest.learn(instructions, ticks);
        }
        // It sleeps on.
        self.ran.waits = u64::from(self.dozes);
    }

    /// Not known how much time passed.
    fn lose(&mut self) {
        self.ran = Ran { instructions: 0, waits: u64::from(self.dozes) };
        self.may_sleep = self.dozes || self.left;
        self.waited |= self.may_sleep;
    }
}

impl Sink for Sleep {
    fn ran(&mut self, block: &Block, _: bool) {
        self.ran(block.instructions, block.waits);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.ran(instructions, block.waits_before(until));
    }

    fn moment(&mut self, _: u64, moment: &Moment) {
        match self.passage.of(moment) {
            Some(Passed::Ticks(ticks)) => return self.passed(ticks),
            Some(Passed::Begins | Passed::Unknown) => return self.lose(),
            None => {}
        }
        match moment {
            Moment::Entered { exception: None, .. } => self.halted = true,
            Moment::Entered { .. } => {
                self.ran.instructions += EXCEPTION;
                self.may_sleep |= self.left;
                (self.dozes, self.left) = (false, false);
            }
            Moment::Left => {
                self.ran.instructions += EXCEPTION;
                (self.dozes, self.left) = (false, true);
            }
            Moment::Gap(_) => {
                (self.dozes, self.left, self.waited) = (false, false, true);
                self.lose();
            }
            Moment::Unconfirmed => {
                let confirmed = Self { confirmed: None, ..self.clone() };
                self.confirmed.get_or_insert_with(|| Box::new(confirmed));
            }
            _ => {}
        }
    }
}

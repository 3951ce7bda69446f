//! Which instruction ran at a time.

use crate::flow::{Block, Clocking, Moment, Passage, Passed, Sink};

/// More runs of blocks between two known times are not remembered: a megabyte or two.
const MOST_RUNS: usize = 1 << 18;

/// The instruction that runs at a time, between two times that are known.
///
/// Instructions take equal shares of an interval. Where the core waited in it, those before the wait and behind it
/// take a cycle each, and the wait takes the rest: `movs, wfi, movs` in 1000 ticks runs its `movs` at 0 and 999.
#[derive(Debug)]
pub struct AtTime {
    passage: Passage,
    wanted: u64,
    ticks: u64,
    offset: u64,
    /// What runs from this byte on is known; times before it do not count.
    from: u64,
    /// Blocks of the packet at `offset` so far, and ticks up to it.
    here: (u64, u64),
    /// The packet of the interval's first block, with its blocks and ticks.
    began: (u64, (u64, u64)),
    /// Those of its last block.
    last: (u64, (u64, u64)),
    interval: Vec<Piece>,
    /// The wait that ended the interval before is in it alone: time without instructions is its.
    sleeps: bool,
    found: Option<RanThen>,
}

/// A run of a block.
#[derive(Debug, Clone, Copy)]
struct Piece {
    instructions: u32,
    waits: bool,
}

/// What ran at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RanThen {
    /// A byte of the trace.
    pub offset: u64,
    /// How many runs of blocks are there from there on before it.
    pub skip: u64,
    /// Ticks up to the packet there.
    pub ticks: u64,
    /// How many instructions of the block ran before it.
    pub instructions: u32,
}

impl AtTime {
    /// After so many ticks.
    #[must_use]
    pub const fn new(clocking: Clocking, wanted: u64) -> Self {
        Self {
            passage: Passage::by(clocking),
            wanted,
            ticks: 0,
            offset: 0,
            from: 0,
            here: (0, 0),
            began: (0, (0, 0)),
            last: (0, (0, 0)),
            interval: Vec::new(),
            sleeps: false,
            found: None,
        }
    }

    /// Reading begins shortly before a byte at which so many ticks have passed.
    #[must_use]
    pub fn from_byte(self, from: u64, ticks: u64) -> Self {
        Self { from, ticks, ..self }
    }

    /// What ran then; `None` if the recording ends before, or begins later and nothing ran.
    #[must_use]
    pub const fn found(&self) -> Option<RanThen> {
        self.found
    }

    fn ran_block(&mut self, instructions: u32, waits: bool) {
        if self.found.is_some() || self.offset < self.from {
            return;
        }
        if std::mem::take(&mut self.sleeps) {
            self.interval.clear();
        }
        self.last = (self.offset, self.here);
        if self.interval.is_empty() {
            self.began = self.last;
        }
        self.here.0 += 1;
        if self.interval.len() < MOST_RUNS {
            self.interval.push(Piece { instructions, waits });
        }
        if self.ticks >= self.wanted {
            self.find(0);
        }
    }

    /// So much time passed since the interval began.
    fn passed(&mut self, ticks: u64) {
        let before = self.ticks;
        self.ticks = before.saturating_add(ticks);
        if before <= self.wanted && self.ticks > self.wanted && !self.interval.is_empty() {
            let number = match (self.sleeps, self.interval.as_slice()) {
                (true, [wait, ..]) => u64::from(wait.instructions) - 1,
                (_, interval) => share(interval, self.wanted - before, ticks),
            };
            self.find(number);
        }
        let last = self.interval.pop();
        self.interval.clear();
        self.sleeps = last.is_some_and(|last| last.waits);
        if self.sleeps {
            self.interval.extend(last);
            self.began = self.last;
        }
    }

    /// It is the instruction with this number in the interval.
    fn find(&mut self, mut number: u64) {
        let (offset, (mut skip, ticks)) = self.began;
        for piece in &self.interval {
            if number < piece.instructions.into() {
                self.found = Some(RanThen { offset, skip, ticks, instructions: number as u32 });
                return;
            }
            number -= u64::from(piece.instructions);
            skip += 1;
        }
    }
}

/// The instruction that runs after so many of an interval's ticks.
fn share(interval: &[Piece], after: u64, ticks: u64) -> u64 {
    let count =
        |pieces: &[Piece]| pieces.iter().map(|one| u64::from(one.instructions)).sum::<u64>();
    let all = count(interval);
    let wait = interval.iter().position(|piece| piece.waits);
    match wait.map(|wait| count(&interval[..=wait])).filter(|_| ticks > all) {
        // The wait is the last of its piece.
        Some(up_to_wait) => {
            let behind = all - up_to_wait;
            let left = ticks - after;
            if left <= behind { all - left } else { after.min(up_to_wait - 1) }
        }
        None => (u128::from(after) * u128::from(all) / u128::from(ticks)) as u64,
    }
}

impl Sink for AtTime {
    fn ran(&mut self, block: &Block, _: bool) {
        self.ran_block(block.instructions, block.waits);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.ran_block(instructions, block.waits_before(until));
    }

    fn at(&mut self, offset: u64) {
        if offset != self.offset {
            (self.offset, self.here) = (offset, (0, self.ticks));
        }
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.at(offset);
        let Some(passed) = self.passage.of(moment) else { return };
        if offset < self.from {
            return;
        }
        match passed {
            Passed::Ticks(ticks) => self.passed(ticks),
            Passed::Begins | Passed::Unknown => {
                self.interval.clear();
                self.sleeps = false;
            }
        }
    }

    fn has_enough(&self) -> bool {
        self.found.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instructions_share_an_interval_and_a_wait_takes_what_is_left() {
        let of = |pieces: &[(u32, bool)]| -> Vec<Piece> {
            let piece = |&(instructions, waits): &(u32, bool)| Piece { instructions, waits };
            pieces.iter().map(piece).collect()
        };
        let even = of(&[(4, false), (6, false)]);
        assert_eq!([0, 19, 20, 199].map(|after| share(&even, after, 200)), [0, 0, 1, 9]);
        let waits = of(&[(2, false), (1, true), (3, false)]);
        assert_eq!(
            [0, 1, 2, 900, 996, 997, 999].map(|after| share(&waits, after, 1000)),
            [0, 1, 2, 2, 2, 3, 5]
        );
        // No time for it to have waited.
        assert_eq!(share(&waits, 3, 6), 3);
    }
}

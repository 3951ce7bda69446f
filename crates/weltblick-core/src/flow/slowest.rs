//! How long instructions took at most where nothing waited: what waits gets the rest.

use crate::time::Window;
use serde::{Deserialize, Serialize};

/// An exception's entry or return takes as long as so many instructions at most.
pub(crate) const EXCEPTION: u64 = 16;
/// Stretches that must have been seen before anything is concluded from them.
const ENOUGH: u32 = 256;
/// Nothing takes longer than so many times the longest that was seen.
const MARGIN: u64 = 2;
/// Classes of lengths: each holds stretches up to twice as long as the one before.
const CLASSES: usize = 24;

/// What ran in a stretch.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Ran {
    /// Instructions; an exception counts as [`EXCEPTION`] of them.
    pub(crate) instructions: u64,
    /// How often something waited for an interrupt, or may have.
    pub(crate) waits: u64,
}

/// The slowest stretches that were seen, by the number of their instructions.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub(crate) struct Slowest {
    /// The most ticks of a stretch of this class, or of a shorter one; 0 where none was seen.
    ticks: [u64; CLASSES],
    /// The most ticks an instruction.
    rate: f64,
    seen: u32,
}

impl Slowest {
    /// A stretch of so many instructions took so long, and nothing waited in it. Returns whether that told
    /// anything new.
    #[inline(always)]
    pub(crate) fn learn(&mut self, instructions: u64, ticks: u64) -> bool {
        let class = class(instructions);
        if ticks > self.ticks[class] || self.seen < ENOUGH {
            self.note(class, instructions, ticks);
            return true;
        }
        false
    }

    #[cold]
    fn note(&mut self, class: usize, instructions: u64, ticks: u64) {
        self.seen = self.seen.saturating_add(1);
        let slowest = &mut self.ticks[class];
        if ticks > *slowest {
            *slowest = ticks;
            self.rate = self.rate.max(ticks as f64 / instructions.max(1) as f64);
        }
    }

    /// So many instructions take no longer, as far as was seen; `None` before enough was seen.
    pub(crate) fn longest(&self, instructions: u64) -> Option<u64> {
        if self.seen < ENOUGH {
            return None;
        }
        let shorter = &self.ticks[..=class(instructions)];
        let seen = shorter.iter().copied().max().unwrap_or(0);
        let by_rate = (self.rate * instructions as f64).ceil() as u64;
        let known = shorter.last().is_some_and(|&ticks| ticks > 0);
        let ticks = if known { seen } else { by_rate.max(seen) };
        Some(ticks.saturating_mul(MARGIN))
    }

    /// When something happened in a stretch of this time, of which so much ran before it, and so much in all.
    /// What waited took what the rest cannot have taken.
    #[inline]
    pub(crate) fn narrow(&self, time: Window, before: Ran, all: Ran) -> Window {
        if all.waits == 0 {
            return time;
        }
        let Window { mut earliest, mut latest } = time;
        if before.waits == 0 {
            let longest = self.longest(before.instructions);
            latest = longest.map_or(latest, |ticks| latest.min(earliest.saturating_add(ticks)));
        } else if before.waits == all.waits {
            let longest = self.longest(all.instructions - before.instructions);
            earliest = longest.map_or(earliest, |ticks| earliest.max(latest.saturating_sub(ticks)));
        }
        Window { earliest, latest }
    }
}

fn class(instructions: u64) -> usize {
    let bits = u64::BITS - instructions.leading_zeros();
    (bits as usize).min(CLASSES - 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_takes_longer_than_twice_the_slowest_that_was_seen() {
        let mut slowest = Slowest::default();
        for _ in 0..ENOUGH - 1 {
            slowest.learn(10, 14);
        }
        assert_eq!(slowest.longest(10), None);
        slowest.learn(3, 30);
        // Shorter stretches bound longer ones of which the slowest was quicker.
        assert_eq!(
            (slowest.longest(3), slowest.longest(10), slowest.longest(15)),
            (Some(60), Some(60), Some(60))
        );
        // Nothing so long was seen: by the slowest instruction.
        assert_eq!(slowest.longest(100), Some(2000));
        slowest.learn(100, 120);
        assert_eq!(slowest.longest(100), Some(240));
        assert_eq!(slowest.longest(1 << 40), Some(20 << 40));
    }
}

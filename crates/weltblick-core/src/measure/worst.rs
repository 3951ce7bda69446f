//! The worst few of many, worst first.

use crate::stats::Ticks;
use crate::time::Window;

/// One of the worst.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bad {
    /// The core on which it was.
    pub core: u8,
    /// How bad.
    pub ticks: Ticks,
    /// Its number among the runs of its handler or task, from 0.
    pub number: u64,
    /// When it was requested, or ready, as far as anything tells.
    pub requested: Option<Window>,
    /// When it began to run.
    pub began: Window,
    /// When it ended.
    pub ended: Window,
}

/// The worst few of many.
#[derive(Debug, Clone, Default)]
pub struct Worst {
    list: Vec<Bad>,
    keep: usize,
}

/// What is certain counts first: a wide window is bad luck of the recording, not of the firmware.
const fn rank(ticks: Ticks) -> (u64, u64) {
    (ticks.low, ticks.high)
}

impl Worst {
    /// Keeps so many.
    #[must_use]
    pub const fn new(keep: usize) -> Self {
        Self { list: Vec::new(), keep }
    }

    /// So many came before the one with the number 0.
    pub(crate) fn renumber(&mut self, before: u64) {
        self.list.iter_mut().for_each(|bad| bad.number += before);
    }

    /// One more that is so bad; only one that is kept is made. Of equals the first stays.
    #[inline]
    pub fn add(&mut self, ticks: Ticks, bad: impl FnOnce(Ticks) -> Bad) {
        let is_worse = |last: &Bad| rank(last.ticks) < rank(ticks);
        if self.list.len() < self.keep || self.list.last().is_some_and(is_worse) {
            self.insert(bad(ticks));
        }
    }

    #[cold]
    fn insert(&mut self, bad: Bad) {
        self.list.truncate(self.keep - 1);
        let at = self.list.partition_point(|other| rank(other.ticks) >= rank(bad.ticks));
        self.list.insert(at, bad);
    }

    /// Worst first.
    #[must_use]
    pub fn list(&self) -> &[Bad] {
        &self.list
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_worst_come_first_and_of_equals_those_that_came_first(
            all in prop::collection::vec((0_u64..20, 0_u64..3), 0..100),
            keep in 0_usize..6,
        ) {
            let at = Window::exact(0);
            let mut worst = Worst::new(keep);
            let mut made = 0;
            for (number, &(low, width)) in (0..).zip(&all) {
                worst.add(Ticks { low, high: low + width }, |ticks| {
                    made += 1;
                    Bad { core: 0, ticks, number, requested: None, began: at, ended: at }
                });
            }
            let mut sorted: Vec<_> = (0_u64..).zip(&all).collect();
            // Stable: equals stay in their order.
            sorted.sort_by_key(|(_, (low, width))| std::cmp::Reverse((*low, low + width)));
            sorted.truncate(keep);
            let numbers: Vec<u64> = worst.list().iter().map(|bad| bad.number).collect();
            prop_assert_eq!(numbers, sorted.iter().map(|(number, _)| *number).collect::<Vec<_>>());
            prop_assert!(made >= worst.list().len() && made <= all.len());
        }
    }
}

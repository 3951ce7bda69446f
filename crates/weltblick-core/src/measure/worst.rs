//! The worst few of many, worst first.

use crate::stats::Ticks;
use crate::time::Window;

/// One of the worst.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bad {
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
const fn rank(bad: &Bad) -> (u64, u64) {
    (bad.ticks.low, bad.ticks.high)
}

impl Worst {
    /// Keeps so many.
    #[must_use]
    pub const fn new(keep: usize) -> Self {
        Self { list: Vec::new(), keep }
    }

    /// One more. Of equals the first stays.
    #[inline]
    pub fn add(&mut self, bad: Bad) {
        let is_full = self.list.len() >= self.keep;
        if is_full && self.list.last().is_none_or(|last| rank(last) >= rank(&bad)) {
            return;
        }
        self.insert(bad);
    }

    #[cold]
    fn insert(&mut self, bad: Bad) {
        self.list.truncate(self.keep - 1);
        let at = self.list.partition_point(|other| rank(other) >= rank(&bad));
        self.list.insert(at, bad);
    }

    /// Worst first.
    #[must_use]
    pub fn list(&self) -> &[Bad] {
        &self.list
    }
}

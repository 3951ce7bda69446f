//! Bytes over time, in fixed memory.

use crate::time::Window;

/// Columns at most; when they are full, neighbours are joined.
const MOST_COLUMNS: usize = 128;
/// Cycles per column at first.
const FIRST_WIDTH: u64 = 1024;

/// Bytes and overflows per stretch of time.
#[derive(Debug, Clone)]
pub(super) struct Rate {
    width: u64,
    columns: Vec<Column>,
}

/// One stretch of time.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Column {
    pub(super) bytes: u64,
    pub(super) overflows: u64,
}

impl Default for Rate {
    fn default() -> Self {
        Self { width: FIRST_WIDTH, columns: Vec::new() }
    }
}

impl Rate {
    /// Counts bytes that came at a cycle.
    pub(super) fn add(&mut self, cycle: u64, bytes: u64, overflows: u64) {
        while cycle / self.width >= MOST_COLUMNS as u64 {
            self.join_neighbours();
        }
        let column = (cycle / self.width) as usize;
        if column >= self.columns.len() {
            self.columns.resize(column + 1, Column::default());
        }
        self.columns[column].bytes += bytes;
        self.columns[column].overflows += overflows;
    }

    fn join_neighbours(&mut self) {
        let joined = self.columns.chunks(2).map(|pair| Column {
            bytes: pair.iter().map(|column| column.bytes).sum(),
            overflows: pair.iter().map(|column| column.overflows).sum(),
        });
        self.columns = joined.collect();
        self.width = self.width.saturating_mul(2);
    }

    /// Cycles per column, and the columns from the recording's start on.
    pub(super) fn columns(&self) -> (u64, &[Column]) {
        (self.width, &self.columns)
    }

    /// The most bytes per cycle in any whole column.
    pub(super) fn peak(&self) -> Option<f64> {
        let whole = self.columns.len().saturating_sub(1).max(1);
        let most = self.columns.iter().take(whole).map(|column| column.bytes).max()?;
        Some(most as f64 / self.width as f64)
    }
}

/// Bytes between two marks.
const MARK: u64 = 16;
/// So many marks are remembered: a buffer of the usual size holds as much when it overflows.
const MARKS: usize = 12;
/// Overflows that are looked at.
const MOST_OVERFLOWS: usize = 256;
/// A link for which less than this part of what it carries was made is not full.
const NOT_FULL: f64 = 0.7;
/// A link that could have carried so many bytes while packets were dropped was not full either: a full one takes the
/// next packet as soon as there is room for it.
const LEFT_OUT: f64 = 128.0;

/// How fast bytes were made just before overflows, and for how long packets were dropped.
#[derive(Debug, Default)]
pub(super) struct Pace {
    /// Time and offset of the last marks, in a ring.
    marks: Vec<(u64, u64)>,
    next: usize,
    /// When the last event was at the earliest.
    last: u64,
    overflows: Vec<Overflow>,
}

#[derive(Debug)]
struct Overflow {
    /// Bytes a tick just before.
    pace: f64,
    /// Ticks to the next packet.
    gap: u64,
}

impl Pace {
    /// An event, or an overflow, at a time and behind so many bytes.
    #[inline]
    pub(super) fn add(&mut self, window: Window, offset: u64, overflow: bool) {
        let time = window.latest;
        if overflow && self.overflows.len() < MOST_OVERFLOWS {
            let gap = time.saturating_sub(self.last);
            self.overflows.extend(self.pace().map(|pace| Overflow { pace, gap }));
        }
        // A link that takes nothing delays the timestamps of what waits: their packets may be as old as the one before.
        self.last = window.earliest;
        let is_due = self.newest().is_none_or(|(_, before)| offset >= before.saturating_add(MARK));
        if is_due {
            self.mark(time, offset);
        }
    }

    fn newest(&self) -> Option<(u64, u64)> {
        self.marks.get((self.next + MARKS - 1) % MARKS).copied()
    }

    fn mark(&mut self, time: u64, offset: u64) {
        match self.marks.get_mut(self.next) {
            Some(oldest) => *oldest = (time, offset),
            None => self.marks.push((time, offset)),
        }
        self.next = (self.next + 1) % MARKS;
    }

    /// Bytes a tick from the oldest mark to the newest, once all are there.
    fn pace(&self) -> Option<f64> {
        let &(since, from) = self.marks.get(self.next).filter(|_| self.marks.len() == MARKS)?;
        let (until, to) = self.newest()?;
        let ticks = until.checked_sub(since).filter(|&ticks| ticks > 0)?;
        Some(to.saturating_sub(from) as f64 / ticks as f64)
    }

    /// Whether most overflows came while a link that carries so many bytes a tick was not full: nobody took from it.
    pub(super) fn was_stalled(&self, capacity: f64) -> bool {
        let stalled = |overflow: &&Overflow| {
            overflow.pace < NOT_FULL * capacity && overflow.gap as f64 * capacity > LEFT_OUT
        };
        let all = self.overflows.len();
        all > 0 && 2 * self.overflows.iter().filter(stalled).count() > all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Packets of five bytes, each at its time; an overflow where it is said.
    fn pace(packets: impl Iterator<Item = (u64, bool)>) -> Pace {
        let mut pace = Pace::default();
        for (number, (time, overflow)) in (0..).zip(packets) {
            pace.add(Window::exact(time), 5 * number, overflow);
        }
        pace
    }

    #[test]
    fn a_full_link_and_one_that_nobody_listens_to_are_told_apart() {
        // Bursts of a hundred ticks a packet overflow a link that carries one in two hundred.
        let mut now = 0;
        let full = pace((0..20_000_u64).map(|n| {
            now += if n % 2000 < 500 { 100 } else { 400 };
            (now, n % 2000 == 499)
        }));
        assert!(!full.was_stalled(5.0 / 200.0));
        let mut now = 0;
        let stalled = pace((0..20_000_u64).map(|n| {
            let overflow = n % 2000 == 1500;
            now += if overflow { 40_000 } else { 400 };
            (now, overflow)
        }));
        assert!(stalled.was_stalled(5.0 / 200.0));
        assert!(!stalled.was_stalled(5.0 / 500.0), "it would be full");
        assert!(!Pace::default().was_stalled(1.0));
    }
}

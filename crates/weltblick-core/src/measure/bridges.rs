//! From one start to the next where something is missing in between: how far apart they were, and
//! what may hide there at most.

use crate::stats::Ticks;
use crate::time::Window;

/// The distances from the last start before each gap to the first after it.
#[derive(Debug, Clone, Copy, Default)]
pub struct Bridges {
    open: Option<Open>,
    /// How many gaps have a start on either side.
    pub count: u64,
    /// From side to side, all of them together.
    sum: Ticks,
    /// What may lie between the last start and the end of the gap after it, in which the recording
    /// perhaps ended.
    dangling: u64,
    longest: u64,
    longest_wait: u64,
    /// Not earlier than this the last start was asked for: it was the first after a gap.
    asked: Option<u64>,
}

/// A gap that no start followed yet.
#[derive(Debug, Clone, Copy)]
struct Open {
    /// The last start before it; absent if there was none.
    start: Option<Window>,
    /// Not earlier than this anything that is missing started, or what it follows.
    from: u64,
    /// Not earlier than this the last start was asked for.
    asked: Option<u64>,
    /// What is missing lies before this.
    until: u64,
}

impl Bridges {
    /// Something is missing after the last start, which came `period` after the one before it.
    pub fn cut(&mut self, last: Option<Window>, period: Option<Ticks>) {
        let from = last.map_or(u64::MAX, |last| last.earliest);
        // After the start before it: an exception pends once, not twice.
        let before =
            last.zip(period).map(|(last, period)| last.earliest.saturating_sub(period.high));
        let asked = before.or(self.asked);
        self.open.get_or_insert(Open { start: last, from, asked, until: 0 });
    }

    /// What is missing lies in this window.
    pub fn missing(&mut self, gap: Window) {
        if let Some(open) = &mut self.open {
            open.from = open.from.min(gap.earliest);
            open.until = open.until.max(gap.latest);
            self.dangling = gap.latest.saturating_sub(open.from);
            self.longest = self.longest.max(self.dangling);
        }
    }

    /// Nothing tells how much is missing.
    pub const fn lose(&mut self) {
        (self.longest, self.longest_wait) = (u64::MAX, u64::MAX);
    }

    /// The first start after a gap, if there was one.
    pub fn reach(&mut self, now: Window) {
        let Some(open) = self.open.take() else { return };
        let span = now.latest.saturating_sub(open.from);
        let least = open.start.map_or(0, |start| now.earliest.saturating_sub(start.latest));
        self.count += u64::from(open.start.is_some());
        self.sum += Ticks { low: least, high: span };
        self.dangling = 0;
        self.longest = self.longest.max(span);
        let wait = open.asked.map_or(u64::MAX, |asked| now.latest.saturating_sub(asked));
        self.longest_wait = self.longest_wait.max(wait);
        self.asked = open.start.map(|_| open.from);
    }

    /// How long nothing started up to the end of the recording: since the last start, or, where something is missing
    /// after it, between the end of that gap and the start before it.
    pub fn silence(&mut self, last: Option<Window>, end: Window) -> Ticks {
        let (low, high) = match (last, self.open) {
            (Some(last), _) => (last.latest, last.earliest),
            (None, Some(open)) => (open.until, open.from),
            (None, None) => return Ticks::default(),
        };
        let silence =
            Ticks { low: end.earliest.saturating_sub(low), high: end.latest.saturating_sub(high) };
        if last.is_none() {
            self.dangling = silence.high;
            self.longest = self.longest.max(silence.high);
        }
        silence
    }

    /// The longest that may lie from one start to the next where one of them is missing.
    #[must_use]
    pub const fn longest(&self) -> u64 {
        self.longest
    }

    /// The longest that may lie from when a run was due, on a grid of periods, to its end, where
    /// something of it is missing.
    #[must_use]
    pub const fn longest_wait(&self) -> u64 {
        if self.open.is_some() { u64::MAX } else { self.longest_wait }
    }

    /// How long all periods together were of which something is missing.
    #[must_use]
    pub fn sum(&self) -> Ticks {
        Ticks { low: self.sum.low, high: self.sum.high.saturating_add(self.dangling) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const fn at(tick: u64) -> Window {
        Window::exact(tick)
    }

    #[test]
    fn a_gap_lies_between_two_starts() {
        let mut bridges = Bridges::default();
        bridges.reach(at(100)); // there was no gap
        assert_eq!((bridges.count, bridges.longest()), (0, 0));
        bridges.cut(Some(at(200)), Some(Ticks::exact(100)));
        bridges.missing(Window { earliest: 250, latest: 290 });
        assert_eq!((bridges.longest(), bridges.sum()), (90, Ticks { low: 0, high: 90 }));
        assert_eq!(bridges.longest_wait(), u64::MAX, "it may still last");
        bridges.reach(at(320));
        assert_eq!((bridges.count, bridges.longest()), (1, 120));
        assert_eq!((bridges.longest_wait(), bridges.sum()), (220, Ticks::exact(120)));
    }

    #[test]
    fn gaps_without_a_start_between_them_are_one() {
        let mut bridges = Bridges::default();
        for gap in [50..60, 70..80] {
            bridges.cut(None, None);
            bridges.missing(Window { earliest: gap.start, latest: gap.end });
        }
        bridges.reach(at(100));
        // Nothing was seen to start before it: it may have been there first.
        assert_eq!((bridges.count, bridges.sum()), (0, Ticks { low: 0, high: 50 }));
        assert_eq!((bridges.longest(), bridges.longest_wait()), (50, u64::MAX));
    }
}

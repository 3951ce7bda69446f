//! Whether local timestamps keep pace with global ones.
//!
//! Local timestamps count a clock that may stop with the core, in sleep; global ones count one that never does. How many
//! ticks of the one make a tick of the other need not be known: it is the same all the time, or the local clock stood
//! still, or changed. A global timestamp has no local time of its own: it was made after the local timestamp before it,
//! and before the one behind it.

use crate::time::Window;

/// Clocks that run drift apart by less than this part within one recording.
const DRIFT: f64 = 0.005;

/// Global timestamps beside local ones.
#[derive(Debug, Clone, Default)]
pub(super) struct GlobalClock {
    /// The last global timestamp that is known whole, and between which cycles of the local clock it was made.
    last: Option<(u64, Window)>,
    /// One whose next local timestamp has not come yet; the local one before it, and where it stands in the stream.
    waiting: Option<(u64, u64, u64)>,
    /// Global ticks per local cycle: no more than this in some interval, and no less than this in some.
    most: Option<f64>,
    least: Option<f64>,
}

impl GlobalClock {
    /// A global timestamp after the local cycle `now`, at this byte.
    pub(super) const fn stamped(&mut self, global: u64, now: u64, offset: u64) {
        self.waiting = Some((global, now, offset));
    }

    /// Whether the next local timestamp is wanted.
    pub(super) const fn waits(&self) -> bool {
        self.waiting.is_some()
    }

    /// Something was lost, and with it maybe time, or the global timestamp's high bits changed: nothing before can be
    /// compared with what comes.
    pub(super) const fn forget(&mut self) {
        (self.last, self.waiting) = (None, None);
    }

    /// The local timestamp after a global one. Where that stands, if the two clocks contradict what they did in another
    /// interval.
    #[cold]
    pub(super) fn settle(&mut self, now: u64) -> Option<u64> {
        let (global, earliest, offset) = self.waiting.take()?;
        let here = Window { earliest, latest: now };
        let (before, there) = self.last.replace((global, here))?;
        let ticks = global.checked_sub(before).filter(|ticks| *ticks > 0)?;
        let shortest = here.earliest.saturating_sub(there.latest);
        let longest = here.latest.saturating_sub(there.earliest);
        let least = ticks as f64 / longest.max(1) as f64;
        let most = if shortest == 0 { f64::INFINITY } else { (ticks + 1) as f64 / shortest as f64 };
        let is_more = |one: f64, other: f64| one > other * (1.0 + DRIFT);
        // It fell behind here, or did in all that came before.
        let fell_here = self.most.is_some_and(|before| is_more(least, before));
        let extremes = self.most.zip(self.least);
        let fell_before = extremes.is_some_and(|(m, l)| is_more(m, most) && is_more(l, most));
        self.most = Some(self.most.map_or(most, |before| before.min(most)));
        self.least = Some(self.least.map_or(least, |before| before.max(least)));
        (fell_here || fell_before).then_some(offset)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// How often the clocks contradict each other: `(global, local)` ticks from one timestamp to the next, and local ones
    /// until the next local timestamp.
    fn contradictions(intervals: &[(u64, u64, u64)]) -> usize {
        let mut clock = GlobalClock::default();
        let (mut global, mut local) = (1000, 0);
        let mut found = 0;
        for &(ticks, cycles, until_next) in intervals {
            (global, local) = (global + ticks, local + cycles);
            clock.stamped(global, local, 0);
            found += usize::from(clock.settle(local + until_next).is_some());
        }
        found
    }

    #[test]
    fn a_local_clock_that_stands_still_is_seen() {
        let steady = [(1000, 48_000, 100); 20];
        assert_eq!(contradictions(&steady), 0);
        let mut asleep = steady;
        asleep[7].0 = 5000;
        assert_eq!(contradictions(&asleep), 1);
        // The first one, which all others contradict.
        asleep = steady;
        asleep[1].0 = 5000;
        assert_eq!(contradictions(&asleep), 1);
        // Nothing says where in this time the global timestamps were made.
        asleep[1] = (5000, 48_000, 300_000);
        assert_eq!(contradictions(&asleep[..2]), 0);
    }

    proptest! {
        /// Global timestamps come anywhere between two local ones: no interval contradicts another.
        #[test]
        fn clocks_that_keep_pace_never_contradict_each_other(
            ratio in 0.001..10.0_f64,
            steps in prop::collection::vec((1_u64..200_000, 0.0..1.0_f64, any::<bool>()), 1..200),
        ) {
            let mut clock = GlobalClock::default();
            let mut now = 0;
            for (step, part, stamped) in steps {
                if stamped {
                    let truly = now as f64 + step as f64 * part;
                    clock.stamped((truly * ratio) as u64, now, 0);
                }
                now += step;
                prop_assert_eq!(clock.settle(now), None);
            }
        }
    }
}

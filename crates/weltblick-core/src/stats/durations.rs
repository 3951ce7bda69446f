//! Many durations in fixed memory, each on whatever clock saw it.

use super::bounds::Bounds;
use super::spread::{Spread, Ticks};

/// Durations are counted in sixteenths of a nanosecond: finer than any core's cycle.
const PER_NS: f64 = 16.0;

/// Durations in nanoseconds, counted as [`Spread`] counts ticks.
#[derive(Debug, Clone, Default)]
pub struct Durations {
    spread: Spread,
}

impl Durations {
    /// Counts a duration.
    pub fn add(&mut self, duration: Bounds) {
        let ticks = |ns: f64| (ns * PER_NS).round() as u64;
        self.spread.add(Ticks { low: ticks(duration.low), high: ticks(duration.high) });
    }

    /// How many there are.
    #[must_use]
    pub const fn count(&self) -> u64 {
        self.spread.count()
    }

    /// The figures, and how many nanoseconds one of their ticks is.
    #[must_use]
    pub const fn spread(&self) -> (&Spread, f64) {
        (&self.spread, 1.0 / PER_NS)
    }

    /// The longest, in nanoseconds.
    #[must_use]
    pub fn max(&self) -> Option<Bounds> {
        Some(Bounds::from(self.spread.max()?).scaled(1.0 / PER_NS))
    }

    /// How many lie in each of `columns` equal parts from the shortest to the longest.
    #[must_use]
    pub fn columns(&self, columns: usize) -> Vec<u64> {
        self.spread.columns(columns)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windows_have_bounds() {
        let mut windows = Durations::default();
        windows.add(Bounds::exact(100.0));
        windows.add(Bounds { low: 50.0, high: 150.5 });
        let (spread, ns) = windows.spread();
        let in_ns = |ticks: Ticks| Bounds::from(ticks).scaled(ns);
        assert_eq!(in_ns(spread.min().unwrap()), Bounds { low: 50.0, high: 100.0 });
        assert_eq!(windows.max(), Some(Bounds { low: 100.0, high: 150.5 }));
        assert_eq!(spread.mean().unwrap().scaled(ns), Bounds { low: 75.0, high: 125.25 });
        assert_eq!(windows.count(), 2);
    }
}

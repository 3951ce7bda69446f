//! Many whole numbers of ticks in fixed memory: exact extremes and mean, percentiles to three
//! digits (where ticks are known as windows, from one histogram of their lower and one of their upper
//! ends). Percentiles treat times from [`LARGEST`] ticks on as that; at 48 MHz it is 271 days.

use super::bounds::Bounds;
use super::histogram::{Histogram, LARGEST};

/// However long: differences of these have room.
const LONGEST: u64 = i64::MAX as u64;

/// A whole number of ticks: the true one lies from `low` to `high`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Ticks {
    /// Not less than this.
    pub low: u64,
    /// Not more than this.
    pub high: u64,
}

impl Ticks {
    /// A number that is known exactly.
    #[must_use]
    pub const fn exact(ticks: u64) -> Self {
        Self { low: ticks, high: ticks }
    }

    /// How far apart it is from another.
    #[must_use]
    pub const fn difference(self, other: Self) -> Self {
        let over = self.low.saturating_sub(other.high);
        let under = other.low.saturating_sub(self.high);
        let (up, down) = (self.high.abs_diff(other.low), self.low.abs_diff(other.high));
        Self {
            low: if over > under { over } else { under },
            high: if up > down { up } else { down },
        }
    }

    /// Twice the best single figure.
    #[must_use]
    pub const fn doubled(self) -> u64 {
        self.low.saturating_add(self.high)
    }
}

impl std::ops::Add for Ticks {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self { low: self.low.saturating_add(other.low), high: self.high.saturating_add(other.high) }
    }
}

impl std::ops::AddAssign for Ticks {
    fn add_assign(&mut self, other: Self) {
        *self = *self + other;
    }
}

impl From<Ticks> for Bounds {
    fn from(ticks: Ticks) -> Self {
        Self { low: ticks.low as f64, high: ticks.high as f64 }
    }
}

/// Ticks, counted. Numbers that are known exactly are counted once; of the others, their lower and
/// their upper ends.
#[derive(Debug, Clone)]
pub struct Spread {
    count: u64,
    exact: Ends,
    /// Lower ends, and upper ends; absent as long as every number is exact.
    windows: Option<Box<[Ends; 2]>>,
    /// The first number: deviations are summed from here, so that close numbers lose no digits.
    first: u64,
    off: f64,
    squares: f64,
    /// The widest window.
    widest: u64,
    percentiles: bool,
}

/// Some of the numbers, or their ends.
#[derive(Debug, Clone)]
struct Ends {
    least: u64,
    most: u64,
    /// Saturates after some thousand years.
    sum: u64,
    histogram: Histogram,
}

impl Ends {
    const fn new(percentiles: bool) -> Self {
        Self { least: u64::MAX, most: 0, sum: 0, histogram: Histogram::new(percentiles) }
    }

    #[inline(always)]
    fn add(&mut self, ticks: u64) {
        self.least = self.least.min(ticks);
        self.most = self.most.max(ticks);
        self.sum = self.sum.saturating_add(ticks);
        self.histogram.record(ticks);
    }
}

impl Default for Spread {
    fn default() -> Self {
        Self::new(true)
    }
}

impl Spread {
    /// Nothing counted yet. Without percentiles it takes no memory of its own.
    #[must_use]
    pub const fn new(percentiles: bool) -> Self {
        Self {
            count: 0,
            exact: Ends::new(percentiles),
            windows: None,
            first: 0,
            off: 0.0,
            squares: 0.0,
            widest: 0,
            percentiles,
        }
    }

    /// Counts a number of ticks.
    #[inline]
    pub fn add(&mut self, ticks: Ticks) {
        let low = ticks.low.min(LONGEST);
        if self.count == 0 {
            self.first = low;
        }
        self.count += 1;
        let mut off = low.wrapping_sub(self.first).cast_signed() as f64;
        if ticks.low == ticks.high {
            self.exact.add(ticks.low);
        } else {
            off += ticks.high.min(LONGEST).saturating_sub(low) as f64 * 0.5;
            self.add_window(ticks);
        }
        self.off += off;
        self.squares += off * off;
    }

    #[inline(never)]
    fn add_window(&mut self, ticks: Ticks) {
        self.widest = self.widest.max(ticks.high.saturating_sub(ticks.low));
        let percentiles = self.percentiles;
        let new = || Box::new([Ends::new(percentiles), Ends::new(percentiles)]);
        let [lows, highs] = &mut **self.windows.get_or_insert_with(new);
        lows.add(ticks.low);
        highs.add(ticks.high);
    }

    /// All lower ends, or all upper ones: the exact numbers, and those of windows.
    fn ends(&self, upper: bool) -> impl Iterator<Item = &Ends> + Clone {
        let windows = self.windows.as_deref().map(|ends| &ends[usize::from(upper)]);
        [&self.exact].into_iter().chain(windows)
    }

    /// Of all lower ends and of all upper ones.
    fn both(&self, of: impl Fn(&mut dyn Iterator<Item = &Ends>) -> u64) -> Ticks {
        Ticks { low: of(&mut self.ends(false)), high: of(&mut self.ends(true)) }
    }

    /// How many there are.
    #[must_use]
    pub const fn count(&self) -> u64 {
        self.count
    }

    /// How far apart the ends of the least known of them are.
    #[must_use]
    pub const fn widest(&self) -> u64 {
        self.widest
    }

    /// The smallest; `None` without any.
    #[must_use]
    pub fn min(&self) -> Option<Ticks> {
        let least = self.both(|ends| ends.map(|ends| ends.least).min().unwrap_or(0));
        (self.count > 0).then_some(least)
    }

    /// The largest.
    #[must_use]
    pub fn max(&self) -> Option<Ticks> {
        let most = self.both(|ends| ends.map(|ends| ends.most).max().unwrap_or(0));
        (self.count > 0).then_some(most)
    }

    /// The mean.
    #[must_use]
    pub fn mean(&self) -> Option<Bounds> {
        let count = self.count as f64;
        let sum = self.both(|ends| ends.fold(0, |sum, ends| ends.sum.saturating_add(sum)));
        (self.count > 0).then(|| Bounds::from(sum).scaled(1.0 / count))
    }

    /// The standard deviation of the sample, of the middles of windows; `None` below two.
    #[must_use]
    pub fn deviation(&self) -> Option<f64> {
        let count = self.count as f64;
        let squares = (self.squares - self.off * self.off / count).max(0.0);
        (self.count > 1).then(|| (squares / (count - 1.0)).sqrt())
    }

    /// What `part` of them (0 to 1) do not exceed. `None` where there are so few that it would be
    /// the largest.
    #[must_use]
    pub fn percentile(&self, part: f64) -> Option<Bounds> {
        if (1.0 - part) * (self.count as f64) < 1.0 - 1e-9 {
            return None;
        }
        if !self.percentiles {
            return None;
        }
        let rank = (part * self.count as f64).ceil().max(1.0) as u64;
        let at_rank =
            |upper| Histogram::at_rank(self.ends(upper).map(|ends| &ends.histogram), rank);
        let ((low, _), (_, high)) = (at_rank(false), at_rank(true));
        // What is known of the extremes is exact; what is too long for a histogram is open above.
        let (least, most) = (self.min()?.low, self.max()?.high);
        let high = if high >= LARGEST { most } else { high };
        let clamp = |ticks: u64| ticks.clamp(least, most) as f64;
        Some(Bounds { low: clamp(low), high: clamp(high) })
    }

    /// How many lie in each of `columns` equal parts from the smallest to the largest.
    #[must_use]
    pub fn columns(&self, columns: usize) -> Vec<u64> {
        let extremes = self.min().zip(self.max()).unwrap_or_default();
        let (least, most) = (extremes.0.low as f64, extremes.1.low as f64);
        let width = (most - least) / columns as f64;
        let mut counts = vec![0; columns];
        for (_, last, many) in self.ends(false).flat_map(|ends| ends.histogram.columns()) {
            let at = (last as f64 - least) / width;
            let column =
                if at.is_finite() { at.clamp(0.0, columns as f64 - 1.0) as usize } else { 0 };
            if let Some(count) = counts.get_mut(column) {
                *count += many;
            }
        }
        counts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn nothing_has_no_figures() {
        let none = Spread::default();
        assert_eq!((none.min(), none.mean(), none.deviation()), (None, None, None));
        assert_eq!(none.percentile(0.5), None);
        assert_eq!(none.columns(4), [0; 4]);
    }

    #[test]
    fn few_have_no_high_percentiles() {
        let mut few = Spread::default();
        (1..=20).for_each(|ticks| few.add(Ticks::exact(ticks)));
        assert_eq!(few.percentile(0.5), Some(Bounds::exact(10.0)));
        assert_eq!(few.percentile(0.95), Some(Bounds::exact(19.0)));
        assert_eq!(few.percentile(0.99), None);
    }

    #[test]
    fn endless_times_end_in_no_panic() {
        let mut spread = Spread::default();
        (0..4).for_each(|_| spread.add(Ticks { low: u64::MAX - 1, high: u64::MAX }));
        assert_eq!(spread.max(), Some(Ticks { low: u64::MAX - 1, high: u64::MAX }));
        assert_eq!(spread.percentile(0.5).unwrap().high, u64::MAX as f64);
        let mut plain = Spread::new(false);
        plain.add(Ticks::exact(7));
        assert_eq!((plain.percentile(0.0), plain.count()), (None, 1));
    }

    proptest! {
        #[test]
        fn figures_are_those_of_a_sorted_list(
            values in prop::collection::vec(
                (0_u64..1 << 40, prop_oneof![2 => Just(0), 1 => 0_u64..1 << 20]), 1..200,
            ),
        ) {
            let mut spread = Spread::default();
            for &(low, width) in &values {
                spread.add(Ticks { low, high: low + width });
            }
            let mut lows: Vec<u64> = values.iter().map(|(low, _)| *low).collect();
            let mut highs: Vec<u64> = values.iter().map(|(low, width)| low + width).collect();
            lows.sort_unstable();
            highs.sort_unstable();
            prop_assert_eq!(spread.count(), values.len() as u64);
            prop_assert_eq!(spread.min().unwrap().low, lows[0]);
            prop_assert_eq!(spread.max().unwrap().high, *highs.last().unwrap());
            let middles: Vec<f64> =
                values.iter().map(|(low, width)| *low as f64 + *width as f64 / 2.0).collect();
            let mean = middles.iter().sum::<f64>() / middles.len() as f64;
            let squares: f64 = middles.iter().map(|middle| (middle - mean).powi(2)).sum();
            if let Some(deviation) = spread.deviation() {
                let plain = (squares / (middles.len() - 1) as f64).sqrt();
                prop_assert!((deviation - plain).abs() <= 1e-6 * plain + 1.0, "{deviation} {plain}");
            }
            for part in [0.5, 0.95, 0.99] {
                let Some(Bounds { low, high }) = spread.percentile(part) else { continue };
                // The nearest rank, to three digits.
                let rank = (part * values.len() as f64).ceil() as usize - 1;
                prop_assert!(low <= lows[rank] as f64 && low >= 0.998 * lows[rank] as f64 - 1.0);
                prop_assert!(high >= highs[rank] as f64 && high <= 1.002 * highs[rank] as f64 + 1.0);
            }
            prop_assert_eq!(spread.columns(7).iter().sum::<u64>(), values.len() as u64);
        }
    }
}

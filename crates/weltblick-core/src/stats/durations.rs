//! Many durations in fixed memory: exact extremes and mean, percentiles to three digits (HDR
//! histograms; where durations are known as windows, one of their lower and one of their upper
//! ends).

use hdrhistogram::Histogram;

/// Significant decimal digits of percentiles.
const DIGITS: u8 = 3;

/// A duration in nanoseconds: the true value lies from `low` to `high`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bounds {
    /// Not less than this.
    pub low: f64,
    /// Not more than this.
    pub high: f64,
}

impl Bounds {
    /// A duration that is known exactly.
    #[must_use]
    pub const fn exact(ns: f64) -> Self {
        Self { low: ns, high: ns }
    }

    /// The best single figure.
    #[must_use]
    pub const fn middle(self) -> f64 {
        f64::midpoint(self.low, self.high)
    }
}

/// Durations, counted.
#[derive(Debug, Clone)]
pub struct Durations {
    low: Histogram<u64>,
    /// Absent as long as every duration is exact.
    high: Option<Histogram<u64>>,
    least: Bounds,
    most: Bounds,
    sum: Bounds,
    /// Of the middles: mean and sum of squared differences (Welford).
    mean: f64,
    squares: f64,
}

impl Default for Durations {
    fn default() -> Self {
        let none = Bounds { low: f64::INFINITY, high: f64::INFINITY };
        Self {
            low: empty(),
            high: None,
            least: none,
            most: Bounds { low: 0.0, high: 0.0 },
            sum: Bounds::exact(0.0),
            mean: 0.0,
            squares: 0.0,
        }
    }
}

/// A histogram that grows with what it sees.
fn empty() -> Histogram<u64> {
    let mut histogram =
        Histogram::new(DIGITS).unwrap_or_else(|_| unreachable!("3 digits are allowed"));
    histogram.auto(true);
    histogram
}

/// Longer durations than this, some 146 years, are counted as this: it bounds the memory.
const LONGEST: f64 = (1_u64 << 62) as f64;

/// Counts whole nanoseconds. The histogram grows as far as the longest duration takes it.
fn record(histogram: &mut Histogram<u64>, ns: f64) {
    let recorded = histogram.record(ns.round().clamp(0.0, LONGEST) as u64);
    debug_assert!(recorded.is_ok(), "a histogram that grows takes every value");
}

impl Durations {
    /// Counts a duration.
    pub fn add(&mut self, duration: Bounds) {
        let Bounds { low, high } = duration;
        if low != high && self.high.is_none() {
            self.high = Some(self.low.clone());
        }
        record(&mut self.low, low);
        if let Some(histogram) = &mut self.high {
            record(histogram, high);
        }
        self.least = Bounds { low: self.least.low.min(low), high: self.least.high.min(high) };
        self.most = Bounds { low: self.most.low.max(low), high: self.most.high.max(high) };
        self.sum = Bounds { low: self.sum.low + low, high: self.sum.high + high };
        let away = duration.middle() - self.mean;
        self.mean += away / self.low.len() as f64;
        self.squares += away * (duration.middle() - self.mean);
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.low.len()
    }

    /// The shortest; `None` without any.
    #[must_use]
    pub fn min(&self) -> Option<Bounds> {
        (self.count() > 0).then_some(self.least)
    }

    /// The longest.
    #[must_use]
    pub fn max(&self) -> Option<Bounds> {
        (self.count() > 0).then_some(self.most)
    }

    /// The mean.
    #[must_use]
    pub fn mean(&self) -> Option<Bounds> {
        let count = self.count() as f64;
        let Bounds { low, high } = self.sum;
        (count > 0.0).then(|| Bounds { low: low / count, high: high / count })
    }

    /// The standard deviation of the sample, of the middles of windows; `None` below two.
    #[must_use]
    pub fn deviation(&self) -> Option<f64> {
        (self.count() > 1).then(|| (self.squares / (self.count() - 1) as f64).sqrt())
    }

    /// What `part` of them (0 to 1) do not exceed. `None` where there are so few that it would be
    /// the longest.
    #[must_use]
    pub fn percentile(&self, part: f64) -> Option<Bounds> {
        if (1.0 - part) * (self.count() as f64) < 1.0 - 1e-9 {
            return None;
        }
        let low = self.low.lowest_equivalent(self.low.value_at_quantile(part)) as f64;
        let upper = self.high.as_ref().unwrap_or(&self.low);
        let high = upper.value_at_quantile(part) as f64;
        // What is known of the extremes is exact.
        let clamp = |ns: f64| ns.clamp(self.least.low, self.most.high);
        Some(Bounds { low: clamp(low), high: clamp(high) })
    }

    /// How many lie in each of `columns` equal parts from the shortest to the longest.
    #[must_use]
    pub fn columns(&self, columns: usize) -> Vec<u64> {
        let (least, width) = (self.least.low, (self.most.low - self.least.low) / columns as f64);
        let mut counts = vec![0; columns];
        for value in self.low.iter_recorded() {
            let at = (value.value_iterated_to() as f64 - least) / width;
            let column =
                if at.is_finite() { at.clamp(0.0, columns as f64 - 1.0) as usize } else { 0 };
            if let Some(count) = counts.get_mut(column) {
                *count += value.count_since_last_iteration();
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
        let none = Durations::default();
        assert_eq!((none.min(), none.mean(), none.deviation()), (None, None, None));
        assert_eq!(none.percentile(0.5), None);
        assert_eq!(none.columns(4), [0; 4]);
    }

    #[test]
    fn few_have_no_high_percentiles() {
        let mut few = Durations::default();
        (1..=20).for_each(|ns| few.add(Bounds::exact(f64::from(ns))));
        assert_eq!(few.percentile(0.5), Some(Bounds::exact(10.0)));
        assert_eq!(few.percentile(0.95), Some(Bounds::exact(19.0)));
        assert_eq!(few.percentile(0.99), None);
    }

    #[test]
    fn windows_have_bounds() {
        let mut windows = Durations::default();
        windows.add(Bounds::exact(100.0));
        windows.add(Bounds { low: 50.0, high: 150.0 });
        assert_eq!(windows.min(), Some(Bounds { low: 50.0, high: 100.0 }));
        assert_eq!(windows.max(), Some(Bounds { low: 100.0, high: 150.0 }));
        assert_eq!(windows.mean(), Some(Bounds { low: 75.0, high: 125.0 }));
    }

    proptest! {
        #[test]
        fn figures_are_those_of_a_sorted_list(
            values in prop::collection::vec((0_u64..1 << 40, 0_u64..1 << 20), 1..200),
        ) {
            let mut durations = Durations::default();
            for &(low, width) in &values {
                durations.add(Bounds { low: low as f64, high: (low + width) as f64 });
            }
            let mut lows: Vec<u64> = values.iter().map(|(low, _)| *low).collect();
            let mut highs: Vec<u64> = values.iter().map(|(low, width)| low + width).collect();
            lows.sort_unstable();
            highs.sort_unstable();
            prop_assert_eq!(durations.count(), values.len() as u64);
            prop_assert_eq!(durations.min().unwrap().low, lows[0] as f64);
            prop_assert_eq!(durations.max().unwrap().high, *highs.last().unwrap() as f64);
            for part in [0.5, 0.95, 0.99] {
                let Some(Bounds { low, high }) = durations.percentile(part) else { continue };
                // The nearest rank, to three digits.
                let rank = (part * values.len() as f64).ceil() as usize - 1;
                prop_assert!(low <= lows[rank] as f64 && low >= 0.998 * lows[rank] as f64 - 1.0);
                prop_assert!(high >= highs[rank] as f64 && high <= 1.002 * highs[rank] as f64 + 1.0);
            }
            prop_assert_eq!(durations.columns(7).iter().sum::<u64>(), values.len() as u64);
        }
    }
}

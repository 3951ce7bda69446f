//! Many durations as results state them.

use super::duration::Duration;
use crate::figure::Figure;
use crate::stats::{Bounds, Durations, Spread, Ticks};
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Figures of many durations. What so few of them do not tell is absent.
#[derive(Debug, Clone, PartialEq, Default, Serialize, JsonSchema)]
pub struct Statistic {
    /// How many.
    pub count: u64,
    /// The shortest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min: Option<Duration>,
    /// The mean.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mean: Option<Duration>,
    /// The median.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p50: Option<Duration>,
    /// 95 % are not longer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p95: Option<Duration>,
    /// 99 % are not longer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p99: Option<Duration>,
    /// The longest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max: Option<Duration>,
    /// The standard deviation.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stddev: Option<Duration>,
}

/// How many durations lie in each of equal parts from the shortest to the longest that was seen whole.
#[derive(Debug, Clone, PartialEq, Default, Serialize, JsonSchema)]
pub struct Distribution {
    /// Where the first part begins, in nanoseconds.
    pub from_ns: f64,
    /// Where the last part ends.
    pub until_ns: f64,
    /// How many lie in each.
    pub counts: Vec<u64>,
}

/// Columns of a distribution.
const COLUMNS: usize = 48;

/// How many nanoseconds a tick is, and whether it is a cycle of the core.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scale {
    /// Nanoseconds in a tick.
    pub ns: f64,
    /// Exact ticks are stated as cycles of the core clock too.
    pub cycles: bool,
}

impl Scale {
    /// Ticks of a clock, beside the core's.
    #[must_use]
    pub fn of(clock: Frequency, core: Option<Frequency>) -> Self {
        Self { ns: clock.nanoseconds(1), cycles: core == Some(clock) }
    }

    /// Ticks as a duration.
    #[must_use]
    pub fn duration(self, ticks: impl Into<Bounds>) -> Duration {
        let ticks = ticks.into();
        let whole = ticks.low == ticks.high && ticks.low.fract() == 0.0;
        let cycles = (self.cycles && whole).then_some(ticks.low as u64);
        Duration { cycles, ..ticks.scaled(self.ns).into() }
    }

    /// What something of which a part is missing lasted at most; `None` where nothing is missing, or
    /// nothing bounds it.
    #[must_use]
    pub fn hidden(self, longest: u64) -> Option<Duration> {
        let bounded = longest > 0 && longest < u64::MAX;
        bounded.then(|| self.duration(Ticks { low: 0, high: longest }))
    }

    /// How many ticks are spread.
    #[must_use]
    pub fn distribution(self, spread: &Spread) -> Distribution {
        let [from_ns, until_ns] =
            [spread.min(), spread.max()].map(|end| end.unwrap_or_default().low as f64 * self.ns);
        Distribution { from_ns, until_ns, counts: spread.columns(COLUMNS) }
    }

    /// A figure in seconds as a duration; `exact`: its ticks are whole cycles where they are known.
    #[must_use]
    pub fn stated(self, figure: &Figure, exact: bool) -> Duration {
        let is_exact = figure.low == figure.high;
        let ns = |seconds: f64| {
            // Whole ticks are as many as they were before they became seconds.
            let ticks = seconds * 1e9 / self.ns;
            let whole = ticks.round();
            if (ticks - whole).abs() < 1e-9 * whole.max(1.0) {
                whole * self.ns
            } else {
                seconds * 1e9
            }
        };
        let whole = figure.low * 1e9 / self.ns;
        let differs = figure.low != figure.seen.low || figure.high != figure.seen.high;
        let seen = Bounds { low: ns(figure.seen.low), high: ns(figure.seen.high) };
        Duration {
            ns: ns(figure.observed()),
            ns_low: ns(figure.low),
            ns_high: figure.high.is_finite().then(|| ns(figure.high)),
            cycles: (exact && self.cycles && is_exact).then(|| whole.round() as u64),
            seen: differs.then_some(seen),
        }
    }

    /// Figures of many ticks.
    #[must_use]
    pub fn statistic(self, spread: &Spread) -> Statistic {
        let plain = Self { cycles: false, ..self };
        let stated = |bounds: Option<Bounds>| bounds.map(|bounds| plain.duration(bounds));
        Statistic {
            count: spread.count(),
            min: spread.min().map(|ticks| self.duration(ticks)),
            mean: stated(spread.mean()),
            p50: stated(spread.percentile(0.5)),
            p95: stated(spread.percentile(0.95)),
            p99: stated(spread.percentile(0.99)),
            max: spread.max().map(|ticks| self.duration(ticks)),
            stddev: stated(spread.deviation().map(Bounds::exact)),
        }
    }
}

impl From<Bounds> for Duration {
    fn from(bounds: Bounds) -> Self {
        let Bounds { low, high } = bounds;
        Self { ns: bounds.middle(), ns_low: low, ns_high: Some(high), cycles: None, seen: None }
    }
}

impl From<&Durations> for Statistic {
    fn from(durations: &Durations) -> Self {
        let (spread, ns) = durations.spread();
        Scale { ns, cycles: false }.statistic(spread)
    }
}

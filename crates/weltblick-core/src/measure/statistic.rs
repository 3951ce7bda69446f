//! Many durations as results state them.

use super::duration::Duration;
use crate::stats::{Bounds, Durations};
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

impl From<Bounds> for Duration {
    fn from(bounds: Bounds) -> Self {
        Self { ns: bounds.middle(), ns_low: bounds.low, ns_high: Some(bounds.high), cycles: None }
    }
}

impl From<&Durations> for Statistic {
    fn from(durations: &Durations) -> Self {
        let stated = |bounds: Option<Bounds>| bounds.map(Duration::from);
        Self {
            count: durations.count(),
            min: stated(durations.min()),
            mean: stated(durations.mean()),
            p50: stated(durations.percentile(0.5)),
            p95: stated(durations.percentile(0.95)),
            p99: stated(durations.percentile(0.99)),
            max: stated(durations.max()),
            stddev: stated(durations.deviation().map(Bounds::exact)),
        }
    }
}

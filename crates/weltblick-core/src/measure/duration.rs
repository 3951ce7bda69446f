//! A stretch of time as results state it.

use crate::stats::Bounds;
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Serialize, Serializer};
use std::borrow::Cow;

/// Bounds that differ by a smaller part are one number.
const SAME: f64 = 1e-9;

/// A stretch of time in nanoseconds, with the interval in which the true value lies.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Duration {
    /// The best single figure: the middle of what was seen.
    pub ns: f64,
    /// Not less than this.
    pub ns_low: f64,
    /// Not more than this; absent where nothing bounds it.
    pub ns_high: Option<f64>,
    /// The same in cycles of the core clock, where that is exact.
    pub cycles: Option<u64>,
    /// What was seen, to the resolution of its times, where the true one may be another.
    pub seen: Option<Bounds>,
}

impl Duration {
    /// The figure, where it is known: the middle of two bounds was not measured.
    #[must_use]
    pub fn known_ns(&self) -> Option<f64> {
        self.ns_high.is_some_and(|high| high - self.ns_low <= SAME * high.abs()).then_some(self.ns)
    }
}

/// A stretch of time in nanoseconds, with the interval in which the true value lies.
#[derive(Serialize, JsonSchema)]
struct Stated {
    /// The figure; absent where only bounds are known: their middle was not measured.
    #[serde(skip_serializing_if = "Option::is_none")]
    ns: Option<f64>,
    /// Where the true one may be another than what was seen: that, at least.
    #[serde(skip_serializing_if = "Option::is_none")]
    seen_ns_low: Option<f64>,
    /// What was seen, at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    seen_ns_high: Option<f64>,
    /// Not less than this.
    ns_low: f64,
    /// Not more than this; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    ns_high: Option<f64>,
    /// Cycles of the core clock, where they are exact.
    #[serde(skip_serializing_if = "Option::is_none")]
    cycles: Option<u64>,
}

impl Serialize for Duration {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self { ns_low, ns_high, cycles, .. } = *self;
        let (seen_ns_low, seen_ns_high) = self.seen.map(|seen| (seen.low, seen.high)).unzip();
        Stated { ns: self.known_ns(), seen_ns_low, seen_ns_high, ns_low, ns_high, cycles }
            .serialize(serializer)
    }
}

impl JsonSchema for Duration {
    fn schema_name() -> Cow<'static, str> {
        "Duration".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        Stated::json_schema(generator)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_of_two_bounds_is_not_written_as_if_it_were_measured() {
        let duration = |low: f64, high| Duration {
            ns: 7.0,
            ns_low: low,
            ns_high: high,
            cycles: None,
            seen: None,
        };
        let written = |duration: Duration| serde_json::to_value(duration).unwrap();
        assert_eq!(written(duration(7.0, Some(7.0)))["ns"], 7.0);
        let between = written(duration(6.0, Some(8.0)));
        assert_eq!((between.get("ns"), &between["ns_high"]), (None, &8.0.into()));
        assert_eq!(written(duration(7.0, None)).get("ns"), None);
        let seen = Some(Bounds::exact(7.0));
        let more = written(Duration { seen, ..duration(7.0, None) });
        assert_eq!((&more["seen_ns_low"], more.get("ns")), (&7.0.into(), None));
    }
}

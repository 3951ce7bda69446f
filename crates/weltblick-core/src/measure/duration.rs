//! A stretch of time as results state it.

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Serialize, Serializer};
use std::borrow::Cow;

/// Bounds that differ by a smaller part are one number.
const SAME: f64 = 1e-9;

/// A stretch of time in nanoseconds, with the interval in which the true value lies.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Duration {
    /// The best single figure.
    pub ns: f64,
    /// Not less than this.
    pub ns_low: f64,
    /// Not more than this; absent where nothing bounds it.
    pub ns_high: Option<f64>,
    /// The same in cycles of the core clock, where that is exact.
    pub cycles: Option<u64>,
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
    /// The figure; absent where only bounds are known.
    #[serde(skip_serializing_if = "Option::is_none")]
    ns: Option<f64>,
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
        Stated { ns: self.known_ns(), ns_low, ns_high, cycles }.serialize(serializer)
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
        let duration =
            |low: f64, high| Duration { ns: 7.0, ns_low: low, ns_high: high, cycles: None };
        let written = |duration: Duration| serde_json::to_value(duration).unwrap();
        assert_eq!(written(duration(7.0, Some(7.0)))["ns"], 7.0);
        let between = written(duration(6.0, Some(8.0)));
        assert_eq!((between.get("ns"), &between["ns_high"]), (None, &8.0.into()));
        assert_eq!(written(duration(7.0, None)).get("ns"), None);
    }
}

//! A stretch of time as results state it.

use schemars::JsonSchema;
use serde::Serialize;

/// A stretch of time in nanoseconds, with the interval in which the true value lies.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct Duration {
    /// The best single figure.
    pub ns: f64,
    /// Not less than this.
    pub ns_low: f64,
    /// Not more than this; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ns_high: Option<f64>,
    /// The same in cycles of the core clock, where that is exact.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cycles: Option<u64>,
}

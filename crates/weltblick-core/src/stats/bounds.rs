//! Between what and what a figure lies.

/// A figure, a duration mostly: the true value lies from `low` to `high`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bounds {
    /// Not less than this.
    pub low: f64,
    /// Not more than this.
    pub high: f64,
}

impl Bounds {
    /// One that is known exactly.
    #[must_use]
    pub const fn exact(value: f64) -> Self {
        Self { low: value, high: value }
    }

    /// The best single figure.
    #[must_use]
    pub const fn middle(self) -> f64 {
        f64::midpoint(self.low, self.high)
    }

    /// In a unit of which `factor` make one of this.
    #[must_use]
    pub const fn scaled(self, factor: f64) -> Self {
        Self { low: self.low * factor, high: self.high * factor }
    }
}

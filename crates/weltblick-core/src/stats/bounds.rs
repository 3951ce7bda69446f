//! Between what and what a figure lies.

/// A figure, a duration mostly: the true value lies from `low` to `high`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bounds {
    /// Not less than this.
    pub low: f64,
    /// Not more than this.
    pub high: f64,
}

impl From<f64> for Bounds {
    fn from(value: f64) -> Self {
        Self::exact(value)
    }
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

    /// Neither end below this.
    #[must_use]
    pub const fn at_least(self, least: f64) -> Self {
        Self { low: self.low.max(least), high: self.high.max(least) }
    }

    /// In a unit of which `factor` make one of this.
    #[must_use]
    pub const fn scaled(self, factor: f64) -> Self {
        Self { low: self.low * factor, high: self.high * factor }
    }
}

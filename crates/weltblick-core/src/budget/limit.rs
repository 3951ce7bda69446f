//! Limits as budgets write them: `<= 18 %`, `>= 10000 samples`, `1 ms +- 2 %`.

use crate::time::{Quantity, QuantityError, Unit};
use std::fmt;
use thiserror::Error;

/// How a figure must stand to its limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// `<`
    Below,
    /// `<=`
    AtMost,
    /// `>`
    Above,
    /// `>=`
    AtLeast,
}

/// What a figure may be, in base units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Limit {
    /// On one side of a value.
    OneSided {
        /// Which side.
        comparison: Comparison,
        /// The value.
        value: f64,
    },
    /// Around a value.
    Around {
        /// The value in the middle.
        value: f64,
        /// How far off it may be.
        tolerance: f64,
    },
}

/// A limit, and over how much it must have been observed.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// The limit.
    pub limit: Limit,
    /// The limit as it was written.
    pub written: String,
    /// At least so many observations.
    pub over: Option<u64>,
}

/// Why a text is no limit.
#[derive(Debug, Clone, PartialEq, Error)]
pub(super) enum LimitError {
    #[error("a limit starts with <=, <, >= or >, or is a value with a tolerance (1 ms +- 2 %)")]
    NoComparison,
    #[error(transparent)]
    Quantity(#[from] QuantityError),
    #[error("a tolerance must not be negative")]
    Negative,
}

/// Comparisons by spelling, longest first.
pub(super) const COMPARISONS: [(&str, Comparison); 4] = [
    ("<=", Comparison::AtMost),
    (">=", Comparison::AtLeast),
    ("<", Comparison::Below),
    (">", Comparison::Above),
];

impl Limit {
    /// Reads a limit on a figure that is measured in `unit`.
    pub(super) fn parse(text: &str, unit: Unit) -> Result<Self, LimitError> {
        let text = text.trim();
        for (spelling, comparison) in COMPARISONS {
            if let Some(rest) = text.strip_prefix(spelling) {
                let value = Quantity::parse(rest, &[unit])?.value;
                return Ok(Self::OneSided { comparison, value });
            }
        }
        let (value, tolerance) = text.split_once("+-").ok_or(LimitError::NoComparison)?;
        let value = Quantity::parse(value, &[unit])?.value;
        // A tolerance in per cent is a part of the value; for shares, of the whole.
        let tolerance = match Quantity::parse(tolerance, &[unit, Unit::Share])? {
            Quantity { value: part, unit: Unit::Share } if unit != Unit::Share => {
                value.abs() * part
            }
            Quantity { value: absolute, .. } => absolute,
        };
        if tolerance < 0.0 {
            return Err(LimitError::Negative);
        }
        Ok(Self::Around { value, tolerance })
    }

    /// Whether every value from `low` to `high` keeps the limit.
    #[must_use]
    pub fn holds_for_all(&self, low: f64, high: f64) -> bool {
        self.holds(low) && self.holds(high)
    }

    /// Whether no value from `low` to `high` keeps the limit.
    #[must_use]
    pub fn fails_for_all(&self, low: f64, high: f64) -> bool {
        match *self {
            Self::OneSided { .. } => !self.holds(low) && !self.holds(high),
            Self::Around { value, tolerance } => {
                low > value + tolerance || high < value - tolerance
            }
        }
    }

    fn holds(&self, observed: f64) -> bool {
        match *self {
            Self::OneSided { comparison, value } => match comparison {
                Comparison::Below => observed < value,
                Comparison::AtMost => observed <= value,
                Comparison::Above => observed > value,
                Comparison::AtLeast => observed >= value,
            },
            Self::Around { value, tolerance } => (observed - value).abs() <= tolerance,
        }
    }

    /// The edge that `observed` is nearest to.
    #[must_use]
    pub fn nearest_edge(&self, observed: f64) -> f64 {
        match *self {
            Self::OneSided { value, .. } => value,
            Self::Around { value, tolerance } if observed < value => value - tolerance,
            Self::Around { value, tolerance } => value + tolerance,
        }
    }

    /// How far inside the limit `observed` is, as a part of the edge; negative outside. Where the
    /// edge is zero, the bare distance.
    #[must_use]
    pub fn margin(&self, observed: f64) -> f64 {
        let edge = self.nearest_edge(observed);
        let inside = match *self {
            Self::OneSided { comparison: Comparison::Below | Comparison::AtMost, value } => {
                value - observed
            }
            Self::OneSided { value, .. } => observed - value,
            Self::Around { value, tolerance } => tolerance - (observed - value).abs(),
        };
        if edge == 0.0 { inside } else { inside / edge.abs() }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.written)
    }
}

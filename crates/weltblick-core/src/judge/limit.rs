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
                is_above(low, value + tolerance) || is_above(value - tolerance, high)
            }
        }
    }

    fn holds(&self, observed: f64) -> bool {
        match *self {
            Self::OneSided { comparison, value } => match comparison {
                Comparison::Below => is_above(value, observed),
                Comparison::AtMost => is_at_most(observed, value),
                Comparison::Above => is_above(observed, value),
                Comparison::AtLeast => is_at_most(value, observed),
            },
            Self::Around { value, tolerance } => {
                is_at_most(observed, value + tolerance) && is_at_most(value - tolerance, observed)
            }
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

/// By how much figures may differ and be the same: they are rounded on their way from ticks and from
/// decimal digits. Ten cycles of 1 MHz are not more than 10 us.
fn rounding(one: f64, other: f64) -> f64 {
    1e-12 * one.abs().min(other.abs())
}

/// What is no number is neither above anything nor at most that.
fn is_above(one: f64, other: f64) -> bool {
    one > other + rounding(one, other)
}

fn is_at_most(one: f64, other: f64) -> bool {
    one <= other + rounding(one, other)
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.written)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_the_limit_keeps_it() {
        let limit = |text: &str| Limit::parse(text, Unit::Time).unwrap();
        for cycles in [1_u32, 3, 7, 10, 333, 48_000] {
            for clock in [1e6, 3e6, 48e6, 168e6] {
                let seconds = f64::from(cycles) * (1e9 / clock) * 1e-9;
                let exactly = f64::from(cycles) / clock;
                let above = seconds + 1.0 / clock / 64.0;
                for value in [exactly, seconds] {
                    let at = |comparison| Limit::OneSided { comparison, value };
                    assert!(at(Comparison::AtMost).holds_for_all(seconds, seconds));
                    assert!(at(Comparison::AtLeast).holds_for_all(seconds, seconds));
                    assert!(at(Comparison::Below).fails_for_all(seconds, seconds));
                    assert!(at(Comparison::Above).fails_for_all(seconds, seconds));
                    assert!(at(Comparison::AtMost).fails_for_all(above, above));
                }
            }
        }
        assert!(limit("<= 10 us").holds_for_all(10.0 * 1000.0 * 1e-9, 10.0 * 1000.0 * 1e-9));
        assert!(limit("100 us +- 10 us").holds_for_all(90.0 * 1e-6, 110.0 * 1000.0 * 1e-9));
        assert!(!limit("<= 1 s").holds_for_all(0.0, f64::INFINITY));
        for text in ["<= 1 s", "< 1 s", ">= 1 s", "> 1 s", "1 s +- 1 s"] {
            assert!(!limit(text).holds_for_all(f64::NAN, f64::NAN), "{text}");
        }
        assert!(limit("> 1 s").fails_for_all(0.0, 0.0) && !limit(">= 0 s").fails_for_all(0.0, 0.0));
    }
}

//! How much later one clock tells the same.

use crate::time::Window;
use serde::{Deserialize, Serialize};

/// Two sources may tell one entry so many cycles apart: one says when stacking begins, the other what ran
/// before and after it, and slow memory lies in between.
const APART: i64 = 64;

/// Cycles from one clock to another: between two numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Lag {
    /// As if both told an entry at once; its second number is less than its first if they do not.
    strict: (i64, i64),
    /// As if they told it up to [`APART`] apart.
    loose: (i64, i64),
}

impl Lag {
    /// Nothing is known.
    pub(super) const ANY: Self =
        Self { strict: (i64::MIN / 4, i64::MAX / 4), loose: (i64::MIN / 4, i64::MAX / 4) };

    /// Both tell of the same entry. Whether that can be.
    pub(super) fn narrow(&mut self, itm: Window, flow: Window) -> bool {
        let low = signed(itm.earliest) - signed(flow.latest);
        let high = signed(itm.latest) - signed(flow.earliest);
        self.loose = both(self.loose, (low - APART, high + APART));
        self.strict = both(self.strict, (low, high));
        self.loose.0 <= self.loose.1
    }

    /// What is known: not less than the first, not more than the second.
    pub(super) const fn bounds(self) -> (i64, i64) {
        if self.strict.0 <= self.strict.1 { self.strict } else { self.loose }
    }

    /// Somewhere between two others.
    pub(super) fn between(before: Self, after: Self) -> Self {
        let (low, high) = (before.bounds().0, after.bounds().1);
        let bounds = (low.min(high), low.max(high));
        Self { strict: bounds, loose: bounds }
    }

    /// Whether both may be the same.
    pub(super) fn is_like(self, other: Self) -> bool {
        let common = both(self.loose, other.loose);
        common.0 <= common.1
    }

    /// Whether it may be the less of both.
    pub(super) const fn may_be_before(self, other: Self) -> bool {
        self.loose.0 <= other.loose.1
    }

    /// How much is in doubt.
    pub(super) const fn width(self) -> i64 {
        let (low, high) = self.bounds();
        high - low
    }

    /// A time on the later clock: not before the first, not after the second.
    pub(super) fn later(self, ticks: u64) -> (u64, u64) {
        let (low, high) = self.bounds();
        (ticks.saturating_add_signed(low), ticks.saturating_add_signed(high))
    }

    /// The middle of both.
    pub(super) const fn likely(self, ticks: u64) -> u64 {
        let (low, high) = self.bounds();
        ticks.saturating_add_signed(low + (high - low) / 2)
    }

    /// A time on the other one.
    pub(super) fn sooner(self, ticks: u64) -> (u64, u64) {
        let (low, high) = self.bounds();
        (ticks.saturating_add_signed(-high), ticks.saturating_add_signed(-low))
    }

    /// When the ITM may tell what the other clock says.
    pub(super) fn expected(self, flow: Window) -> (i64, i64) {
        (signed(flow.earliest) + self.loose.0 - APART, signed(flow.latest) + self.loose.1 + APART)
    }
}

fn both(a: (i64, i64), b: (i64, i64)) -> (i64, i64) {
    (a.0.max(b.0), a.1.min(b.1))
}

/// Times lie far below the greatest number.
pub(super) fn signed(ticks: u64) -> i64 {
    i64::try_from(ticks).unwrap_or(i64::MAX / 4)
}

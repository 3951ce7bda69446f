//! A figure with its bounds and its evidence.
//!
//! It is made once, by whoever measured it, with everything that is known of it and that speaks against it. The
//! judge decides by its bounds alone: what speaks against a figure ([`Doubt`]) widens them to what is certain all
//! the same, so that it weighs as much against *broken* as against *met*.

mod doubt;
mod evidence;
mod objection;

pub use doubt::{Doubt, Effect, Interval, Rests};
pub(crate) use doubt::{LOSE_NOTHING, SHARPEN};
pub use evidence::{Basis, Evidence, Missing, Note, Sampled};
pub use objection::{Objection, ObjectionRow};

use crate::stats::Bounds;

/// A figure in its base unit: seconds, a share from 0 to 1, a count, hertz, or the unit of a value.
#[derive(Debug, Clone, PartialEq)]
pub struct Figure {
    /// What was seen, to the resolution of its times.
    pub seen: Bounds,
    /// The true figure is not less.
    pub low: f64,
    /// The true figure is not more; infinite where nothing bounds it.
    pub high: f64,
    /// The least and the most of many, where each of them must keep a limit.
    pub extremes: Option<[Bounds; 2]>,
    /// How many observations it rests on.
    pub count: u64,
    /// The unit of a value, where it is stated.
    pub unit: Option<String>,
    /// What a figure of this kind can be at all: no share lies above 1, no duration below 0.
    pub possible: Bounds,
    /// On what it rests, what is missing, and what speaks against it.
    pub evidence: Evidence,
}

/// Why there is no figure at all, and what would help.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Absent {
    /// Why.
    pub why: String,
    /// What would help.
    pub advice: String,
}

impl Absent {
    /// There is none for this reason; this would help.
    pub fn new(why: impl Into<String>, advice: impl Into<String>) -> Self {
        Self { why: why.into(), advice: advice.into() }
    }
}

/// What can be: anything from 0 on.
pub const FROM_ZERO: Bounds = Bounds { low: 0.0, high: f64::INFINITY };
/// What can be: a share.
pub const SHARE: Bounds = Bounds { low: 0.0, high: 1.0 };
/// What can be: any number.
pub const ANYTHING: Bounds = Bounds { low: f64::NEG_INFINITY, high: f64::INFINITY };

impl Figure {
    /// A figure that is known exactly, and not below zero.
    #[must_use]
    pub fn exact(seen: f64, count: u64, basis: Basis) -> Self {
        Self::between(seen, Bounds::exact(seen), count, basis)
    }

    /// A figure that lies between two bounds, and not below zero.
    #[must_use]
    pub fn between(seen: impl Into<Bounds>, bounds: Bounds, count: u64, basis: Basis) -> Self {
        Self {
            seen: seen.into(),
            low: bounds.low,
            high: bounds.high,
            extremes: None,
            count,
            unit: None,
            possible: FROM_ZERO,
            evidence: basis.into(),
        }
    }

    /// What was seen, as one number.
    #[must_use]
    pub const fn observed(&self) -> f64 {
        self.seen.middle()
    }

    /// Between what the true figure lies.
    #[must_use]
    pub const fn bounds(&self) -> Bounds {
        Bounds { low: self.low, high: self.high }
    }

    /// Whether its bounds hold those of another.
    #[must_use]
    pub fn spans(&self, other: &Self) -> bool {
        self.low <= other.low && self.high >= other.high && self.extremes == other.extremes
    }

    /// Without what no synchronisation confirms it was this, or nothing: nothing is met, or broken, by that alone.
    pub fn agree_with(&mut self, confirmed: Option<Self>) {
        match confirmed {
            Some(before) if self.spans(&before) => {}
            Some(before) => {
                self.widen(&before);
                self.doubt(Doubt::Unconfirmed);
            }
            None => self.doubt_with(Doubt::Unconfirmed, Effect::Both),
        }
    }

    /// It may as well be the other.
    pub fn widen(&mut self, other: &Self) {
        (self.low, self.high) = (self.low.min(other.low), self.high.max(other.high));
        let join =
            |a: Bounds, b: Bounds| Bounds { low: a.low.min(b.low), high: a.high.max(b.high) };
        let both = self.extremes.zip(other.extremes);
        self.extremes = both.map(|(a, b)| [join(a[0], b[0]), join(a[1], b[1])]);
    }

    /// Something speaks against it: the bounds are those of what is certain all the same.
    pub fn doubt(&mut self, doubt: Doubt) {
        let effect = doubt.effect();
        self.doubt_with(doubt, effect);
    }

    /// Something speaks against it that has another effect on this figure than on most.
    pub fn doubt_with(&mut self, doubt: Doubt, effect: Effect) {
        self.evidence.meets_nothing |= effect == Effect::MeetsNothing;
        if matches!(effect, Effect::Above | Effect::Both) {
            self.high = self.possible.high;
        }
        if matches!(effect, Effect::Below | Effect::Both) {
            self.low = self.possible.low;
        }
        match (effect, &mut self.extremes) {
            (Effect::Above, Some([_, most])) => most.high = f64::INFINITY,
            (Effect::Below, Some([least, _])) => least.low = 0.0,
            // Not even one of them is certain.
            (Effect::Both, extremes) => *extremes = None,
            _ => {}
        }
        if !self.evidence.against.contains(&doubt) {
            self.evidence.against.push(doubt);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_doubt_leaves_what_is_certain() {
        let seen = || Figure {
            extremes: Some([Bounds { low: 2.0, high: 3.0 }, Bounds { low: 8.0, high: 9.0 }]),
            ..Figure::between(5.0, Bounds { low: 4.0, high: 6.0 }, 10, Basis::Counted)
        };
        let mut longer = seen();
        longer.doubt(Doubt::OpenAtEnd { count: 1 });
        assert_eq!((longer.low, longer.high), (4.0, f64::INFINITY));
        assert_eq!(longer.extremes.unwrap()[1].low, 8.0, "one that was seen was seen");
        let mut unknown = seen();
        unknown.doubt(Doubt::OtherImage { samples: 3 });
        assert_eq!((unknown.low, unknown.high, unknown.extremes), (0.0, f64::INFINITY, None));
        let mut share = Figure { possible: SHARE, ..seen() };
        share.doubt(Doubt::OtherImage { samples: 3 });
        share.doubt(Doubt::OtherImage { samples: 3 });
        assert_eq!((share.low, share.high, share.evidence.against.len()), (0.0, 1.0, 1));
        let mut stopped = seen();
        stopped.doubt(Doubt::Stopped);
        assert!(stopped.evidence.meets_nothing && (stopped.low, stopped.high) == (4.0, 6.0));
    }
}

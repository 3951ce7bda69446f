//! Time spaced event by event, so that rare ones are as readable as frequent ones.

use super::columns::{Cell, Columns};
use super::lane::{Doing, LaneKey, Piece};
use std::collections::BTreeMap;

/// Moments in order: each takes the same space.
#[derive(Debug, Clone)]
pub struct Spacing {
    moments: Vec<u64>,
}

/// Space between two moments.
const SPACE: u64 = 1024;

impl Spacing {
    /// Moments of which each is a step.
    #[must_use]
    pub fn new(mut moments: Vec<u64>) -> Self {
        moments.sort_unstable();
        moments.dedup();
        Self { moments }
    }

    /// How many steps there are.
    #[must_use]
    pub const fn steps(&self) -> usize {
        self.moments.len()
    }

    /// Where a tick lies: between two moments in proportion.
    #[must_use]
    pub fn place(&self, tick: u64) -> u64 {
        let after = self.moments.partition_point(|&moment| moment <= tick);
        let Some(at) = after.checked_sub(1) else { return 0 };
        let begin = at as u64 * SPACE;
        let Some(next) = self.moments.get(after) else { return begin };
        let (passed, whole) = (tick - self.moments[at], next - self.moments[at]);
        begin + (u128::from(passed) * u128::from(SPACE) / u128::from(whole.max(1))) as u64
    }

    /// The tick at a part (0 to 1) of the axis.
    #[must_use]
    pub fn tick(&self, part: f64) -> Option<u64> {
        let last = self.moments.len().checked_sub(1)?;
        self.moments.get((part * last as f64).round() as usize).copied()
    }

    /// How long the axis is.
    #[must_use]
    pub const fn length(&self) -> u64 {
        (self.moments.len() as u64).saturating_sub(1) * SPACE
    }

    /// What lanes did in `cells` equal parts of this axis.
    #[must_use]
    pub fn cells(
        &self,
        pieces: &[Piece],
        marks: impl Iterator<Item = (LaneKey, u64)>,
        cells: usize,
    ) -> BTreeMap<LaneKey, Vec<Cell>> {
        let mut lanes: BTreeMap<LaneKey, Columns> = BTreeMap::new();
        for piece in pieces {
            let (from, until) = (self.place(piece.from.latest), self.place(piece.until.latest));
            lanes.entry(piece.lane).or_default().add(piece.doing, from, until.max(from));
        }
        for (lane, tick) in marks {
            let at = self.place(tick);
            lanes.entry(lane).or_default().add(Doing::Mark, at, at);
        }
        let parts = |(lane, columns): (LaneKey, Columns)| {
            (lane, columns.parts(0, self.length().max(1), cells))
        };
        lanes.into_iter().map(parts).collect()
    }
}

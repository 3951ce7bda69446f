//! When something happened, as far as the trace tells.

use serde::{Deserialize, Serialize};

/// The cycles between which something happened, both included, in the origin's own clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub struct Window {
    /// Not before this cycle.
    pub earliest: u64,
    /// Not after this cycle.
    pub latest: u64,
}

impl Window {
    /// A window of one cycle.
    #[must_use]
    pub const fn exact(cycle: u64) -> Self {
        Self { earliest: cycle, latest: cycle }
    }

    /// Its middle.
    #[must_use]
    pub const fn middle(self) -> u64 {
        self.earliest + (self.latest - self.earliest) / 2
    }

    /// Whether all of it lies inside the half-open range.
    #[must_use]
    pub const fn is_inside(self, start: u64, end: u64) -> bool {
        start <= self.earliest && self.latest < end
    }

    /// Whether none of it lies inside the half-open range.
    #[must_use]
    pub const fn is_outside(self, start: u64, end: u64) -> bool {
        self.latest < start || end <= self.earliest
    }
}

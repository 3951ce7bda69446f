//! A level that a value crosses.

use crate::measure::interrupts::between;
use crate::stats::Ticks;
use crate::time::Window;

/// How often a value rose above a level, and how long it stayed there. At the level is not above.
#[derive(Debug, Clone, PartialEq)]
pub struct Threshold {
    /// The level.
    pub level: f64,
    /// Times that it rose above.
    pub up: u64,
    /// Times that it fell back.
    pub down: u64,
    /// Times that it was on the other side after a gap: nobody saw when.
    pub unseen: u64,
    /// Ticks above, where both ends are known.
    pub above: Ticks,
    /// The longest stay above, and when it began.
    pub longest: Option<(Ticks, Window)>,
    /// When it first rose above.
    pub first: Option<Window>,
    /// The last side, and whether nothing is missing since.
    side: Option<bool>,
    follows: bool,
    since: Option<Window>,
}

impl Threshold {
    /// A level that nothing has crossed yet.
    #[must_use]
    pub const fn new(level: f64) -> Self {
        Self {
            level,
            up: 0,
            down: 0,
            unseen: 0,
            above: Ticks { low: 0, high: 0 },
            longest: None,
            first: None,
            side: None,
            follows: false,
            since: None,
        }
    }

    pub(super) fn add(&mut self, value: f64, time: Option<Window>) {
        if value.is_nan() {
            return;
        }
        let above = value > self.level;
        match self.side {
            Some(side) if side != above && !self.follows => self.unseen += 1,
            Some(false) if above => {
                self.up += 1;
                self.first = self.first.or(time);
            }
            Some(true) if !above => {
                self.down += 1;
                if let Some((since, now)) = self.since.zip(time) {
                    self.stayed(since, now);
                }
            }
            _ => {}
        }
        if !above {
            self.since = None;
        } else if self.side != Some(true) || !self.follows {
            self.since = time;
        }
        self.side = Some(above);
        self.follows = true;
    }

    /// Something is missing: a stay above is known up to the last value only.
    pub(super) fn interrupt(&mut self, last: Option<Window>) {
        if let Some((since, last)) = self.since.take().zip(last) {
            self.stayed(since, last);
        }
        self.follows = false;
    }

    fn stayed(&mut self, since: Window, until: Window) {
        let long = between(since, until);
        self.above += long;
        if self.longest.is_none_or(|(longest, _)| long.doubled() > longest.doubled()) {
            self.longest = Some((long, since));
        }
    }
}

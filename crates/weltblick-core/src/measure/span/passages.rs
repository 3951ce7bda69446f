//! Events to passages: today of lap points, at which a debugger stopped the core.

use super::way::{Passage, Way};
use crate::event::{Event, Position, Sink};

/// A sink that follows the lap points of a way.
#[derive(Debug)]
pub struct Passages {
    /// The lap points of the way, in its order.
    laps: Vec<u8>,
    /// What came of them.
    pub way: Way,
}

impl Passages {
    /// Follows `way`, whose stations are these lap points.
    #[must_use]
    pub const fn new(laps: Vec<u8>, way: Way) -> Self {
        Self { laps, way }
    }
}

impl Sink for Passages {
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Lap { lap, cycles } => {
                let Position { time, offset, .. } = position;
                self.way.pass(&self.laps, lap, Passage { cycles, time, offset });
            }
            Event::Lost { .. } | Event::Unwatched => self.way.cut(),
            _ => {}
        }
    }
}

//! Where something is missing, but no time: between the event before a loss and the one after it.

use crate::event::{Event, Position};
use crate::time::Window;

/// Follows events, and says where a gap lies once it has ended.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct GapWatch {
    /// Not after the first event; `u64::MAX` before it.
    first: u64,
    /// Not after the last event.
    last: u64,
    /// A gap has begun, and not ended.
    is_open: bool,
    gap: Window,
}

impl Default for GapWatch {
    fn default() -> Self {
        Self { first: u64::MAX, last: 0, is_open: false, gap: Window::exact(0) }
    }
}

impl GapWatch {
    /// One event. Returns the gap that it ends.
    #[inline(always)]
    pub fn pass(&mut self, position: Position, event: &Event) -> Option<Window> {
        match position.time {
            Some(now) if !matches!(event, Event::Lost { .. }) => {
                if self.first == u64::MAX {
                    self.first = now.earliest;
                }
                self.last = now.earliest;
                if self.is_open { self.end(now) } else { None }
            }
            _ => None,
        }
    }

    #[cold]
    fn end(&mut self, now: Window) -> Option<Window> {
        self.is_open = false;
        Some(Window { latest: self.gap.latest.max(now.latest), ..self.gap })
    }

    /// A loss at this time. Returns since when something may be missing.
    pub fn begin(&mut self, loss: Window) -> u64 {
        let before = if self.is_open { self.gap } else { loss };
        let earliest = self.last.min(loss.earliest).min(before.earliest);
        self.is_open = true;
        self.gap = Window { earliest, latest: loss.latest.max(before.latest) };
        earliest
    }

    /// When the first event was, not later than that; `None` before it.
    #[must_use]
    pub const fn first(&self) -> Option<u64> {
        if self.first == u64::MAX { None } else { Some(self.first) }
    }

    /// Not after the last event with a time.
    #[must_use]
    pub const fn last(&self) -> u64 {
        self.last
    }

    /// The gap with which the recording ends.
    #[must_use]
    pub fn at_end(&self) -> Option<Window> {
        self.is_open.then_some(Window { latest: u64::MAX, ..self.gap })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin};

    #[test]
    fn a_gap_lies_between_the_events_around_it() {
        let mut watch = GapWatch::default();
        let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
        let at = |earliest, latest| {
            let time = Some(Window { earliest, latest });
            Position::new(Origin(0), 0, time)
        };
        assert_eq!(watch.pass(at(10, 20), &Event::Asleep), None);
        // A loss says less of where it is than the events around it.
        assert_eq!(watch.pass(at(40, 40), &lost), None);
        assert_eq!(watch.begin(Window::exact(40)), 10);
        assert_eq!(watch.begin(Window { earliest: 5, latest: 60 }), 5, "two are one");
        assert_eq!(watch.at_end(), Some(Window { earliest: 5, latest: u64::MAX }));
        let undated = Position { time: None, ..at(0, 0) };
        assert_eq!(watch.pass(undated, &Event::Asleep), None);
        assert_eq!(
            watch.pass(at(50, 55), &Event::Asleep),
            Some(Window { earliest: 5, latest: 60 })
        );
        assert_eq!((watch.pass(at(70, 70), &Event::Asleep), watch.at_end()), (None, None));
    }
}

//! Only what happened in a window of time.

use crate::event::{Event, Position, Sink};

/// Passes on the events of one half-open range of cycles.
#[derive(Debug)]
pub struct Within<S> {
    start: u64,
    end: u64,
    /// Events that may lie on either side of an edge: passed on to nobody.
    pub cut: u64,
    /// Events without a time: passed on to nobody.
    pub undated: u64,
    /// Where the others go.
    pub sink: S,
}

impl<S: Sink> Within<S> {
    /// Passes on events from cycle `start` up to but not including `end`.
    pub const fn new(start: u64, end: u64, sink: S) -> Self {
        Self { start, end, cut: 0, undated: 0, sink }
    }
}

impl<S: Sink> Sink for Within<S> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        match position.time {
            Some(window) if window.is_inside(self.start, self.end) => {
                self.sink.event(position, event);
            }
            Some(window) if window.is_outside(self.start, self.end) => {}
            Some(_) => self.cut += 1,
            // A loss whose time is unknown may lie inside: better told once too often.
            None if matches!(event, Event::Lost { .. }) => self.sink.event(position, event),
            None => self.undated += 1,
        }
    }
}

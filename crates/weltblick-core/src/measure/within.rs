//! Only what happened in a window of time.

use crate::event::{Event, Position, Sink, Statement};

/// Passes on the events of one half-open range of cycles.
#[derive(Debug)]
pub struct Within<S> {
    start: u64,
    end: u64,
    /// Samples that may lie on either side of an edge: passed on to nobody.
    pub cut: u64,
    /// Events without a time: passed on to nobody.
    pub undated: u64,
    /// Bytes were lost before the range ends: its times are at least what they say.
    pub slipped: bool,
    /// Where the others go.
    pub sink: S,
}

impl<S: Sink> Within<S> {
    /// Passes on events from cycle `start` up to but not including `end`.
    pub const fn new(start: u64, end: u64, sink: S) -> Self {
        Self { start, end, cut: 0, undated: 0, slipped: false, sink }
    }

    /// A loss weakens the range unless all of it lies outside; one before it shifts its times.
    fn lost(&mut self, position: Position, event: &Event, has_bytes: bool) {
        let time = position.time;
        self.slipped |= has_bytes && time.is_none_or(|time| time.earliest < self.end);
        if time.is_none_or(|time| !time.is_outside(self.start, self.end)) {
            self.sink.event(position, event);
        }
    }
}

impl<S: Sink> Sink for Within<S> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        if let Event::Lost { why, .. } = event {
            return self.lost(position, event, why.loses_bytes());
        }
        // Who is who holds whenever it was told.
        if let Event::Stated(
            Statement::Named(..) | Statement::Watches { .. } | Statement::OnlyTurns { .. },
        ) = event
        {
            return self.sink.event(Position { time: None, ..position }, event);
        }
        match position.time {
            Some(window) if window.is_inside(self.start, self.end) => {
                self.sink.event(position, event);
            }
            Some(window) if window.is_outside(self.start, self.end) => {}
            Some(_) => self.cut += u64::from(event.is_sample()),
            None => self.undated += 1,
        }
    }
}

//! Which entry of an exception is meant.

use crate::event::{Event, Position, Sink};

/// A sink of events that counts how often an exception was entered before a moment.
#[derive(Debug)]
pub struct EntriesBefore {
    exception: u16,
    moment: u64,
    /// Those before this byte do not count.
    byte: u64,
    count: u64,
    found: bool,
}

impl EntriesBefore {
    /// Before the first entry that may be as late as this cycle.
    #[must_use]
    pub const fn new(exception: u16, moment: u64) -> Self {
        Self { exception, moment, byte: 0, count: 0, found: false }
    }

    /// The same from a byte of the trace on.
    #[must_use]
    pub const fn from_byte(self, byte: u64) -> Self {
        Self { byte, ..self }
    }

    /// How many there were; `None` if none came so late.
    #[must_use]
    pub fn count(&self) -> Option<u64> {
        self.found.then_some(self.count)
    }
}

impl Sink for EntriesBefore {
    fn event(&mut self, position: Position, event: &Event) {
        let is_before = position.offset < self.byte;
        if self.found || is_before || *event != (Event::Entered { exception: self.exception }) {
            return;
        }
        match position.time {
            Some(time) if time.latest >= self.moment => self.found = true,
            _ => self.count += 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::Origin;
    use crate::time::Window;

    #[test]
    fn those_without_a_time_and_those_before_count() {
        let at = |time: Option<u64>| {
            Position::new(
                Origin(0),
                time.unwrap_or(0),
                time.map(|latest| Window { earliest: latest - 5, latest }),
            )
        };
        let mut entries = EntriesBefore::new(16, 48);
        for (time, exception) in [(None, 16), (Some(20), 16), (Some(30), 17), (Some(40), 16)] {
            entries.event(at(time), &Event::Entered { exception });
        }
        entries.event(at(Some(47)), &Event::Left { exception: 16 });
        assert_eq!(entries.count(), None);
        entries.event(at(Some(50)), &Event::Entered { exception: 17 });
        entries.event(at(Some(50)), &Event::Entered { exception: 16 });
        entries.event(at(Some(60)), &Event::Entered { exception: 16 });
        assert_eq!(entries.count(), Some(3));
        let mut later = EntriesBefore::new(16, 48).from_byte(40);
        for time in [None, Some(20), Some(40), Some(50)] {
            later.event(at(time), &Event::Entered { exception: 16 });
        }
        assert_eq!(later.count(), Some(1));
    }
}

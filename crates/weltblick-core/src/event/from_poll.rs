//! Lines of a poll stream to events. Its clock is the host's: cycles are nanoseconds, and every
//! event happened between a request and its answer.

use super::statement::Statement;
use super::vocabulary::{Event, LossReason, Origin, Position, Sink, Value};
use crate::time::Window;
use crate::wire::poll::{self, Record};
use std::ops::Range;

/// Turns one poll origin's lines into events.
#[derive(Debug)]
pub struct PollReader {
    origin: Origin,
    now: Option<u64>,
    /// Bytes of an element, by watch.
    element: Vec<u64>,
}

impl PollReader {
    /// A reader at the start of an origin.
    #[must_use]
    pub const fn new(origin: Origin) -> Self {
        Self { origin, now: None, element: Vec::new() }
    }

    /// The decoder's sink, which hands events on to `sink`.
    pub const fn feeding<'a>(&'a mut self, sink: &'a mut dyn Sink) -> PollEvents<'a> {
        PollEvents { reader: self, sink }
    }

    /// Where something stands that happened at the last known time.
    pub(crate) fn position(&self, offset: u64) -> Position {
        Position::new(self.origin, offset, self.now.map(Window::exact))
    }

    fn at(&mut self, offset: u64, when: (u64, u64)) -> Position {
        let (earliest, latest) = (when.0, when.1.max(when.0));
        self.now = Some(latest);
        Position::new(self.origin, offset, Some(Window { earliest, latest }))
    }

    fn value(
        &mut self,
        offset: u64,
        when: (u64, u64),
        watch: u8,
        bytes: &[u8],
        sink: &mut dyn Sink,
    ) {
        let position = self.at(offset, when);
        let size = self.element.get(usize::from(watch)).copied().unwrap_or(4).clamp(1, 8) as usize;
        for (index, element) in (0..).zip(bytes.chunks(size)) {
            let mut word = [0; 8];
            word[..element.len()].copy_from_slice(element);
            let value = Value { bits: u64::from_le_bytes(word), size: element.len() as u8 };
            let event = Event::Accessed {
                watch,
                code: None,
                address: Some(index),
                value: Some(value),
                access: None,
            };
            sink.event(position, &event);
        }
    }
}

/// A sink for lines; see [`PollReader::feeding`].
pub struct PollEvents<'a> {
    reader: &'a mut PollReader,
    sink: &'a mut dyn Sink,
}

impl poll::Sink for PollEvents<'_> {
    fn record(&mut self, at: Range<u64>, record: Record<'_>) {
        let Self { reader, sink } = self;
        match record {
            Record::Sample { when, pc, .. } => {
                let position = reader.at(at.start, when);
                let event = pc.map_or(Event::Unobservable, |pc| Event::Sample { pc: pc & !1 });
                sink.event(position, &event);
            }
            Record::Name { watch, size, kind, address, name } => {
                let position = reader.position(at.start);
                let name = name.into();
                let watches = Statement::Watches { watch, address, size, kind, name };
                sink.event(position, &Event::Stated(watches));
                let watch = usize::from(watch);
                if reader.element.len() <= watch {
                    reader.element.resize(watch + 1, 4);
                }
                reader.element[watch] = size;
            }
            Record::Value { when, watch, bytes } => {
                reader.value(at.start, when, watch, bytes, *sink)
            }
            Record::Lap { when, lap, cycles } => {
                let position = reader.at(at.start, when);
                sink.event(position, &Event::Lap { lap, cycles });
            }
        }
    }

    fn loss(&mut self, at: Range<u64>) {
        let position = self.reader.position(at.start);
        self.sink.event(position, &Event::Lost { bytes: at, why: LossReason::NoRecord });
    }
}

//! One profile per window of time.

use super::counts::{MOST_ADDRESSES, SampleCounts};
use crate::event::{Event, Position, Sink};
use crate::measure::recording::Recording;
use thiserror::Error;

/// Windows at most, so that memory is bounded.
pub const MOST_WINDOWS: usize = 1000;
/// Distinct addresses of all windows together at most, for the same reason: each takes some
/// hundred bytes.
const MOST_IN_ALL: usize = 400_000;

/// Consecutive profiles, each of the same number of cycles.
#[derive(Debug)]
pub struct Series {
    every: u64,
    windows: Vec<Window>,
    /// The window of the last dated event, which undated losses are taken to belong to.
    current: usize,
    addresses_left: usize,
    /// Bytes were lost: times from here on are at least what they say.
    slipped: bool,
    overflowed: bool,
}

/// One window of a series.
#[derive(Debug, Default)]
pub struct Window {
    /// The cycle at which it starts.
    pub start: u64,
    /// What was sampled in it.
    pub counts: SampleCounts,
    /// What was recorded in it.
    pub recording: Recording,
    /// Samples that may belong to this window or to a later one, or have no time: counted in none.
    pub cut: u64,
}

/// The recording is longer than [`MOST_WINDOWS`] windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("the recording is longer than {MOST_WINDOWS} windows; choose a longer one")]
pub struct TooManyWindows;

impl Series {
    /// Windows of `every` cycles, at least one.
    #[must_use]
    pub fn new(every: u64) -> Self {
        Self {
            every: every.max(1),
            windows: Vec::new(),
            current: 0,
            addresses_left: MOST_IN_ALL,
            slipped: false,
            overflowed: false,
        }
    }

    /// The windows, in order of time.
    ///
    /// # Errors
    ///
    /// If the recording did not fit.
    pub fn windows(&self) -> Result<&[Window], TooManyWindows> {
        if self.overflowed { Err(TooManyWindows) } else { Ok(&self.windows) }
    }

    /// Goes on to a window; the one before is done with, so it takes less memory from now on.
    fn enter(&mut self, index: usize) {
        if index != self.current
            && let Some(left) = self.windows.get_mut(self.current)
        {
            self.addresses_left = self.addresses_left.saturating_sub(left.counts.settle());
        }
        self.current = index;
        while self.windows.len() <= index {
            let counts = SampleCounts::with_most(self.addresses_left.min(MOST_ADDRESSES));
            let start = self.windows.len() as u64 * self.every;
            let mut recording = Recording::default();
            recording.time_slipped = self.slipped;
            self.windows.push(Window { start, counts, recording, cut: 0 });
        }
    }
}

impl Sink for Series {
    fn event(&mut self, position: Position, event: &Event) {
        let lost = matches!(event, Event::Lost { .. });
        let index = match position.time {
            Some(time) => time.earliest / self.every,
            None if lost || event.is_sample() => self.current as u64,
            None => return,
        };
        if index >= MOST_WINDOWS as u64 {
            self.overflowed = true;
            return;
        }
        self.enter(index as usize);
        let inside = position.time.is_some_and(|time| time.latest / self.every == index);
        let window = &mut self.windows[self.current];
        // A loss at an edge weakens the window in which it may have begun.
        if inside || lost {
            window.counts.event(position, event);
            window.recording.event(position, event);
            self.slipped |= window.recording.time_slipped;
        } else {
            window.cut += u64::from(event.is_sample());
        }
    }
}

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
    /// Samples that may belong to either of two windows, or have no time.
    pub cut: u64,
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
            cut: 0,
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
            self.windows.push(Window { start, counts, recording: Recording::default() });
        }
    }
}

impl Sink for Series {
    fn event(&mut self, position: Position, event: &Event) {
        let is_sample = matches!(event, Event::Sample { .. } | Event::Asleep | Event::Unobservable);
        match position.time {
            Some(time) if time.earliest / self.every == time.latest / self.every => {
                let index = time.earliest / self.every;
                if index >= MOST_WINDOWS as u64 {
                    self.overflowed = true;
                    return;
                }
                self.enter(index as usize);
            }
            // A loss at an edge weakens the window that it ends.
            _ if matches!(event, Event::Lost { .. }) => self.enter(self.current),
            _ => {
                self.cut += u64::from(is_sample);
                return;
            }
        }
        let window = &mut self.windows[self.current];
        window.counts.event(position, event);
        window.recording.event(position, event);
    }
}

//! One profile per window of time.

use super::counts::SampleCounts;
use crate::event::{Event, Position, Sink};
use thiserror::Error;

/// Windows at most, so that memory is bounded.
pub const MOST_WINDOWS: usize = 1000;

/// Consecutive profiles, each of the same number of cycles.
#[derive(Debug)]
pub struct Series {
    every: u64,
    windows: Vec<SampleCounts>,
    /// Samples that may belong to either of two windows, or have no time.
    pub cut: u64,
    overflowed: bool,
}

/// The recording is longer than [`MOST_WINDOWS`] windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("the recording is longer than {MOST_WINDOWS} windows; choose a longer one")]
pub struct TooManyWindows;

impl Series {
    /// Windows of `every` cycles, at least one.
    #[must_use]
    pub fn new(every: u64) -> Self {
        Self { every: every.max(1), windows: Vec::new(), cut: 0, overflowed: false }
    }

    /// The windows, each with the cycle at which it starts.
    ///
    /// # Errors
    ///
    /// If the recording did not fit.
    pub fn windows(&self) -> Result<impl Iterator<Item = (u64, &SampleCounts)>, TooManyWindows> {
        if self.overflowed {
            return Err(TooManyWindows);
        }
        Ok((0..).map(|index: u64| index * self.every).zip(&self.windows))
    }
}

impl Sink for Series {
    fn event(&mut self, position: Position, event: &Event) {
        if !matches!(event, Event::Sample { .. } | Event::Asleep | Event::Unobservable) {
            return;
        }
        let Some(window) = position.time else {
            self.cut += 1;
            return;
        };
        let index = window.earliest / self.every;
        if window.latest / self.every != index {
            self.cut += 1;
        } else if index >= MOST_WINDOWS as u64 {
            self.overflowed = true;
        } else {
            let index = index as usize;
            if index >= self.windows.len() {
                self.windows.resize_with(index + 1, SampleCounts::default);
            }
            self.windows[index].event(position, event);
        }
    }
}

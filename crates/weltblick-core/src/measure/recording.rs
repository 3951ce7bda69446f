//! What was recorded: how many samples, over how long, and what is missing.

use super::losses::Losses;
use crate::event::{Event, Position, Sink};

/// Bytes of the shortest packet that is a sample.
const SHORTEST_SAMPLE: u64 = 2;

/// Periods that differ by a smaller part agree.
pub(super) const PERIOD_TOLERANCE: f64 = 0.02;

/// Facts about a recording that every figure states in its head. Times are cycles of the origin's
/// clock.
#[derive(Debug, Clone)]
pub struct Recording {
    /// Ticks of the sampler that found the core running.
    pub running: u64,
    /// Ticks that found it asleep.
    pub asleep: u64,
    /// Ticks at which the core may not be observed.
    pub unobservable: u64,
    /// The earliest time that anything happened; `u64::MAX` before that.
    first: u64,
    /// The latest time that anything happened.
    last: u64,
    /// What is missing.
    pub losses: Losses,
    /// How often nothing was recorded for a while, by choice: the span says nothing of how much of it
    /// was watched.
    pub unwatched: u64,
    /// How often something was left out.
    pub left_out: u64,
    /// Bytes were lost on the way, and time with them: the span is at least what is stated.
    pub time_slipped: bool,
}

impl Default for Recording {
    fn default() -> Self {
        Self {
            running: 0,
            asleep: 0,
            unobservable: 0,
            first: u64::MAX,
            last: 0,
            losses: Losses::default(),
            unwatched: 0,
            left_out: 0,
            time_slipped: false,
        }
    }
}

impl Sink for Recording {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Sample { .. } | Event::Elsewhere => self.running += 1,
            Event::Asleep => self.asleep += 1,
            Event::Unobservable => self.unobservable += 1,
            Event::Lost { ref bytes, why } => {
                self.losses.add(bytes, why);
                self.time_slipped |= why.loses_bytes();
            }
            Event::LeftOut => self.left_out += 1,
            Event::Unwatched => {
                self.unwatched += 1;
                self.time_slipped = true;
            }
            _ => {}
        }
        if let Some(window) = position.time {
            self.first = self.first.min(window.earliest);
            self.last = self.last.max(window.latest);
        }
    }
}

impl Recording {
    /// All ticks of the sampler.
    #[must_use]
    pub const fn samples(&self) -> u64 {
        self.running + self.asleep + self.unobservable
    }

    /// The cycle of the last dated event; `None` without timestamps.
    #[must_use]
    pub fn end(&self) -> Option<u64> {
        (self.first <= self.last).then_some(self.last)
    }

    /// Cycles from the first dated event to the last; `None` without timestamps.
    #[must_use]
    pub fn span(&self) -> Option<u64> {
        self.last.checked_sub(self.first).filter(|&span| span > 0)
    }

    /// Cycles between samples as the timestamps show them; `None` without timestamps, and where not
    /// all of the time was watched.
    #[must_use]
    pub fn measured_period(&self) -> Option<f64> {
        (self.samples() > 1 && self.unwatched == 0)
            .then(|| Some(self.span()? as f64 / self.samples() as f64))?
    }

    /// How many samples are missing at most, given the sampling period in cycles of the timestamp
    /// clock. `Some(0)` without losses; `None` where nothing bounds it.
    ///
    /// What the target dropped shows as time without samples. Of bytes that could not be read, a
    /// sample takes at least two; this trusts that the bytes that arrived are those that were sent.
    #[must_use]
    pub fn missing_samples(&self, period: Option<f64>) -> Option<u64> {
        if self.losses.is_unbounded() {
            return None;
        }
        let unread = self.losses.bytes() / SHORTEST_SAMPLE;
        if self.losses.drops() == 0 {
            return Some(unread);
        }
        // One more: the first and the last event may both stand just beside a sample.
        if self.unwatched > 0 {
            return None;
        }
        let expected = (self.span()? as f64 / period?).ceil() as u64 + 1;
        // More samples than there is time for: the period is not what it is said to be.
        if self.samples() as f64 > expected as f64 * (1.0 + PERIOD_TOLERANCE) {
            return None;
        }
        Some(expected.saturating_sub(self.samples()).saturating_add(unread))
    }
}

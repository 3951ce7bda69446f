//! What is missing from a recording, and where.

use crate::event::LossReason;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::ops::Range;

/// Places kept in full: the first ones, where the cause is usually found.
const MOST_PLACES: usize = 16;

/// Losses by reason, and the first places.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Losses {
    by_reason: BTreeMap<LossReason, Tally>,
    places: Vec<Place>,
    /// Where the connection broke, or a buffer had wrapped, last, until it is known how much could not be read behind that.
    broke_at: Option<u64>,
    behind_breaks: u64,
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Tally {
    count: u64,
    bytes: u64,
}

/// One loss.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The bytes that could not be read; empty for an overflow.
    pub bytes: Range<u64>,
    /// Why.
    pub why: LossReason,
}

/// Losses of one kind, for people and programs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LossRow {
    /// What happened.
    pub reason: String,
    /// How often.
    pub count: u64,
    /// How many bytes could not be read.
    pub bytes: u64,
}

/// A stretch in which something may be missing, in nanoseconds since the trace began.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct GapRow {
    /// Not before this.
    pub from_ns: f64,
    /// Not after this.
    pub until_ns: f64,
}

impl Losses {
    /// Counts one loss.
    pub fn add(&mut self, bytes: &Range<u64>, why: LossReason) {
        if why == LossReason::Shared {
            return;
        }
        let tally = self.by_reason.entry(why).or_default();
        tally.count += 1;
        tally.bytes += bytes.end - bytes.start;
        if matches!(why, LossReason::Disconnected | LossReason::Overwritten) {
            self.broke_at = Some(bytes.start);
        } else if let Some(at) = self.broke_at.filter(|at| (bytes.start..=bytes.end).contains(at)) {
            // Half a packet before the break is a part of it, and so is what comes up to the next synchronisation.
            self.broke_at = Some(at).filter(|at| bytes.end == *at);
            self.behind_breaks += bytes.end - bytes.start;
        }
        if self.places.len() < MOST_PLACES {
            self.places.push(Place { bytes: bytes.clone(), why });
        }
    }

    /// How many losses there are of all kinds.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.by_reason.values().map(|tally| tally.count).sum()
    }

    /// How many bytes could not be read.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.by_reason.values().map(|tally| tally.bytes).sum()
    }

    /// How often the target dropped packets.
    #[must_use]
    pub fn overflows(&self) -> u64 {
        self.of(LossReason::Overflow) + self.of(LossReason::OverflowUntimed)
    }

    /// How often events were dropped, samples perhaps among them, of which no bytes tell.
    #[must_use]
    pub fn drops(&self) -> u64 {
        let mine = self.by_reason.iter().filter(|(why, _)| why.drops_events());
        mine.map(|(_, tally)| tally.count).sum()
    }

    /// How often something was lost for this reason.
    #[must_use]
    pub fn of(&self, why: LossReason) -> u64 {
        self.by_reason.get(&why).map_or(0, |tally| tally.count)
    }

    /// How often something was lost for one of these reasons.
    #[must_use]
    pub fn all_of(&self, is_meant: impl Fn(LossReason) -> bool) -> u64 {
        let mine = self.by_reason.iter().filter(|(why, _)| is_meant(**why));
        mine.map(|(_, tally)| tally.count).sum()
    }

    /// How many bytes could not be read for this reason.
    #[must_use]
    pub fn bytes_of(&self, why: LossReason) -> u64 {
        self.by_reason.get(&why).map_or(0, |tally| tally.bytes)
    }

    /// How many bytes could not be read behind broken connections and overwritten trace, up to the next synchronisation
    /// each.
    #[must_use]
    pub const fn behind_breaks(&self) -> u64 {
        self.behind_breaks
    }

    /// Whether an unknown number of bytes never arrived.
    #[must_use]
    pub fn is_unbounded(&self) -> bool {
        self.by_reason.keys().any(|why| why.is_unbounded())
    }

    /// Whether nothing is known to be missing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.by_reason.is_empty()
    }

    /// The first losses, in order.
    #[must_use]
    pub fn places(&self) -> &[Place] {
        &self.places
    }

    /// One row per reason, most frequent first.
    #[must_use]
    pub fn rows(&self) -> Vec<LossRow> {
        let row = |(why, tally): (&LossReason, &Tally)| LossRow {
            reason: why.describe().to_owned(),
            count: tally.count,
            bytes: tally.bytes,
        };
        let mut rows: Vec<LossRow> = self.by_reason.iter().map(row).collect();
        rows.sort_by_key(|row| std::cmp::Reverse((row.count, row.bytes)));
        rows
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::Malformed;

    #[test]
    fn what_a_break_cut_off_and_what_follows_it_are_a_part_of_it() {
        let mut losses = Losses::default();
        let half = LossReason::Malformed(Malformed::FramingLoss);
        losses.add(&(10..12), half);
        losses.add(&(50..50), LossReason::Disconnected);
        losses.add(&(49..50), half);
        losses.add(&(50..80), half);
        losses.add(&(80..90), half);
        assert_eq!((losses.behind_breaks(), losses.bytes()), (31, 43));
    }
}

//! What is known of a function's share of all time, by an instruction trace: nothing is estimated.

use super::{Executed, KNOW_TIME, LOSE_NOTHING};
use crate::figure::{Absent, Basis, Doubt, Figure, Note, SHARE};
use crate::image::FunctionId;
use crate::measure::execution::{Calls, Named};
use crate::measure::known::Found;
use crate::measure::profile::with_clones;
use crate::stats::Bounds;

impl Executed<'_> {
    /// Whether the instruction trace knows shares, and lost nothing.
    pub(crate) fn tells_shares(&self) -> bool {
        self.knows_all_time() && self.calls.is_some_and(|calls| calls.ticks().is_some())
    }

    /// Whether everything that ran is known, and how long all of it took.
    fn knows_all_time(&self) -> bool {
        self.is_whole() && self.calls.is_some_and(Calls::knows_all_time)
    }

    /// A function's share of all time, without what it calls.
    ///
    /// Time is shared out by instructions between two counts, and bounded by the intervals in which only that
    /// function ran, and in which it ran at all.
    pub(crate) fn share(&self, function: FunctionId) -> Found {
        let no_time = || {
            Absent::new(
                "the instruction trace counts no cycles",
                "count cycles, or turn PC sampling on",
            )
        };
        let calls = self.calls.ok_or_else(no_time)?;
        let all = calls.ticks().filter(|&ticks| ticks > 0).ok_or_else(no_time)? as f64;
        if self.seen.gaps.mismatches > 0 {
            let doubt = Doubt::ImageContradicted;
            return Err(Absent::new(doubt.why(), doubt.advice()));
        }
        if self.seen.gaps.unwatched > 0 {
            return Err(Absent::new(
                "only a part of all code was traced, by choice: a share of that is none of all time",
                "record all of it",
            ));
        }
        let clones = self.image.clones_of(function);
        let (mut instructions, mut time) = calls.tree().own(Named(Some(function)));
        for &clone in &clones {
            let (more, own) = calls.tree().own(Named(Some(clone)));
            instructions += more;
            time.add(own);
        }
        let part = |ticks: u64| (ticks as f64 / all).min(1.0);
        let exact = self.knows_all_time();
        let (bounds, narrows) = match exact {
            true => (Bounds { low: part(time.low), high: part(time.high) }, KNOW_TIME),
            false => (SHARE, LOSE_NOTHING),
        };
        let basis = Basis::Instructions { count: instructions, exact };
        let mut found = Figure::between(part(time.ticks), bounds, u64::MAX, basis);
        found.possible = SHARE;
        found.evidence.narrows = narrows;
        found.evidence.lossy = !exact;
        found.evidence.notes.extend(with_clones(self.image, &clones));
        self.weigh(&mut found);
        Ok(found)
    }

    /// The share of all time in which the core slept.
    pub(crate) fn sleep(&self) -> Found {
        let none = Absent::new(
            "the instruction trace has no times",
            "count cycles, or turn PC sampling on",
        );
        let sleep = self.sleep.ok_or(none)?;
        let none = Absent::new("the instruction trace has no times", "count cycles");
        let [least, most] = sleep.shares().ok_or(none)?;
        let whole = self.knows_all_time();
        let bounds = match whole {
            // Where a clock stands still it slept more, never less.
            true if sleep.may_stand_still() => Bounds { low: least, high: 1.0 },
            true => Bounds { low: least, high: most },
            false => SHARE,
        };
        let instructions = self.calls.map_or(0, Calls::instructions);
        let basis = Basis::Instructions { count: instructions, exact: whole };
        let mut found = Figure::between(most, bounds, u64::MAX, basis);
        found.possible = SHARE;
        found.evidence.narrows = if whole { KNOW_TIME } else { LOSE_NOTHING };
        found.evidence.lossy = !whole;
        found.evidence.notes.push(Note::ByPace);
        if sleep.may_stand_still() {
            found.evidence.notes.push(Note::MayStandStill);
        }
        self.weigh(&mut found);
        Ok(found)
    }
}

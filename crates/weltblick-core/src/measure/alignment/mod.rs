//! How the time of an ITM stands to the cycles that an instruction trace counts.
//!
//! Both count the core's clock, and neither says when it began. Where both tell of exceptions, one place fits
//! what the other saw: the same numbers in the same order, and always as much later. Behind a gap in the
//! instruction trace an unknown time is missing, so every stretch between two gaps has a place of its own.
//! A stretch that fits in several places, as a single periodic interrupt would, has none.

mod lag;
mod search;
#[cfg(test)]
mod tests;
mod witness;

use crate::time::Window;
use lag::Lag;
use search::Search;
use serde::{Deserialize, Serialize};
use witness::Stretch;
pub use witness::Witness;

/// Cycles that the place of a stretch may be in doubt at most.
const WIDEST: i64 = 4096;

/// Where a stretch of the instruction trace lies.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct Place {
    /// The number of the ITM's stretch.
    itm: usize,
    /// How much later the ITM tells what happened.
    lag: Lag,
}

/// A stretch of the instruction trace, or a part of one.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct Piece {
    /// Its first cycle, as the instruction trace counts.
    from: u64,
    /// Its last.
    until: u64,
    place: Option<Place>,
}

/// Where the stretches of an instruction trace lie in the time of an ITM.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Alignment {
    /// What has a place, in order.
    placed: Vec<(Piece, Lag)>,
    /// Stretches that have none.
    pub unplaced: usize,
}

impl Alignment {
    /// Holds both against each other.
    #[must_use]
    pub fn of(itm: &Witness, flow: &Witness) -> Self {
        let mut search = Search::new(itm.stretches());
        let mut pieces = Vec::new();
        match flow.stretches() {
            [only] => place(&mut search, only, true, &mut pieces),
            stretches => {
                for stretch in stretches {
                    place(&mut search, stretch, false, &mut pieces);
                }
            }
        }
        keep_order(&mut pieces);
        fill_between(&mut pieces);
        let mut alignment = Self::default();
        for piece in pieces {
            match piece.place {
                Some(place) => alignment.placed.push((piece, place.lag)),
                None => alignment.unplaced += 1,
            }
        }
        alignment
    }

    /// Whether nothing of the instruction trace has a place.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.placed.is_empty()
    }

    /// When the ITM tells what happened at this time of the instruction trace, in its cycles; `None` where
    /// that has no place.
    #[must_use]
    pub fn to_itm(&self, flow: Window) -> Option<Window> {
        let around = self.around(flow);
        let (first, last) = around.first().zip(around.last())?;
        // It may have happened in a stretch without a place that ends, or begins, there.
        if flow.earliest < first.0.from || last.0.until < flow.latest {
            return None;
        }
        let told = around.iter().map(|(piece, lag)| {
            let inside = |ticks: u64| ticks.clamp(piece.from, piece.until);
            let (earliest, latest) =
                (lag.later(inside(flow.earliest)).0, lag.later(inside(flow.latest)).1);
            Window { earliest, latest }
        });
        told.reduce(|a, b| Window {
            earliest: a.earliest.min(b.earliest),
            latest: a.latest.max(b.latest),
        })
    }

    /// About when the ITM tells what happened at this cycle of the instruction trace, always by the same within a
    /// stretch. At a gap something ends before the missing time, or begins behind it.
    #[must_use]
    pub fn likely(&self, cycle: u64, ends: bool) -> Option<u64> {
        let inside = self.around(Window::exact(cycle));
        let (_, lag) = if ends { inside.first()? } else { inside.last()? };
        Some(lag.likely(cycle))
    }

    /// The stretches that a time of the instruction trace lies in: at a gap that before it, and that behind it.
    fn around(&self, flow: Window) -> &[(Piece, Lag)] {
        let first = self.placed.partition_point(|(piece, _)| piece.until < flow.earliest);
        let after = self.placed.partition_point(|(piece, _)| piece.from <= flow.latest);
        &self.placed[first..after.max(first)]
    }

    /// The first and the last cycle of the instruction trace of which anything may have a place between two ticks
    /// of the ITM, both included; `None` if nothing has.
    #[must_use]
    pub fn between(&self, start: u64, end: u64) -> Option<(u64, u64)> {
        let first = self.placed.partition_point(|(piece, lag)| lag.later(piece.until).1 < start);
        let after = self.placed.partition_point(|(piece, lag)| lag.later(piece.from).0 <= end);
        let around = self.placed.get(first..after)?;
        let ((first, early), (last, late)) = around.first().zip(around.last())?;
        let inside = |piece: &Piece, ticks: u64| ticks.clamp(piece.from, piece.until);
        Some((inside(first, early.sooner(start).0), inside(last, late.sooner(end).1)))
    }

    /// When the instruction trace tells what happened at this time of the ITM, in its cycles; `None` outside
    /// of what has a place.
    #[must_use]
    pub fn to_flow(&self, itm: Window) -> Option<Window> {
        let ends_before = |(piece, lag): &(Piece, Lag)| lag.later(piece.until).1 < itm.earliest;
        let (piece, lag) = self.placed.get(self.placed.partition_point(ends_before))?;
        if lag.later(piece.from).0 > itm.latest {
            return None;
        }
        let inside = |ticks: u64| ticks.clamp(piece.from, piece.until);
        let (earliest, latest) = (lag.sooner(itm.earliest).0, lag.sooner(itm.latest).1);
        Some(Window { earliest: inside(earliest), latest: inside(latest) })
    }
}

/// Places a stretch; where the ITM's time jumps, what of it lies before and after that by itself.
fn place(search: &mut Search<'_>, stretch: &Stretch, is_all: bool, pieces: &mut Vec<Piece>) {
    let Stretch { from, until, ref entered } = *stretch;
    let mut placed = Vec::new();
    let mut left = vec![(0..entered.len(), from, until)];
    let mut whole = if is_all { search.whole(entered) } else { None };
    while let Some((range, mut from, mut until)) = left.pop() {
        let Some(fit) = whole.take().or_else(|| search.best(&entered[range.clone()])) else {
            placed.push(Piece { from, until, place: None });
            continue;
        };
        let begins = range.start + fit.begins;
        if fit.begins > 0 && fit.itm > 0 {
            let at = entered[begins].time.earliest.clamp(from, until);
            left.push((range.start..begins, from, at));
            from = at;
        }
        let ends = range.start + fit.ends;
        if ends < range.end && search.has_more_after(fit.itm) {
            let at = entered[ends - 1].time.latest.clamp(from, until);
            left.push((ends..range.end, at, until));
            until = at;
        }
        // What lies beyond the ITM's own gaps has no place by this.
        let (first, last) = search.reach(fit);
        let (begin, end) = (first.clamp(from, until), last.clamp(from, until));
        placed.push(Piece { from, until: begin, place: None });
        let place = Some(Place { itm: fit.itm, lag: fit.lag });
        placed.push(Piece { from: begin, until: end.max(begin), place });
        placed.push(Piece { from: end.max(begin), until, place: None });
    }
    placed.retain(|piece| piece.place.is_some() || piece.from < piece.until);
    placed.sort_by_key(|piece| (piece.from, piece.until));
    pieces.append(&mut placed);
}

/// Time may be missing behind a gap, and never comes back: of two that say otherwise none has a place.
fn keep_order(pieces: &mut [Piece]) {
    let mut last: Option<usize> = None;
    for at in 0..pieces.len() {
        let Some(now) = pieces[at].place else { continue };
        let before = last.and_then(|last| pieces[last].place);
        if before.is_none_or(|before| before.may_be_before(now)) {
            last = Some(at);
        } else {
            pieces[at].place = None;
            if let Some(last) = last.take() {
                pieces[last].place = None;
            }
        }
    }
}

/// A stretch with too few exceptions lies between its neighbours: that is a place, if it is narrow.
fn fill_between(pieces: &mut [Piece]) {
    let mut last: Option<usize> = None;
    for at in 0..pieces.len() {
        let Some(after) = pieces[at].place else { continue };
        let before = last.replace(at).and_then(|last| Some((last, pieces[last].place?)));
        if let Some((last, before)) = before.filter(|(_, before)| before.itm == after.itm) {
            let lag = Lag::between(before.lag, after.lag);
            let place = (lag.width() <= WIDEST).then_some(Place { itm: after.itm, lag });
            pieces[last + 1..at].iter_mut().for_each(|piece| piece.place = place);
        }
    }
}

impl Place {
    fn may_be_before(self, after: Self) -> bool {
        self.itm < after.itm || (self.itm == after.itm && self.lag.may_be_before(after.lag))
    }
}

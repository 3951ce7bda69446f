//! The way from one place in the code to another, each time that it is gone.
//!
//! Points are passed by the instructions that stand there, before they run. A way belongs to the thread of
//! execution in which it began: what runs in between, interrupts and other tasks, makes it longer and does
//! not end it. A point that is passed deeper in the same call stack begins another way inside of it
//! (recursion); at the same depth it begins it anew. [`Crossings`] may also follow ways *across* threads, from
//! an interrupt to the task that it wakes, say: then there is one at a time.

use super::interval::Clock;
use super::tree::Named;
use crate::flow::Ran;
use crate::stats::{Spread, Ticks};
use rustc_hash::{FxHashMap, FxHashSet};

/// Points of one way at most: one bit each.
pub const MOST_POINTS: usize = 64;
/// Ways that are open at once in one thread, at most.
const MOST_OPEN: usize = 64;
/// Points that a thread passed while it was open which one it is, at most.
const MOST_HELD: usize = 256;

/// A point was passed.
#[derive(Debug, Clone, Copy)]
pub(super) struct Passing {
    /// One bit each: several points may stand at one place.
    pub(super) points: u64,
    pub(super) context: usize,
    /// Calls around it in its context.
    pub(super) depth: usize,
    /// A way that begins here counts, by who called.
    pub(super) counts: bool,
    pub(super) offset: u64,
    /// The stretch in which it lies, and what ran in it before.
    pub(super) stretch: u64,
    pub(super) before: Ran,
    /// The clock at its earliest and at its latest, and its context's own.
    pub(super) at: [Clock; 2],
    pub(super) own: [Clock; 2],
}

/// Who must have called, and who must not, where a way begins.
#[derive(Debug, Clone, Default)]
pub struct Callers {
    /// One of these must be on the stack; anybody may, if there are none.
    pub inside: FxHashSet<Named>,
    /// None of these may.
    pub exclude: FxHashSet<Named>,
}

impl Callers {
    /// Whether these may have called; `None` if that is open, since there may be `more` of them.
    fn take(&self, callers: impl Iterator<Item = Named> + Clone, more: bool) -> Option<bool> {
        let known = |found: bool| if found || !more { Some(found) } else { None };
        let called = |names: &FxHashSet<Named>| callers.clone().any(|name| names.contains(&name));
        let inside = if self.inside.is_empty() { Some(true) } else { known(called(&self.inside)) };
        let excluded =
            if self.exclude.is_empty() { Some(false) } else { known(called(&self.exclude)) };
        match (inside, excluded) {
            (Some(false), _) | (_, Some(true)) => Some(false),
            (Some(true), Some(false)) => Some(true),
            _ => None,
        }
    }
}

/// How long something took, and how many instructions.
#[derive(Debug, Clone)]
pub struct LegFigures {
    /// From one point to the other, in ticks.
    pub elapsed: Spread,
    /// The same without what interrupted it: other threads and handlers.
    pub own: Spread,
    /// Instructions of its own.
    pub instructions: Spread,
}

/// Once the whole way.
#[derive(Debug, Clone, PartialEq)]
pub struct Crossing {
    /// Its number, from 0, by when it ended.
    pub number: u64,
    /// The bytes of the trace that tell where it began, and ended.
    pub from: u64,
    /// The last one.
    pub until: u64,
    /// Ticks at which it began; absent where nothing tells time.
    pub began: Option<Ticks>,
    /// The whole way, then leg by leg.
    pub took: Vec<Took>,
}

/// How long a leg took.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Took {
    /// Ticks; absent where nothing tells time.
    pub elapsed: Option<Ticks>,
    /// Without what interrupted it; absent across threads.
    pub own: Option<Ticks>,
    /// Instructions of its own; of all threads, where it goes across them.
    pub instructions: u64,
}

/// All that went from the first point to the last.
#[derive(Debug, Clone)]
pub struct Crossings {
    /// An address and the point's number.
    places: Vec<(u64, u8)>,
    points: u8,
    across: bool,
    callers: Option<Callers>,
    keep: usize,
    open: FxHashMap<usize, Vec<Vec<Passing>>>,
    /// What threads passed of which it is open which ones they are.
    held: FxHashMap<usize, Vec<Passing>>,
    /// Stretches up to this one contain time that nobody knows.
    pub(super) unknown: u64,
    /// Where the core slept, times rest on how slow code was elsewhere.
    pub by_pace: bool,
    timed: bool,
    /// From the first point to the last.
    pub total: LegFigures,
    /// From each point to the next.
    pub legs: Vec<LegFigures>,
    /// From the first point to each further one.
    pub running: Vec<LegFigures>,
    /// The first of them.
    pub first: Option<Crossing>,
    /// The longest (where nothing tells time: with the most instructions), longest first.
    pub worst: Vec<Crossing>,
    /// How often the first point was passed.
    pub begun: u64,
    /// How often it was begun anew before it had ended, or its handler ended before.
    pub unfinished: u64,
    /// Something on the way is not known.
    pub cut: u64,
    /// Of these, open when the recording ended, and how many ticks the longest of them had lasted.
    pub open_at_end: u64,
    /// Ticks at most.
    pub open_for: u64,
    /// How often the last point was passed by a thread in which no way was open.
    pub strays: u64,
    /// Of those with both ends, how many have no time: a stretch on the way has none.
    pub untimed: u64,
    /// How often the first point was passed where others called than were asked for.
    pub elsewhere: u64,
    /// The same where it is not known who called.
    pub unplaced: u64,
}

impl LegFigures {
    const fn new() -> Self {
        Self { elapsed: Spread::new(true), own: Spread::new(true), instructions: Spread::new(true) }
    }

    fn add(&mut self, took: &Took) {
        took.elapsed.into_iter().for_each(|ticks| self.elapsed.add(ticks));
        took.own.into_iter().for_each(|ticks| self.own.add(ticks));
        self.instructions.add(Ticks::exact(took.instructions));
    }
}

impl Crossings {
    /// Ways through points at these addresses, two to [`MOST_POINTS`]. So many of the longest are kept.
    #[must_use]
    pub fn new(points: &[u64], across: bool, keep: usize) -> Self {
        let places = points.iter().copied().zip(0..MOST_POINTS as u8).collect();
        let legs = || points.iter().skip(1).map(|_| LegFigures::new()).collect();
        Self {
            places,
            points: points.len().min(MOST_POINTS) as u8,
            across,
            callers: None,
            keep,
            open: FxHashMap::default(),
            held: FxHashMap::default(),
            unknown: 0,
            by_pace: false,
            timed: true,
            total: LegFigures::new(),
            legs: legs(),
            running: legs(),
            first: None,
            worst: Vec::new(),
            begun: 0,
            unfinished: 0,
            cut: 0,
            open_at_end: 0,
            open_for: 0,
            strays: 0,
            untimed: 0,
            elsewhere: 0,
            unplaced: 0,
        }
    }

    /// The same; only those ways count that begin where these called.
    #[must_use]
    pub fn called_by(self, callers: Callers) -> Self {
        Self { callers: Some(callers), ..self }
    }

    /// Whether a way that begins with these on the stack counts; there may be `more` of them.
    pub(super) fn counts(
        &mut self,
        points: u64,
        callers: impl Iterator<Item = Named> + Clone,
        more: impl FnOnce() -> bool,
    ) -> bool {
        let Some(wanted) = self.callers.as_ref().filter(|_| points & 1 == 1) else { return true };
        let taken = wanted.take(callers, more());
        self.elsewhere += u64::from(taken == Some(false));
        self.unplaced += u64::from(taken.is_none());
        taken == Some(true)
    }

    pub(super) fn timed(self, timed: bool) -> Self {
        Self { timed, ..self }
    }

    /// Whether anything tells time.
    #[must_use]
    pub const fn is_timed(&self) -> bool {
        self.timed
    }

    /// Whether ways go across threads.
    #[must_use]
    pub const fn goes_across(&self) -> bool {
        self.across
    }

    /// Where points stand.
    pub(super) fn addresses(&self) -> impl Iterator<Item = u64> + '_ {
        self.places.iter().map(|&(address, _)| address)
    }

    /// The points that stand at an address, one bit each.
    #[inline]
    pub(super) fn points_at(&self, address: u64) -> u64 {
        let here = self.places.iter().filter(|&&(at, _)| at == address);
        here.fold(0, |points, &(_, point)| points | 1 << point)
    }

    /// A point was passed; `unsettled`: by a thread of which it is open which one it is.
    pub(super) fn pass(&mut self, passing: Passing, unsettled: bool) {
        if unsettled && !self.across {
            let held = self.held.entry(passing.context).or_default();
            // Too many: what a thread of that kind does is not known any more.
            if held.len() < MOST_HELD {
                held.push(passing);
            } else {
                self.cut += begun(&[passing]);
            }
            return;
        }
        let thread = if self.across { 0 } else { passing.context };
        let mut open = self.open.remove(&thread).unwrap_or_default();
        self.go_on(&mut open, passing);
        if !open.is_empty() {
            self.open.insert(thread, open);
        }
    }

    fn go_on(&mut self, open: &mut Vec<Vec<Passing>>, passing: Passing) {
        let is = |point: usize| passing.points >> point & 1 == 1;
        match open.last_mut() {
            Some(way) if is(way.len()) => {
                way.push(passing);
                if way.len() < usize::from(self.points) {
                    return;
                }
                if let Some(way) = open.pop() {
                    self.conclude(&way);
                }
            }
            None if is(usize::from(self.points) - 1) && !is(0) => self.strays += 1,
            _ => {}
        }
        if is(0) {
            self.begin(open, passing);
        }
    }

    /// The first point: what was begun at this depth or deeper, and did not end, began anew.
    fn begin(&mut self, open: &mut Vec<Vec<Passing>>, passing: Passing) {
        let across = self.across;
        let anew = |way: &Vec<Passing>| across || way[0].depth >= passing.depth;
        while open.last().is_some_and(anew) {
            self.unfinished += open.pop().map_or(0, |way| weight(&way));
        }
        // Too deep: the outermost is not seen to its end.
        if open.len() == MOST_OPEN {
            self.cut += weight(&open.remove(0));
        }
        self.begun += u64::from(passing.counts);
        open.push(vec![passing]);
    }

    /// What a stand-in passed was passed by this context, whose own clock stood there when it began to
    /// stand in.
    pub(super) fn join(&mut self, stand_in: usize, context: usize, own: Clock) {
        for mut passing in self.held.remove(&stand_in).unwrap_or_default() {
            passing.context = context;
            for clock in &mut passing.own {
                clock.low += own.low;
                clock.high += own.high;
                clock.instructions += own.instructions;
            }
            self.pass(passing, false);
        }
    }

    /// A handler ended: what it had begun will not end.
    pub(super) fn end(&mut self, context: usize) {
        if !self.across {
            let open = self.open.remove(&context).unwrap_or_default();
            self.unfinished += open.iter().map(|way| weight(way)).sum::<u64>();
        }
    }

    /// A thread is not followed any more: what it had begun may end, and nobody will know.
    pub(super) fn forget(&mut self, context: usize) {
        let open = self.open.remove(&context).unwrap_or_default();
        let held = self.held.remove(&context).unwrap_or_default();
        self.cut += open.iter().map(|way| weight(way)).sum::<u64>() + begun(&held);
    }

    /// What ran is not known: nothing that is open has an end.
    pub(super) fn lose(&mut self) {
        let open = std::mem::take(&mut self.open).into_values();
        let held = std::mem::take(&mut self.held).into_values();
        self.cut += open.flatten().map(|way| weight(&way)).sum::<u64>();
        // Nobody knows whose these were.
        self.cut += held.map(|held| begun(&held)).sum::<u64>();
    }

    /// The recording ends: what is open then is noted before it is lost.
    pub(super) fn note_open(&mut self, now: Clock) {
        for way in self.open.values().flatten().filter(|way| weight(way) > 0) {
            self.open_at_end += 1;
            self.open_for = self.open_for.max(now.low.saturating_sub(way[0].at[1].high));
        }
    }

    fn conclude(&mut self, way: &[Passing]) {
        let (Some(first), Some(last)) = (way.first(), way.last()) else { return };
        if !first.counts {
            return;
        }
        let total = self.between(first, last);
        self.total.add(&total);
        self.untimed += u64::from(self.timed && total.elapsed.is_none());
        let mut took = vec![total];
        for (place, pair) in way.windows(2).enumerate() {
            let leg = self.between(&pair[0], &pair[1]);
            let since = self.between(first, &pair[1]);
            self.legs[place].add(&leg);
            self.running[place].add(&since);
            took.push(leg);
        }
        let crossing = Crossing {
            number: self.total.instructions.count() - 1,
            from: first.offset,
            until: last.offset,
            began: self.timed.then_some(Ticks { low: first.at[0].low, high: first.at[1].high }),
            took,
        };
        self.remember(&crossing);
        self.first.get_or_insert(crossing);
    }

    fn between(&self, from: &Passing, to: &Passing) -> Took {
        let span = |from: &[Clock; 2], to: &[Clock; 2]| Ticks {
            low: to[0].low.saturating_sub(from[1].low),
            high: to[1].high.saturating_sub(from[0].high),
        };
        let known = self.timed && from.stretch > self.unknown;
        let one_thread = from.context == to.context;
        let elapsed = known.then(|| span(&from.at, &to.at));
        let own = elapsed.filter(|_| one_thread && !self.across).map(|elapsed| {
            let own = span(&from.own, &to.own);
            Ticks { low: own.low.min(elapsed.low), high: own.high.min(elapsed.high) }
        });
        let [from, to] = if one_thread && !self.across {
            [from.own[0].instructions, to.own[0].instructions]
        } else {
            [from.at[0].instructions, to.at[0].instructions]
        };
        Took { elapsed, own, instructions: to.saturating_sub(from) }
    }

    fn remember(&mut self, crossing: &Crossing) {
        let rank = |crossing: &Crossing| {
            let total = crossing.took[0];
            let ticks = total.elapsed.unwrap_or(Ticks::exact(0));
            (ticks.low, ticks.high, total.instructions)
        };
        let at = self.worst.partition_point(|other| rank(other) >= rank(crossing));
        if at < self.keep {
            self.worst.truncate(self.keep - 1);
            self.worst.insert(at, crossing.clone());
        }
    }
}

/// How many ways that count begin with these.
fn begun(passed: &[Passing]) -> u64 {
    passed.iter().map(|passing| passing.points & u64::from(passing.counts)).sum()
}

/// 1 for a way that counts, 0 for another.
fn weight(way: &[Passing]) -> u64 {
    way.first().map_or(0, |first| u64::from(first.counts))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::FunctionId;

    #[test]
    fn callers_that_are_not_known_leave_it_open() {
        let [a, b, c] = [1, 2, 3].map(|number| Named(Some(FunctionId(number))));
        let take = |inside: &[Named], exclude: &[Named], stack: &[Named], more: bool| {
            let set = |names: &[Named]| names.iter().copied().collect();
            let callers = Callers { inside: set(inside), exclude: set(exclude) };
            callers.take(stack.iter().copied(), more)
        };
        assert_eq!(take(&[], &[], &[], true), Some(true));
        assert_eq!(take(&[a], &[], &[a, b], true), Some(true));
        assert_eq!(take(&[a], &[], &[b], false), Some(false));
        assert_eq!(take(&[a], &[], &[b], true), None);
        assert_eq!(take(&[], &[a], &[b], true), None);
        assert_eq!(take(&[], &[a], &[b], false), Some(true));
        assert_eq!(take(&[], &[a], &[a], true), Some(false));
        assert_eq!(take(&[a], &[c], &[a, c], true), Some(false));
        assert_eq!(take(&[a], &[c], &[a, b], true), None);
        assert_eq!(take(&[a], &[c], &[a, b], false), Some(true));
    }
}

//! Where what one source saw fits what another one saw.

use super::lag::{Lag, signed};
use super::witness::{Entered, Stretch};

/// Fewer exceptions fit anywhere.
const FEWEST: usize = 4;
/// What is seen at an end may be missing in the other source.
const ENDS: usize = 2;
/// Places that are remembered at most.
const MOST_FITS: usize = 64;
/// Comparisons in all: beyond that, what is left is told to have no place.
const MOST_COMPARISONS: usize = 1 << 28;

/// A place that fits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Fit {
    /// In which stretch of the ITM.
    pub(super) itm: usize,
    /// How much later the ITM tells it.
    pub(super) lag: Lag,
    /// The first exception that both saw, among those that were looked for.
    pub(super) begins: usize,
    /// The number after the last one.
    pub(super) ends: usize,
    /// Exceptions that both saw.
    matched: usize,
}

/// The best of what fits.
#[derive(Debug, Default)]
struct Fits {
    /// Each with another lag.
    best: Vec<Fit>,
    /// Two places fit for more than half of what is looked for: there is no telling which is right.
    undecided: bool,
}

/// Looks for stretches of an instruction trace in what the ITM saw.
#[derive(Debug)]
pub(super) struct Search<'w> {
    itm: &'w [Stretch],
    comparisons: usize,
}

impl<'w> Search<'w> {
    pub(super) const fn new(itm: &'w [Stretch]) -> Self {
        Self { itm, comparisons: 0 }
    }

    /// Whether the ITM saw anything after this stretch of it.
    pub(super) fn has_more_after(&self, itm: usize) -> bool {
        self.itm.iter().skip(itm + 1).any(|stretch| !stretch.entered.is_empty())
    }

    /// The cycles of the instruction trace that the ITM's stretch reaches over: where no other one follows, or
    /// none was before, as far as anything goes.
    pub(super) fn reach(&self, fit: Fit) -> (u64, u64) {
        let Some(stretch) = self.itm.get(fit.itm) else { return (0, u64::MAX) };
        let first = if fit.itm > 0 { fit.lag.sooner(stretch.from).0 } else { 0 };
        let is_last = fit.itm + 1 == self.itm.len();
        (first, if is_last { u64::MAX } else { fit.lag.sooner(stretch.until).1 })
    }

    /// The place where each saw all that the other one saw, and no gaps: it needs no pattern.
    pub(super) fn whole(&mut self, flow: &[Entered]) -> Option<Fit> {
        let [Stretch { entered, .. }] = self.itm else { return None };
        let (low, high) = (flow.len().min(entered.len()), flow.len().max(entered.len()));
        let fit = (high < low + ENDS).then(|| self.follow(0, flow, [0, 0]))??;
        (fit.matched == low && low > 0).then_some(fit)
    }

    /// The place that fits; `None` where none does, or others do nearly as well.
    pub(super) fn best(&mut self, flow: &[Entered]) -> Option<Fit> {
        if flow.len() < FEWEST {
            return None;
        }
        let mut fits = Fits::default();
        for (number, stretch) in self.itm.iter().enumerate() {
            let told = &stretch.entered;
            // It begins within what the ITM saw, or before that, or where something is missing there.
            let within = (0..told.len()).map(|j| [0, j]);
            let before = (1..flow.len()).flat_map(|i| (0..=ENDS).map(move |j| [i, j]));
            let holes = (0..told.len()).filter(|&j| told[j].after_hole);
            let unseen = holes.flat_map(|j| (1..flow.len()).map(move |i| [i, j]));
            self.try_all(number, flow, within.chain(before).chain(unseen), &mut fits)?;
        }
        // Its first exceptions are missing in the ITM.
        for number in 0..self.itm.len() {
            if fits.best.is_empty() {
                let all = 0..self.itm[number].entered.len();
                let within = all.flat_map(|j| (1..=ENDS.min(flow.len() - 1)).map(move |i| [i, j]));
                self.try_all(number, flow, within, &mut fits)?;
            }
        }
        fits.winner()
    }

    /// Goes along both from each of these starts on; `None` where it is of no use to go on.
    fn try_all(
        &mut self,
        itm: usize,
        flow: &[Entered],
        starts: impl Iterator<Item = [usize; 2]>,
        fits: &mut Fits,
    ) -> Option<()> {
        for starts in starts {
            if self.comparisons > MOST_COMPARISONS || fits.undecided {
                return None;
            }
            fits.offer(self.follow(itm, flow, starts), flow.len());
        }
        Some(())
    }

    /// Goes along both from these two exceptions on, to where one of them ends.
    fn follow(&mut self, itm: usize, flow: &[Entered], [begins, at]: [usize; 2]) -> Option<Fit> {
        let told = self.itm[itm].entered.get(at..)?;
        let (mut i, mut j) = (begins, 0);
        let (mut lag, mut matched, mut ends) = (Lag::ANY, 0, begins);
        while i < flow.len() && j < told.len() {
            self.comparisons += 1;
            let after_hole = matched > 0 && (flow[i].after_hole || told[j].after_hole);
            if after_hole {
                let skip = self.skip(&told[j..], &flow[i..], lag)?;
                (i, j) = (i + skip[0], j + skip[1]);
                if i >= flow.len() || j >= told.len() {
                    break;
                }
            } else if flow[i].exception != told[j].exception
                || !lag.narrow(told[j].time, flow[i].time)
            {
                return None;
            }
            // Behind a hole another one of the same number might be meant: it says nothing of the lag.
            (i, j, matched) = (i + 1, j + 1, matched + 1);
            ends = i;
        }
        (matched > 0).then_some(Fit { itm, lag, begins, ends, matched })
    }

    /// How many of each only one of both saw, where something is missing in the other.
    fn skip(&mut self, told: &[Entered], flow: &[Entered], lag: Lag) -> Option<[usize; 2]> {
        let (may_lack_told, may_lack_flow) = (told[0].after_hole, flow[0].after_hole);
        let (mut i, mut j) = (0, 0);
        while let (Some(ran), Some(said)) = (flow.get(i), told.get(j)) {
            self.comparisons += 1;
            let (low, high) = lag.expected(ran.time);
            let is_before = high < signed(said.time.earliest);
            let is_after = signed(said.time.latest) < low;
            let fits = !is_before && !is_after && ran.exception == said.exception;
            if fits {
                break;
            } else if may_lack_told && !is_after {
                i += 1;
            } else if may_lack_flow && !is_before {
                j += 1;
            } else {
                return None;
            }
        }
        Some([i, j])
    }
}

impl Fits {
    fn offer(&mut self, fit: Option<Fit>, all: usize) {
        let Some(fit) = fit.filter(|fit| fit.matched >= FEWEST) else { return };
        let is_same = |other: &&mut Fit| other.itm == fit.itm && other.lag.is_like(fit.lag);
        if let Some(known) = self.best.iter_mut().find(is_same) {
            if fit.matched > known.matched {
                *known = fit;
            }
            return;
        }
        let is_half = |fit: &Fit| fit.matched * 2 > all;
        let mut others = self.best.iter();
        self.undecided |= is_half(&fit) && others.any(|other| is_half(other) && other.rivals(fit));
        self.best.push(fit);
        if self.best.len() > MOST_FITS {
            self.best.sort_by_key(|fit| std::cmp::Reverse(fit.matched));
            self.best.truncate(MOST_FITS / 2);
        }
    }

    /// The one that fits twice as far as all others.
    fn winner(self) -> Option<Fit> {
        let best = *self.best.iter().max_by_key(|fit| fit.matched)?;
        let rivals = self.best.iter().filter(|other| **other != best && other.rivals(best));
        let second = rivals.map(|other| other.matched).max().unwrap_or(0);
        (second * 2 <= best.matched && !self.undecided).then_some(best)
    }
}

impl Fit {
    /// Whether both are of the same exceptions.
    const fn rivals(self, other: Self) -> bool {
        self.begins < other.ends && other.begins < self.ends
    }
}

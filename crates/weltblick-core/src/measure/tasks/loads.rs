//! Loads over time, window by window, in fixed memory.

use crate::stats::Bounds;

/// Cuts stretches of time into windows of equal length.
#[derive(Debug, Clone, Copy)]
pub(super) struct Windows {
    length: u64,
    /// The number of the window that is being filled.
    at: u64,
    /// Its end.
    end: u64,
    /// Up to where something is known of it.
    until: u64,
    /// Ticks of it of which nothing is known.
    missing: u64,
    state: State,
}

/// What is known of the window that is being filled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// There is none yet.
    None,
    /// It began before the recording.
    Edge,
    /// All of it.
    Whole,
    /// Something is missing.
    Partly,
}

/// What a stretch of time does to the windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cut {
    /// So many ticks belong to the window that is being filled.
    Part(u64),
    /// That window ends.
    Close(Close),
    /// So many windows follow that are filled by this stretch alone; the first begins then.
    Filled(u64, u64),
    /// Of so many windows nothing is known.
    Unseen(u64),
}

/// A window that ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Close {
    /// It began then, and all of it is known.
    Whole(u64),
    /// So many ticks of it are not known.
    Partly(u64),
    /// It began before the recording.
    Edge,
}

impl Windows {
    /// Windows of so many ticks.
    pub(super) const fn new(length: u64) -> Self {
        let length = if length == 0 { 1 } else { length };
        Self { length, at: 0, end: 0, until: 0, missing: 0, state: State::None }
    }

    pub(super) const fn length(&self) -> u64 {
        self.length
    }

    /// Something is missing: the window that is being filled is not whole.
    pub(super) const fn gap(&mut self) {
        if matches!(self.state, State::Whole) {
            self.state = State::Partly;
        }
    }

    /// Mostly a stretch lies within the window that is being filled, and follows the one before it:
    /// then it is a part of that, and there is nothing to cut.
    #[inline]
    pub(super) fn goes_on(&mut self, from: u64, until: u64) -> bool {
        let goes_on = self.until == from && until <= self.end && from <= until;
        if goes_on {
            self.until = until;
        }
        goes_on
    }

    /// Cuts the stretch from one tick to another.
    pub(super) fn cut(&mut self, from: u64, until: u64, mut tell: impl FnMut(Cut)) {
        if self.state == State::None {
            self.open(from / self.length, from);
            if !from.is_multiple_of(self.length) {
                self.state = State::Edge;
            }
        }
        if from > self.until {
            self.miss(from, &mut tell);
        }
        let mut from = from.max(self.until);
        while from < until {
            if from >= self.end {
                self.close(&mut tell);
                self.open(self.at + 1, self.end);
            }
            let full = (until - from) / self.length;
            if from == self.end - self.length && full > 1 && self.state == State::Whole {
                // However long the stretch is: the last of its windows alone is cut in parts.
                tell(Cut::Filled(full - 1, from));
                from += (full - 1) * self.length;
                self.open(self.at + full - 1, from);
                continue;
            }
            let end = self.end.min(until);
            tell(Cut::Part(end - from));
            if end == from {
                return;
            }
            self.until = end;
            from = end;
        }
    }

    /// Nothing is known up to this tick.
    fn miss(&mut self, from: u64, tell: &mut impl FnMut(Cut)) {
        self.skip(from.min(self.end));
        if from >= self.end {
            self.close(tell);
            let at = from / self.length;
            if at > self.at + 1 {
                tell(Cut::Unseen(at - self.at - 1));
            }
            self.open(at, at * self.length);
            self.skip(from);
        }
    }

    /// The same within a window.
    const fn skip(&mut self, until: u64) {
        if until > self.until {
            self.missing += until - self.until;
            self.until = until;
            self.gap();
        }
    }

    const fn open(&mut self, at: u64, from: u64) {
        self.at = at;
        self.end = at.saturating_add(1).saturating_mul(self.length);
        (self.until, self.missing, self.state) = (from, 0, State::Whole);
    }

    fn close(&self, tell: &mut impl FnMut(Cut)) {
        let start = self.end.saturating_sub(self.length);
        tell(Cut::Close(match self.state {
            State::Whole => Close::Whole(start),
            State::Partly => Close::Partly(self.missing),
            State::Edge | State::None => Close::Edge,
        }));
    }
}

/// The loads of one task in windows.
#[derive(Debug, Clone, Copy)]
pub struct Loads {
    busy: u64,
    /// By so much that may be too much or too little: when the task began and ended is known to windows.
    blur: u64,
    /// Windows that are whole.
    pub windows: u64,
    /// The least load of those.
    pub least: f64,
    /// The highest load of those.
    pub most: f64,
    /// The start of the window with the highest load, in ticks.
    pub most_at: u64,
    /// Between what the least load lies, and the highest.
    bounds: [Bounds; 2],
    sum: f64,
    sum_blur: f64,
    /// The others, in which something is missing.
    partly: u64,
    partly_least: f64,
    partly_most: f64,
    partly_sum: Bounds,
}

impl Default for Loads {
    fn default() -> Self {
        Self {
            busy: 0,
            blur: 0,
            windows: 0,
            least: f64::INFINITY,
            most: 0.0,
            most_at: 0,
            bounds: [Bounds::exact(f64::INFINITY), Bounds::exact(0.0)],
            sum: 0.0,
            sum_blur: 0.0,
            partly: 0,
            partly_least: f64::INFINITY,
            partly_most: 0.0,
            partly_sum: Bounds::exact(0.0),
        }
    }
}

impl Loads {
    /// The task ran for so long in the window that is being filled.
    pub(super) const fn ran(&mut self, ticks: u64) {
        self.busy += ticks;
    }

    /// It may have been so many ticks more, or less, in the window that is being filled.
    pub(super) const fn blur(&mut self, ticks: u64) {
        self.blur += ticks;
    }

    /// Windows of this length end, or pass; the task ran in all of them, or in none.
    pub(super) fn cut(&mut self, cut: Cut, length: u64, runs: bool) {
        match cut {
            Cut::Part(_) => {}
            Cut::Filled(windows, start) => {
                self.whole(windows, start, f64::from(u8::from(runs)), 0.0);
            }
            Cut::Unseen(windows) => self.partly(windows, 0.0, 1.0),
            Cut::Close(close) => {
                let busy = std::mem::take(&mut self.busy);
                let blur = std::mem::take(&mut self.blur).min(length);
                let load = |busy: u64| busy as f64 / length as f64;
                match close {
                    Close::Whole(start) => self.whole(1, start, load(busy), load(blur)),
                    Close::Partly(missing) => {
                        let low = load(busy.saturating_sub(blur));
                        self.partly(1, low, load(busy + missing + blur).min(1.0));
                    }
                    Close::Edge => {}
                }
            }
        }
    }

    /// So many windows had one load, from `start` on, or so much more or less.
    fn whole(&mut self, windows: u64, start: u64, load: f64, blur: f64) {
        self.windows += windows;
        self.sum += load * windows as f64;
        self.sum_blur += blur * windows as f64;
        let (low, high) = ((load - blur).max(0.0), (load + blur).min(1.0));
        let [least, most] = &mut self.bounds;
        *least = Bounds { low: least.low.min(low), high: least.high.min(high) };
        *most = Bounds { low: most.low.max(low), high: most.high.max(high) };
        self.least = self.least.min(load);
        if load > self.most {
            (self.most, self.most_at) = (load, start);
        }
    }

    /// So many windows had a load between these.
    fn partly(&mut self, windows: u64, low: f64, high: f64) {
        let many = windows as f64;
        self.partly += windows;
        self.partly_least = self.partly_least.min(low);
        self.partly_most = self.partly_most.max(high);
        self.partly_sum.low += low * many;
        self.partly_sum.high += high * many;
    }

    /// The mean load of whole windows.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        (self.windows > 0).then(|| self.sum / self.windows as f64)
    }

    /// Between what the mean load of all windows lies.
    #[must_use]
    pub fn mean_of_all(&self) -> Bounds {
        let all = (self.windows + self.partly).max(1) as f64;
        let Bounds { low, high } = self.partly_sum;
        let low = (self.sum - self.sum_blur + low) / all;
        Bounds { low: low.max(0.0), high: (self.sum + self.sum_blur + high) / all }
    }

    /// Between what the least load of all windows lies.
    #[must_use]
    pub fn least_of_all(&self) -> Bounds {
        let [least, _] = self.bounds;
        Bounds { low: least.low.min(self.partly_least), ..least }
    }

    /// Between what the highest load of all windows lies.
    #[must_use]
    pub fn most_of_all(&self) -> Bounds {
        let [_, most] = self.bounds;
        Bounds { high: most.high.max(self.partly_most), ..most }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The loads of stretches: from, until, and whether the task ran.
    fn loads(stretches: &[(u64, u64, bool)]) -> Loads {
        let (mut windows, mut loads) = (Windows::new(100), Loads::default());
        for &(from, until, mine) in stretches {
            windows.cut(from, until, |cut| match cut {
                Cut::Part(ticks) if mine => loads.ran(ticks),
                cut => loads.cut(cut, 100, mine),
            });
        }
        loads
    }

    #[test]
    fn only_whole_windows_count() {
        let loads = loads(&[
            (50, 130, true), // the first begins before the recording
            (130, 200, false),
            (200, 260, true),
            (260, 300, false),
            (300, 650, false), // three idle ones, and half of one more
            (650, 651, true),
        ]);
        assert_eq!((loads.windows, loads.least, loads.most, loads.most_at), (5, 0.0, 0.6, 200));
        assert!((loads.mean().unwrap() - 0.18).abs() < 1e-9);
    }

    #[test]
    fn an_endless_stretch_takes_no_endless_time() {
        let loads = loads(&[(0, 1 << 60, true), (1 << 60, (1 << 60) + 100, false)]);
        assert!(loads.windows > 1 << 53 && loads.least < 1.0, "{loads:?}");
    }

    #[test]
    fn what_is_known_to_windows_bounds_a_load() {
        let (mut windows, mut loads) = (Windows::new(100), Loads::default());
        for (from, until, mine, blur) in
            [(0, 40, true, 5), (40, 100, false, 0), (100, 160, true, 0), (160, 201, false, 0)]
        {
            windows.cut(from, until, |cut| match cut {
                Cut::Part(ticks) if mine => loads.ran(ticks),
                cut => loads.cut(cut, 100, mine),
            });
            loads.blur(blur);
        }
        assert_eq!((loads.windows, loads.least, loads.most), (2, 0.4, 0.6));
        let near = |bounds: Bounds, low: f64, high: f64| {
            assert!(
                (bounds.low - low).abs() < 1e-9 && (bounds.high - high).abs() < 1e-9,
                "{bounds:?}"
            );
        };
        near(loads.least_of_all(), 0.35, 0.45);
        near(loads.most_of_all(), 0.6, 0.6);
        near(loads.mean_of_all(), 0.475, 0.525);
    }

    #[test]
    fn a_window_with_a_gap_says_nothing() {
        let loads = loads(&[
            (0, 100, false),
            (100, 150, true),
            (190, 300, true), // 40 ticks are missing before
            (300, 400, false),
            (500, 501, false), // and a whole window here
        ]);
        assert_eq!((loads.windows, loads.least, loads.most), (3, 0.0, 1.0));
        // It bounds what it may have been: the second from 0.6 to 1, the fifth from 0 to 1.
        assert_eq!((loads.least_of_all().low, loads.most_of_all().high), (0.0, 1.0));
        let mean = loads.mean_of_all();
        assert!((mean.low - 1.6 / 5.0).abs() < 1e-9 && (mean.high - 3.0 / 5.0).abs() < 1e-9);
    }

    proptest! {
        /// Any ticks may be missing: the load of every window lies between what is known of it.
        #[test]
        fn what_is_missing_is_bounded(
            ticks in prop::collection::vec((any::<bool>(), 0_u8..8), 200..2000),
            from in 0_usize..100,
        ) {
            let (mut windows, mut loads) = (Windows::new(100), Loads::default());
            for (at, &(mine, dice)) in ticks.iter().enumerate().skip(from) {
                // Half of all cases have no gaps.
                let at = at as u64;
                if dice == 0 && ticks.len() % 2 == 0 {
                    windows.gap();
                    continue;
                }
                windows.cut(at, at + 1, |cut| match cut {
                    Cut::Part(ticks) if mine => loads.ran(ticks),
                    cut => loads.cut(cut, 100, mine),
                });
            }
            let whole = from.div_ceil(100)..(ticks.len() - 1) / 100;
            let truth: Vec<f64> = whole
                .map(|window| {
                    let busy = ticks[window * 100..][..100].iter().filter(|(mine, _)| *mine).count();
                    busy as f64 / 100.0
                })
                .collect();
            let all = loads.windows + loads.partly;
            if all == truth.len() as u64 && all > 0 {
                let most = truth.iter().copied().fold(0.0, f64::max);
                let least = truth.iter().copied().fold(1.0, f64::min);
                let mean = truth.iter().sum::<f64>() / all as f64;
                let bounds = loads.mean_of_all();
                prop_assert!(most <= loads.most_of_all().high + 1e-9 && most >= loads.most - 1e-9);
                prop_assert!(least >= loads.least_of_all().low - 1e-9);
                prop_assert!(bounds.low <= mean + 1e-9 && mean <= bounds.high + 1e-9);
            } else {
                // The first or last ticks are missing: windows there are beside the recording.
                prop_assert!(all < truth.len() as u64 + 1);
            }
        }
    }
}

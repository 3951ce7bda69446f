//! The load of a task in a window that slides over the recording, flush with both of its ends.
//!
//! Over the windows `[x, x + w)` the time in which a task ran is a function of `x` that rises and falls in straight
//! lines. Its extremes lie where a window begins or ends with something that ran, or with the recording: those
//! windows are looked at, and no others. A window is asked once when it ends (`x + w` is an edge), and once when the
//! time comes to which a window reaches that began with an edge.
//!
//! What is known to windows of time, or not at all, counts twice: as if the task had not run (*certain*), and as if it
//! had (*possible*).

use crate::stats::Bounds;
use crate::time::Window;
use std::collections::VecDeque;

/// Edges within one window at most: more bound nothing.
const MOST_EDGES: usize = 1 << 16;

/// The loads of one task.
#[derive(Debug, Clone)]
pub struct Loads {
    certain: Slide,
    /// Absent as long as it is the same.
    possible: Option<Box<Slide>>,
    /// Ticks in which it may have run on another core, unseen: nothing says in which windows.
    elsewhere: u64,
}

/// Loads of one task over all windows of one length, and in all of the recording.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LoadFigures {
    /// How many windows beside each other the recording has; without one there is no extreme.
    pub windows: u64,
    /// The least load that is certain.
    pub least: f64,
    /// The highest load that is certain.
    pub most: f64,
    /// Where the window with the highest load begins, in ticks.
    pub most_at: u64,
    /// In all of the recording, as far as that is certain.
    pub mean: f64,
    /// Between what the least load lies, the mean, and the highest.
    pub bounds: [Bounds; 3],
}

impl Loads {
    /// Nothing ran yet; windows have so many ticks.
    pub(super) fn new(window: u64) -> Self {
        Self { certain: Slide::new(window.max(1)), possible: None, elsewhere: 0 }
    }

    /// The recording begins here.
    pub(super) fn begin(&mut self, start: u64) {
        self.certain.begin(start);
        if let Some(possible) = &mut self.possible {
            possible.begin(start);
        }
    }

    /// The task ran from the one moment to the other.
    pub(super) fn ran(&mut self, from: Window, until: Window) {
        let is_exact = from.earliest == from.latest && until.earliest == until.latest;
        if !is_exact || self.possible.is_some() {
            self.possible().ran(from.earliest, until.latest);
        }
        self.certain.ran(from.latest, until.earliest);
    }

    /// Nothing says who ran from one tick to another.
    pub(super) fn unknown(&mut self, from: u64, until: u64) {
        self.possible().ran(from, until);
    }

    /// It may have run for so many ticks more, at any time.
    pub(super) const fn elsewhere(&mut self, ticks: u64) {
        self.elsewhere = ticks;
    }

    fn possible(&mut self) -> &mut Slide {
        self.possible.get_or_insert_with(|| Box::new(self.certain.clone()))
    }

    /// What is known if the recording ends here.
    #[must_use]
    pub fn at_end(&self, end: u64) -> LoadFigures {
        let certain = self.certain.at_end(end);
        let possible = self.possible.as_ref().map_or(certain, |possible| possible.at_end(end));
        let more = |ticks: u64| self.elsewhere as f64 / ticks.max(1) as f64;
        let (window, all) = (self.certain.window, end.saturating_sub(self.certain.start));
        let between = |low: f64, high: f64| Bounds { low, high: high.max(low).min(1.0) };
        LoadFigures {
            windows: certain.windows,
            least: certain.least,
            most: certain.most,
            most_at: certain.most_at,
            mean: certain.mean,
            bounds: [
                between(certain.least, possible.least.max(certain.least) + more(window)),
                between(certain.mean, possible.mean.max(certain.mean) + more(all)),
                between(certain.most, possible.most.max(certain.most) + more(window)),
            ],
        }
    }
}

/// Where something begins or ends to run.
#[derive(Debug, Clone, Copy)]
struct Edge {
    at: u64,
    /// How many ticks ran before it, from the recording's start on.
    ran: u64,
    /// It runs from here on.
    runs: bool,
}

impl Edge {
    /// How many ticks had run at a later moment before the next edge.
    const fn ran_until(&self, at: u64) -> u64 {
        if self.runs { self.ran + (at - self.at) } else { self.ran }
    }
}

/// Extremes of one window that slides.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Extremes {
    windows: u64,
    least: f64,
    most: f64,
    most_at: u64,
    mean: f64,
}

/// Slides a window over what ran.
#[derive(Debug, Clone)]
struct Slide {
    window: u64,
    start: u64,
    /// What runs, as far as that is known: it may go on.
    open: Option<(u64, u64)>,
    /// Edges that a window may reach, the first of them at or before the beginning of all of these.
    edges: VecDeque<Edge>,
    /// Of these, so many have been the beginning of a window.
    begun: usize,
    least: u64,
    most: u64,
    most_at: u64,
    /// There were too many edges in one window.
    is_coarse: bool,
}

impl Slide {
    const fn new(window: u64) -> Self {
        Self {
            window,
            start: 0,
            open: None,
            edges: VecDeque::new(),
            begun: 0,
            least: u64::MAX,
            most: 0,
            most_at: 0,
            is_coarse: false,
        }
    }

    fn begin(&mut self, start: u64) {
        if self.edges.is_empty() {
            self.start = start;
            self.edges.push_back(Edge { at: start, ran: 0, runs: false });
        }
    }

    fn ran(&mut self, from: u64, until: u64) {
        self.begin(from);
        let reached = self.open.map_or(self.start, |(_, until)| until);
        let from = from.max(reached);
        if until <= from {
            return;
        }
        match &mut self.open {
            Some((_, end)) if *end == from => *end = until,
            _ => {
                self.close();
                self.open = Some((from, until));
            }
        }
    }

    /// What ran has ended for good.
    fn close(&mut self) {
        if let Some((from, until)) = self.open.take() {
            self.edge(from, true);
            self.edge(until, false);
        }
    }

    /// Looks at the windows that end here, and at those that began with an edge and end before.
    fn edge(&mut self, at: u64, runs: bool) {
        let Some(&last) = self.edges.back() else { return };
        while let Some(edge) = self.edges.get(self.begun)
            && let Some(end) = edge.at.checked_add(self.window)
            && end <= at
        {
            let (begin, ran) = (edge.at, last.ran_until(end) - edge.ran);
            self.see(begin, ran);
            self.begun += 1;
        }
        let ran = last.ran_until(at);
        if let Some(begin) = at.checked_sub(self.window).filter(|begin| *begin >= self.start) {
            // What lies before the last edge up to there is reached by no window any more.
            while self.edges.len() > 1 && self.begun > 0 && self.edges[1].at <= begin {
                self.edges.pop_front();
                self.begun -= 1;
            }
            let before = self.edges.front().filter(|edge| edge.at <= begin);
            let before = before.map_or(0, |edge| edge.ran_until(begin));
            self.see(begin, ran - before);
        }
        if self.edges.len() == MOST_EDGES {
            self.is_coarse = true;
            self.edges.pop_front();
            self.begun = self.begun.saturating_sub(1);
        }
        self.edges.push_back(Edge { at, ran, runs });
    }

    const fn see(&mut self, begin: u64, ran: u64) {
        if ran < self.least {
            self.least = ran;
        }
        if ran > self.most {
            (self.most, self.most_at) = (ran, begin);
        }
    }

    fn at_end(&self, end: u64) -> Extremes {
        let mut all = self.clone();
        all.begin(end);
        if let Some((_, until)) = &mut all.open {
            *until = (*until).min(end);
        }
        all.close();
        let end = end.max(all.edges.back().map_or(0, |edge| edge.at));
        all.edge(end, false);
        let length = end - all.start;
        let load = |ticks: u64| ticks as f64 / all.window as f64;
        let ran = all.edges.back().map_or(0, |edge| edge.ran);
        Extremes {
            windows: length / all.window,
            least: if all.is_coarse { 0.0 } else { load(all.least.min(all.window)) },
            most: if all.is_coarse { 1.0 } else { load(all.most) },
            most_at: all.most_at,
            mean: ran as f64 / length.max(1) as f64,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn ran(loads: &mut Loads, from: u64, until: u64) {
        loads.ran(Window::exact(from), Window::exact(until));
    }

    #[test]
    fn a_burst_across_the_border_of_two_windows_counts_whole() {
        let mut loads = Loads::new(100);
        loads.begin(0);
        ran(&mut loads, 175, 225);
        let found = loads.at_end(400);
        assert_eq!((found.windows, found.least, found.most), (4, 0.0, 0.5));
        assert!((125..=175).contains(&found.most_at), "{found:?}");
        assert!((found.mean - 0.125).abs() < 1e-12);
        // One that still runs when the recording ends.
        ran(&mut loads, 330, 400);
        assert_eq!(loads.at_end(400).most, 0.7);
        // Shorter than a window: there is none.
        assert_eq!(Loads::new(1000).at_end(400).windows, 0);
    }

    #[test]
    fn what_is_not_known_may_have_run_or_not() {
        let mut loads = Loads::new(100);
        loads.begin(0);
        ran(&mut loads, 0, 20);
        loads.unknown(20, 60);
        loads.ran(Window { earliest: 60, latest: 70 }, Window { earliest: 80, latest: 90 });
        let [least, mean, most] = loads.at_end(200).bounds;
        assert_eq!(most, Bounds { low: 0.3, high: 0.9 });
        assert_eq!(least, Bounds { low: 0.0, high: 0.0 });
        assert!((mean.low - 0.15).abs() < 1e-12 && (mean.high - 0.45).abs() < 1e-12);
    }

    proptest! {
        /// Every window is looked at, one by one.
        #[test]
        fn extremes_are_those_of_all_windows(
            spells in prop::collection::vec((1_u64..40, any::<bool>()), 1..60),
            window in 1_u64..120,
        ) {
            let (mut loads, mut ticks, mut now) = (Loads::new(window), Vec::new(), 0);
            loads.begin(0);
            for (length, runs) in spells {
                if runs {
                    ran(&mut loads, now, now + length);
                }
                ticks.extend((0..length).map(|_| runs));
                now += length;
            }
            let found = loads.at_end(now);
            prop_assert_eq!(found.windows, now / window);
            if found.windows > 0 {
                let busy = ticks.windows(window as usize).map(|part| part.iter().filter(|t| **t).count());
                let load = |ticks: Option<usize>| ticks.unwrap() as f64 / window as f64;
                prop_assert_eq!(found.most, load(busy.clone().max()));
                prop_assert_eq!(found.least, load(busy.min()));
            }
        }
    }
}

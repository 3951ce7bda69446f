//! Latency of a periodic exception against the grid on which it must have been requested.

use crate::stats::{Grid, Line, Spread, Ticks};
use crate::time::Window;

/// Runs that are fitted together: long enough that some are in time, short enough that the clocks'
/// drift within is small.
const BLOCK: usize = 1024;
/// A pause of more periods than this starts a new grid: whatever paused may begin anew.
const LONGEST_PAUSE: u64 = 8;

/// One run that waits for its grid.
#[derive(Debug, Clone, Copy)]
struct Entry {
    began: Window,
    ended: Window,
    number: u64,
    /// Something was lost since the run before it: between them none is missed.
    after_gap: bool,
}

/// A run, and when it must have been requested at the latest.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Late {
    /// Its number among the runs of its exception.
    pub number: u64,
    /// When it was due.
    pub due: Window,
    /// When it began.
    pub began: Window,
    /// When it ended.
    pub ended: Window,
    /// From the one to the next.
    pub pending: Ticks,
    /// From due to ended.
    pub response: Ticks,
}

/// Runs of one exception, fitted block by block.
#[derive(Debug, Clone)]
pub struct GridFit {
    block: Vec<Entry>,
    after_gap: bool,
    /// Beyond what even the earliest runs waited.
    pub pending: Spread,
    /// The same, to the end of the run.
    pub response: Spread,
    /// Runs that lie on a grid.
    pub fitted: u64,
    /// Runs that do not.
    pub unfitted: u64,
    /// Places on the grids where no run was.
    pub missed: u64,
    /// Sum of periods, weighted by how many runs rest on each; and the first and last of them.
    period_sum: f64,
    ends: Option<(f64, f64)>,
    /// The line of the block before, from this tick on.
    line: Option<(u64, Line)>,
    /// When the last run began that lies on a grid, if no time is missing since.
    last: Option<Window>,
}

impl GridFit {
    /// Nothing seen yet.
    #[must_use]
    pub fn new(percentiles: bool) -> Self {
        Self {
            block: Vec::new(),
            after_gap: false,
            pending: Spread::new(percentiles),
            response: Spread::new(percentiles),
            fitted: 0,
            unfitted: 0,
            missed: 0,
            period_sum: 0.0,
            ends: None,
            line: None,
            last: None,
        }
    }

    /// A run is complete. `late` receives the runs of the block that this one fills.
    #[inline]
    pub fn add(&mut self, number: u64, began: Window, ended: Window, late: impl FnMut(Late)) {
        let after_gap = std::mem::take(&mut self.after_gap);
        self.block.push(Entry { began, ended, number, after_gap });
        if self.block.len() >= BLOCK {
            self.fit_block(late);
        }
    }

    /// Something is missing here, but no time: the grid goes on.
    pub const fn gap(&mut self) {
        self.after_gap = true;
    }

    /// Fits what waits, for time is missing after it: the next grid is a new one.
    pub fn settle(&mut self, late: impl FnMut(Late)) {
        self.fit_block(late);
        self.line = None;
        self.last = None;
    }

    #[inline(never)]
    fn fit_block(&mut self, mut late: impl FnMut(Late)) {
        let block = std::mem::take(&mut self.block);
        let mut rest = block.as_slice();
        while !rest.is_empty() {
            let (part, after) = rest.split_at(until_pause(rest));
            self.fit(part, &mut late);
            rest = after;
        }
        self.block = block;
        self.block.clear();
    }

    /// Fits runs that nothing parts but a period that is set anew: then the rest has a grid of its own.
    fn fit(&mut self, mut entries: &[Entry], late: &mut impl FnMut(Late)) {
        while !entries.is_empty() {
            let covered = self.fit_one(entries, late);
            entries = &entries[covered..];
            if !entries.is_empty() {
                let (turn, after) = entries.split_at(Grid::TURN.min(entries.len()));
                self.off_grid(turn);
                (self.line, self.last) = (None, None);
                entries = after;
            }
        }
    }

    fn off_grid(&mut self, entries: &[Entry]) {
        self.unfitted += entries.len() as u64;
        self.last = entries.last().map(|entry| entry.began);
    }

    /// Fits the first of these runs to a grid, and returns how many.
    fn fit_one(&mut self, entries: &[Entry], late: &mut impl FnMut(Late)) -> usize {
        let first = entries[0].began.earliest;
        let since = |tick: u64| tick.wrapping_sub(first).cast_signed() as f64;
        // No request came after the latest moment at which its run may have begun.
        let times: Vec<f64> = entries.iter().map(|entry| since(entry.began.latest)).collect();
        let before = self.line.take();
        let before = before.map(|(from, line)| Line { origin: line.origin + since(from), ..line });
        let (grid, covered) = Grid::fit_first(&times, before);
        let (entries, times) = (&entries[..covered], &times[..covered]);
        let Some(grid) = grid else {
            self.off_grid(entries);
            return covered;
        };
        let line = grid.line;
        self.line = Some((first, line));
        self.fitted += entries.len() as u64;
        self.period_sum += line.period * entries.len() as f64;
        self.ends = Some((self.ends.map_or(line.period, |(first, _)| first), line.period));
        // The line is as sharp as the sharpest times.
        let width = |entry: &Entry| entry.began.latest - entry.began.earliest;
        let sharp = entries.iter().map(width).min().unwrap_or(0);
        // Of the block before, the last: places between it and the first here are missed as well.
        let reach =
            |last: Window| ((since(last.latest) - line.origin) / line.period).round() as i64;
        let mut place_before = self.last.map(reach);
        self.last = entries.last().map(|entry| entry.began);
        for ((entry, delay), &place) in entries.iter().zip(grid.delays(times)).zip(&grid.places) {
            let before = place_before.replace(i64::from(place)).filter(|_| !entry.after_gap);
            let missed = before.map_or(0, |before| (i64::from(place) - before - 1).max(0));
            self.missed += missed.cast_unsigned();
            let delay = ((delay + 0.5) as i64).cast_unsigned();
            // What was asked for at a place that it missed waited until this run, unless nobody asked.
            let waited = (missed as f64 * line.period) as u64;
            let high = delay.saturating_add(sharp).saturating_add(waited);
            let pending = Ticks { low: delay.saturating_sub(width(entry)), high };
            let length = super::nesting::between(entry.began, entry.ended);
            let response = pending + length;
            self.pending.add(pending);
            self.response.add(response);
            let due = first.saturating_add_signed((line.due(place) + 0.5) as i64);
            let due = Window { earliest: due.saturating_sub(sharp), latest: due };
            let Entry { began, ended, number, .. } = *entry;
            late(Late { number, due, began, ended, pending, response });
        }
        covered
    }

    /// Whether the exception is periodic: most of its runs lie on a grid.
    #[must_use]
    pub const fn is_periodic(&self) -> bool {
        self.fitted > 0 && self.fitted >= 9 * self.unfitted
    }

    /// The mean period of the grids, in ticks.
    #[must_use]
    pub fn period(&self) -> Option<f64> {
        (self.fitted > 0).then(|| self.period_sum / self.fitted as f64)
    }

    /// How much the period changed from the first grid to the last, as a part of it.
    #[must_use]
    pub fn drift(&self) -> Option<f64> {
        self.ends.map(|(first, last)| last / first - 1.0)
    }
}

/// How many entries come before a long pause.
fn until_pause(entries: &[Entry]) -> usize {
    let mut shortest = u64::MAX;
    for (at, pair) in entries.windows(2).enumerate() {
        let interval = pair[1].began.latest.saturating_sub(pair[0].began.latest);
        if at > 0 && interval > shortest.saturating_mul(LONGEST_PAUSE) {
            return at + 1;
        }
        // Late ones shorten single intervals: not below half of the period, mostly.
        shortest = shortest.min(interval.max(1).saturating_mul(2));
    }
    entries.len()
}

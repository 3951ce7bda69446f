//! How regularly each exception is entered: enough to see a clock that is set wrongly. Beside it, where samples fall
//! within what recurs.

use super::phases::Phases;
use crate::event::{Event, Position, Sink};

/// The exception number of SysTick.
const SYSTICK: u16 = 15;
/// Exception numbers of a core: 9 bits.
const EXCEPTIONS: usize = 512;
/// Fewer intervals than this are no cadence.
const FEWEST_INTERVALS: u64 = 16;
/// Intervals between ticks that are looked at together.
const TICKS_IN_ROW: u32 = 16;
/// An interval that is so much longer than another may be one in which a tick is missing.
const MISSING: f64 = 1.5;
/// The largest spread of a periodic interrupt's intervals, relative to their mean.
const MOST_SPREAD: f64 = 0.05;

/// Intervals between entries, per exception.
#[derive(Debug)]
pub struct Cadences {
    entries: Box<[Entries; EXCEPTIONS]>,
    /// How many losses there were: whatever began before the last one is no interval.
    losses: u64,
    /// How regularly SysTick ticks.
    pub ticks: SysTicks,
    /// Where samples fall within what recurs.
    pub phases: Phases,
}

#[derive(Debug, Clone, Copy, Default)]
struct Entries {
    last: Option<u64>,
    /// The last entry, until its handler is left.
    running_since: Option<u64>,
    /// The losses before `last` and `running_since`.
    losses: u64,
    runs: u64,
    run_cycles: u64,
    intervals: u64,
    mean: f64,
    /// Sum of squared deviations from the mean (Welford, Technometrics 4, 1962).
    squares: f64,
}

/// An exception that is entered again and again after the same time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cadence {
    /// The exception.
    pub exception: u16,
    /// Mean cycles between entries.
    pub period: f64,
    /// Standard deviation of the cycles between entries.
    pub spread: f64,
    /// How many intervals were seen.
    pub intervals: u64,
    /// Mean cycles from entry to exit; 0 where no exit was seen.
    pub run: f64,
}

impl Default for Cadences {
    fn default() -> Self {
        Self {
            entries: Box::new([Entries::default(); EXCEPTIONS]),
            losses: 0,
            ticks: SysTicks::default(),
            phases: Phases::default(),
        }
    }
}

impl Sink for Cadences {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.phases.event(position, event);
        self.ticks.event(position, event);
        let now = position.time.map(|window| window.latest);
        match *event {
            Event::Entered { exception } => {
                if let Some(entries) = self.since_loss(exception) {
                    entries.entered(now);
                }
            }
            Event::Left { exception } => {
                if let Some(entries) = self.since_loss(exception) {
                    entries.left(now);
                }
            }
            Event::Lost { .. } => self.losses += 1,
            _ => {}
        }
    }
}

/// How regularly SysTick ticks: enough to see a clock that is stated wrongly, or that changes.
#[derive(Debug, Clone, Copy, Default)]
pub struct SysTicks {
    entries: Entries,
    rows: TickRows,
}

impl Sink for SysTicks {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Entered { exception: SYSTICK } => {
                let interval = self.entries.entered(position.time.map(|window| window.latest));
                self.rows.add(interval);
            }
            Event::Lost { .. } => self.entries.last = None,
            _ => {}
        }
    }
}

impl SysTicks {
    /// The mean time between them, in ticks of the timestamps: of rows in which none can be missing; where there is no
    /// such row, of all.
    #[must_use]
    pub fn period(&self) -> Option<f64> {
        if self.may_lack_some() {
            return self.entries.cadence(SYSTICK).map(|cadence| cadence.period);
        }
        Some(self.rows.whole_sum / self.rows.whole as f64)
    }

    /// Whether ticks may be missing in each row of them: left out in sleep, or lost without a trace.
    #[must_use]
    pub const fn may_lack_some(&self) -> bool {
        self.rows.whole == 0
    }

    /// How often the intervals between them became others, all of them at once.
    #[must_use]
    pub const fn changes(&self) -> u64 {
        self.rows.changes
    }
}

impl Entries {
    fn cadence(&self, exception: u16) -> Option<Cadence> {
        (self.intervals >= FEWEST_INTERVALS).then(|| Cadence {
            exception,
            period: self.mean,
            spread: (self.squares / (self.intervals - 1) as f64).sqrt(),
            intervals: self.intervals,
            run: self.run_cycles as f64 / self.runs.max(1) as f64,
        })
    }

    /// The interval since the entry before, if that is known.
    fn entered(&mut self, now: Option<u64>) -> Option<f64> {
        self.running_since = now;
        let (last, now) = std::mem::replace(&mut self.last, now).zip(now)?;
        let interval = now.saturating_sub(last) as f64;
        self.intervals += 1;
        let off = interval - self.mean;
        self.mean += off / self.intervals as f64;
        self.squares += off * (interval - self.mean);
        Some(interval)
    }

    fn left(&mut self, now: Option<u64>) {
        if let Some((since, now)) = self.running_since.take().zip(now) {
            self.runs += 1;
            self.run_cycles += now.saturating_sub(since);
        }
    }
}

/// Rows of intervals between ticks: a tick whose known period takes other cycles than before has another clock.
#[derive(Debug, Clone, Copy, Default)]
struct TickRows {
    count: u32,
    sum: f64,
    least: f64,
    most: f64,
    /// The mean of the last row in which all were alike.
    before: Option<f64>,
    changes: u64,
    /// Intervals of rows in which none can be missing, and how long they are together.
    whole: u64,
    whole_sum: f64,
}

impl TickRows {
    fn add(&mut self, interval: Option<f64>) {
        let Some(interval) = interval else {
            self.count = 0;
            return;
        };
        if self.count == 0 {
            (self.sum, self.least, self.most) = (0.0, interval, interval);
        }
        self.count += 1;
        self.sum += interval;
        (self.least, self.most) = (self.least.min(interval), self.most.max(interval));
        if self.count == TICKS_IN_ROW {
            self.end_row();
        }
    }

    #[cold]
    fn end_row(&mut self) {
        let count = std::mem::take(&mut self.count);
        let mean = self.sum / f64::from(count);
        // A tick that was left out, or lost without a trace, makes one interval of two.
        if self.most < MISSING * self.least {
            self.whole += u64::from(count);
            self.whole_sum += self.sum;
        }
        // Where some are late, or left out in sleep, the row says nothing.
        if self.most - self.least > MOST_SPREAD * mean {
            return;
        }
        let before = self.before.replace(mean);
        let changed = before.is_some_and(|before| (mean / before - 1.0).abs() > MOST_SPREAD);
        self.changes += u64::from(changed);
    }
}

impl Cadences {
    /// What is known of an exception, without what began before a loss.
    #[inline]
    fn since_loss(&mut self, exception: u16) -> Option<&mut Entries> {
        let losses = self.losses;
        let entries = self.entries.get_mut(usize::from(exception))?;
        if entries.losses != losses {
            *entries = Entries { losses, last: None, running_since: None, ..*entries };
        }
        Some(entries)
    }

    /// The mean time between entries of an exception, periodic or not; in cycles.
    #[must_use]
    pub fn of(&self, exception: u16) -> Option<Cadence> {
        self.entries.get(usize::from(exception))?.cadence(exception)
    }

    /// The exceptions that are periodic, by number.
    #[must_use]
    pub fn periodic(&self) -> Vec<Cadence> {
        (0..EXCEPTIONS as u16)
            .filter_map(|exception| self.of(exception))
            .filter(|cadence| {
                cadence.spread <= MOST_SPREAD * cadence.period && cadence.period > 0.0
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin};
    use crate::time::Window;

    fn enter(cadences: &mut Cadences, cycle: u64) {
        let time = Some(Window::exact(cycle));
        let position = Position::new(Origin(0), 0, time);
        cadences.event(position, &Event::Entered { exception: 15 });
    }

    #[test]
    fn finds_the_period_and_never_across_a_loss() {
        let mut cadences = Cadences::default();
        for tick in 0..50 {
            enter(&mut cadences, tick * 48_000 + tick % 3);
        }
        let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
        cadences.event(Position::new(Origin(0), 0, None), &lost);
        enter(&mut cadences, 1_000_000_000);
        let periodic = cadences.periodic();
        assert_eq!(periodic.len(), 1);
        assert_eq!(periodic[0].intervals, 49);
        assert!((periodic[0].period - 48_000.0).abs() < 1.0);
        assert_eq!(cadences.ticks.changes(), 0);
        assert!((cadences.ticks.period().unwrap() - 48_000.0).abs() < 1.0);
    }

    #[test]
    fn ticks_that_went_missing_without_a_trace_make_no_other_clock() {
        let mut cadences = Cadences::default();
        for tick in (0..400).filter(|tick| tick % 40 != 7) {
            enter(&mut cadences, tick * 48_000);
        }
        assert!((cadences.ticks.period().unwrap() - 48_000.0).abs() < 1.0);
        assert!(!cadences.ticks.may_lack_some());
        // Where some are left out again and again the mean is all that is known.
        let mut asleep = Cadences::default();
        (0..400).filter(|tick| tick % 3 > 0).for_each(|tick| enter(&mut asleep, tick * 48_000));
        assert!(asleep.ticks.may_lack_some() && asleep.ticks.period().unwrap() > 70_000.0);
    }

    #[test]
    fn ticks_that_become_shorter_all_at_once_change_the_clock() {
        let ticks = |periods: &[(u64, u32)]| {
            let (mut cadences, mut now) = (Cadences::default(), 0);
            for &(period, count) in periods {
                for _ in 0..count {
                    now += period;
                    enter(&mut cadences, now);
                }
            }
            cadences.ticks.changes()
        };
        assert_eq!(ticks(&[(48_000, 100), (24_000, 100)]), 1);
        assert_eq!(ticks(&[(48_000, 100), (24_000, 100), (48_000, 100)]), 2);
        // Ticks that are left out while the core sleeps are none: no row of them is alike.
        let asleep: Vec<(u64, u32)> = (1..60).map(|n| (48_000 * (1 + n % 5), 3)).collect();
        assert_eq!(ticks(&asleep), 0);
        // Drift is none, and what waits for another handler.
        assert_eq!(ticks(&[(48_000, 100), (48_400, 100)]), 0);
        assert_eq!(ticks(&[(48_000, 100), (60_000, 1), (36_000, 1), (48_000, 100)]), 0);
    }
}

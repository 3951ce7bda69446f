//! Figures of one signal's values: extremes and when, mean, deviation, steps, rates of change.

use crate::stats::{Bounds, Ticks};
use crate::time::Window;

/// Different values that are kept apart at most.
const MOST_LEVELS: usize = 32;

/// A value, and when it was there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment {
    /// The value.
    pub value: f64,
    /// When.
    pub time: Option<Window>,
}

/// How often a value was there, and for how long.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Level {
    /// The value.
    pub value: f64,
    /// How often.
    pub count: u64,
    /// Ticks until the next value; stretches in which something is missing do not count.
    pub held: Ticks,
}

/// Values, counted.
#[derive(Debug, Clone, Default)]
pub struct Values {
    /// How many numbers.
    pub count: u64,
    /// What is no finite number.
    pub not_finite: u64,
    /// The first.
    pub first: Option<Moment>,
    /// The last.
    pub last: Option<Moment>,
    /// The smallest, where it first was.
    pub min: Option<Moment>,
    /// The largest, where it first was.
    pub max: Option<Moment>,
    /// Largest step upwards from one value to the next, and when it was there.
    pub rise: Option<Moment>,
    /// Largest step downwards, as a positive number.
    pub fall: Option<Moment>,
    /// Fastest change upwards, per tick: at least this.
    pub rise_rate: Option<Moment>,
    /// Fastest change downwards, per tick: at least this.
    pub fall_rate: Option<Moment>,
    /// Few different values, each by itself.
    pub levels: Levels,
    mean: f64,
    squares: f64,
    /// Value times ticks, and ticks, over stretches of which both ends are known.
    held: f64,
    held_ticks: f64,
    /// Steps times how far apart the bounds are between which each came.
    slack: f64,
    /// Nothing is missing since the last value.
    follows: bool,
}

/// Different values, as long as they are few.
#[derive(Debug, Clone, Default)]
pub struct Levels {
    list: Vec<Level>,
    many: bool,
}

impl Levels {
    /// Each, smallest first; nothing where there are many.
    #[must_use]
    pub fn list(&self) -> &[Level] {
        if self.many { &[] } else { &self.list }
    }

    fn of(&mut self, value: f64) -> Option<&mut Level> {
        if self.many {
            return None;
        }
        match self.list.binary_search_by(|level| level.value.total_cmp(&value)) {
            Ok(at) => self.list.get_mut(at),
            Err(_) if self.list.len() == MOST_LEVELS => {
                *self = Self { list: Vec::new(), many: true };
                None
            }
            Err(at) => {
                self.list.insert(at, Level { value, count: 0, held: Ticks::default() });
                self.list.get_mut(at)
            }
        }
    }
}

/// A sum of many values is rounded by no more than this part of their range.
const ROUNDING: f64 = 1e-12;

/// How far apart the bounds of a moment are.
fn width(time: Window) -> f64 {
    (time.latest - time.earliest) as f64
}

/// From the middle of one moment to that of another, so that what lies between adds up.
fn apart(from: Window, to: Window) -> f64 {
    let doubled = |time: Window| i128::from(time.earliest) + i128::from(time.latest);
    (doubled(to) - doubled(from)).max(0) as f64 / 2.0
}

fn raise(best: &mut Option<Moment>, value: f64, time: Option<Window>) {
    if value > 0.0 && best.is_none_or(|best| value > best.value) {
        *best = Some(Moment { value, time });
    }
}

impl Values {
    /// The next value; `since` the one before, where both times are known.
    pub fn add(&mut self, value: f64, time: Option<Window>, since: Option<Ticks>) {
        if !value.is_finite() {
            self.not_finite += 1;
            return;
        }
        // A zero has no sign here.
        let value = value + 0.0;
        let now = Moment { value, time };
        if let (Some(before), true) = (self.last, self.follows) {
            self.changed(before, now, since);
        }
        self.follows = true;
        self.count += 1;
        let off = value - self.mean;
        self.mean += off / self.count as f64;
        self.squares += off * (value - self.mean);
        self.first.get_or_insert(now);
        self.last = Some(now);
        if self.min.is_none_or(|min| value < min.value) {
            self.min = Some(now);
        }
        if self.max.is_none_or(|max| value > max.value) {
            self.max = Some(now);
        }
        if let Some(level) = self.levels.of(value) {
            level.count += 1;
        }
    }

    fn changed(&mut self, before: Moment, now: Moment, since: Option<Ticks>) {
        let step = now.value - before.value;
        self.slack += step.abs() * now.time.map_or(0.0, width);
        raise(&mut self.rise, step, now.time);
        raise(&mut self.fall, -step, now.time);
        let Some(since) = since else { return };
        if since.high > 0 {
            let slowest = since.high as f64;
            raise(&mut self.rise_rate, step / slowest, now.time);
            raise(&mut self.fall_rate, -step / slowest, now.time);
        }
        let ticks = now.time.zip(before.time).map_or(0.0, |(now, before)| apart(before, now));
        self.held += before.value * ticks;
        self.held_ticks += ticks;
        if let Some(level) = self.levels.of(before.value) {
            level.held += since;
        }
    }

    /// Something is missing: what comes next does not follow the last value.
    pub const fn interrupt(&mut self) {
        self.follows = false;
    }

    /// The mean of all values.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then_some(self.mean)
    }

    /// The mean over time up to this moment, at which the recording ends, and between what it lies: the last value holds
    /// until then. Of values without times, the mean of all.
    ///
    /// A step that came some time between two ticks changes the mean by itself times that part of all time; so does
    /// where the first value and the recording end, by the range of values at most.
    #[must_use]
    pub fn mean_until(&self, end: Window) -> Option<(f64, Bounds)> {
        let last = self.last.filter(|_| self.follows);
        let since = last.and_then(|last| Some((last.value, apart(last.time?, end))));
        let (value, ticks) = since.unwrap_or_default();
        let all = self.held_ticks + ticks;
        if all <= 0.0 {
            return self.mean().map(|mean| (mean, Bounds::exact(mean)));
        }
        let mean = (self.held + value * ticks) / all;
        let range = self.max?.value - self.min?.value;
        let edges = width(end) + self.first?.time.map_or(0.0, width);
        let shortest = (all - edges).max(1.0);
        // Sums are rounded, too.
        let off = (self.slack + range * edges) / 2.0 / shortest + range * ROUNDING;
        Some((mean, Bounds { low: mean - off, high: mean + off }))
    }

    /// The standard deviation.
    #[must_use]
    pub fn deviation(&self) -> Option<f64> {
        (self.count > 1).then(|| (self.squares / (self.count - 1) as f64).sqrt())
    }
}

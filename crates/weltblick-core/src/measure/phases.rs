//! Where samples fall within what happens again and again.
//!
//! A sampler that keeps step with the program sees the same moments of it each time, and never the others. So for
//! everything that is recorded to begin again and again (interrupts, tasks, spans), some of the samples are kept with
//! the time since its last beginning, and the number of that. Over its period, and over several of them, that says
//! which phases were never visited: whatever runs then is not seen, or seen too often.
//!
//! The samples that are kept are chosen by chance, with a fixed sequence, each as likely as every other (reservoir
//! sampling with skips: Vitter, ACM TOMS 11, 1985): every `n`th of them might keep step itself.

use crate::event::{Event, Position, Sink, Statement};
use crate::time::Window;

/// Samples that are kept.
const MOST_KEPT: usize = 8192;
/// Subjects that are followed: the first that begin.
const MOST_SUBJECTS: usize = 12;
/// Intervals between beginnings that are kept of each subject.
const MOST_INTERVALS: usize = 511;
/// So often its period is looked for anew, in beginnings.
const PERIOD_EVERY: u64 = 64;
/// Work that is done every so many periods is looked for, at most.
const MOST_PERIODS: u32 = 16;
/// Fewer beginnings show no period.
const FEWEST_BEGINNINGS: u64 = 16;
/// Phases are told apart as far as so many samples are expected in each interval of them.
const EXPECTED: usize = 8;
/// Fewer unvisited intervals in a row are chance.
const FEWEST_UNVISITED: usize = 6;

/// What begins again and again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Recurring {
    /// An exception's handler.
    Exception(u16),
    /// A task, each time that it gets the core.
    Task(u32),
    /// A span.
    Span(u32),
}

/// Samples that keep step with something.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Step {
    /// With what.
    pub with: Recurring,
    /// Its period, in ticks.
    pub period: f64,
    /// They keep step with every so many of its beginnings.
    pub every: u32,
    /// The longest part of that time in which hardly a sample fell, from 0 to 1.
    pub unvisited: f64,
}

#[derive(Debug, Clone)]
struct Subject {
    what: Recurring,
    last: Option<u64>,
    /// Beginnings so far, those among them that may have been lost.
    number: u64,
    /// After a loss some may be missing before the next.
    lost: bool,
    seen: u64,
    /// With the number of the beginning that each follows.
    intervals: Vec<(u32, u32)>,
    /// The median of the intervals, as it was last looked for.
    usual: f64,
}

/// A sample: for each subject the number of its last beginning, and the ticks since then.
type Kept = [(u32, u32); MOST_SUBJECTS];

/// Follows samples and what begins again and again.
#[derive(Debug, Clone)]
pub struct Phases {
    subjects: Vec<Subject>,
    kept: Vec<Kept>,
    samples: u64,
    /// The number of the next sample that is kept.
    next: u64,
    /// The state of a generator of chance (Marsaglia's xorshift, Journal of Statistical Software 8, 2003).
    chance: u64,
}

impl Default for Phases {
    fn default() -> Self {
        Self {
            subjects: Vec::new(),
            kept: Vec::new(),
            samples: 0,
            next: 0,
            chance: 0x9e37_79b9_7f4a_7c15,
        }
    }
}

impl Sink for Phases {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Sample { .. } | Event::Asleep | Event::Elsewhere | Event::Unobservable => {
                if let Some(time) = position.time {
                    self.sample(time);
                }
            }
            Event::Entered { exception } => {
                self.begins(Recurring::Exception(exception), position.time);
            }
            Event::Stated(Statement::Runs { task, .. }) => {
                self.begins(Recurring::Task(task), position.time);
            }
            Event::Stated(Statement::SpanBegan { span }) => {
                self.begins(Recurring::Span(span), position.time);
            }
            Event::Lost { .. } | Event::Unwatched => {
                self.subjects.iter_mut().for_each(|subject| subject.lost = true);
            }
            _ => {}
        }
    }
}

impl Phases {
    #[inline(always)]
    fn sample(&mut self, time: Window) {
        self.samples += 1;
        if self.samples >= self.next {
            self.keep(time);
        }
    }

    /// Keeps a sample, in the place of another if there are enough; where its time is known to a window, somewhere in
    /// that.
    #[inline(never)]
    fn keep(&mut self, time: Window) {
        let width = (time.latest - time.earliest).saturating_add(1);
        let at = time.earliest + (self.draw() >> 8) % width;
        let kept = self.snapshot(at);
        if self.kept.len() < MOST_KEPT {
            self.kept.push(kept);
        } else {
            let place = (self.draw() >> 8) as usize % MOST_KEPT;
            self.kept[place] = kept;
        }
        self.next = self.samples + 1 + self.skipped();
    }

    /// How many samples are passed over until the next is kept: each is with the same chance, that of all that are kept
    /// to be among those so far.
    fn skipped(&mut self) -> u64 {
        if self.kept.len() < MOST_KEPT {
            return 0;
        }
        let chance = MOST_KEPT as f64 / (self.samples + 1) as f64;
        let drawn = ((self.draw() >> 11) as f64 + 0.5) / (1_u64 << 53) as f64;
        (drawn.ln() / (1.0 - chance).ln()) as u64
    }

    fn draw(&mut self) -> u64 {
        self.chance ^= self.chance << 13;
        self.chance ^= self.chance >> 7;
        self.chance ^= self.chance << 17;
        self.chance
    }

    fn snapshot(&self, now: u64) -> Kept {
        let mut kept = [(0, u32::MAX); MOST_SUBJECTS];
        for (kept, subject) in kept.iter_mut().zip(&self.subjects) {
            if let Some(last) = subject.last.filter(|_| !subject.lost) {
                let since = now.saturating_sub(last).min(u64::from(u32::MAX)) as u32;
                *kept = (subject.number as u32, since);
            }
        }
        kept
    }

    #[inline(always)]
    fn begins(&mut self, what: Recurring, time: Option<Window>) {
        let found = self.subjects.iter().position(|subject| subject.what == what);
        let Some(time) = time else { return };
        match found {
            Some(place) => {
                // Whichever comes by chance: every so many would be the same of several periods each time.
                let chance = (self.chance ^ self.samples ^ time.latest)
                    .wrapping_mul(0x9e37_79b9_7f4a_7c15)
                    >> 40;
                self.subjects[place].begins(time.latest, chance);
            }
            None if self.subjects.len() < MOST_SUBJECTS => {
                let last = Some(time.latest);
                let (number, seen, lost) = (0, 1, false);
                let (intervals, usual) = (Vec::new(), 0.0);
                self.subjects.push(Subject { what, last, number, lost, seen, intervals, usual });
            }
            None => {}
        }
    }

    /// What samples keep step with: of each subject the time in which most is unvisited.
    #[must_use]
    pub fn steps(&self) -> Vec<Step> {
        (0..self.subjects.len()).filter_map(|place| self.step(place)).collect()
    }

    fn step(&self, place: usize) -> Option<Step> {
        let subject = &self.subjects[place];
        let period = subject.period().filter(|_| subject.seen >= FEWEST_BEGINNINGS)?;
        let within = self.kept.iter().filter_map(|kept| {
            let (number, since) = kept[place];
            let phase = f64::from(since) / period;
            (phase < 1.0).then_some((number, phase))
        });
        let seen: Vec<(u32, f64)> = within.collect();
        if seen.len() < EXPECTED * 4 {
            return None;
        }
        let most =
            MOST_PERIODS.min((subject.seen / FEWEST_BEGINNINGS).min(1 << 20) as u32 * 2).max(1);
        let unvisited = |every: u32| (every, subject.unvisited(&seen, period, every));
        let (every, unvisited) =
            (1..=most).map(unvisited).fold((1, 0.0), |a, b| if b.1 > a.1 { b } else { a });
        (unvisited > 0.0).then_some(Step { with: subject.what, period, every, unvisited })
    }
}

impl Subject {
    #[inline]
    fn begins(&mut self, now: u64, chance: u64) {
        let interval = self.last.map_or(0, |last| now.saturating_sub(last));
        if std::mem::take(&mut self.lost) {
            // As many as fit: the number must go on as it would have.
            let fit = if self.usual > 0.0 { interval as f64 / self.usual } else { 1.0 };
            self.number += (fit.round() as u64).max(1);
        } else {
            let kept = (self.number as u32, interval.min(u64::from(u32::MAX)) as u32);
            self.number += 1;
            if self.intervals.len() < MOST_INTERVALS {
                self.intervals.push(kept);
            } else if chance & 7 == 0 {
                self.intervals[(chance >> 3) as usize % MOST_INTERVALS] = kept;
            }
        }
        self.seen += 1;
        self.last = Some(now);
        if self.seen.is_multiple_of(PERIOD_EVERY) {
            self.usual = self.period().unwrap_or(0.0);
        }
    }

    /// The median of the intervals between beginnings: pauses leave it as it is.
    fn period(&self) -> Option<f64> {
        let mut intervals: Vec<u32> =
            self.intervals.iter().map(|&(_, interval)| interval).collect();
        let middle = intervals.len() / 2;
        intervals.sort_unstable();
        intervals.get(middle).map(|&period| f64::from(period)).filter(|period| *period > 0.0)
    }

    /// How the time within so many periods is shared out among this many parts of them: intervals that are shorter
    /// than the period do not reach its end.
    fn time_in(&self, period: f64, every: u32, parts: usize) -> Vec<f64> {
        let mut time = vec![0.0; parts];
        // How many intervals more fill a part than the one before: most fill hundreds.
        let mut filled = vec![0_i64; parts + 1];
        let per_period = parts as f64 / f64::from(every);
        for &(number, interval) in &self.intervals {
            let first = f64::from(number % every) * per_period;
            let end = first + (f64::from(interval) / period).min(1.0) * per_period;
            let parts = first as usize..(end.ceil() as usize).min(parts);
            let Some(last) = parts.clone().next_back() else { continue };
            time[parts.start] += end.min(parts.start as f64 + 1.0) - first;
            if last > parts.start {
                time[last] += end.min(last as f64 + 1.0) - last as f64;
                filled[parts.start + 1] += 1;
                filled[last] -= 1;
            }
        }
        let mut whole = 0;
        for (part, more) in time.iter_mut().zip(filled) {
            whole += more;
            *part += whole as f64;
        }
        let all: f64 = time.iter().sum();
        time.iter_mut().for_each(|part| *part /= all.max(f64::MIN_POSITIVE));
        time
    }

    /// The longest part of the time in so many periods in which hardly a sample fell, if that is no chance. Of each
    /// sample: the number of the beginning that it follows, and how much of a period later it is.
    fn unvisited(&self, seen: &[(u32, f64)], period: f64, every: u32) -> f64 {
        let parts = (seen.len() / EXPECTED).max(4);
        let per_period = parts as f64 / f64::from(every);
        let mut counts = vec![0_usize; parts];
        for &(number, phase) in seen {
            let part = (f64::from(number % every) + phase) * per_period;
            counts[(part as usize).min(parts - 1)] += 1;
        }
        let time = self.time_in(period, every, parts);
        // A quarter of what is expected is a visit: single samples from another time are none.
        let is_visited = |part: usize| {
            let expected = time[part] * seen.len() as f64;
            counts[part] as f64 >= (expected / 4.0).max(f64::from(u8::from(expected > 1.0)))
        };
        // Where hardly any time is spent nothing is expected.
        let is_spent = |part: &usize| time[*part] * parts as f64 > 0.5;
        let Some(first) = (0..parts).find(|&part| is_visited(part) && is_spent(&part)) else {
            return 1.0;
        };
        let (mut run, mut length, mut longest) = (0, 0.0, 0.0_f64);
        for part in (0..parts).map(|at| (first + at) % parts).filter(is_spent) {
            (run, length) =
                if is_visited(part) { (0, 0.0) } else { (run + 1, length + time[part]) };
            if run >= FEWEST_UNVISITED {
                longest = longest.max(length);
            }
        }
        longest
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::Origin;

    fn steps(tick: impl Fn(u64) -> u64, ticks: u64, sampling: u64) -> Vec<Step> {
        let mut phases = Phases::default();
        let mut events: Vec<(u64, Event)> =
            (0..ticks).map(|n| (tick(n), Event::Entered { exception: 15 })).collect();
        let end = events.last().unwrap().0;
        events.extend((1..end / sampling).map(|n| (n * sampling + 5, Event::Asleep)));
        events.sort_by_key(|(time, _)| *time);
        for (time, event) in events {
            let time = Some(Window::exact(time));
            phases.event(Position::new(Origin(0), 0, time), &event);
        }
        phases.steps()
    }

    fn worst(steps: &[Step]) -> f64 {
        steps.iter().map(|step| step.unvisited).fold(0.0, f64::max)
    }

    #[test]
    fn samples_that_keep_step_visit_few_phases() {
        assert!(worst(&steps(|n| n * 16_384, 8000, 16_384)) > 0.95, "exactly");
        let sweep = worst(&steps(|n| n * 16_385, 8000, 16_384));
        assert!((0.4..0.6).contains(&sweep), "sweeps half: {sweep}");
        let paused = |n: u64| n * 16_384 + u64::from(n > 4000) * 3000 * 16_384;
        assert!(worst(&steps(paused, 8000, 16_384)) > 0.95, "one pause");
        let jitter = |n: u64| n * 16_384 + n.wrapping_mul(0x9e37_79b9_7f4a_7c15) % 1600;
        assert!(worst(&steps(jitter, 8000, 16_384)) > 0.8, "jitter");
        // Three ticks of 64000 are 62.5 samples: 125 places.
        let third = steps(|n| n * 64_000, 8000, 3072);
        assert!((0.006..0.02).contains(&worst(&third)), "{third:?}");
    }

    #[test]
    fn samples_at_other_times_visit_all() {
        for sampling in [1021, 16_411, 7919] {
            let found = steps(|n| n * 48_000, 20_000, sampling);
            assert!(worst(&found) < 0.01, "{found:?}");
        }
        // A pause of two seconds among few pulses is no step.
        let pulses = |n: u64| n * 4_800_000 + u64::from(n > 9) * 96_000_000;
        assert!(worst(&steps(pulses, 20, 1021)) < 0.01);
    }
}

//! What was recorded: how many samples, over how long, and what is missing.

use super::interrupts::InterruptNames;
use super::losses::Losses;
use crate::event::CoreSet;
use crate::event::{ClockFault, Event, LossReason, Position, Sink};
use crate::stats::Ticks;
use crate::time::Window;

/// Bytes of the shortest packet that is a sample.
const SHORTEST_SAMPLE: u64 = 2;

/// No sampler is off by such a factor: whatever it is compared with is wrong.
const WRONG: f64 = 1.5;

/// Periods that differ by a smaller part agree.
pub(super) const PERIOD_TOLERANCE: f64 = 0.02;

/// Facts about a recording that every figure states in its head. Times are cycles of the origin's
/// clock.
#[derive(Debug, Clone)]
pub struct Recording {
    /// Ticks of the sampler that found the core running.
    pub running: u64,
    /// Ticks that found it asleep.
    pub asleep: u64,
    /// Ticks at which the core may not be observed.
    pub unobservable: u64,
    /// The earliest time that anything happened; `u64::MAX` before that.
    first: u64,
    /// Not later than this anything happened first; `u64::MAX` before that.
    first_latest: u64,
    /// The latest time that anything happened.
    last: u64,
    /// Not earlier than this anything happened last.
    last_earliest: u64,
    /// What is missing.
    pub losses: Losses,
    /// How often nothing was recorded for a while, by choice: the span says nothing of how much of it
    /// was watched.
    pub unwatched: u64,
    /// How often something was left out.
    pub left_out: u64,
    /// Bytes were lost on the way, and time with them: the span is at least what is stated.
    pub time_slipped: bool,
    /// It may be a recording of several cores, and nothing says which event is whose.
    pub several_cores: bool,
    /// The cores of which it is.
    cores: CoreSet,
    /// When each of them had events; empty where all are of core 0.
    watches: Vec<(u8, Watch)>,
    /// Of these, the cores that were sampled.
    sampled: CoreSet,
    /// What it calls interrupts.
    pub interrupt_names: InterruptNames,
    /// How often ticks were found not to be of one length, by reason.
    clock_faults: [u64; ClockFault::ALL.len()],
    /// Where the first and the last of them were, in ticks.
    faults_within: [Option<[u64; 2]>; ClockFault::ALL.len()],
    /// Bytes that could not be read before the first moment, and behind the last: of nothing that was recorded.
    unread_beside: u64,
    /// Of these, before the first moment.
    head: u64,
    /// The tick of the last sample, if nothing was lost since; `u64::MAX`: none.
    last_sample: u64,
    /// The fewest ticks from one sample to the next.
    closest: u64,
}

/// When a core had events.
#[derive(Debug, Clone, Copy)]
struct Watch {
    /// Not later than this the first.
    first: u64,
    /// Not earlier than this the last.
    last: u64,
    /// The longest from one to the next.
    silent: u64,
    /// Something is missing behind the last.
    lost: bool,
}

impl Default for Recording {
    fn default() -> Self {
        Self {
            running: 0,
            asleep: 0,
            unobservable: 0,
            first: u64::MAX,
            first_latest: u64::MAX,
            last: 0,
            last_earliest: 0,
            losses: Losses::default(),
            unwatched: 0,
            left_out: 0,
            time_slipped: false,
            several_cores: false,
            cores: CoreSet::default(),
            watches: Vec::new(),
            sampled: CoreSet::default(),
            interrupt_names: InterruptNames::default(),
            clock_faults: [0; ClockFault::ALL.len()],
            faults_within: [None; ClockFault::ALL.len()],
            unread_beside: 0,
            head: 0,
            last_sample: u64::MAX,
            closest: u64::MAX,
        }
    }
}

impl Sink for Recording {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.cores.add(position.core);
        if position.core != 0 || !self.watches.is_empty() {
            self.watch(position, event);
        }
        match *event {
            Event::Sample { .. } | Event::Elsewhere => {
                self.running += 1;
                self.sampled(position);
            }
            Event::Asleep => {
                self.asleep += 1;
                self.sampled(position);
            }
            Event::Unobservable => {
                self.unobservable += 1;
                self.sampled(position);
            }
            Event::Lost { ref bytes, why } => {
                self.last_sample = u64::MAX;
                self.losses.add(bytes, why);
                if self.first == u64::MAX || why.is_end() {
                    self.unread_beside += bytes.end - bytes.start;
                }
                // An instruction trace has a head of its own.
                if self.first == u64::MAX && !why.is_end() && why != LossReason::FlowGap {
                    self.head += bytes.end - bytes.start;
                }
                // Before the first moment there is no time that could be lost: the recording begins with it.
                self.time_slipped |= why.loses_bytes() && !why.is_end() && self.first != u64::MAX;
            }
            Event::LeftOut => self.left_out += 1,
            Event::SeveralCores => self.several_cores = true,
            Event::Stated(_) => self.interrupt_names.event(position, event),
            Event::ClockFault(fault) => self.clock_fault(position, fault),
            Event::Unwatched => {
                self.unwatched += 1;
                self.time_slipped = true;
            }
            _ => {}
        }
        if let Some(window) = position.time {
            self.first = self.first.min(window.earliest);
            self.first_latest = self.first_latest.min(window.latest);
            self.last = self.last.max(window.latest);
            self.last_earliest = self.last_earliest.max(window.earliest);
        }
    }
}

impl Recording {
    /// A sample; the time since the one before, where both are known to the tick.
    #[inline(always)]
    fn sampled(&mut self, position: Position) {
        self.sampled.add(position.core);
        let Some(time) = position.time else { return };
        let apart = time.earliest.wrapping_sub(self.last_sample);
        if self.last_sample != u64::MAX && apart < self.closest && time.earliest > self.last_sample
        {
            self.closest = apart;
        }
        self.last_sample = time.latest;
    }

    /// An event of one of several cores.
    #[inline(never)]
    fn watch(&mut self, Position { core, time, .. }: Position, event: &Event) {
        if self.watches.is_empty() && self.first != u64::MAX {
            let (first, last) = (self.first_latest, self.last_earliest);
            self.watches.push((0, Watch { first, last, silent: 0, lost: false }));
        }
        let lost = matches!(event, Event::Lost { .. } | Event::Unwatched);
        let place = self.watches.iter().position(|(of, _)| *of == core);
        match (place, time) {
            (Some(place), time) => {
                let watch = &mut self.watches[place].1;
                watch.lost = lost;
                if let Some(now) = time {
                    watch.silent = watch.silent.max(now.latest.saturating_sub(watch.last));
                    watch.last = watch.last.max(now.earliest);
                }
            }
            (None, Some(now)) => {
                let watch = Watch { first: now.latest, last: now.earliest, silent: 0, lost };
                self.watches.push((core, watch));
            }
            (None, None) => {}
        }
    }

    /// Cores without any event at the beginning or the end of the recording for longer than ever between two of theirs:
    /// nothing says that they were recorded then. From when to when, in ticks.
    pub fn silent_cores(&self) -> impl Iterator<Item = (u8, [u64; 2])> + '_ {
        let (start, end) = (self.first_latest, self.last_earliest);
        let several = self.watches.len() > 1;
        self.watches.iter().filter(move |_| several).flat_map(move |(core, watch)| {
            let Watch { first, last, silent, lost } = *watch;
            let head = Some([start, first]).filter(|_| first.saturating_sub(start) > silent);
            // Where something is known to be missing that is said already.
            let tail = Some([last, end]).filter(|_| !lost && end.saturating_sub(last) > silent);
            head.into_iter().chain(tail).map(|interval| (*core, interval))
        })
    }

    /// How many cores were recorded.
    #[must_use]
    pub fn cores(&self) -> u32 {
        self.cores.count().max(1)
    }

    /// How many cores were sampled: shares of several together are shares of nothing.
    #[must_use]
    pub fn sampled_cores(&self) -> u32 {
        self.sampled.count()
    }

    /// The number of a core, where there are several.
    #[must_use]
    pub fn core(&self, core: u8) -> Option<u8> {
        (self.cores() > 1).then_some(core)
    }

    /// All ticks of the sampler.
    #[must_use]
    pub const fn samples(&self) -> u64 {
        self.running + self.asleep + self.unobservable
    }

    #[cold]
    fn clock_fault(&mut self, position: Position, fault: ClockFault) {
        self.clock_faults[fault as usize] += 1;
        if let Some(time) = position.time {
            let within = &mut self.faults_within[fault as usize];
            let [from, until] = within.unwrap_or([time.earliest, time.latest]);
            *within = Some([from.min(time.earliest), until.max(time.latest)]);
        }
    }

    /// Where the first and the last such fault of the clock were, in ticks, as far as they have times.
    #[must_use]
    pub const fn faults_within(&self, fault: ClockFault) -> Option<[u64; 2]> {
        self.faults_within[fault as usize]
    }

    /// How often ticks were found not to be of one length, for this reason.
    #[must_use]
    pub const fn clock_faults(&self, fault: ClockFault) -> u64 {
        self.clock_faults[fault as usize]
    }

    /// Whether ticks are of one length, as far as anything says.
    #[must_use]
    pub fn has_one_clock(&self) -> bool {
        self.clock_faults.iter().all(|&times| times == 0)
    }

    /// Bytes that could not be read before the first moment; 0 without timestamps.
    #[must_use]
    pub const fn head(&self) -> u64 {
        if self.first == u64::MAX { 0 } else { self.head }
    }

    /// The cycle of the last dated event; `None` without timestamps.
    #[must_use]
    pub fn end(&self) -> Option<u64> {
        (self.first <= self.last).then_some(self.last)
    }

    /// When the last event was, as far as that is known; `None` without timestamps.
    #[must_use]
    pub fn last_moment(&self) -> Option<Window> {
        self.end().map(|latest| Window { earliest: self.last_earliest.min(latest), latest })
    }

    /// Between what the time from the first event to the last lies; `None` without timestamps.
    #[must_use]
    pub fn span_between(&self) -> Option<Ticks> {
        let high = self.span()?;
        Some(Ticks { low: self.last_earliest.saturating_sub(self.first_latest), high })
    }

    /// Cycles from the first dated event to the last; `None` without timestamps.
    #[must_use]
    pub fn span(&self) -> Option<u64> {
        self.last.checked_sub(self.first).filter(|&span| span > 0)
    }

    /// Cycles between samples as the timestamps show them; `None` without timestamps, and where not
    /// all of the time was watched.
    #[must_use]
    pub fn measured_period(&self) -> Option<f64> {
        (self.samples() > 1 && self.unwatched == 0)
            .then(|| Some(self.span()? as f64 / self.samples() as f64))?
    }

    /// Ticks from sample to sample: as stated, unless there are more samples than that leaves time for; else the
    /// fewest that were seen. `None` without timestamps.
    fn cover(&self, stated: Option<f64>) -> Option<f64> {
        let span = self.span()? as f64;
        let fits = |period: &f64| {
            let expected = span / period + 1.0;
            self.time_slipped || self.samples() as f64 <= expected * (1.0 + PERIOD_TOLERANCE)
        };
        let seen = || (self.closest != u64::MAX).then_some(self.closest as f64);
        stated.filter(|period| *period > 0.0).filter(fits).or_else(seen)
    }

    /// By what factor samples lie farther apart than a period in ticks of the timestamp clock, where not even the closest
    /// two are about so far apart, or more came than the time has room for: then the period is wrong, or the ticks are.
    #[must_use]
    pub fn contradicts_period(&self, stated: f64) -> Option<f64> {
        let closest = (self.closest != u64::MAX).then_some(self.closest as f64 / stated);
        let span = self.span()? as f64;
        let room = span / stated + 1.0;
        let crowded = !self.time_slipped && self.samples() as f64 > WRONG * room;
        let apart = closest.filter(|closest| *closest > WRONG);
        apart.or_else(|| crowded.then(|| room / self.samples() as f64))
    }

    /// How many samples more the time from the first event to the last has room for, given the sampling period in
    /// ticks of the timestamp clock: time that no sample covers.
    #[must_use]
    pub fn uncovered(&self, stated: Option<f64>) -> Option<u64> {
        let expected = self.span()? as f64 / self.cover(stated)?;
        Some((expected as u64).saturating_sub(self.samples()))
    }

    /// How many samples are missing at most, given the sampling period in ticks of the timestamp clock.
    /// `None` where nothing bounds it.
    ///
    /// What the target dropped, and what the sampler did not see, shows as time without samples. Of bytes that could
    /// not be read, a sample takes at least two; this trusts that the sampler went on meanwhile, as it did elsewhere.
    /// Where it did not, or packets were dropped, too, the time that was lost with the bytes may be anything.
    #[must_use]
    pub fn missing_samples(&self, stated: Option<f64>) -> Option<u64> {
        if self.losses.is_unbounded() || self.unwatched > 0 {
            return None;
        }
        // Without any times, what could not be read first counts as the rest does.
        let before = if self.first == u64::MAX { 0 } else { self.unread_beside };
        let unread = (self.losses.bytes() - before) / SHORTEST_SAMPLE;
        let drops = self.losses.drops() > 0;
        let Some(uncovered) = self.uncovered(stated) else {
            // Without timestamps there is no time to be covered.
            return (!drops && self.span().is_none()).then_some(unread);
        };
        let pauses = uncovered > 1 + self.samples() / 1000;
        if self.time_slipped && (drops || pauses) {
            return None;
        }
        if !drops {
            return Some(uncovered.saturating_add(unread));
        }
        // One more: the first and the last event may both stand just beside a sample.
        let expected = (self.span()? as f64 / self.cover(stated)?).ceil() as u64 + 1;
        Some(expected.saturating_sub(self.samples()).saturating_add(unread))
    }
}

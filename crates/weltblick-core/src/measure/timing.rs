//! A recording and its clocks together: periods, durations, and what is missing.

use super::cadence::SysTicks;
use super::duration::Duration;
use super::recording::{PERIOD_TOLERANCE, Recording};
use crate::capture::{Manifest, Protocol, SourceSpec};
use crate::event::ClockFault;
use crate::figure::{Doubt, Interval};
use crate::time::Frequency;

/// What a capture says of its clocks; whatever it does not say is absent.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Clocks {
    /// Core cycles between samples.
    pub stated_period: Option<u64>,
    /// The core clock.
    pub core_clock: Option<Frequency>,
    /// The clock of the timestamps.
    pub timestamp_clock: Option<Frequency>,
    /// The known period of the tick interrupt.
    pub tick_period: Option<std::time::Duration>,
}

/// Fewer samples contradict no period.
const FEWEST_SAMPLES: u64 = 32;
/// A clock is contradicted beyond this relative difference.
const CLOCK_TOLERANCE: f64 = 0.01;

/// The host's clock, which dates polls: nanoseconds.
pub const HOST_CLOCK: f64 = 1e9;

impl Clocks {
    /// Of the source whose samples count.
    #[must_use]
    pub fn of(manifest: &Manifest) -> Self {
        let core_clock = manifest.target.core_clock;
        let itm = manifest.itm();
        let timestamp_clock = match (manifest.polled(), manifest.event_trace()) {
            (Some(_), _) => Frequency::from_hertz(HOST_CLOCK),
            (None, Some(events)) => events.clock,
            (None, None) => match itm {
                Some(itm) => itm.timestamp_clock.or(core_clock),
                None => manifest.flow_clock(),
            },
        };
        let stated_period = match manifest.event_trace() {
            Some(events) => events.pc_sample_period,
            None => itm.and_then(|itm| itm.pc_sample_period),
        };
        let tick_period = manifest.target.tick_period;
        Self { stated_period, core_clock, timestamp_clock, tick_period }
    }

    /// Ticks of the timestamps in a core cycle.
    #[must_use]
    pub fn ticks_per_cycle(&self) -> f64 {
        match (self.core_clock, self.timestamp_clock) {
            (Some(core), Some(stamp)) => stamp.hertz() / core.hertz(),
            _ => 1.0,
        }
    }
}

/// A recording of one source, seen through its clocks.
#[derive(Debug, Clone, Copy)]
pub struct Timing<'a> {
    /// Facts about the recording (of the window, where there is one).
    pub recording: &'a Recording,
    /// Its clocks.
    pub clocks: Clocks,
}

impl Timing<'_> {
    /// Cycles of the timestamp clock per core cycle.
    #[must_use]
    pub fn timestamp_ratio(&self) -> f64 {
        self.clocks.ticks_per_cycle()
    }

    /// Core cycles between samples: as stated, else as measured.
    #[must_use]
    pub fn period(&self) -> Option<f64> {
        self.clocks.stated_period.map(|period| period as f64).or_else(|| self.measured_period())
    }

    /// Core cycles between samples by the timestamps.
    #[must_use]
    pub fn measured_period(&self) -> Option<f64> {
        self.recording.measured_period().map(|period| period / self.timestamp_ratio())
    }

    /// The clock of the timestamps by the tick interrupt's known period, in hertz, and the ticks of that period; absent
    /// where the period is not known, or bytes are missing: then ticks are missing too, and not all of them are known
    /// to be.
    #[must_use]
    pub fn clock_by_tick(&self, ticks: &SysTicks) -> Option<(f64, f64)> {
        let recording = self.recording;
        if recording.time_slipped || !recording.has_one_clock() || ticks.changes() > 0 {
            return None;
        }
        let tick = self.clocks.tick_period?.as_secs_f64();
        let period = ticks.period()?;
        Some((period / tick, period))
    }

    /// How far the stated clock is off by the tick interrupt's known period, as a part of it, where that is more than
    /// a clock may be.
    #[must_use]
    pub fn clock_off(&self, ticks: &SysTicks) -> Option<f64> {
        let (real, _) = self.clock_by_tick(ticks)?;
        let off = (real / self.clocks.timestamp_clock?.hertz() - 1.0).abs();
        (off > CLOCK_TOLERANCE).then_some(off)
    }

    /// By what factor samples lie farther apart than is stated, where that cannot be: the sampling period, the prescaler
    /// of the timestamps or their clock is stated wrongly, and nobody knows which.
    #[must_use]
    pub fn period_contradicted(&self) -> Option<f64> {
        let recording = self.recording;
        let enough = recording.samples() >= FEWEST_SAMPLES && recording.unwatched == 0;
        let enough = enough && recording.has_one_clock();
        recording.contradicts_period(self.stated_ticks().filter(|_| enough)?)
    }

    /// Bytes that could not be read before anything has a time: what happened then is unknown.
    #[must_use]
    pub fn head(&self) -> Option<Doubt> {
        let bytes = self.recording.head();
        (bytes > 0).then_some(Doubt::Head { bytes })
    }

    /// So many ticks as time, where the clock is known.
    #[must_use]
    pub fn interval(&self, ticks: Option<[u64; 2]>) -> Option<Interval> {
        let (clock, [from, until]) = self.clocks.timestamp_clock.zip(ticks)?;
        let [from_ns, until_ns] = [from, until].map(|tick| clock.nanoseconds(tick));
        Some(Interval { from_ns, until_ns })
    }

    /// What the events themselves say against all figures: ticks are not of one length all the time, or not all events
    /// are of one core.
    #[must_use]
    pub fn doubts(&self, ticks: &SysTicks) -> Vec<Doubt> {
        let by_tick = self.clocks.tick_period.map_or(0, |_| ticks.changes());
        let within = |fault| self.interval(self.recording.faults_within(fault));
        let changes = self.recording.clock_faults(ClockFault::Changed) + by_tick;
        let places = self.recording.clock_faults(ClockFault::Stopped);
        let changed = (changes > 0).then_some(Doubt::ClockChanged {
            times: changes,
            // Ticks that became others do not say when.
            within: within(ClockFault::Changed).filter(|_| by_tick == 0),
        });
        let stopped = (places > 0)
            .then_some(Doubt::ClockStopped { places, within: within(ClockFault::Stopped) });
        let packets = self.recording.clock_faults(ClockFault::StampsWrapped);
        let wrapped = (packets > 0)
            .then_some(Doubt::StampsWrapped { packets, within: within(ClockFault::StampsWrapped) });
        let times = self.recording.clock_faults(ClockFault::NotOneTick);
        let not_one = (times > 0)
            .then_some(Doubt::NotOneTick { times, within: within(ClockFault::NotOneTick) });
        let several = self.recording.several_cores.then_some(Doubt::SeveralCores);
        let silent = self.recording.silent_cores().map(|(core, interval)| Doubt::CoreSilent {
            core,
            within: self.interval(Some(interval)),
        });
        [changed, stopped, wrapped, not_one, several].into_iter().flatten().chain(silent).collect()
    }

    /// Nanoseconds between samples.
    #[must_use]
    pub fn sample_ns(&self) -> Option<f64> {
        Some(self.period()? * 1e9 / self.clocks.core_clock?.hertz())
    }

    /// From the first event to the last, and the same in cycles if that is exact; without
    /// timestamps from the number of samples.
    #[must_use]
    pub fn duration(&self) -> Option<Duration> {
        let recording = self.recording;
        let dated = recording.span().zip(self.clocks.timestamp_clock);
        let ns = match dated {
            Some((cycles, clock)) => clock.nanoseconds(cycles),
            None => self.sample_ns()? * recording.samples() as f64,
        };
        let slipped = recording.time_slipped || !recording.has_one_clock();
        let open = slipped || (dated.is_none() && !recording.losses.is_empty());
        let ns_high = (!open).then_some(ns);
        let cycles = dated.filter(|_| !open).map(|(cycles, _)| cycles);
        Some(Duration { ns, ns_low: ns, ns_high, cycles, seen: None })
    }

    /// How many samples are missing at most; see [`Recording::missing_samples`].
    #[must_use]
    pub fn missing(&self) -> Option<u64> {
        self.recording.missing_samples(self.stated_ticks())
    }

    /// The part of the time that no sample covers: the cycle counter stops while the core sleeps, sampling was
    /// switched off, or the period is not what the capture says. 0 without timestamps.
    #[must_use]
    pub fn uncovered(&self) -> f64 {
        let uncovered = self.recording.uncovered(self.stated_ticks()).unwrap_or(0) as f64;
        uncovered / (uncovered + self.recording.samples() as f64).max(1.0)
    }

    /// The stated sampling period in ticks of the timestamps.
    fn stated_ticks(&self) -> Option<f64> {
        self.clocks.stated_period.map(|cycles| cycles as f64 * self.timestamp_ratio())
    }

    /// How far the measured period is from the stated one, as a part of it, where that is more
    /// than chance. Losses explain any difference, so there must be none.
    #[must_use]
    pub fn period_off(&self) -> Option<f64> {
        let off = self.measured_period()? / self.clocks.stated_period? as f64 - 1.0;
        (self.recording.losses.is_empty() && off.abs() > PERIOD_TOLERANCE).then_some(off)
    }
}

/// The clock of every origin of a capture, by number, and whether it is the host's.
#[must_use]
pub fn origin_clocks(manifest: &Manifest) -> Vec<(Option<Frequency>, bool)> {
    let core = manifest.target.core_clock;
    let clock = |source: &SourceSpec| match &source.protocol {
        Protocol::Itm(settings) => (settings.timestamp_clock.or(core), false),
        Protocol::Poll(_) => (Frequency::from_hertz(HOST_CLOCK), true),
        Protocol::Ctf(settings) => (settings.clock, false),
        Protocol::Mtb(_) => (None, false),
        Protocol::Etmv3(_) | Protocol::Etmv4(_) => (core, false),
    };
    manifest.streams.iter().flat_map(|stream| &stream.sources).map(clock).collect()
}

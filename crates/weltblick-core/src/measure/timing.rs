//! A recording and its clocks together: periods, durations, and what is missing.

use super::duration::Duration;
use super::recording::{PERIOD_TOLERANCE, Recording};
use crate::capture::{Manifest, Protocol, SourceSpec};
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
}

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
            (None, None) => itm.and_then(|itm| itm.timestamp_clock).or(core_clock),
        };
        let stated_period = match manifest.event_trace() {
            Some(events) => events.pc_sample_period,
            None => itm.and_then(|itm| itm.pc_sample_period),
        };
        Self { stated_period, core_clock, timestamp_clock }
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
        match (self.clocks.core_clock, self.clocks.timestamp_clock) {
            (Some(core), Some(stamp)) => stamp.hertz() / core.hertz(),
            _ => 1.0,
        }
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
        let open = recording.time_slipped || (dated.is_none() && !recording.losses.is_empty());
        let ns_high = (!open).then_some(ns);
        let cycles = dated.filter(|_| !open).map(|(cycles, _)| cycles);
        Some(Duration { ns, ns_low: ns, ns_high, cycles })
    }

    /// How many samples are missing at most; see [`Recording::missing_samples`].
    #[must_use]
    pub fn missing(&self) -> Option<u64> {
        let stated = self.clocks.stated_period.map(|cycles| cycles as f64 * self.timestamp_ratio());
        self.recording.missing_samples(stated)
    }

    /// How far the measured period is from the stated one, as a part of it, where that is more
    /// than chance. Losses explain any difference, so there must be none.
    #[must_use]
    pub fn period_off(&self) -> Option<f64> {
        let off = self.measured_period()? / self.clocks.stated_period? as f64 - 1.0;
        (self.recording.losses.is_empty() && off.abs() > PERIOD_TOLERANCE).then_some(off)
    }

    /// Whether there is time that no sample covers although nothing was lost: the cycle counter
    /// stops while the core sleeps, or the sampling period is not what the capture says.
    #[must_use]
    pub fn has_unseen_time(&self) -> bool {
        self.period_off().is_some_and(|off| off > 0.0)
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
        Protocol::Mtb => (None, false),
        Protocol::Etmv3(_) | Protocol::Etmv4(_) => (core, false),
    };
    manifest.streams.iter().flat_map(|stream| &stream.sources).map(clock).collect()
}

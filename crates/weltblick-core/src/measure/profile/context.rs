//! What a profile needs to know beside its counts, and the doubts that follow from it.

use super::grouping::{Row, RowKind};
use crate::image::Image;
use crate::measure::cadence::{Cadence, Cadences};
use crate::measure::duration::Duration;
use crate::measure::recording::{PERIOD_TOLERANCE, Recording};
use crate::time::Frequency;

/// What a profile needs to know beside its counts.
#[derive(Debug)]
pub struct Context<'a> {
    /// What the addresses mean.
    pub image: &'a Image,
    /// Facts about the recording (of the window, where there is one).
    pub recording: &'a Recording,
    /// How regularly exceptions were entered.
    pub cadences: &'a Cadences,
    /// The sampling period that the capture states, in core cycles.
    pub stated_period: Option<u64>,
    /// The core clock.
    pub core_clock: Option<Frequency>,
    /// The clock of the timestamps, where there are any.
    pub timestamp_clock: Option<Frequency>,
    /// Samples that were left out at the edge of a window.
    pub cut: u64,
    /// The confidence of intervals.
    pub confidence: f64,
}

impl Context<'_> {
    /// Core cycles between samples: as stated, else as measured.
    #[must_use]
    pub fn period(&self) -> Option<f64> {
        self.stated_period.map(|period| period as f64).or_else(|| self.measured_period())
    }

    /// Core cycles between samples by the timestamps.
    #[must_use]
    pub fn measured_period(&self) -> Option<f64> {
        self.recording.measured_period().map(|period| period / self.timestamp_ratio())
    }

    /// Nanoseconds from the first event to the last, and the same in cycles if that is exact.
    #[must_use]
    pub fn duration(&self) -> Option<Duration> {
        let dated = self.recording.span().zip(self.timestamp_clock);
        let ns = match dated {
            Some((cycles, clock)) => clock.nanoseconds(cycles),
            None => self.period()? * self.recording.samples() as f64 * self.cycle_ns()?,
        };
        let open =
            self.recording.time_slipped || (dated.is_none() && !self.recording.losses.is_empty());
        let ns_high = (!open).then_some(ns);
        let cycles = dated.filter(|_| !open).map(|(cycles, _)| cycles);
        Some(Duration { ns, ns_low: ns, ns_high, cycles })
    }

    /// Nanoseconds per core cycle.
    pub(super) fn cycle_ns(&self) -> Option<f64> {
        self.core_clock.map(|clock| 1e9 / clock.hertz())
    }

    pub(super) fn doubts(&self, rows: &[Row]) -> Vec<String> {
        let mut doubts = Vec::new();
        let total = self.recording.samples();
        self.doubt_missing(&mut doubts);
        if self.recording.time_slipped {
            doubts.push(
                "Bytes were lost, and time with them: times after that are at least what they say."
                    .into(),
            );
        }
        self.doubt_beats(&mut doubts);
        self.doubt_period(&mut doubts);
        if !self.image.has_lines() {
            doubts.push("The image has no line data (DWARF): files, lines and inlining are unknown; build with -g.".into());
        }
        if self.image.functions().is_empty() {
            doubts.push("The image is stripped: there are no names, rows are addresses.".into());
        }
        let outside: u64 =
            rows.iter().filter(|row| row.kind == RowKind::Outside).map(|row| row.samples).sum();
        if outside * 20 > total {
            doubts.push(format!(
                "{:.1} % of the samples lie outside the image: is it the one that ran? `inspect` says more.",
                100.0 * outside as f64 / total as f64
            ));
        }
        if total > 0 && total < FEW_SAMPLES {
            doubts.push(format!("Only {total} samples: shares are rough; measure longer."));
        }
        doubts
    }

    fn doubt_missing(&self, doubts: &mut Vec<String>) {
        if self.recording.losses.is_empty() {
            return;
        }
        let samples = self.recording.samples();
        match self.missing() {
            Some(0) => {}
            Some(missing) => {
                let part = 100.0 * missing as f64 / (samples + missing) as f64;
                doubts.push(format!(
                    "Up to {missing} {samples} missing ({part:.2} % of all): each share may be off by as much, beside its interval.",
                    samples = if missing == 1 { "sample is" } else { "samples are" },
                ));
            }
            None => doubts.push(
                "Samples are missing, and without timestamps and a stated sampling period nothing says how many.".to_owned(),
            ),
        }
    }

    /// Samples missing at most.
    #[must_use]
    pub fn missing(&self) -> Option<u64> {
        let stated = self.stated_period.map(|period| period as f64 * self.timestamp_ratio());
        self.recording.missing_samples(stated)
    }

    /// Interrupts that the sampling period beats with.
    #[must_use]
    pub fn beats(&self) -> Vec<Beat> {
        let Some(period) = self.period() else { return Vec::new() };
        let ratio = self.timestamp_ratio();
        let beat = |cadence: Cadence| {
            let places = cadence.beats_with(period * ratio, self.recording.samples())?;
            let name = self.image.exception_name(cadence.exception);
            Some(Beat { name, places, period: cadence.period / ratio })
        };
        self.cadences.periodic().into_iter().filter_map(beat).collect()
    }

    /// Cycles of the timestamp clock per core cycle.
    fn timestamp_ratio(&self) -> f64 {
        match (self.core_clock, self.timestamp_clock) {
            (Some(core), Some(stamp)) => stamp.hertz() / core.hertz(),
            _ => 1.0,
        }
    }

    /// Whether there is time that no sample covers although nothing was lost: the cycle counter
    /// stops while the core sleeps, or the sampling period is not what the capture says.
    #[must_use]
    pub fn sleeps_unseen(&self) -> bool {
        let stated = self.stated_period.map(|period| period as f64);
        let Some((measured, stated)) = self.measured_period().zip(stated) else { return false };
        self.recording.losses.is_empty() && measured > stated * (1.0 + PERIOD_TOLERANCE)
    }

    fn doubt_beats(&self, doubts: &mut Vec<String>) {
        for Beat { name, places, period } in self.beats() {
            doubts.push(format!(
                "The sampling period beats with {name}: samples land on {places} {place} of its period of {period:.0} cycles only, so what runs at a fixed time after it is seen too often or never; choose a sampling period that shares no factor with it.",
                place = if places == 1 { "place" } else { "places" },
            ));
        }
    }

    fn doubt_period(&self, doubts: &mut Vec<String>) {
        let Some((measured, stated)) = self.measured_period().zip(self.stated_period) else {
            return;
        };
        let off = measured / stated as f64 - 1.0;
        let quiet = self.recording.losses.is_empty() && self.recording.samples() >= FEW_SAMPLES;
        if quiet && off.abs() > PERIOD_TOLERANCE {
            let sleep =
                if off > 0.0 { ", or the cycle counter stops while the core sleeps" } else { "" };
            doubts.push(format!(
                "By the timestamps there is a sample in {measured:.0} cycles, not in {stated}: the sampling period is stated wrongly{sleep}. Times per row rest on it."
            ));
        }
    }
}

/// An interrupt that the sampling period beats with.
#[derive(Debug, Clone, PartialEq)]
pub struct Beat {
    /// The interrupt.
    pub name: String,
    /// How many places of its period are sampled.
    pub places: u64,
    /// Its period in core cycles.
    pub period: f64,
}

/// Fewer samples than this deserve a word.
const FEW_SAMPLES: u64 = 400;

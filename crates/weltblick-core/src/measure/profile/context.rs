//! What a profile needs to know beside its counts, and the doubts that follow from it.

use super::conduct::{Basis, Conduct};
use super::grouping::{Row, RowKind};
use crate::image::Image;
use crate::measure::cadence::{Cadence, Cadences};
use crate::measure::timing::Timing;

/// What a profile needs to know beside its counts.
#[derive(Debug)]
pub struct Context<'a> {
    /// What the addresses mean.
    pub image: &'a Image,
    /// The recording (of the window, where there is one) and its clocks.
    pub timing: Timing<'a>,
    /// How regularly exceptions were entered.
    pub cadences: &'a Cadences,
    /// Samples that were left out at the edge of a window.
    pub cut: u64,
    /// The confidence of intervals.
    pub confidence: f64,
    /// How the recording was made.
    pub conduct: Conduct,
}

impl Context<'_> {
    pub(super) fn doubts(&self, rows: &[Row]) -> Vec<String> {
        let mut doubts = Vec::new();
        let total = self.timing.recording.samples();
        if self.conduct.intrusive && self.conduct.basis != Basis::Stopped {
            doubts.push("Intrusive: a debugger stopped the core now and then while this was recorded, so interrupts and timers ran otherwise than they would have; shares of computing are usable, times are not.".into());
        }
        match self.conduct.basis {
            Basis::Sampler => {}
            Basis::Polled => doubts.push(
                "The program counter was polled through a debug stub: few samples, at times that the host chose.".into(),
            ),
            Basis::Stopped => doubts.push(
                "Intrusive: the core was stopped at random times to read its program counter, so interrupts and timers ran otherwise than they would have; shares of computing are usable, times are not.".into(),
            ),
        }
        self.doubt_ranges(rows, &mut doubts);
        self.doubt_missing(&mut doubts);
        let recording = self.timing.recording;
        if self.conduct.between_points {
            doubts.push("Only what came between points in the code was recorded: shares are shares of that, not of all time, and times are at least what they say.".into());
        } else if recording.unwatched > 0 {
            doubts.push(format!(
                "Nothing was recorded for a while, by choice, {} times: shares are shares of what was recorded, times are at least what they say.",
                recording.unwatched
            ));
        } else if recording.time_slipped {
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

    fn doubt_ranges(&self, rows: &[Row], doubts: &mut Vec<String>) {
        if self.conduct.ranges.is_everything() {
            return;
        }
        let elsewhere = rows.iter().find(|row| row.kind == RowKind::Elsewhere);
        let part = elsewhere.map_or(0.0, |row| 100.0 * row.estimate.share);
        doubts.push(format!(
            "Only part of the code was asked for (`inside` and `exclude` of the capture): {part:.1} % of the samples lie elsewhere and are not told apart. Shares are shares of all time all the same."
        ));
    }

    fn doubt_missing(&self, doubts: &mut Vec<String>) {
        if self.timing.recording.losses.is_empty() {
            return;
        }
        let samples = self.timing.recording.samples();
        match self.timing.missing() {
            Some(0) => {}
            Some(missing) => {
                let part = 100.0 * missing as f64 / (samples + missing) as f64;
                doubts.push(format!(
                    "Up to {missing} {samples} missing ({part:.2} % of all): each share may be off by as much, beside its interval.",
                    samples = if missing == 1 { "sample is" } else { "samples are" },
                ));
            }
            None if self.timing.recording.unwatched > 0 => doubts.push(
                "Samples are missing, and because not all of the time was recorded nothing says how many.".to_owned(),
            ),
            None => doubts.push(
                "Samples are missing, and without timestamps and a stated sampling period nothing says how many.".to_owned(),
            ),
        }
    }

    /// Interrupts that the sampling period beats with.
    #[must_use]
    pub fn beats(&self) -> Vec<Beat> {
        let Some(period) = self.timing.period() else { return Vec::new() };
        let ratio = self.timing.timestamp_ratio();
        let beat = |cadence: Cadence| {
            let places = cadence.beats_with(period * ratio, self.timing.recording.samples())?;
            let name = self.image.exception_name(cadence.exception);
            Some(Beat { name, places, period: cadence.period / ratio })
        };
        self.cadences.periodic().into_iter().filter_map(beat).collect()
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
        let timing = &self.timing;
        if timing.recording.samples() < FEW_SAMPLES {
            return;
        }
        let clocks = timing.clocks;
        if let (Some(off), Some(measured), Some(stated)) =
            (timing.period_off(), timing.measured_period(), clocks.stated_period)
        {
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

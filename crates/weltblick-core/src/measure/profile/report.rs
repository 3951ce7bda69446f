//! The profile as it is shown and exchanged: the stable form.

use super::counts::SampleCounts;
use super::grouping::{By, Row, RowKind, rows};
use crate::image::Image;
use crate::measure::cadence::{Cadence, Cadences};
use crate::measure::losses::LossRow;
use crate::measure::recording::Recording;
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form. The number grows when a field changes its meaning or goes.
pub const SCHEMA: &str = "weltblick/profile/1";

/// A stretch of time in nanoseconds, with the interval in which the true value lies.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct Duration {
    /// The best single figure.
    pub ns: f64,
    /// Not less than this.
    pub ns_low: f64,
    /// Not more than this; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ns_high: Option<f64>,
    /// The same in cycles of the core clock, where that is exact.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cycles: Option<u64>,
}

/// What was recorded.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Head {
    /// Samples in all, sleep included.
    pub samples: u64,
    /// Core cycles between samples.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sampling_period_cycles: Option<f64>,
    /// The sampling period was measured from the timestamps, not stated by the capture.
    pub sampling_period_measured: bool,
    /// The core clock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core_clock_hz: Option<f64>,
    /// From the first event to the last; from the number of samples where there are no timestamps.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
}

/// How far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Evidence {
    /// What the figures rest on: `pc_samples`.
    pub basis: String,
    /// The confidence of every interval.
    pub confidence: f64,
    /// How intervals were computed.
    pub method: String,
    /// What is missing, by reason.
    pub losses: Vec<LossRow>,
    /// Samples that are missing at most, because of the losses; absent where nothing bounds them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub samples_missing_at_most: Option<u64>,
    /// Samples at the edge of the window of time, which may lie in or out: left out.
    pub samples_cut: u64,
    /// Reasons for doubt, each a sentence.
    pub doubts: Vec<String>,
}

/// One row. Which of the names are present depends on `by`.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ReportRow {
    /// `code`, `unnamed`, `asleep`, `outside`, `unobservable` or `beyond`.
    pub kind: String,
    /// The function.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub function: Option<String>,
    /// The source file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// The address, in hexadecimal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Samples.
    pub samples: u64,
    /// Fraction of all samples.
    pub share: f64,
    /// Lower end of the interval of `share`.
    pub share_low: f64,
    /// Upper end of the interval of `share`.
    pub share_high: f64,
    /// This row's share and those of all rows with more samples.
    pub cumulative_share: f64,
    /// Estimated time in this row: samples times sampling period.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time: Option<Duration>,
}

/// One profile. With `--every` there are several, each with its window.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ProfileReport {
    /// `weltblick/profile/1`.
    pub schema: String,
    /// What one row stands for: `function`, `file`, `line` or `address`.
    pub by: String,
    /// The start of the window of time, in nanoseconds after the recording's start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_ns: Option<f64>,
    /// The end of the window of time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until_ns: Option<f64>,
    /// What was recorded.
    pub recording: Head,
    /// How far to believe it.
    pub evidence: Evidence,
    /// Largest share first.
    pub rows: Vec<ReportRow>,
}

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
    fn cycle_ns(&self) -> Option<f64> {
        self.core_clock.map(|clock| 1e9 / clock.hertz())
    }

    fn doubts(&self, rows: &[Row]) -> Vec<String> {
        let mut doubts = Vec::new();
        let total = self.recording.samples();
        self.doubt_missing(&mut doubts);
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
        if self.sleeps_unseen()
            && let Some((measured, stated)) = self.measured_period().zip(self.stated_period)
        {
            doubts.push(format!(
                "By the timestamps there is a sample in {measured:.0} cycles, not in {stated}: the sampling period is stated wrongly, or the cycle counter stops while the core sleeps."
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

/// Periods that differ by less agree.
const PERIOD_TOLERANCE: f64 = 0.02;
/// Fewer samples than this deserve a word.
const FEW_SAMPLES: u64 = 400;

const METHOD: &str = "effective sample size by batch means, Wilson score interval with Student's t";

/// Names, sorts and explains what was counted.
#[must_use]
pub fn report(counts: &SampleCounts, by: By, context: &Context<'_>) -> ProfileReport {
    let by = match by {
        By::Function { .. } if context.image.functions().is_empty() => By::Address,
        by => by,
    };
    let rows = rows(counts, context.image, by, context.confidence);
    let evidence = Evidence {
        basis: "pc_samples".into(),
        confidence: context.confidence,
        method: METHOD.into(),
        losses: context.recording.losses.rows(),
        samples_missing_at_most: context.missing(),
        samples_cut: context.cut,
        doubts: context.doubts(&rows),
    };
    let recording = head(counts, context);
    let sample_ns = context.period().zip(context.cycle_ns()).map(|(cycles, ns)| cycles * ns);
    let mut seen = 0;
    let rows = rows
        .into_iter()
        .map(|row| {
            seen += row.samples;
            report_row(row, seen, recording.samples, sample_ns)
        })
        .collect();
    ProfileReport {
        schema: SCHEMA.into(),
        by: by.name().into(),
        from_ns: None,
        until_ns: None,
        recording,
        evidence,
        rows,
    }
}

/// The facts in a report's head.
#[must_use]
pub fn head(counts: &SampleCounts, context: &Context<'_>) -> Head {
    Head {
        samples: counts.batches().total(),
        sampling_period_cycles: context.period(),
        sampling_period_measured: context.stated_period.is_none(),
        core_clock_hz: context.core_clock.map(Frequency::hertz),
        duration: context.duration(),
    }
}

fn report_row(row: Row, seen: u64, total: u64, sample_ns: Option<f64>) -> ReportRow {
    let all = total as f64;
    let time = sample_ns.map(|sample_ns| Duration {
        ns: row.samples as f64 * sample_ns,
        ns_low: row.estimate.low * all * sample_ns,
        ns_high: Some(row.estimate.high * all * sample_ns),
        cycles: None,
    });
    ReportRow {
        kind: row.kind.name().into(),
        function: row.function,
        file: row.file,
        line: row.line,
        address: row.address.map(|address| format!("{address:#010x}")),
        samples: row.samples,
        share: row.estimate.share,
        share_low: row.estimate.low,
        share_high: row.estimate.high,
        cumulative_share: seen as f64 / all,
        time,
    }
}

impl By {
    /// The name in options and JSON.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Function { .. } => "function",
            Self::File => "file",
            Self::Line => "line",
            Self::Address => "address",
        }
    }
}

impl RowKind {
    /// The name in JSON.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Code => "code",
            Self::Unnamed => "unnamed",
            Self::Asleep => "asleep",
            Self::Outside => "outside",
            Self::Unobservable => "unobservable",
            Self::Beyond => "beyond",
        }
    }
}

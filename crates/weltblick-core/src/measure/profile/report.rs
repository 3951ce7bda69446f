//! The profile as it is shown and exchanged: the stable form.

use super::context::Context;
use super::counts::SampleCounts;
use super::grouping::{By, Row, RowKind, rows};
use crate::measure::duration::Duration;
use crate::measure::losses::LossRow;
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form. The number grows when a field changes its meaning or goes.
pub const SCHEMA: &str = "weltblick/profile/2";

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
    /// What the figures rest on: `pc_samples`, `polled_pc` or `stopped_core`.
    pub basis: String,
    /// A debugger stopped the core while this was recorded: its timing is not its own.
    pub intrusive: bool,
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
    /// `code`, `unnamed`, `asleep`, `outside`, `unobservable`, `beyond` or `elsewhere`; where rows are
    /// tasks or interrupts also `handlers`, `kernel`, `thread` or `unknown`.
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
    /// The task.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub task: Option<String>,
    /// The interrupt.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interrupt: Option<String>,
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
    /// `weltblick/profile/2`.
    pub schema: String,
    /// What one row stands for: `function`, `file`, `line`, `address`, `task` or `interrupt`.
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

const METHOD: &str = "effective sample size by batch means, Wilson score with Student's t";

/// Names, sorts and explains what was counted.
#[must_use]
pub fn report(counts: &SampleCounts, by: By, context: &Context<'_>) -> ProfileReport {
    let by = match by {
        By::Function { .. } if context.image.functions().is_empty() => By::Address,
        by => by,
    };
    let rows = rows(counts, context.image, by, context.confidence);
    let evidence = Evidence {
        basis: context.conduct.basis.name().into(),
        intrusive: context.conduct.intrusive,
        confidence: context.confidence,
        method: METHOD.into(),
        losses: context.timing.recording.losses.rows(),
        samples_missing_at_most: context.timing.missing(),
        samples_cut: context.cut,
        doubts: context.doubts(&rows),
    };
    let recording = head(counts, context);
    let sample_ns = context.timing.sample_ns();
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
        sampling_period_cycles: context.timing.period(),
        sampling_period_measured: context.timing.clocks.stated_period.is_none(),
        core_clock_hz: context.timing.clocks.core_clock.map(Frequency::hertz),
        duration: context.timing.duration(),
    }
}

fn report_row(row: Row, seen: u64, total: u64, sample_ns: Option<f64>) -> ReportRow {
    let all = total as f64;
    let time = sample_ns.map(|sample_ns| Duration {
        ns: row.samples as f64 * sample_ns,
        ns_low: row.estimate.low * all * sample_ns,
        ns_high: Some(row.estimate.high * all * sample_ns),
        cycles: None,
        seen: None,
    });
    ReportRow {
        kind: row.kind.name().into(),
        function: row.function,
        file: row.file,
        line: row.line,
        address: row.address.map(|address| format!("{address:#010x}")),
        task: row.task.map(|task| format!("task {task}")),
        interrupt: row.interrupt,
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
            Self::Task => "task",
            Self::Interrupt => "interrupt",
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
            Self::Elsewhere => "elsewhere",
            Self::Beyond => "beyond",
            Self::Handlers => "handlers",
            Self::Kernel => "kernel",
            Self::Thread => "thread",
            Self::Unknown => "unknown",
        }
    }
}

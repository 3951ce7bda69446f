//! The profile as it is shown and exchanged: the stable form.

use super::context::Context;
use super::counts::SampleCounts;
use super::grouping::{By, Row, RowKind, rows};
use super::known::Shares;
use crate::figure::{Doubt, Figure, Objection};
use crate::measure::duration::Duration;
use crate::measure::losses::LossRow;
use crate::stats::Bounds;
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form. The number grows when a field changes its meaning or goes.
pub const SCHEMA: &str = "weltblick/profile/3";

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
    /// What speaks against shares of this recording: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
    /// What else to know, each a sentence.
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
    /// The true share is not less, by its interval and with everything that is missing.
    pub share_low: f64,
    /// The true share is not more.
    pub share_high: f64,
    /// This row's share and those of all rows with more samples.
    pub cumulative_share: f64,
    /// Estimated time in this row: samples times sampling period.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time: Option<Duration>,
    /// What speaks against this row, and not against all of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
}

/// One profile. With `--every` there are several, each with its window.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ProfileReport {
    /// `weltblick/profile/3`.
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
    let shares = Shares::new(counts, context, context.confidence);
    let shares = match by {
        By::Task | By::Interrupt => shares.attributed(),
        _ => shares,
    };
    let is_nobodys = |row: &&Row| row.kind == RowKind::Unknown;
    let of_nobody = rows.iter().filter(is_nobodys).map(|row| row.samples).sum();
    let known: Vec<Option<Figure>> =
        rows.iter().map(|row| shares.row(row, by, of_nobody).ok()).collect();
    let against: Vec<&Doubt> =
        known.iter().flatten().flat_map(|figure| &figure.evidence.against).collect();
    let mut objections: Vec<Objection> = Vec::new();
    for doubt in against.into_iter().filter(|doubt| !is_of_a_row(doubt)) {
        let objection = Objection::from(doubt);
        if !objections.contains(&objection) {
            objections.push(objection);
        }
    }
    let evidence = Evidence {
        basis: context.conduct.basis.name().into(),
        intrusive: context.conduct.intrusive,
        confidence: context.confidence,
        method: METHOD.into(),
        losses: context.timing.recording.losses.rows(),
        samples_missing_at_most: context.timing.missing(),
        samples_cut: context.cut,
        objections,
        doubts: context.doubts(&rows, by, shares.in_step()),
    };
    let recording = head(counts, context);
    let sample_ns = context.timing.sample_ns();
    let mut seen = 0;
    let rows = rows
        .into_iter()
        .zip(known)
        .map(|(row, figure)| {
            seen += row.samples;
            report_row(row, figure, seen, (recording.samples, sample_ns))
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

/// Whether it speaks against single rows.
const fn is_of_a_row(doubt: &Doubt) -> bool {
    matches!(doubt, Doubt::LeftOut | Doubt::Overlaid)
}

fn report_row(
    row: Row,
    figure: Option<Figure>,
    seen: u64,
    (total, sample_ns): (u64, Option<f64>),
) -> ReportRow {
    let all = total as f64;
    let none = Bounds { low: row.estimate.low, high: row.estimate.high };
    let Bounds { low, high } = figure.as_ref().map_or(none, Figure::bounds);
    let against = figure.into_iter().flat_map(|figure| figure.evidence.against);
    let time = sample_ns.map(|sample_ns| Duration {
        ns: row.samples as f64 * sample_ns,
        ns_low: low * all * sample_ns,
        ns_high: Some(high * all * sample_ns),
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
        share_low: low,
        share_high: high,
        cumulative_share: seen as f64 / all,
        time,
        objections: against.filter(is_of_a_row).map(|doubt| Objection::from(&doubt)).collect(),
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

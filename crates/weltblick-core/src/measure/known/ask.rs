//! What is asked of whoever measured something.

use crate::figure::Rests;
use crate::time::Unit;
use schemars::JsonSchema;
use serde::Serialize;

/// Which figure of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measure {
    /// Without what pre-empted it.
    Own,
    /// From start to end.
    Elapsed,
    /// From request (or ready) to start.
    Pending,
    /// From request (or ready) to end.
    Response,
    /// From start to start, or ready to ready.
    Period,
    /// The difference between one period, or interval, and the next.
    Jitter,
    /// From one access to the next.
    Interval,
    /// The value itself, in its own unit.
    Value,
    /// How often it ran.
    Count,
    /// How often it ran per second.
    Rate,
    /// The part of the time in which it ran.
    Load,
    /// The part of its stack that was used at most.
    StackPeak,
}

impl Measure {
    /// What it is measured in.
    #[must_use]
    pub const fn unit(self) -> Unit {
        match self {
            Self::Count => Unit::Count,
            Self::Rate => Unit::Hertz,
            Self::Load | Self::StackPeak => Unit::Share,
            Self::Value => Unit::Plain,
            Self::Own
            | Self::Elapsed
            | Self::Pending
            | Self::Response
            | Self::Period
            | Self::Jitter
            | Self::Interval => Unit::Time,
        }
    }
}

/// Which of many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Of {
    /// The figure itself: a count, a rate.
    All,
    /// The shortest, or least.
    Min,
    /// The mean.
    Mean,
    /// What a part of them, in per cent, does not exceed.
    Percentile(u8),
    /// The longest, or most.
    Max,
    /// The standard deviation.
    Deviation,
    /// Every single one.
    Each,
}

impl Measure {
    /// What budgets, results and columns call it.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::Own => "own",
            Self::Elapsed => "elapsed",
            Self::Pending => "pending",
            Self::Response => "response",
            Self::Period => "period",
            Self::Jitter => "jitter",
            Self::Interval => "interval",
            Self::Value => "value",
            Self::Count => "count",
            Self::Rate => "rate",
            Self::Load => "load",
            Self::StackPeak => "stack_peak",
        }
    }
}

impl Of {
    /// What many durations have.
    pub const STATISTICS: [Self; 8] = [
        Self::Min,
        Self::Mean,
        Self::Percentile(50),
        Self::Percentile(95),
        Self::Percentile(99),
        Self::Max,
        Self::Deviation,
        Self::Each,
    ];

    /// What budgets and results call it; empty where the figure is there once.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::All => "",
            Self::Min => "min",
            Self::Mean => "mean",
            Self::Percentile(50) => "p50",
            Self::Percentile(95) => "p95",
            Self::Percentile(99) => "p99",
            Self::Percentile(_) => "percentile",
            Self::Max => "max",
            Self::Deviation => "stddev",
            Self::Each => "each",
        }
    }
}

/// How pending and response times are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum KnownBy {
    /// The firmware stated when the hardware had asked.
    Stated,
    /// Against the grid of a periodic request: beyond what even the earliest starts waited.
    Grid,
    /// Tail-chained starts only, between what ran before them.
    Chained,
}

/// A figure, and with what it is asked for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ask {
    /// Which figure.
    pub measure: Measure,
    /// Which of many.
    pub of: Of,
    /// Of pending and response times: whoever asks is content with this way to know them.
    pub by: Option<KnownBy>,
    /// Of tasks: whoever asks is content with turns on the core where the trace has no activations.
    pub by_turns: bool,
    /// It happens at most so often, in hertz: what the design guarantees, and gaps are bounded by.
    pub at_most: Option<f64>,
}

impl Ask {
    /// A figure as it stands.
    #[must_use]
    pub const fn new(measure: Measure, of: Of) -> Self {
        Self { measure, of, by: None, by_turns: false, at_most: None }
    }

    /// Whether it is a duration.
    #[must_use]
    pub fn is_time(self) -> bool {
        self.measure.unit() == Unit::Time
    }

    /// What the figure rests on, of a subject whose figure would be another one without `exceptions`, or not.
    #[must_use]
    pub fn rests(self, exceptions: bool) -> Rests {
        let ticks = match self.measure {
            Measure::Count | Measure::StackPeak => false,
            Measure::Value => self.of == Of::Mean,
            _ => true,
        };
        Rests { ticks, clock: self.is_time() || self.measure == Measure::Rate, exceptions }
    }
}

//! The rows of an exact profile: what is shown and exchanged.

use crate::figure::{Objection, ObjectionRow};
use crate::measure::duration::Duration;
use crate::measure::statistic::Statistic;
use crate::stats::Spread;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/exact-profile/3";

/// Figures of many whole numbers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct Numbers {
    /// How many.
    pub count: u64,
    /// The least.
    pub min: u64,
    /// The mean.
    pub mean: f64,
    /// The most.
    pub max: u64,
}

impl Numbers {
    /// Of whole numbers; `None` if there are none.
    #[must_use]
    pub fn of(spread: &Spread) -> Option<Self> {
        Some(Self {
            count: spread.count(),
            min: spread.min()?.low,
            mean: spread.mean()?.middle(),
            max: spread.max()?.high,
        })
    }
}

/// Another function, and how often.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Partner {
    /// Its name; `[thread]`, `[unknown]` or an interrupt's name where nothing called.
    pub function: String,
    /// How many calls.
    pub calls: u64,
    /// Instructions that ran in these calls, with what they called.
    pub instructions: u64,
}

/// The longest call, and where it is told.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct LongestCall {
    /// From beginning to end; absent where nothing tells time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elapsed: Option<Duration>,
    /// The byte of the trace that tells its beginning.
    pub from_byte: u64,
    /// The byte of the trace that tells its end.
    pub until_byte: u64,
}

/// What a row stands for, and what ran there.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema, Default)]
pub struct ExactRow {
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
    /// The interrupt; `[thread]` for what is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interrupt: Option<String>,
    /// The task: the function that its thread began with; or `[handlers]`, `[unknown whose]`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub task: Option<String>,
    /// Instructions of its own.
    pub instructions: u64,
    /// The fraction of all instructions.
    pub instruction_share: f64,
    /// Instructions with those of what it called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total_instructions: Option<u64>,
    /// Time of its own. Where the trace tells time seldom, it is shared out by instructions; the bounds
    /// say how far that can be wrong.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub self_time: Option<Duration>,
    /// The fraction of all time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub self_share: Option<f64>,
    /// Lower bound of `self_share`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub self_share_low: Option<f64>,
    /// Upper bound of `self_share`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub self_share_high: Option<f64>,
    /// Time with what it called, without what interrupted it: an estimate, and its bounds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total_time: Option<Duration>,
    /// The fraction of all time with what it called, without what interrupted it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total_share: Option<f64>,
    /// How often it was called, or entered as a handler.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub calls: Option<u64>,
    /// There were not more; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub calls_high: Option<u64>,
    /// Calls that were not seen from beginning to end: they are in no figure below.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub calls_cut: Option<u64>,
    /// Instructions of a call, with what it called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instructions_per_call: Option<Numbers>,
    /// Instructions of a call, without what it called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub self_instructions_per_call: Option<Numbers>,
    /// Time of a call without what it called, and without what interrupted it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub self_own: Option<Statistic>,
    /// Time of a call with what it called, without what interrupted it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own: Option<Statistic>,
    /// Time of a call from beginning to end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elapsed: Option<Statistic>,
    /// The longest call.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest: Option<LongestCall>,
    /// Who called it, most calls first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub callers: Vec<Partner>,
    /// Whom it called, most instructions first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub callees: Vec<Partner>,
    /// What speaks against these figures: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
}

/// What was recorded, and how far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ExactEvidence {
    /// `instruction_flow`.
    pub basis: String,
    /// What tells time: `cycle_counts`, `timestamps` or `nothing`.
    pub time: String,
    /// Times that the trace unit's buffer was full.
    pub overflows: u64,
    /// Stretches of the recording that could not be read.
    pub damaged: u64,
    /// Stretches that were not traced by choice.
    pub unwatched: u64,
    /// Contradictions between packets and image.
    pub mismatches: u64,
    /// What speaks against figures of this recording; each row says which of its own are touched.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// An exact profile.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ExactProfile {
    /// `weltblick/exact-profile/3`.
    pub schema: String,
    /// What one row stands for: `function`, `file`, `line`, `address`, `interrupt` or `task`.
    pub by: String,
    /// The start of the window of time, in nanoseconds after the first instruction.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_ns: Option<f64>,
    /// The end of the window of time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until_ns: Option<f64>,
    /// Instructions in all.
    pub instructions: u64,
    /// Time in all, as far as it is told.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// How far to believe it.
    pub evidence: ExactEvidence,
    /// Most time first; most instructions where nothing tells time.
    pub rows: Vec<ExactRow>,
}

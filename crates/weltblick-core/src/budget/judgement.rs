//! What is said of one budget.

use super::entry::Budget;
use schemars::JsonSchema;
use serde::Serialize;

/// Whether a budget holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// It does not.
    Broken,
    /// The evidence says neither.
    Undecided,
    /// It does, for this recording.
    Met,
}

/// One budget, judged.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Judgement {
    /// The budget: `function.wave_filter.self_share`.
    pub budget: String,
    /// What it is about: `function.wave_filter`, `task.telemetry`.
    pub subject: String,
    /// Its line in the budget file.
    pub line: usize,
    /// Whether it holds.
    pub verdict: Verdict,
    /// The limit as written.
    pub limit: String,
    /// `share` (a fraction), `count`, `ns`, `hertz`, or `value` in the unit of its signal.
    pub unit: String,
    /// What was observed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub observed: Option<f64>,
    /// The least that the true figure may be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub observed_low: Option<f64>,
    /// The most that the true figure may be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub observed_high: Option<f64>,
    /// How far inside the limit the observation is, as a part of the limit; negative outside.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub margin: Option<f64>,
    /// On what the verdict rests.
    pub evidence: String,
    /// For *undecided*: what would decide it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
    /// For *undecided* for want of samples: how much longer to measure, in nanoseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub measure_longer_ns: Option<f64>,
}

/// A judgement without a figure.
pub(super) fn blank(budget: &Budget, unit: &str) -> Judgement {
    Judgement {
        budget: format!("{}.{}", budget.subject, budget.key),
        subject: budget.subject.clone(),
        line: budget.line,
        verdict: Verdict::Undecided,
        limit: budget.condition.written.clone(),
        unit: unit.into(),
        observed: None,
        observed_low: None,
        observed_high: None,
        margin: None,
        evidence: String::new(),
        advice: None,
        measure_longer_ns: None,
    }
}

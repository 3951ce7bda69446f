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
    /// The budget: `function.wave_filter.self_share`, `relation.same_rate`.
    pub budget: String,
    /// What it is about: `function.wave_filter`, `task.telemetry`.
    pub subject: String,
    /// Its line in the budget file.
    pub line: usize,
    /// Whether it holds.
    pub verdict: Verdict,
    /// The limit, or the relation, as written.
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
    /// Of a relation: the right figure, times its factor. `observed` is the left one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub compared: Option<f64>,
    /// The least that it may be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub compared_low: Option<f64>,
    /// The most that it may be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub compared_high: Option<f64>,
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

impl Judgement {
    /// A judgement without a figure.
    pub(super) fn blank(
        budget: String,
        subject: String,
        line: usize,
        limit: &str,
        unit: &str,
    ) -> Self {
        Self {
            budget,
            subject,
            line,
            verdict: Verdict::Undecided,
            limit: limit.to_owned(),
            unit: unit.to_owned(),
            observed: None,
            observed_low: None,
            observed_high: None,
            compared: None,
            compared_low: None,
            compared_high: None,
            margin: None,
            evidence: String::new(),
            advice: None,
            measure_longer_ns: None,
        }
    }
}

/// A judgement of a budget without a figure.
pub(super) fn blank(budget: &Budget, unit: &str) -> Judgement {
    let name = format!("{}.{}", budget.subject, budget.key);
    let limit = &budget.condition.written;
    Judgement::blank(name, budget.subject.clone(), budget.line, limit, unit)
}

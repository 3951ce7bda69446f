//! What is said of one budget.

use super::entry::Budget;
use super::limit::{Condition, Limit};
use crate::figure::{Absent, Doubt, Effect, Figure, LOSE_NOTHING, Objection, SHARPEN, Sampled};
use crate::stats::{Bounds, ShareEstimate};
use crate::time::Unit;
use schemars::JsonSchema;
use serde::Serialize;

/// Recordings that would have to be longer than this many times the present one decide nothing.
const LONGEST_WAIT: f64 = 1000.0;
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
    /// Where several are called so: the exception, task or span number of this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// Where several cores take it: the one that this is of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub core: Option<u8>,
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
    /// What speaks against the figure, each of them: they widen its bounds.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
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
            id: None,
            core: None,
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
            objections: Vec::new(),
            advice: None,
            measure_longer_ns: None,
        }
    }
}

/// Judges one figure: met only if all that it may be keeps the limit, broken only if nothing of it does.
pub(super) fn decide(limit: &Limit, figure: &Figure) -> Verdict {
    let fails = match figure.extremes {
        // One that certainly does not keep it is enough, whatever the others do.
        Some(extremes) => extremes.iter().any(|one| limit.fails_for_all(one.low, one.high)),
        None => limit.fails_for_all(figure.low, figure.high),
    };
    if fails {
        Verdict::Broken
    } else if limit.holds_for_all(figure.low, figure.high) && !figure.evidence.meets_nothing {
        Verdict::Met
    } else {
        Verdict::Undecided
    }
}

/// Judges a budget by what is known of its figure.
pub(super) fn judge_budget(budget: &Budget, found: Result<Figure, Absent>) -> Judgement {
    let name = format!("{}.{}", budget.subject, budget.key);
    let Condition { limit, written, over } = &budget.condition;
    let unit = budget.about.unit();
    let blank =
        Judgement::blank(name, budget.subject.clone(), budget.line, written, unit_name(unit));
    let figure = match found {
        Ok(figure) => figure,
        Err(Absent { why, advice }) => {
            return Judgement { evidence: why, advice: Some(advice), ..blank };
        }
    };
    let observed = figure.extremes.map_or(figure.observed(), |[least, most]| {
        let off = |one: &Bounds| limit.margin(one.middle());
        let nearest = if off(&least) < off(&most) { least } else { most };
        if nearest.high.is_finite() { nearest.middle() } else { nearest.low }
    });
    // Limits on times are in seconds, results in nanoseconds.
    let factor = result_factor(unit);
    let mut judgement = Judgement {
        verdict: decide(limit, &figure),
        observed: Some(observed * factor),
        observed_low: figure.low.is_finite().then_some(figure.low * factor),
        observed_high: figure.high.is_finite().then_some(figure.high * factor),
        margin: Some(limit.margin(observed)),
        objections: figure.evidence.against.iter().map(Objection::from).collect(),
        evidence: figure.evidence.in_words(),
        ..blank
    };
    if judgement.verdict == Verdict::Undecided {
        advise(&mut judgement, limit, &figure);
    }
    if let Some(over) = over.filter(|&over| figure.count < over)
        && judgement.verdict != Verdict::Broken
    {
        judgement.verdict = Verdict::Undecided;
        judgement.evidence = format!("{}, fewer than the {over} asked for", judgement.evidence);
        let factor = over as f64 / figure.count.max(1) as f64;
        let duration = figure.evidence.sampled.and_then(|sampled| sampled.duration_ns);
        measure_longer(&mut judgement, factor, duration);
    }
    judgement
}

/// What would decide it.
fn advise(judgement: &mut Judgement, limit: &Limit, figure: &Figure) {
    let against = &figure.evidence.against;
    // What may be anything stays so, however long it is measured.
    if let Some(doubt) = against.iter().find(|doubt| doubt.effect() == Effect::Both) {
        judgement.advice = Some(doubt.advice());
        return;
    }
    if let Some(Sampled { estimate, .. }) = figure.evidence.sampled
        && !limit.holds_for_all(estimate.low, estimate.high)
        && !limit.fails_for_all(estimate.low, estimate.high)
    {
        return advise_samples(judgement, limit, &estimate, figure);
    }
    let doubt = against.first().map(Doubt::advice);
    let lossy = figure.evidence.lossy;
    judgement.advice = Some(doubt.unwrap_or_else(|| match figure.evidence.narrows {
        _ if lossy => LOSE_NOTHING.into(),
        "" => SHARPEN.into(),
        narrows => narrows.into(),
    }));
}

/// The interval of a share lies on either side of its limit.
fn advise_samples(
    judgement: &mut Judgement,
    limit: &Limit,
    estimate: &ShareEstimate,
    figure: &Figure,
) {
    let distance = (estimate.share - limit.nearest_edge(estimate.share)).abs();
    // Where nothing was hit, or everything, the interval shrinks as one over the number of samples.
    let variance = estimate.share * (1.0 - estimate.share);
    let width = (estimate.high - estimate.low).powi(2) / 4.0 * estimate.effective_samples;
    let needed = (estimate.critical.powi(2) * variance).max(width) / distance.powi(2);
    let factor = needed / estimate.effective_samples;
    if !factor.is_finite() || factor > LONGEST_WAIT {
        judgement.advice = Some("the figure lies at the limit: no longer recording will decide, a wider limit or faster code would".into());
        return;
    }
    // A little more than the formula says: the share itself will move.
    let duration = figure.evidence.sampled.and_then(|sampled| sampled.duration_ns);
    measure_longer(judgement, (1.2 * factor).max(1.2), duration);
}

/// Measure `factor` times as long as this recording, whose duration is in nanoseconds.
pub(super) fn measure_longer(judgement: &mut Judgement, factor: f64, duration: Option<f64>) {
    judgement.measure_longer_ns = duration.map(|duration| duration * (factor - 1.0));
    judgement.advice = Some(format!("measure about {factor:.1} times as long"));
}

/// How results name a unit.
pub(super) const fn unit_name(unit: Unit) -> &'static str {
    match unit {
        Unit::Share => "share",
        Unit::Count => "count",
        Unit::Hertz => "hertz",
        Unit::Plain => "value",
        Unit::Time | Unit::BitRate | Unit::Bytes | Unit::ByteRate => "ns",
    }
}

/// What a figure is multiplied with where results state it.
pub(super) const fn result_factor(unit: Unit) -> f64 {
    match unit {
        Unit::Time => 1e9,
        _ => 1.0,
    }
}

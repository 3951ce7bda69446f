//! Verdicts: does every budget hold, by what margin, and on what evidence?
//!
//! A budget on a share is *met* only if the whole interval keeps the limit, *broken* only if none
//! of it does. The interval is widened twice: its confidence is divided among all budgets judged
//! together (Bonferroni), so that many budgets do not make one false verdict likely; and samples
//! that may be missing are counted for and against.

use super::entry::{Budget, CallMeasure, Figure};
use super::executed::Executed;
use super::file::BudgetFile;
use super::judgement::{Judgement, Verdict, blank};
use super::limit::{Comparison, Limit};
use super::relation;
use super::timing::{self, Finding, Found, Timings};
use crate::document::Fault;
use crate::image::FunctionId;
use crate::measure::profile::{Context, Head, SampleCounts, head};
use crate::stats::{ShareEstimate, estimate_share};
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/check/1";
/// Recordings that would have to be longer than this many times the present one decide nothing.
const LONGEST_WAIT: f64 = 1000.0;
/// A larger part of samples outside the image means that it is not the one that ran.
const MOST_OUTSIDE: f64 = 0.05;

/// All budgets, judged.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CheckReport {
    /// `weltblick/check/1`.
    pub schema: String,
    /// The worst of all verdicts.
    pub verdict: Verdict,
    /// What was recorded.
    pub recording: Head,
    /// The confidence with which all verdicts together hold.
    pub confidence: f64,
    /// Least margin first.
    pub budgets: Vec<Judgement>,
}

/// Judges all budgets; those on interrupts and tasks only if there are `timings`, those on coverage and
/// calls only if it is known what was `executed`. Shares are those that were executed, or else estimated from samples.
///
/// # Errors
///
/// A function that the image does not have, with its line in the budget file.
pub fn judge(
    file: &BudgetFile,
    counts: &SampleCounts,
    timings: Option<&Timings<'_>>,
    executed: Option<&Executed<'_>>,
    context: &Context<'_>,
) -> Result<CheckReport, Fault> {
    let court = Court::new(file, counts, executed, context);
    let mut budgets = Vec::with_capacity(file.budgets.len());
    for budget in &file.budgets {
        let function = file.function(&budget.figure, &budget.name_span, context.image)?;
        match (&budget.figure, timings) {
            (Figure::Timing(figure), Some(timings)) => {
                let blank = blank(budget, figure.unit());
                budgets.push(timing::judge(budget, figure, timings, blank));
            }
            (Figure::Timing(_), None) => {}
            (Figure::Coverage { pattern, measure }, _) => {
                budgets.extend(executed.map(|executed| {
                    executed.judge_coverage(budget, pattern, *measure, blank(budget, "share"))
                }));
            }
            (Figure::Call { measure, .. }, _) => {
                let unit = if *measure == CallMeasure::Count { "count" } else { "ns" };
                budgets.extend(executed.zip(function).map(|(executed, function)| {
                    executed.judge_calls(budget, function, *measure, blank(budget, unit))
                }));
            }
            (Figure::Way { points, measure }, _) => {
                let unit = if *measure == CallMeasure::Count { "count" } else { "ns" };
                budgets.extend(executed.map(|executed| {
                    executed.judge_way(budget, points, *measure, blank(budget, unit))
                }));
            }
            _ => budgets.push(court.judge(budget, function)),
        }
    }
    for relation in &file.relations {
        let sides = [&relation.left.figure, &relation.right.figure];
        let timed = sides.iter().any(|side| matches!(side, Figure::Timing(_)));
        if timings.is_none() && timed {
            continue;
        }
        let mut found = Vec::with_capacity(2);
        for figure in sides {
            let function = file.function(figure, &relation.span, context.image)?;
            found.push(match (figure, timings) {
                (Figure::Timing(figure), Some(timings)) => timings.find(figure),
                _ => court.find(figure, function),
            });
        }
        if let (Some(right), Some(left)) = (found.pop(), found.pop()) {
            budgets.push(relation::judge(relation, left, right));
        }
    }
    budgets.sort_by(|a, b| {
        let margin = |judgement: &Judgement| judgement.margin.unwrap_or(f64::NEG_INFINITY);
        margin(a).total_cmp(&margin(b)).then(a.line.cmp(&b.line))
    });
    let verdict = worst(&budgets);
    let recording = head(counts, context);
    let confidence = context.confidence;
    Ok(CheckReport { schema: SCHEMA.into(), verdict, recording, confidence, budgets })
}

fn worst(budgets: &[Judgement]) -> Verdict {
    let has = |verdict| budgets.iter().any(|judgement| judgement.verdict == verdict);
    match (has(Verdict::Broken), has(Verdict::Undecided)) {
        (true, _) => Verdict::Broken,
        (_, true) => Verdict::Undecided,
        _ => Verdict::Met,
    }
}

/// What all verdicts of one recording share.
struct Court<'a> {
    counts: &'a SampleCounts,
    /// What an instruction trace knows better than samples.
    exact: Option<&'a Executed<'a>>,
    context: &'a Context<'a>,
    /// The confidence of each single interval.
    confidence: f64,
    samples: u64,
    missing: Option<u64>,
    /// Why no verdict on shares can be trusted at all.
    objection: Option<Objection>,
}

/// The samples of one function.
struct Part {
    categories: Vec<usize>,
    /// Samples that may be its own too.
    unknown: u64,
    /// The capture left its code out, or a part of it.
    left_out: bool,
}

/// A share, with its bounds.
struct Share {
    estimate: ShareEstimate,
    hits: u64,
    low: f64,
    high: f64,
}

const NO_SAMPLES: &str = "there are no samples";
const TURN_SAMPLING_ON: &str = "turn PC sampling on";
const LEFT_OUT: &str = "; the capture left its code out, or part of it";

/// A reason to say *undecided* whatever the figures are.
struct Objection {
    why: String,
    advice: String,
    /// It stands only against *met*: a broken budget is broken all the same.
    against_met_only: bool,
}

impl<'a> Court<'a> {
    fn new(
        file: &BudgetFile,
        counts: &'a SampleCounts,
        executed: Option<&'a Executed<'a>>,
        context: &'a Context<'a>,
    ) -> Self {
        let is_share =
            |figure: &&Figure| matches!(figure, Figure::SelfShare { .. } | Figure::SleepShare);
        let shares = file.figures().filter(is_share).count();
        let confidence = 1.0 - (1.0 - context.confidence) / shares.max(1) as f64;
        let samples = counts.batches().total();
        let missing = context.timing.missing();
        let objection = objection(counts, context, samples, missing);
        let exact = executed
            .filter(|executed| executed.calls.is_some())
            .filter(|executed| samples == 0 || executed.tells_shares());
        Self { counts, exact, context, confidence, samples, missing, objection }
    }

    fn judge(&self, budget: &Budget, function: Option<FunctionId>) -> Judgement {
        match (&budget.figure, function) {
            (Figure::SelfShare { .. }, Some(id)) => {
                if let Some(exact) = self.exact {
                    return exact.judge_share(budget, id, blank(budget, "share"));
                }
                let Part { categories, unknown, left_out } = self.function(id);
                let judgement = self.judge_share(budget, &categories, unknown);
                if left_out { Self::unwatched(judgement) } else { judgement }
            }
            (Figure::SleepShare, _) => self.judge_share(budget, &[SampleCounts::ASLEEP], 0),
            _ => self.judge_samples(budget),
        }
    }

    /// What is known of a figure that samples tell.
    fn find(&self, figure: &Figure, function: Option<FunctionId>) -> Found {
        let (share, left_out) = match (figure, function) {
            (Figure::SelfShare { .. }, Some(id)) => {
                if let Some(exact) = self.exact {
                    return exact.find_share(id);
                }
                let Part { categories, unknown, left_out } = self.function(id);
                (self.share(&categories, unknown), left_out)
            }
            (Figure::SleepShare, _) => (self.share(&[SampleCounts::ASLEEP], 0), false),
            _ => return Ok(Finding::exact(self.samples as f64, self.samples, "counted")),
        };
        let Some(share) = share else {
            return Err((NO_SAMPLES.into(), TURN_SAMPLING_ON.into()));
        };
        let mut finding = Finding {
            low: share.low,
            high: share.high,
            lossy: self.missing != Some(0),
            evidence: self.share_evidence(share.hits, &share.estimate),
            ..Finding::exact(share.estimate.share, self.samples, "")
        };
        if left_out {
            finding.evidence += LEFT_OUT;
        }
        match &self.objection {
            Some(why) if why.against_met_only => finding.object(&why.why, &why.advice),
            Some(why) => return Err((why.why.clone(), why.advice.clone())),
            None => {}
        }
        Ok(finding)
    }

    /// The samples of a function.
    fn function(&self, id: FunctionId) -> Part {
        let range = &self.context.image.function(id).range;
        let mine = self.counts.addresses().filter(|(address, _)| range.contains(address));
        let categories = mine.map(|(_, category)| category).collect();
        let batches = self.counts.batches();
        // Of samples that were not told apart, any may be this function's.
        let beyond = batches.count(SampleCounts::BEYOND);
        let left_out = !self.context.conduct.ranges.hold_all(range);
        let elsewhere = if left_out { batches.count(SampleCounts::ELSEWHERE) } else { 0 };
        Part { categories, unknown: beyond + elsewhere, left_out }
    }

    /// Of a function that was not asked for, or not all of it.
    fn unwatched(mut judgement: Judgement) -> Judgement {
        judgement.evidence += LEFT_OUT;
        if judgement.verdict == Verdict::Undecided {
            judgement.advice = Some("record it without `inside` and `exclude`".into());
            judgement.measure_longer_ns = None;
        }
        judgement
    }

    /// Judges the share of some categories, to which `unknown` more samples may belong.
    fn judge_share(&self, budget: &Budget, categories: &[usize], unknown: u64) -> Judgement {
        let Some(Share { estimate, hits, low, high }) = self.share(categories, unknown) else {
            return Judgement {
                evidence: NO_SAMPLES.into(),
                advice: Some(TURN_SAMPLING_ON.into()),
                ..blank(budget, "share")
            };
        };
        let limit = &budget.condition.limit;
        let mut judgement = Judgement {
            observed: Some(estimate.share),
            observed_low: Some(low),
            observed_high: Some(high),
            margin: Some(limit.margin(estimate.share)),
            evidence: self.share_evidence(hits, &estimate),
            ..blank(budget, "share")
        };
        judgement.verdict = if limit.holds_for_all(low, high) {
            Verdict::Met
        } else if limit.fails_for_all(low, high) {
            Verdict::Broken
        } else {
            Verdict::Undecided
        };
        if judgement.verdict == Verdict::Undecided {
            self.advise(&mut judgement, limit, &estimate);
        }
        self.object(&mut judgement);
        self.require_over(budget, &mut judgement);
        judgement
    }

    /// The share of some categories, to which `unknown` more samples may belong.
    fn share(&self, categories: &[usize], unknown: u64) -> Option<Share> {
        let batches = self.counts.batches();
        let hits = categories.iter().map(|&category| batches.count(category)).sum();
        let per_batch = batches.per_batch(categories);
        let estimate =
            estimate_share(hits, self.samples, &per_batch, batches.batch_size(), self.confidence)?;
        let (low, high) = self.widened(&estimate, unknown);
        Some(Share { estimate, hits, low, high })
    }

    /// The interval with every missing or unknown sample counted against and for.
    fn widened(&self, estimate: &ShareEstimate, unknown: u64) -> (f64, f64) {
        let n = self.samples as f64;
        let missing = self.missing.unwrap_or(0) as f64;
        let all = n + missing;
        let high = (estimate.high * n + missing + unknown as f64) / all;
        (estimate.low * n / all, high.min(1.0))
    }

    fn share_evidence(&self, hits: u64, estimate: &ShareEstimate) -> String {
        let worth = if estimate.effective_samples < 0.95 * self.samples as f64 {
            format!(", worth {:.0} independent ones", estimate.effective_samples)
        } else {
            String::new()
        };
        let missing = match self.missing {
            Some(0) | None => String::new(),
            Some(missing) => format!(", up to {missing} missing"),
        };
        format!("{hits} of {} samples{worth}{missing}", self.samples)
    }

    /// What would decide an interval that straddles the limit.
    fn advise(&self, judgement: &mut Judgement, limit: &Limit, estimate: &ShareEstimate) {
        if limit.holds_for_all(estimate.low, estimate.high)
            || limit.fails_for_all(estimate.low, estimate.high)
        {
            judgement.advice = Some(
                "lose fewer samples: sample more slowly, trace less beside, or widen the link"
                    .into(),
            );
            return;
        }
        let distance = (estimate.share - limit.nearest_edge(estimate.share)).abs();
        let variance = estimate.share * (1.0 - estimate.share);
        let needed = estimate.critical.powi(2) * variance / distance.powi(2);
        let factor = needed / estimate.effective_samples;
        if !factor.is_finite() || factor > LONGEST_WAIT {
            judgement.advice =
                Some("the figure lies at the limit: no longer recording will decide, a wider limit or faster code would".into());
            return;
        }
        // A little more than the formula says: the share itself will move.
        self.advise_longer(judgement, (1.2 * factor).max(1.2));
    }

    /// Measure `factor` times as long.
    fn advise_longer(&self, judgement: &mut Judgement, factor: f64) {
        judgement.measure_longer_ns =
            self.context.timing.duration().map(|duration| duration.ns * (factor - 1.0));
        judgement.advice = Some(format!("measure about {factor:.1} times as long"));
    }

    fn object(&self, judgement: &mut Judgement) {
        let Some(objection) = &self.objection else { return };
        if objection.against_met_only && judgement.verdict != Verdict::Met {
            return;
        }
        judgement.verdict = Verdict::Undecided;
        judgement.evidence = format!("{}; {}", judgement.evidence, objection.why);
        judgement.advice = Some(objection.advice.clone());
        judgement.measure_longer_ns = None;
    }

    /// `over`: too few samples decide nothing.
    fn require_over(&self, budget: &Budget, judgement: &mut Judgement) {
        let Some(over) = budget.condition.over else { return };
        if self.samples < over && judgement.verdict != Verdict::Broken {
            judgement.verdict = Verdict::Undecided;
            judgement.evidence = format!("{}, fewer than the {over} asked for", judgement.evidence);
            self.advise_longer(judgement, over as f64 / self.samples.max(1) as f64);
        }
    }

    /// Too few samples are no fault of the firmware: undecided, not broken.
    fn judge_samples(&self, budget: &Budget) -> Judgement {
        let observed = self.samples as f64;
        let limit = &budget.condition.limit;
        let mut judgement = Judgement {
            observed: Some(observed),
            margin: Some(limit.margin(observed)),
            evidence: "counted".into(),
            ..blank(budget, "count")
        };
        if limit.holds_for_all(observed, observed) {
            judgement.verdict = Verdict::Met;
            return judgement;
        }
        match limit {
            Limit::OneSided { comparison: Comparison::AtLeast | Comparison::Above, value } => {
                judgement.verdict = Verdict::Undecided;
                if self.samples == 0 {
                    judgement.advice = Some(TURN_SAMPLING_ON.into());
                } else {
                    self.advise_longer(&mut judgement, value / observed);
                }
            }
            _ => judgement.verdict = Verdict::Broken,
        }
        judgement
    }
}

/// What speaks against every verdict on this recording.
fn objection(
    counts: &SampleCounts,
    context: &Context<'_>,
    samples: u64,
    missing: Option<u64>,
) -> Option<Objection> {
    let outside: u64 = counts
        .addresses()
        .filter(|(address, _)| !context.image.is_executable(*address))
        .map(|(_, category)| counts.batches().count(category))
        .sum();
    if outside as f64 > MOST_OUTSIDE * samples as f64 {
        return Some(Objection {
            why: format!("{outside} samples lie outside the image"),
            advice: "use the image that was on the target".into(),
            against_met_only: false,
        });
    }
    if context.conduct.between_points {
        return Some(Objection {
            why: "only what came between points in the code was recorded: a share of that is none of all time".into(),
            advice: "record all of it, without `--window`".into(),
            against_met_only: false,
        });
    }
    if context.conduct.intrusive {
        return Some(Objection {
            why: "the core was stopped while this was recorded: an intrusive measurement meets no budget"
                .into(),
            advice: "measure with the target's own trace".into(),
            against_met_only: true,
        });
    }
    if missing.is_none() {
        return Some(Objection {
            why: "samples are missing, and nothing says how many".into(),
            advice: "turn local timestamps on and state the sampling period, or lose nothing"
                .into(),
            against_met_only: false,
        });
    }
    if context.timing.recording.asleep == 0 && context.timing.has_unseen_time() {
        return Some(Objection {
            why: "there is time that no sample covers, and not one sample says asleep".into(),
            advice: "let the cycle counter run in sleep (a debug register of most chips), or correct the sampling period".into(),
            against_met_only: false,
        });
    }
    let beat = context.beats().into_iter().next()?;
    Some(Objection {
        why: format!("the sampling period beats with {}", beat.name),
        advice: "choose a sampling period that shares no factor with the interrupt's".into(),
        against_met_only: true,
    })
}

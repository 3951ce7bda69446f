//! Verdicts: does every budget hold, by what margin, and on what evidence?
//!
//! A budget on a share is *met* only if the whole interval keeps the limit, *broken* only if none
//! of it does. The interval is widened twice: its confidence is divided among all budgets judged
//! together (Bonferroni), so that many budgets do not make one false verdict likely; and samples
//! that may be missing are counted for and against.

use super::entry::{About, Budget};
use super::file::BudgetFile;
use super::judgement::{Judgement, Verdict, judge_budget, measure_longer};
use super::limit::{Comparison, Limit};
use super::relation;
use super::timing::{Meant, Timings};
use crate::document::Fault;
use crate::figure::{Absent, Basis, Figure};
use crate::image::FunctionId;
use crate::measure::execution::Executed;
use crate::measure::known::Found;
use crate::measure::profile::{Context, Head, SampleCounts, Shares, head};
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/check/3";

/// All budgets, judged.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CheckReport {
    /// `weltblick/check/3`.
    pub schema: String,
    /// The worst of all verdicts.
    pub verdict: Verdict,
    /// The window of time that was judged, as written, where it is not all of the recording.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub within: Option<String>,
    /// What was recorded.
    pub recording: Head,
    /// The confidence with which all verdicts together hold; less doubt is left where looks at the growing recording had
    /// spent some.
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
    let known = Known {
        shares: Shares::new(counts, context, confidence_of_each(file, context)),
        timings,
        executed,
    };
    let mut budgets = Vec::with_capacity(file.budgets.len());
    for budget in &file.budgets {
        let function = file.function(&budget.about, &budget.name_span, context.image)?;
        for (which, found) in known.find(&budget.about, function) {
            let mut judgement = known.judge(budget, found);
            if let Some(which) = which {
                judgement.evidence = format!("of {which}: {}", judgement.evidence);
                (judgement.id, judgement.core) = (which.number, which.core);
            }
            budgets.push(judgement);
        }
    }
    for relation in &file.relations {
        let sides = [&relation.left.about, &relation.right.about];
        let mut found = Vec::with_capacity(2);
        for about in sides {
            let function = file.function(about, &relation.span, context.image)?;
            found.extend(one_of(known.find(about, function)));
        }
        if let (2, Some(right), Some(left)) = (found.len(), found.pop(), found.pop()) {
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
    Ok(CheckReport { schema: SCHEMA.into(), verdict, within: None, recording, confidence, budgets })
}

/// The confidence that is left to the interval of each share.
fn confidence_of_each(file: &BudgetFile, context: &Context<'_>) -> f64 {
    let is_share = |about: &&About| matches!(about, About::SelfShare { .. } | About::SleepShare);
    let shares = file.figures().filter(is_share).count();
    1.0 - (1.0 - context.confidence) / shares.max(1) as f64
}

fn worst(budgets: &[Judgement]) -> Verdict {
    let has = |verdict| budgets.iter().any(|judgement| judgement.verdict == verdict);
    match (has(Verdict::Broken), has(Verdict::Undecided)) {
        (true, _) => Verdict::Broken,
        (_, true) => Verdict::Undecided,
        _ => Verdict::Met,
    }
}

/// Whether a budget asks for so many at least.
fn is_too_few(budget: &Budget) -> bool {
    let limit = &budget.condition.limit;
    matches!(limit, Limit::OneSided { comparison: Comparison::AtLeast | Comparison::Above, .. })
}

/// A relation is between two figures: a name that fits several subjects says too little.
fn one_of(mut found: Vec<Meant>) -> Option<Found> {
    if found.len() > 1 {
        let why = format!("{} are called so", found.len());
        return Some(Err(Absent::new(why, "write the number instead of the name")));
    }
    found.pop().map(|(_, found)| found)
}

/// What is known of one recording.
struct Known<'a> {
    shares: Shares<'a>,
    timings: Option<&'a Timings<'a>>,
    executed: Option<&'a Executed<'a>>,
}

impl Known<'_> {
    /// What is known of each figure that a budget means; nothing where nobody looked.
    fn find(&self, about: &About, function: Option<FunctionId>) -> Vec<Meant> {
        let found = match about {
            About::Timing(figure) => {
                return self.timings.map_or_else(Vec::new, |timings| timings.find(figure));
            }
            About::Coverage { pattern, measure } => {
                self.executed.map(|executed| executed.agreed(|ran| ran.coverage(pattern, *measure)))
            }
            About::Call { measure, .. } => {
                let found = self.executed.zip(function);
                found.map(|(executed, function)| {
                    executed.agreed(|ran| ran.calls(function, *measure))
                })
            }
            About::Way { points, measure } => {
                self.executed.map(|executed| executed.agreed(|ran| ran.way(points, *measure)))
            }
            About::SelfShare { .. } => function.map(|function| match self.exact() {
                Some(executed) => executed.agreed(|ran| ran.share(function)),
                None => self.shares.function(function),
            }),
            About::SleepShare => Some(match self.exact_sleep() {
                Some(executed) => executed.agreed(|ran| ran.sleep()),
                None => self.shares.sleep(),
            }),
            About::Samples => {
                let samples = self.shares.samples();
                Some(Ok(Figure::exact(samples as f64, samples, Basis::Counted)))
            }
        };
        found.into_iter().map(|found| (None, found)).collect()
    }

    /// What an instruction trace knows better than samples.
    fn exact(&self) -> Option<&Executed<'_>> {
        self.executed
            .filter(|executed| executed.calls.is_some())
            .filter(|executed| self.shares.samples() == 0 || executed.tells_shares())
    }

    /// Samples know sleep from both sides, an instruction trace often from one alone.
    fn exact_sleep(&self) -> Option<&Executed<'_>> {
        self.exact().filter(|_| self.shares.samples() == 0)
    }

    /// Whether an instruction trace knows this figure, and not samples.
    fn is_exact(&self, about: &About) -> bool {
        match about {
            About::SelfShare { .. } => self.exact().is_some(),
            About::SleepShare => self.exact_sleep().is_some(),
            _ => false,
        }
    }

    fn judge(&self, budget: &Budget, found: Found) -> Judgement {
        let mut judgement = judge_budget(budget, found);
        match budget.about {
            // Too few samples are no fault of the firmware: undecided, not broken.
            About::Samples if judgement.verdict == Verdict::Broken && is_too_few(budget) => {
                judgement.verdict = Verdict::Undecided;
                let samples = self.shares.samples() as f64;
                let factor = budget.condition.limit.nearest_edge(samples) / samples;
                if factor > 1.0 && factor.is_finite() {
                    measure_longer(&mut judgement, factor, self.shares.duration_ns());
                } else {
                    judgement.advice = Some("turn PC sampling on".into());
                }
            }
            _ if judgement.verdict == Verdict::Met && self.is_exact(&budget.about) => {
                if let Some(over) = budget.condition.over {
                    judgement.verdict = Verdict::Undecided;
                    judgement.evidence += &format!("; that is no sample, and {over} are asked for");
                    judgement.advice = Some(
                        "leave `over` out: what an instruction trace knows needs no samples".into(),
                    );
                }
            }
            _ => {}
        }
        judgement
    }
}

//! Budgets on a function's share of all time, where an instruction trace tells it: nothing is estimated.

use super::entry::Budget;
use super::executed::{Executed, KNOW_TIME, LOSE_NOTHING, OTHER_IMAGE, Observed, STOPPED, decide};
use super::judgement::{Judgement, Verdict};
use super::timing::{Finding, Found};
use crate::image::FunctionId;
use crate::measure::execution::{Calls, Named};
use crate::stats::Bounds;

const NO_TIME: [&str; 2] =
    ["the instruction trace counts no cycles", "count cycles, or turn PC sampling on"];
const WINDOW: [&str; 2] = [
    "only a part of all code was traced, by choice: a share of that is none of all time",
    "record all of it",
];

impl Executed<'_> {
    /// Whether the instruction trace tells shares, and lost nothing.
    pub(super) fn tells_shares(&self) -> bool {
        self.knows_all_time() && self.calls.is_some_and(|calls| calls.ticks().is_some())
    }

    /// Whether everything that ran is known, and how long all of it took.
    fn knows_all_time(&self) -> bool {
        self.is_whole() && self.calls.is_some_and(Calls::knows_all_time)
    }

    /// Judges a function's share of all time, without what it calls.
    pub(super) fn judge_share(
        &self,
        budget: &Budget,
        function: FunctionId,
        blank: Judgement,
    ) -> Judgement {
        let observed = match self.share(function) {
            Ok(observed) => observed,
            Err([why, advice]) => {
                return Judgement {
                    evidence: why.to_owned(),
                    advice: Some(advice.to_owned()),
                    ..blank
                };
            }
        };
        let mut judgement = decide(budget, observed, 1.0, blank);
        if let (Verdict::Met, Some(over)) = (judgement.verdict, budget.condition.over) {
            judgement.verdict = Verdict::Undecided;
            judgement.evidence += &format!("; that is no sample, and {over} are asked for");
            judgement.advice =
                Some("leave `over` out: what an instruction trace tells needs no samples".into());
        }
        judgement
    }

    /// The same figure, to be held against another.
    pub(super) fn find_share(&self, function: FunctionId) -> Found {
        let Observed { bounds: Bounds { low, high }, best, evidence, objection, .. } =
            self.share(function).map_err(|[why, advice]| (why.to_owned(), advice.to_owned()))?;
        let mut finding = Finding {
            low,
            high,
            lossy: !self.knows_all_time(),
            evidence,
            ..Finding::exact(best, u64::MAX, "")
        };
        if let Some([why, advice]) = objection {
            finding.object(why, advice);
        }
        Ok(finding)
    }

    /// Time is shared out by instructions between two counts, and bounded by the stretches in which only that
    /// function ran, and in which it ran at all.
    fn share(&self, function: FunctionId) -> Result<Observed, [&'static str; 2]> {
        let calls = self.calls.ok_or(NO_TIME)?;
        let all = calls.ticks().filter(|&ticks| ticks > 0).ok_or(NO_TIME)? as f64;
        if self.seen.gaps.mismatches > 0 {
            return Err(OTHER_IMAGE);
        }
        if self.seen.gaps.unwatched > 0 {
            return Err(WINDOW);
        }
        let (instructions, time) = calls.tree().own(Named(Some(function)));
        let part = |ticks: u64| (ticks as f64 / all).min(1.0);
        let (bounds, evidence, advice) = if self.knows_all_time() {
            let bounds = Bounds { low: part(time.low), high: part(time.high) };
            (bounds, format!("exact: {instructions} instructions and their time"), KNOW_TIME)
        } else {
            let evidence = format!(
                "{instructions} instructions that are known; something is missing, nobody knows how long"
            );
            (Bounds { low: 0.0, high: 1.0 }, evidence, LOSE_NOTHING)
        };
        Ok(Observed {
            bounds,
            best: part(time.ticks),
            evidence,
            advice,
            count: u64::MAX,
            objection: self.intrusive.then_some(STOPPED),
        })
    }
}

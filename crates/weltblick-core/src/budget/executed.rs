//! Budgets on what was executed: coverage, and calls.

use super::entry::{Budget, CallMeasure, Covered, Of};
use super::judgement::{Judgement, Verdict};
use super::timing::SLEEP_BY_PACE;
use crate::image::{FunctionId, Image};
use crate::measure::coverage::{Build, Choice, Part, report};
use crate::measure::execution::{CallFigures, Calls, Listing, Named, Seen};
use crate::measure::statistic::Scale;
use crate::point::Point;
use crate::stats::{Bounds, Spread};

/// What was executed, as far as budgets ask for it.
#[derive(Debug, Clone, Copy)]
pub struct Executed<'a> {
    /// The image.
    pub image: &'a Image,
    /// Everything that could run.
    pub listing: &'a Listing,
    /// What did.
    pub seen: &'a Seen,
    /// Who called whom, if there is an instruction trace.
    pub calls: Option<&'a Calls<'a>>,
    /// Ways through the code that were followed, by their points.
    pub ways: &'a [(Vec<Point>, Calls<'a>)],
    /// How ticks of calls are stated.
    pub scale: Option<Scale>,
    /// A debugger stopped the core while this was recorded: its timing is not its own.
    pub intrusive: bool,
}

/// A figure between two bounds, and on what it rests.
pub(super) struct Observed {
    pub(super) bounds: Bounds,
    pub(super) best: f64,
    pub(super) evidence: String,
    /// What would narrow the bounds.
    pub(super) advice: &'static str,
    /// How many observations it rests on.
    pub(super) count: u64,
    /// Why it cannot be called met, and what would help.
    pub(super) objection: Option<[&'static str; 2]>,
}

/// Something that happens again and again, and how long it takes.
#[derive(Clone, Copy)]
struct Occurrences<'a> {
    /// What they are called.
    what: &'a str,
    count: u64,
    /// Not seen to their end.
    cut: u64,
    /// Of these, open when the recording ended, and the longest of them so far.
    open: u64,
    open_for: u64,
    /// Without what was called, where that is told apart.
    self_own: Option<&'a Spread>,
    own: &'a Spread,
    elapsed: &'a Spread,
    timed: bool,
    by_pace: bool,
    /// Why there is none, and what would help.
    none: [&'a str; 2],
}

const TRACE_INSTRUCTIONS: &str =
    "record an instruction trace: samples tell no branches and no calls";
const KNOW_MORE: &str = "cover more, or lose nothing: what was not seen may have run all the same";
pub(super) const LOSE_NOTHING: &str = "lose nothing: trace less, or give the trace unit a wider port; calls may hide in what is missing";
pub(super) const KNOW_TIME: &str =
    "count cycles more finely (a lower threshold): the limit lies within the bounds";

pub(super) const OTHER_IMAGE: [&str; 2] = [
    "packets and image contradict each other",
    "use the image that was on the target, or a recording without damage",
];
pub(super) const STOPPED: [&str; 2] = [
    "the core was stopped while this was recorded: an intrusive measurement meets no budget",
    "measure with the target's own trace",
];
const STILL_RUNS: [&str; 2] = [
    "when the recording ended one had lasted longer than ever before, and had not ended",
    "measure on until it ends",
];

impl Executed<'_> {
    /// What speaks against every verdict that is good news.
    fn objection(&self) -> Option<[&'static str; 2]> {
        (self.seen.gaps.mismatches > 0).then_some(OTHER_IMAGE)
    }

    /// Whether everything that ran is known.
    pub(super) fn is_whole(&self) -> bool {
        self.seen.gaps.is_whole() && self.seen.gaps.unwatched == 0
    }

    /// Judges how much of some code was covered.
    pub(super) fn judge_coverage(
        &self,
        budget: &Budget,
        pattern: &str,
        measure: Covered,
        blank: Judgement,
    ) -> Judgement {
        let choice = Choice { inside: vec![pattern.to_owned()], ..Choice::default() };
        let build = Build { image: self.image, listing: self.listing, seen: self.seen };
        let report = report(&build, &choice);
        let total = report.total;
        let (name, part) = match measure {
            Covered::Functions => ("functions", Some(total.functions)),
            Covered::Lines => ("lines", Some(total.lines)),
            Covered::Instructions => ("instructions", Some(total.instructions)),
            Covered::Branches => ("ways of branches", total.branches),
            Covered::Calls => ("calls", Some(total.calls)),
        };
        let Some(Part { covered, total, share }) = part else {
            return without(blank, "samples tell no branches", TRACE_INSTRUCTIONS);
        };
        let Some(share) = share else {
            let why = format!("there are no {name} in functions or files called `{pattern}`");
            return without(
                blank,
                &why,
                "write the name of a function or file; `*` stands for anything",
            );
        };
        let lower = self.seen.lower_bound || !self.is_whole();
        let evidence =
            format!("{}{covered} of {total} {name}", if lower { "at least " } else { "" });
        let bounds = Bounds { low: share, high: if lower { 1.0 } else { share } };
        decide(
            budget,
            Observed {
                bounds,
                best: share,
                evidence,
                advice: KNOW_MORE,
                count: total,
                objection: self.objection(),
            },
            1.0,
            blank,
        )
    }

    /// Judges a figure of a function's calls.
    pub(super) fn judge_calls(
        &self,
        budget: &Budget,
        function: FunctionId,
        measure: CallMeasure,
        blank: Judgement,
    ) -> Judgement {
        let Some(calls) = self.calls else {
            return without(blank, "samples tell no calls", TRACE_INSTRUCTIONS);
        };
        let none = CallFigures::default();
        let found = calls.figures().find(|(named, _)| *named == Named(Some(function)));
        let figures = found.map_or(&none, |(_, figures)| figures);
        let occurrences = Occurrences {
            what: "calls",
            count: figures.calls,
            cut: figures.cut,
            open: figures.open,
            open_for: figures.open_for,
            self_own: Some(&figures.self_own),
            own: &figures.own,
            elapsed: &figures.elapsed,
            timed: calls.ticks().is_some(),
            by_pace: figures.by_pace,
            none: ["it was not called from beginning to end", "measure until it is called"],
        };
        self.judge_occurrences(budget, &occurrences, measure, blank)
    }

    /// Judges a figure of a way through the code.
    pub(super) fn judge_way(
        &self,
        budget: &Budget,
        points: &[Point],
        measure: CallMeasure,
        blank: Judgement,
    ) -> Judgement {
        let found = self.ways.iter().find(|(way, _)| way == points);
        let Some(crossings) = found.and_then(|(_, calls)| calls.crossings()) else {
            return without(blank, "samples tell no way through the code", TRACE_INSTRUCTIONS);
        };
        let whole = crossings.total.instructions.count();
        // One that has not ended is none yet, but may last.
        let open = if measure == CallMeasure::Count { 0 } else { crossings.cut };
        let occurrences = Occurrences {
            what: "times from the first point to the last",
            count: whole + open,
            cut: crossings.cut,
            open: crossings.open_at_end,
            open_for: crossings.open_for,
            self_own: None,
            own: &crossings.total.own,
            elapsed: &crossings.total.elapsed,
            timed: crossings.is_timed(),
            by_pace: crossings.by_pace,
            none: [
                "it was gone not once from the first point to the last",
                "measure until it is; `span` says more",
            ],
        };
        self.judge_occurrences(budget, &occurrences, measure, blank)
    }

    fn judge_occurrences(
        &self,
        budget: &Budget,
        occurrences: &Occurrences<'_>,
        measure: CallMeasure,
        blank: Judgement,
    ) -> Judgement {
        let &Occurrences {
            what,
            count,
            cut,
            open,
            open_for,
            self_own,
            own,
            elapsed,
            timed,
            by_pace,
            none,
        } = occurrences;
        let whole = self.is_whole();
        let mut evidence = match cut {
            0 => format!("{count} {what}"),
            cut => format!("{count} {what}, {cut} not seen to their end"),
        };
        let (spread, of) = match measure {
            CallMeasure::SelfOwn(of) => (self_own.unwrap_or(own), of),
            CallMeasure::Own(of) => (own, of),
            CallMeasure::Elapsed(of) => (elapsed, of),
            CallMeasure::Count => (elapsed, Of::All),
        };
        if by_pace && measure != CallMeasure::Count {
            evidence += SLEEP_BY_PACE;
        }
        if measure == CallMeasure::Count {
            let best = count as f64;
            let bounds = Bounds { low: best, high: if whole { best } else { f64::INFINITY } };
            let objection = self.objection();
            let observed =
                Observed { bounds, best, evidence, advice: LOSE_NOTHING, count, objection };
            return decide(budget, observed, 1.0, blank);
        }
        let Some(scale) = self.scale.filter(|_| timed) else {
            return without(
                blank,
                "nothing tells time",
                "turn cycle counts on, and state the core clock",
            );
        };
        let Some(seen) = statistic(spread, of) else {
            return without(blank, none[0], none[1]);
        };
        // What is missing may have been longer, or shorter.
        let missing = count.saturating_sub(spread.count() + open);
        let whole = whole && missing == 0;
        let still_runs = spread.max().is_some_and(|longest| open_for > longest.high);
        let objection = self
            .objection()
            .or(self.intrusive.then_some(STOPPED))
            .or(still_runs.then_some(STILL_RUNS));
        let bounds = if whole {
            seen
        } else {
            match of {
                Of::Max => Bounds { high: f64::INFINITY, ..seen },
                Of::Min => Bounds { low: 0.0, ..seen },
                _ => Bounds { low: 0.0, high: f64::INFINITY },
            }
        };
        let seconds = scale.ns / 1e9;
        let observed = Observed {
            bounds: Bounds { low: bounds.low * seconds, high: bounds.high * seconds },
            best: seen.middle() * seconds,
            evidence,
            advice: if whole { KNOW_TIME } else { LOSE_NOTHING },
            count: spread.count(),
            objection,
        };
        decide(budget, observed, 1e9, blank)
    }
}

fn statistic(spread: &Spread, of: Of) -> Option<Bounds> {
    match of {
        Of::Min => spread.min().map(Bounds::from),
        Of::Max => spread.max().map(Bounds::from),
        Of::Percentile(part) => spread.percentile(f64::from(part) / 100.0),
        Of::Mean | Of::All | Of::Deviation | Of::Each => spread.mean(),
    }
}

/// A budget that nothing is known about.
fn without(blank: Judgement, why: &str, advice: &str) -> Judgement {
    Judgement { evidence: why.to_owned(), advice: Some(advice.to_owned()), ..blank }
}

/// Met only if all within the bounds keeps the limit, broken only if nothing does. `factor` is that
/// between limits and results.
pub(super) fn decide(
    budget: &Budget,
    observed: Observed,
    factor: f64,
    blank: Judgement,
) -> Judgement {
    let Observed { bounds: Bounds { low, high }, best, mut evidence, advice, count, objection } =
        observed;
    let limit = &budget.condition.limit;
    let mut verdict = if limit.fails_for_all(low, high) {
        Verdict::Broken
    } else if limit.holds_for_all(low, high) {
        Verdict::Met
    } else {
        Verdict::Undecided
    };
    let mut advice = (verdict == Verdict::Undecided).then(|| advice.to_owned());
    if let Some(over) = budget.condition.over.filter(|&over| count < over)
        && verdict == Verdict::Met
    {
        verdict = Verdict::Undecided;
        evidence = format!("{evidence}, fewer than the {over} asked for");
        advice = Some("measure longer".into());
    }
    if let (Verdict::Met, Some([why, help])) = (verdict, objection) {
        verdict = Verdict::Undecided;
        evidence = format!("{evidence}; {why}");
        advice = Some(help.into());
    }
    Judgement {
        verdict,
        observed: Some(best * factor),
        observed_low: Some(low * factor),
        observed_high: high.is_finite().then_some(high * factor),
        margin: Some(limit.margin(best)),
        evidence,
        advice,
        ..blank
    }
}

//! What is known of the figures of what was executed: coverage, calls, and shares.

mod share;

use super::{CallFigures, Calls, Listing, Named, Seen, Sleep};
use crate::figure::{Absent, Basis, Doubt, Effect, Figure, Note, SHARE};
use crate::image::{FunctionId, Image};
use crate::measure::coverage::{Build, Choice, Covered, Measures, Part, report};
use crate::measure::known::{Found, Of, OpenRuns};
use crate::measure::statistic::Scale;
use crate::point::Point;
use crate::stats::{Bounds, Spread};

/// A figure of a function's calls: with what it calls, where it does not say otherwise.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CallMeasure {
    /// How many.
    Count,
    /// How long without what it called, and without what interrupted it.
    SelfOwn(Of),
    /// How long, without what interrupted it.
    Own(Of),
    /// How long from beginning to end.
    Elapsed(Of),
}

/// What was executed, as far as anybody asks for it.
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
    /// How much the core slept, if there is an instruction trace and anybody asks.
    pub sleep: Option<&'a Sleep>,
    /// How ticks of calls are stated.
    pub scale: Option<Scale>,
    /// A debugger stopped the core while this was recorded: its timing is not its own.
    pub intrusive: bool,
    /// The trace is what a buffer kept at its end: what it overwrote is unknown.
    pub kept_the_end: bool,
    /// In so many places cycle counts and timestamps disagree: something vanished there.
    pub times_disagree: u64,
    /// What was executed before the last synchronisation, where something ran behind it.
    pub confirmed: Option<&'a Confirmed<'a>>,
}

/// What was executed before the last synchronisation that agrees with it.
#[derive(Debug)]
pub struct Confirmed<'a> {
    /// What ran.
    pub seen: Seen,
    /// Who called whom.
    pub calls: Option<Calls<'a>>,
    /// Ways through the code.
    pub ways: Vec<(Vec<Point>, Calls<'a>)>,
    /// How much the core slept.
    pub sleep: Option<Sleep>,
}

/// Something that happens again and again, and how long it takes.
#[derive(Clone, Copy)]
struct Occurrences<'a> {
    /// What they are called.
    what: &'static str,
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
pub(crate) const LOSE_NOTHING: &str = "lose nothing: trace less, or give the trace unit a wider port; calls may hide in what is missing";
pub(crate) const KNOW_TIME: &str =
    "count cycles more finely (a lower threshold): the limit lies within the bounds";

impl Executed<'_> {
    /// Counts against a figure what speaks against the trace.
    pub(crate) fn weigh(&self, found: &mut Figure) {
        if self.times_disagree > 0 {
            found.doubt(Doubt::TimesDisagree { places: self.times_disagree });
        }
        if self.seen.gaps.mismatches > 0 {
            found.doubt(Doubt::ImageContradicted);
        }
        if self.intrusive {
            found.doubt(Doubt::Stopped);
        }
        self.weigh_missing(found);
    }

    /// Counts against a figure what speaks against the trace, too seldom a synchronisation included.
    pub(crate) fn weigh_all(&self, found: &mut Figure) {
        self.weigh_synchronisation(found);
        self.weigh(found);
    }

    fn weigh_synchronisation(&self, found: &mut Figure) {
        if self.seen.gaps.is_seldom_confirmed() {
            found.doubt(Doubt::SeldomSynchronised);
        }
    }

    /// Says what is missing; whoever measured it has counted it for and against.
    fn weigh_missing(&self, found: &mut Figure) {
        let (places, bytes) = (self.seen.gaps.places(), self.seen.gaps.head);
        if places > 0 {
            found.doubt(Doubt::InstructionsMissing { places });
        }
        if bytes > 0 {
            found.doubt_with(Doubt::Head { bytes }, Effect::Counted);
        }
        if self.ran_where_two_lie() {
            // Whoever follows the trace has followed one of them, and the other may have been there.
            found.doubt(Doubt::Overlaid);
        }
    }

    /// Whether something ran at an address that two sections of the image have.
    fn ran_where_two_lie(&self) -> bool {
        let ran = || self.listing.instructions.iter().zip(&self.seen.executed);
        let two = |address: u64| self.image.is_overlaid(&(address..address + 1));
        self.image.is_overlaid(&(0..u64::MAX))
            && ran().any(|(listed, &count)| count > 0 && two(listed.address))
    }

    /// A figure with the bounds that it has with what no synchronisation confirms, and without it: nothing is met, or
    /// broken, by that alone.
    pub(crate) fn agreed(&self, figure: impl Fn(&Executed<'_>) -> Found) -> Found {
        self.agree(figure(self), self.only_confirmed().map(|before| figure(&before)))
    }

    fn agree(&self, figure: Found, before: Option<Found>) -> Found {
        let mut found = figure?;
        self.weigh_synchronisation(&mut found);
        if let Some(before) = before {
            found.agree_with(before.ok());
        }
        Ok(found)
    }

    /// What ran before the last synchronisation, where something ran behind it.
    fn only_confirmed(&self) -> Option<Executed<'_>> {
        let Confirmed { seen, calls, ways, sleep } = self.confirmed?;
        let (calls, sleep) = (calls.as_ref(), sleep.as_ref());
        Some(Executed { seen, calls, ways, sleep, confirmed: None, ..*self })
    }

    /// Whether everything that ran is known.
    pub(crate) fn is_whole(&self) -> bool {
        !self.kept_the_end && self.seen.gaps.is_whole() && self.seen.gaps.unwatched == 0
    }

    /// How much of functions or files of such a name was covered.
    pub(crate) fn coverage(&self, pattern: &str, measure: Covered) -> Found {
        let choice = Choice { inside: vec![pattern.to_owned()], ..Choice::default() };
        self.coverage_of(&choice, &self.totals(&choice), measure)
    }

    /// What is known of each total of some code's coverage, with what no synchronisation confirms, and without it.
    ///
    /// `totals` are those of this choice; a measure that it has nothing of has no figure.
    #[must_use]
    pub fn covered(&self, choice: &Choice, totals: &Measures) -> Vec<(Covered, Figure)> {
        let before = self.only_confirmed();
        let before = before.as_ref().map(|before| (before, before.totals(choice)));
        let figure = |measure: Covered| {
            let all = self.coverage_of(choice, totals, measure);
            let before = before.as_ref();
            let before = before.map(|(ran, totals)| ran.coverage_of(choice, totals, measure));
            Some((measure, self.agree(all, before).ok()?))
        };
        Covered::ALL.into_iter().filter_map(figure).collect()
    }

    fn totals(&self, choice: &Choice) -> Measures {
        let build = Build { image: self.image, listing: self.listing, seen: self.seen };
        report(&build, choice).total
    }

    fn coverage_of(&self, choice: &Choice, total: &Measures, measure: Covered) -> Found {
        let (name, part) = match measure {
            Covered::Functions => ("functions", Some(total.functions)),
            Covered::Lines => ("lines", Some(total.lines)),
            Covered::Instructions => ("instructions", Some(total.instructions)),
            Covered::Branches => ("branch outcomes", total.branches),
            Covered::Calls => ("calls", Some(total.calls)),
        };
        let Some(Part { covered, total, share, .. }) = part else {
            return Err(Absent::new("samples show no branches", TRACE_INSTRUCTIONS));
        };
        let Some(share) = share else {
            let called = choice.inside.join("` or `");
            let why = format!("there are no {name} in functions or files called `{called}`");
            let advice = "write the name of a function or file; `*` stands for anything";
            return Err(Absent::new(why, advice));
        };
        let lower = self.seen.lower_bound || !self.is_whole();
        let basis = Basis::Covered { covered, total, what: name, at_least: lower };
        let bounds = Bounds { low: share, high: if lower { 1.0 } else { share } };
        let mut found = Figure::between(share, bounds, total, basis);
        found.possible = SHARE;
        found.evidence.narrows = KNOW_MORE;
        if self.seen.gaps.mismatches > 0 {
            found.doubt(Doubt::ImageContradicted);
        }
        if self.kept_the_end {
            found.doubt(Doubt::KeptTheEnd);
        }
        if let Some(doubt) = self.misplaced(choice) {
            found.doubt(doubt);
        }
        self.weigh_missing(&mut found);
        if self.times_disagree > 0 {
            let doubt = Doubt::TimesDisagree { places: self.times_disagree };
            found.doubt_with(doubt, Effect::Above);
        }
        Ok(found)
    }

    /// What speaks against a choice by files, where it is not known in which of them functions are.
    fn misplaced(&self, choice: &Choice) -> Option<Doubt> {
        // A function by its name, and everything, are the same in any file.
        let is_certain =
            |name: &String| name == "*" || !self.image.functions_named(name).is_empty();
        if choice.inside.iter().chain(&choice.exclude).all(is_certain) {
            return None;
        }
        let files = self.image.missing_debug_files_in_words()?;
        Some(Doubt::DeclarationsMissing { files })
    }

    /// A figure of a function's calls.
    pub(crate) fn calls(&self, function: FunctionId, measure: CallMeasure) -> Found {
        let Some(calls) = self.calls else {
            return Err(Absent::new("samples show no calls", TRACE_INSTRUCTIONS));
        };
        let none = CallFigures::default();
        let figures = calls.figures_of(Named(Some(function))).unwrap_or(&none);
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
        self.occurrences(&occurrences, measure)
    }

    /// A figure of a path through the code.
    pub(crate) fn way(&self, points: &[Point], measure: CallMeasure) -> Found {
        let found = self.ways.iter().find(|(way, _)| way == points);
        let Some(crossings) = found.and_then(|(_, calls)| calls.crossings()) else {
            return Err(Absent::new("samples show no path through the code", TRACE_INSTRUCTIONS));
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
                "it was not once taken from the first point to the last",
                "measure until it is; `span` says more",
            ],
        };
        self.occurrences(&occurrences, measure)
    }

    fn occurrences(&self, occurrences: &Occurrences<'_>, measure: CallMeasure) -> Found {
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
        let basis = Basis::Occurrences { count, what, cut };
        let (spread, of) = match measure {
            CallMeasure::SelfOwn(of) => (self_own.unwrap_or(own), of),
            CallMeasure::Own(of) => (own, of),
            CallMeasure::Elapsed(of) => (elapsed, of),
            CallMeasure::Count => (elapsed, Of::All),
        };
        if measure == CallMeasure::Count {
            let seen = count as f64;
            let bounds = Bounds { low: seen, high: if whole { seen } else { f64::INFINITY } };
            let mut found = Figure::between(seen, bounds, count, basis);
            found.evidence.narrows = LOSE_NOTHING;
            self.weigh(&mut found);
            return Ok(found);
        }
        let Some(scale) = self.scale.filter(|_| timed) else {
            return Err(Absent::new(
                "the trace has no times",
                "count cycles and state the core clock, or state what the timestamps count (`global_clock`)",
            ));
        };
        let seconds = scale.ns / 1e9;
        let Some(seen) = statistic(spread, of) else {
            return Err(Absent::new(none[0], none[1]));
        };
        // What is missing may have been longer, or shorter.
        let missing = count.saturating_sub(spread.count() + open);
        let whole = whole && missing == 0;
        let bounds = if whole {
            seen
        } else {
            match of {
                Of::Max => Bounds { high: f64::INFINITY, ..seen },
                Of::Min => Bounds { low: 0.0, ..seen },
                _ => Bounds { low: 0.0, high: f64::INFINITY },
            }
        };
        let mut found =
            Figure::between(seen.scaled(seconds), bounds.scaled(seconds), spread.count(), basis);
        found.evidence.narrows = if whole { KNOW_TIME } else { LOSE_NOTHING };
        found.evidence.notes.extend(by_pace.then_some(Note::ByPace));
        if matches!(of, Of::Max) && open > 0 {
            // With what it called, and without what interrupted it: at most what passed.
            OpenRuns {
                count: [0, open],
                longest: open_for,
                is_exact: measure == CallMeasure::Elapsed(of),
            }
            .weigh(&mut found, spread, of, scale);
        }
        self.weigh(&mut found);
        Ok(found)
    }
}

fn statistic(spread: &Spread, of: Of) -> Option<Bounds> {
    match of {
        Of::Min => spread.min().map(Bounds::from),
        Of::Max => spread.max().map(Bounds::from),
        Of::Percentile(part) => spread.percentile(f64::from(part) / 100.0),
        Of::Deviation => spread.deviation().map(|deviation| {
            // Each may be off by half of its window, one way or the other.
            let blur = spread.widest() as f64;
            Bounds { low: (deviation - blur).max(0.0), high: deviation + blur }
        }),
        Of::Mean | Of::All | Of::Each => spread.mean(),
    }
}

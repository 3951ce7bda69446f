//! What is known of a recording as a whole, and what that does to each of its figures.

mod against;
mod ask;
mod row_figures;
mod runs;

pub use ask::{Ask, KnownBy, Measure, Of};
pub(crate) use runs::{
    Found, Hiding, Missing, OpenRuns, counted, spread, spread_or_open, weigh_silence,
};

pub(crate) use against::Against;
pub use row_figures::{Often, Part};
pub(crate) use row_figures::{RowFigures, statistic};

use crate::figure::{Absent, Doubt, Effect, Figure, Note, Objection, Rests};
use crate::measure::cadence::SysTicks;
use crate::measure::inspection::Unannounced;
use crate::measure::interrupts::InterruptNames;
use crate::measure::profile::Conduct;
use crate::measure::recording::Recording;
use crate::measure::statistic::Scale;
use crate::measure::timing::Timing;
use crate::stats::Ticks;
use crate::time::Window;

/// What every figure of a recording rests on.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    /// How ticks are stated; absent where no clock is.
    pub scale: Option<Scale>,
    /// All ticks of the recording, between bounds.
    pub span: Ticks,
    /// Its last moment.
    pub end: Window,
    /// How many cores it is of.
    pub cores: u32,
    /// What it calls interrupts.
    pub interrupt_names: InterruptNames,
    /// Exceptions were traced: own times and loads of tasks are without handlers.
    pub exceptions: bool,
    /// Times are those of an instruction trace, which does not say when the core fell asleep.
    pub by_pace: bool,
    /// Bytes were lost, or nothing was recorded for a while: how long is unknown.
    pub slipped: bool,
    /// In so many places something was left out, by choice of whoever reads: it is not missing.
    pub left_out: u64,
    /// The fewest ticks from one entry to the next: what bounds how many runs a gap hides.
    pub shortest_run: f64,
    /// What speaks against figures in time, whatever they are of.
    pub against: Vec<Doubt>,
}

/// The fewest core cycles from one entry of a handler to the next: taken right behind another's end, it returns at once.
const SHORTEST_RUN: f64 = 8.0;

/// What speaks against every figure in time of a recording, in which entries and exits contradict each other so often.
#[must_use]
pub fn against_times(
    timing: &Timing<'_>,
    ticks: &SysTicks,
    contradictions: u64,
    unannounced: &Unannounced,
    conduct: &Conduct,
) -> Vec<Doubt> {
    [
        (contradictions > 0).then_some(Doubt::Contradictions { count: contradictions }),
        timing.clock_off(ticks).map(|off| Doubt::Clock { off }),
        unannounced.doubt(timing),
        timing.period_contradicted().map(|factor| Doubt::Period { factor }),
        conduct.intrusive.then_some(Doubt::Stopped),
        timing.head().filter(|_| !conduct.attached),
    ]
    .into_iter()
    .flatten()
    .chain(timing.doubts(ticks))
    .collect()
}

impl Facts {
    /// Of a recording, as far as it alone says; whoever followed exceptions, or knows what speaks against it, adds that.
    #[must_use]
    pub fn of(timing: &Timing<'_>) -> Self {
        let clocks = timing.clocks;
        Self {
            scale: clocks.timestamp_clock.map(|clock| Scale::of(clock, clocks.core_clock)),
            shortest_run: SHORTEST_RUN * timing.timestamp_ratio(),
            ..Self::default()
        }
        .up_to(timing.recording)
    }

    /// What figures rest on if the recording ends earlier.
    #[must_use]
    pub fn up_to(&self, recording: &Recording) -> Self {
        Self {
            span: recording.span_between().unwrap_or_default(),
            end: recording.last_moment().unwrap_or_default(),
            cores: recording.cores(),
            interrupt_names: recording.interrupt_names.clone(),
            slipped: recording.time_slipped,
            left_out: recording.left_out,
            against: self.against.clone(),
            ..*self
        }
    }

    /// How ticks are stated.
    pub(crate) fn scale(&self) -> Result<Scale, Absent> {
        self.scale.ok_or_else(|| Absent::new("no clock is stated", "give --core-clock"))
    }

    /// What speaks against figures of this recording, as results state it.
    #[must_use]
    pub fn objections(&self) -> Vec<Objection> {
        let mut objections: Vec<Objection> = self.against.iter().map(Objection::from).collect();
        objections.dedup();
        objections
    }

    /// Counts for and against a figure what is known of the recording.
    pub(crate) fn weigh(&self, ask: Ask, rests: Rests, found: &mut Figure) {
        self.weigh_on(None, ask, rests, found);
    }

    /// What is known of the recording, for a figure of one core alone.
    pub(crate) fn weigh_on(&self, core: Option<u8>, ask: Ask, rests: Rests, found: &mut Figure) {
        if self.slipped && matches!(ask.measure, Measure::Rate | Measure::Load) {
            // Without all of the time there is no part of it, and nothing per second.
            found.doubt(Doubt::TimeLost);
        }
        // What a gap hides is bounded by its ticks; by what a budget guarantees a second, by their length, too.
        let is_bounded_by_gaps = ask.measure == Measure::Count && found.evidence.lossy;
        let hiding = Rests {
            ticks: is_bounded_by_gaps,
            clock: is_bounded_by_gaps && ask.at_most.is_some(),
            exceptions: false,
        };
        for doubt in &self.against {
            match doubt {
                _ if !doubt.touches(rests) && doubt.touches(hiding) => {
                    found.doubt_with(doubt.clone(), Effect::Above);
                }
                _ if !doubt.touches(rests) => {}
                Doubt::CoreSilent { core: other, .. }
                    if core.is_some_and(|core| core != *other) => {}
                // What is not known may hold more of them, and longer ones.
                Doubt::Head { .. } | Doubt::CoreSilent { .. } => {
                    let effect = match ask.measure {
                        Measure::Count | Measure::StackPeak => Effect::Above,
                        Measure::Load if matches!(ask.of, Of::All) => Effect::Both,
                        _ => unseen(ask.of),
                    };
                    found.doubt_with(doubt.clone(), effect);
                }
                _ => found.doubt(doubt.clone()),
            }
        }
    }

    /// Says that time was separated from sleep by the pace of instructions.
    pub(crate) fn tell_pace(&self, ask: Ask, found: &mut Figure) {
        if self.by_pace && ask.is_time() {
            found.evidence.notes.push(Note::ByPace);
        }
    }

    /// What a gap hides at most, of a subject that whoever asks guarantees a rate for or not.
    pub(crate) fn hiding(&self, ask: Ask, unknown: u64, scale: Scale) -> Hiding {
        let guaranteed = ask.at_most.map_or(0.0, |hertz| 1e9 / (hertz.max(1e-9) * scale.ns));
        let shortest = self.shortest_run.max(guaranteed);
        Hiding { unknown, shortest, slipped: self.slipped }
    }

    /// How often a second; the recording is known to be as long as its first and last moments are.
    pub(crate) fn rate(&self, count: u64, missing: &Missing, scale: Scale) -> Figure {
        let per_second = |ticks: u64| 1e9 / (ticks.max(1) as f64 * scale.ns);
        let mut found = counted(count, missing, per_second(self.span.low));
        let middle = per_second(u64::midpoint(self.span.low, self.span.high));
        (found.seen, found.low) =
            ((count as f64 * middle).into(), count as f64 * per_second(self.span.high));
        found
    }
}

/// Says that a verdict relied on what the budget guarantees.
pub(crate) fn relied(ask: Ask, missing: &Missing, found: &mut Figure) {
    let counts_runs = !matches!(ask.measure, Measure::Load | Measure::StackPeak | Measure::Value);
    if let (Some(hertz), true) = (ask.at_most, missing.runs > 0 && counts_runs) {
        found.evidence.notes.push(Note::AtMost(hertz));
    }
}

/// What was not seen may have been anything: an extreme that was seen was one all the same.
pub(crate) const fn unseen(of: Of) -> Effect {
    match of {
        Of::Max => Effect::Above,
        Of::Min => Effect::Below,
        _ => Effect::Both,
    }
}

/// Its subject does not have what was asked for.
pub(crate) fn no_such_figure() -> Absent {
    Absent::new("there is no such figure", "see the guide for what can be judged")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Basis;
    use crate::stats::Bounds;

    fn count(lossy: bool, ask: Ask, doubt: Doubt) -> (f64, f64) {
        let facts = Facts { against: vec![doubt], ..Facts::default() };
        let bounds = Bounds { low: 5.0, high: 9.0 };
        let mut found = Figure::between(5.0, bounds, 5, Basis::Counted);
        found.evidence.lossy = lossy;
        facts.weigh(ask, ask.rests(false), &mut found);
        (found.low, found.high)
    }

    #[test]
    fn a_count_rests_on_ticks_only_where_a_gap_bounds_it_by_them() {
        let plain = Ask::new(Measure::Count, Of::All);
        let changed = || Doubt::ClockChanged { times: 1, within: None };
        assert_eq!(count(false, plain, changed()), (5.0, 9.0), "nothing is missing");
        assert_eq!(count(true, plain, changed()), (5.0, f64::INFINITY));
        // How long a tick is matters where a budget says how often a second it may happen.
        let off = || Doubt::Clock { off: 0.5 };
        assert_eq!(count(true, plain, off()), (5.0, 9.0));
        let guaranteed = Ask { at_most: Some(100.0), ..plain };
        assert_eq!(count(true, guaranteed, off()), (5.0, f64::INFINITY));
        assert_eq!(count(false, guaranteed, off()), (5.0, 9.0));
    }

    #[test]
    fn a_doubt_weighs_on_what_it_touches() {
        let weighed = |ask: Ask, exceptions: bool, doubt: Doubt| {
            let facts = Facts { against: vec![doubt], ..Facts::default() };
            let mut found = Figure::exact(5.0, 5, Basis::Counted);
            facts.weigh(ask, ask.rests(exceptions), &mut found);
            found.high.is_infinite()
        };
        let own = Ask::new(Measure::Own, Of::Max);
        let load = Ask::new(Measure::Load, Of::Max);
        let most = Ask::new(Measure::Value, Of::Max);
        let mean = Ask::new(Measure::Value, Of::Mean);
        let off = || Doubt::Clock { off: 0.5 };
        // A load is a part of all ticks, however long they are.
        assert_eq!(
            [own, load, most, mean].map(|ask| weighed(ask, true, off())),
            [true, false, false, false]
        );
        let stopped = || Doubt::ClockStopped { places: 1, within: None };
        assert_eq!(
            [own, load, most, mean].map(|ask| weighed(ask, true, stopped())),
            [true, true, false, true]
        );
        let unannounced = || Doubt::Unannounced { samples: 9, within: None };
        assert!(weighed(own, true, unannounced()) && !weighed(own, false, unannounced()));
    }
}

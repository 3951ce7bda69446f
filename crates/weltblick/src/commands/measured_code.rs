//! What was executed, as budgets ask for it: coverage, calls, paths through the code, shares.

use super::coverage::seen_of;
use crate::sources::{Beside, Capture, Part};
use anyhow::Result;
use weltblick_core::figure::Doubt;
use weltblick_core::judge::{About, BudgetFile, Point, address_of};
use weltblick_core::measure::execution::{
    BlockCounts, Calls, Confirmed, Crossings, Executed, Gaps, Listing, Seen, Sleep, Tally,
    TimeAgreement,
};
use weltblick_core::measure::inspection::trace_doubts;
use weltblick_core::measure::profile::SampleCounts;

/// What was executed, for budgets that ask for it.
pub(super) struct Ran<'a> {
    listing: Listing,
    seen: Seen,
    calls: Option<Calls<'a>>,
    ways: Vec<(Vec<Point>, Calls<'a>)>,
    sleep: Option<Sleep>,
    times_disagree: u64,
    /// What was executed before the last synchronisation, where something ran behind it.
    confirmed: Option<Confirmed<'a>>,
}

impl<'a> Ran<'a> {
    /// What was executed, if budgets ask for it; `without_head`: from the first synchronisation on.
    pub(super) fn of(
        budgets: &BudgetFile,
        capture: &'a Capture,
        samples: &SampleCounts,
        without_head: bool,
    ) -> Result<Option<Self>> {
        if !asks_for_executed(budgets, capture) {
            return Ok(None);
        }
        let image = capture.image()?;
        let listing = Listing::of(image);
        if !capture.has_flow() {
            let seen = Seen::of_samples(samples, &listing);
            let (calls, ways, times_disagree) = (None, Vec::new(), 0);
            let (sleep, confirmed) = (None, None);
            return Ok(Some(Self { listing, seen, calls, ways, sleep, times_disagree, confirmed }));
        }
        let calls = Calls::new(image, capture.flow_clocking());
        let sleep = asks_for_sleep(budgets).then(|| Sleep::new(capture.flow_clocking()));
        let mut further = (TimeAgreement::default(), sleep);
        let mut beside: Beside<'_> = (Some(BlockCounts::default()), Some(&mut further));
        let (code, mut calls) = Part::default().follow(capture, &[], &mut beside, calls)?;
        let counts = beside.0.unwrap_or_default();
        let (agreement, mut sleep) = further;
        let times_disagree = agreement.contradictions();
        let tally = counts.into_tally(&code);
        let seen_of = |tally: &Tally| {
            let mut seen = seen_of(capture, tally, &listing);
            if without_head {
                seen.gaps.head = 0;
            }
            seen
        };
        let seen = seen_of(&tally);
        let mut ways = ways(budgets, capture)?;
        let confirmed = tally.confirmed.map(|tally| {
            let seen = seen_of(&tally);
            let part = |(points, calls): &mut (Vec<Point>, Calls<'a>)| {
                Some((points.clone(), calls.take_confirmed()?))
            };
            let (calls, ways) =
                (calls.take_confirmed(), ways.iter_mut().filter_map(part).collect());
            let sleep = sleep.as_mut().and_then(Sleep::take_confirmed);
            Confirmed { seen, calls, ways, sleep }
        });
        let calls = Some(calls);
        Ok(Some(Self { listing, seen, calls, ways, sleep, times_disagree, confirmed }))
    }

    /// What speaks against times that come from the trace.
    pub(super) fn doubts(&self) -> Vec<Doubt> {
        doubts_of(self.times_disagree, &self.seen.gaps)
    }

    /// As it is judged.
    pub(super) fn executed(&self, capture: &'a Capture) -> Result<Executed<'_>> {
        Ok(Executed {
            image: capture.image()?,
            listing: &self.listing,
            seen: &self.seen,
            calls: self.calls.as_ref(),
            ways: &self.ways,
            sleep: self.sleep.as_ref(),
            scale: capture.flow_scale(),
            intrusive: capture.conduct().intrusive,
            kept_the_end: capture.kept_the_end(),
            times_disagree: self.times_disagree,
            confirmed: self.confirmed.as_ref(),
        })
    }
}

/// Follows each way through the code that a budget is about.
fn ways<'a>(budgets: &BudgetFile, capture: &'a Capture) -> Result<Vec<(Vec<Point>, Calls<'a>)>> {
    let mut ways: Vec<(Vec<Point>, Calls<'a>)> = Vec::new();
    let image = capture.image()?;
    for figure in budgets.figures() {
        let About::Way { points, .. } = figure else { continue };
        if ways.iter().any(|(known, _)| known == points) {
            continue;
        }
        let places = points.iter().map(|point| address_of(point, image));
        let places = places.collect::<Result<Vec<u64>, _>>()?;
        let crossings = Crossings::new(&places, false, 0);
        let calls = Calls::new(image, capture.flow_clocking()).crossing(crossings);
        let (_, calls) = Part::default().follow(capture, &places, &mut Beside::default(), calls)?;
        ways.push((points.clone(), calls));
    }
    Ok(ways)
}

/// What speaks against times that come from an instruction trace.
pub(super) fn doubts_of(times_disagree: u64, gaps: &Gaps) -> Vec<Doubt> {
    let head = (gaps.head > 0).then_some(Doubt::Head { bytes: gaps.head });
    trace_doubts(times_disagree, gaps).into_iter().chain(head).collect()
}

/// What hears an instruction trace, where nobody asks for what was executed, to find out what speaks against it.
pub(super) type TraceWitness = (TimeAgreement, BlockCounts);

/// What speaks against times of an instruction trace: of all of it, or from its first synchronisation on.
pub(super) fn doubts_of_trace(
    (times, mut counts): TraceWitness,
    capture: &Capture,
    without_head: bool,
) -> Vec<Doubt> {
    if without_head || capture.conduct().attached {
        counts.gaps.head = 0;
    }
    doubts_of(times.contradictions(), counts.gaps())
}

/// Whether any budget is about what was executed.
pub(super) fn asks_for_executed(budgets: &BudgetFile, capture: &Capture) -> bool {
    budgets.figures().any(|figure| match figure {
        About::Coverage { .. } | About::Call { .. } | About::Way { .. } => true,
        About::SelfShare { .. } => capture.has_flow(),
        // Samples know it without an image.
        About::SleepShare => capture.has_flow() && capture.image.is_some(),
        _ => false,
    })
}

fn asks_for_sleep(budgets: &BudgetFile) -> bool {
    budgets.figures().any(|figure| matches!(figure, About::SleepShare))
}

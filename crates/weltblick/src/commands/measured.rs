//! Everything that a budget file asks for, measured in one reading: what `check` judges, and drafts from.

use super::counting::{Counted, context, require_one_sampled_core};
use super::followers::{Followers, asks_for};
use super::measured_code::{Ran, TraceWitness, asks_for_executed, doubts_of_trace};
use super::{signals, within};
use crate::sources::{Also, Capture};
use anyhow::{Result, bail};
use weltblick_core::event::{Ahead, read_apart};
use weltblick_core::judge::{
    About, BudgetFile, CheckReport, PointRange, TimingSubject, Timings, confidence_at_look, judge,
};
use weltblick_core::measure::execution::Executed;
use weltblick_core::measure::inspection::Unannounced;
use weltblick_core::measure::known::{Facts, against_times};
use weltblick_core::measure::profile::{Context, SampleCounts};
use weltblick_core::measure::recording::Recording;

/// Everything that budgets ask for, measured.
pub(super) struct Measured<'m> {
    pub(super) counts: &'m SampleCounts,
    pub(super) timings: &'m Timings<'m>,
    pub(super) executed: Option<&'m Executed<'m>>,
    context: &'m Context<'m>,
}

impl Measured<'_> {
    pub(super) fn judge(&self, budgets: &BudgetFile) -> Result<CheckReport> {
        Ok(judge(budgets, self.counts, Some(self.timings), self.executed, self.context)?)
    }
}

/// Measures what `budgets` ask for, in one reading, and hands it on: all of the recording, or a window of it.
pub(super) fn with_measured<R>(
    capture: &Capture,
    budgets: &BudgetFile,
    window: Option<&PointRange>,
    act: impl FnOnce(&Measured<'_>) -> Result<R>,
) -> Result<R> {
    // Names first: a typing error should not cost a long reading.
    if budgets.figures().any(About::is_of_code) {
        capture.image()?;
    }
    budgets.verify(capture.image_or_none(), &capture.interrupt_names()?)?;
    let within = window.map(|range| within::cycles(range, capture)).transpose()?;
    let (is_part, is_all) = (within.is_some(), within == Some(0..u64::MAX));
    if is_part && !is_all && capture.has_flow() && asks_for_executed(budgets, capture) {
        bail!(
            "what was executed is judged over all of an instruction trace, or from its first synchronisation on (--within 0s..): leave other windows out, or these budgets"
        );
    }
    let wants_values = asks_for(budgets, TimingSubject::Signal);
    let variables = if wants_values { capture.variables()? } else { None };
    let patterns = signals::patterns(&capture.manifest.signals, &[]);
    let dictionary = signals::dictionary(capture, variables.as_ref(), &patterns, &[])?;
    let clocks = capture.clocks();
    let follow = || Followers::new(budgets, &clocks, dictionary.image, &patterns, &dictionary);
    let mut following = follow();
    let nobody_follows = following.is_nobody();
    // What ran before the last synchronisation is a recording of its own, that ends there.
    let by_flow = capture.tells_events_by_flow();
    let mut confirmed = by_flow.then(|| (follow(), Recording::default()));
    let mut witness = TraceWitness::default();
    let mut read = |ahead: Option<&mut Ahead<'_>>| {
        // Beside what the other core writes, each event would wait for its cache line.
        let mut sink = (Counted::default(), Unannounced::new(capture.image_or_none()));
        let mut both = (&mut sink, ahead);
        match (&mut confirmed, &within) {
            (Some(confirmed), within) => within::windowed(within.as_ref(), &mut both, |sink| {
                within::windowed(within.as_ref(), confirmed, |confirmed| {
                    let also = Also { confirmed: Some(confirmed), beside: Some(&mut witness) };
                    capture.replay_trace(sink, also)
                })
            })?,
            (None, None) => capture.replay_into(&mut both)?,
            (None, within) => {
                within::windowed(within.as_ref(), &mut both, |sink| capture.replay(sink))?;
            }
        }
        anyhow::Ok(sink)
    };
    // Whoever follows handlers, tasks and values has as much to do as whoever reads.
    let counted = match nobody_follows {
        true => read(None),
        false => read_apart(&mut following, |ahead| read(Some(ahead))),
    };
    let ((counts, recording, cadences), unannounced) = counted?;
    if let (Some(window), None, false) = (window, recording.last_moment(), is_all) {
        bail!("{}: nothing that was recorded has a time in {window}", capture.name.display());
    }
    if budgets.figures().any(About::is_of_samples) {
        require_one_sampled_core(capture, &recording)?;
    }
    let followed = following.finish(&recording);
    let mut context = context(capture, &recording, &cadences, 0)?;
    context.confidence = confidence_at_look(context.confidence, capture.looks());
    let ran = Ran::of(budgets, capture, &counts, is_all)?;
    let mut against = match &ran {
        _ if !by_flow => Vec::new(),
        Some(ran) => ran.doubts(),
        None => doubts_of_trace(witness, capture, is_all),
    };
    let (timing, conduct) = (&context.timing, &context.conduct);
    against.extend(against_times(
        timing,
        &cadences.ticks,
        followed.contradictions(),
        &unannounced,
        conduct,
    ));
    let exceptions = followed.exceptions;
    let facts = Facts { exceptions, by_pace: by_flow, against, ..Facts::of(timing) };
    let agreed = confirmed.map(|(followers, recording)| {
        let facts = facts.up_to(&recording);
        (followers.finish(&recording), facts)
    });
    let image = capture.image.as_ref().map(|open| &open.image);
    let before = agreed.as_ref().map(|(before, facts)| before.timings(image, facts.clone(), None));
    let timings = followed.timings(image, facts, before.as_ref());
    let executed = ran.as_ref().map(|ran| ran.executed(capture)).transpose()?;
    act(&Measured {
        counts: &counts,
        timings: &timings,
        executed: executed.as_ref(),
        context: &context,
    })
}

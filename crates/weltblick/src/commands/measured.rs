//! Everything that a budget file asks for, measured in one reading: what `check` judges, and drafts from.

use super::counting::{Counted, context};
use super::measured_code::{Ran, TraceWitness, asks_for_executed, doubts_of_trace};
use super::{signals, within};
use crate::sources::{Also, Capture};
use anyhow::{Result, bail};
use std::time::Duration;
use weltblick_core::event::{Ahead, read_apart};
use weltblick_core::judge::{
    About, BudgetFile, CheckReport, PointRange, TimingSubject, Timings, USUAL_WINDOW,
    confidence_at_look, judge,
};
use weltblick_core::measure::execution::Executed;
use weltblick_core::measure::inspection::Unannounced;
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::known::{Facts, against_times};
use weltblick_core::measure::profile::{Context, SampleCounts};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::signals::{FromText, Signals};
use weltblick_core::measure::span::StatedSpans;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};

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
    budgets.verify(capture.image()?)?;
    let within = window.map(|range| within::cycles(range, capture)).transpose()?;
    let (is_part, is_all) = (within.is_some(), within == Some(0..u64::MAX));
    if is_part && !is_all && capture.has_flow() && asks_for_executed(budgets, capture) {
        bail!(
            "what was executed is judged over all of an instruction trace, or from its first synchronisation on (--within 0s..): leave other windows out, or these budgets"
        );
    }
    let windows = windows(budgets);
    let follow_all =
        || -> Vec<Followed> { windows.iter().map(|window| follow(capture, *window)).collect() };
    let followed = follow_all();
    let wants_values = asks_for(budgets, TimingSubject::Signal);
    let variables = if wants_values { capture.variables()? } else { None };
    let patterns = signals::patterns(&capture.manifest.signals, &[]);
    let dictionary = signals::dictionary(capture, variables.as_ref(), &patterns, &[])?;
    let values = wants_values.then(|| Signals::new(&dictionary));
    let values = values.map(|values| FromText::new(&patterns, dictionary.image, values));
    let spans = asks_for(budgets, TimingSubject::Span).then(|| StatedSpans::new(0));
    let nobody_follows = followed.is_empty() && spans.is_none() && values.is_none();
    let mut following = (followed, (spans, values));
    // What ran before the last synchronisation is a recording of its own, that ends there.
    let by_flow = capture.tells_events_by_flow();
    let mut confirmed = by_flow.then(|| (follow_all(), Recording::default()));
    let mut witness = TraceWitness::default();
    let mut read = |ahead: Option<&mut Ahead<'_>>| {
        // Beside what the other core writes, each event would wait for its cache line.
        let mut sink = (Counted::default(), Unannounced::new(capture.image()?));
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
    let (followed, (spans, values)) = following;
    let mut spans = spans.unwrap_or_else(|| StatedSpans::new(0));
    spans.finish();
    let values = values.map(|from_text| from_text.sink);
    let mut context = context(capture, &recording, &cadences, 0)?;
    context.confidence = confidence_at_look(context.confidence, capture.looks());
    let exceptions = followed.iter().any(|tracking| tracking.exceptions);
    let (tasks, interrupts) = finished(&windows, followed, &recording);
    let ran = Ran::of(budgets, capture, &counts, is_all)?;
    let mut against = match &ran {
        _ if !by_flow => Vec::new(),
        Some(ran) => ran.doubts(),
        None => doubts_of_trace(witness, capture, is_all),
    };
    let (timing, conduct) = (&context.timing, &context.conduct);
    against.extend(against_times(timing, &cadences, &interrupts, &unannounced, conduct));
    let agreed = confirmed
        .map(|(followed, recording)| (finished(&windows, followed, &recording), recording));
    let timings = Timings {
        interrupts: &interrupts,
        tasks: &tasks,
        spans: &spans,
        signals: values.as_ref(),
        image: Some(context.image),
        facts: Facts { exceptions, by_pace: by_flow, against, ..Facts::of(timing) },
        confirmed: None,
    };
    let before = agreed.as_ref().map(|((tasks, interrupts), recording)| Timings {
        interrupts,
        tasks,
        facts: timings.facts.up_to(recording),
        ..timings
    });
    let facts = timings.facts.clone();
    let timings = Timings { confirmed: before.as_ref(), facts, ..timings };
    let executed = ran.as_ref().map(|ran| ran.executed(capture)).transpose()?;
    act(&Measured {
        counts: &counts,
        timings: &timings,
        executed: executed.as_ref(),
        context: &context,
    })
}

/// Figures of tasks, by the window of their loads, and of interrupts.
type Finished = (Vec<(Duration, TaskFigures)>, InterruptFigures);

fn finished(windows: &[Duration], followed: Vec<Followed>, recording: &Recording) -> Finished {
    let (mut tasks, mut interrupts) = (Vec::new(), InterruptFigures::new(0));
    for (window, tracking) in windows.iter().zip(followed) {
        let (mut figures, of_this) = tracking.finish_both_at(recording.end());
        figures.ended_at(recording.last_moment());
        tasks.push((*window, figures));
        interrupts = of_this;
    }
    interrupts.finish();
    interrupts.ended_at(recording.last_moment());
    (tasks, interrupts)
}

/// Whether any budget is about such a subject.
pub(super) fn asks_for(budgets: &BudgetFile, wanted: TimingSubject) -> bool {
    budgets
        .figures()
        .any(|figure| matches!(figure, About::Timing(figure) if figure.subject == wanted))
}

type Followed = Tracking<TaskFigures, InterruptFigures>;

/// Figures of tasks and interrupts of this capture, with loads over windows of this length.
fn follow(capture: &Capture, window: Duration) -> Followed {
    let clocks = capture.clocks();
    let stamp = clocks.timestamp_clock;
    let ticks = stamp.map_or(1, |clock| clock.cycle_at(window).max(1));
    let settings = Settings { keep: 0, window: ticks, each: false };
    let interrupts = InterruptFigures::new(0);
    Tracking::beside(clocks.ticks_per_cycle(), TaskFigures::new(settings), interrupts)
}

/// The windows that loads are judged over: none where no budget is about times, so that nothing is
/// followed in vain; one where none asks for others. Exceptions are followed for all: where they contradict each
/// other, other packets are missing, too.
fn windows(budgets: &BudgetFile) -> Vec<Duration> {
    let window = |figure: &About| match figure {
        About::Timing(figure) => match figure.subject {
            TimingSubject::Interrupt | TimingSubject::Task => {
                Some(figure.window.unwrap_or(USUAL_WINDOW))
            }
            TimingSubject::Span | TimingSubject::Signal => Some(USUAL_WINDOW),
        },
        _ => None,
    };
    let mut windows: Vec<Duration> = budgets.figures().filter_map(window).collect();
    windows.sort_unstable();
    windows.dedup();
    windows
}

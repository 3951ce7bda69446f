//! Who follows interrupts, tasks, spans and values for the budgets that ask for them: of a capture that is read, or of
//! one that still runs.

use std::time::Duration;
use weltblick_core::event::{Event, Position, Sink};
use weltblick_core::image::Image;
use weltblick_core::judge::{About, BudgetFile, TimingSubject, Timings, USUAL_WINDOW};
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::known::Facts;
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::signals::{Dictionary, FromText, Signals};
use weltblick_core::measure::span::StatedSpans;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};
use weltblick_core::measure::timing::Clocks;
use weltblick_core::pattern::Pattern;

/// Everybody who follows something that a budget is about.
#[derive(Clone)]
pub(crate) struct Followers<'a> {
    /// The windows that loads are judged over, and who follows tasks and interrupts for each.
    windows: Vec<Duration>,
    tracked: Vec<Tracking<TaskFigures, InterruptFigures>>,
    spans: Option<StatedSpans>,
    values: Option<FromText<'a, Signals<'a>>>,
}

/// What they found.
pub(crate) struct Followed<'a> {
    interrupts: InterruptFigures,
    tasks: Vec<(Duration, TaskFigures)>,
    spans: StatedSpans,
    values: Option<Signals<'a>>,
    /// Exceptions were traced.
    pub(crate) exceptions: bool,
}

impl<'a> Followers<'a> {
    pub(crate) fn new(
        budgets: &BudgetFile,
        clocks: &Clocks,
        image: Option<&'a Image>,
        patterns: &'a [Pattern],
        dictionary: &'a Dictionary<'a>,
    ) -> Self {
        let windows = windows(budgets);
        let tracked = windows.iter().map(|window| follow(clocks, *window)).collect();
        let spans = asks_for(budgets, TimingSubject::Span).then(|| StatedSpans::new(0));
        let values = asks_for(budgets, TimingSubject::Signal)
            .then(|| FromText::new(patterns, image, Signals::new(dictionary)));
        Self { windows, tracked, spans, values }
    }

    /// Whether no budget asks for any of it.
    pub(crate) fn is_nobody(&self) -> bool {
        self.tracked.is_empty() && self.spans.is_none() && self.values.is_none()
    }

    /// What is known if the recording ends here.
    pub(crate) fn finish(self, recording: &Recording) -> Followed<'a> {
        let exceptions = self.tracked.iter().any(|tracking| tracking.exceptions);
        let (mut tasks, mut interrupts) = (Vec::new(), InterruptFigures::new(0));
        for (window, tracking) in self.windows.iter().zip(self.tracked) {
            let (mut figures, of_this) = tracking.finish_both_at(recording.end());
            figures.ended_at(recording.last_moment());
            tasks.push((*window, figures));
            interrupts = of_this;
        }
        interrupts.finish();
        interrupts.ended_at(recording.last_moment());
        let mut spans = self.spans.unwrap_or_else(|| StatedSpans::new(0));
        spans.finish();
        let values = self.values.map(|from_text| from_text.sink);
        Followed { interrupts, tasks, spans, values, exceptions }
    }
}

impl Sink for Followers<'_> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        self.tracked.event(position, event);
        self.spans.event(position, event);
        self.values.event(position, event);
    }
}

impl<'a> Followed<'a> {
    /// How often entries and exits contradict each other.
    pub(crate) fn contradictions(&self) -> u64 {
        self.interrupts.contradictions()
    }

    /// As it is judged; `confirmed`: without what no synchronisation of an instruction trace confirms.
    pub(crate) fn timings<'t>(
        &'t self,
        image: Option<&'t Image>,
        facts: Facts,
        confirmed: Option<&'t Timings<'t>>,
    ) -> Timings<'t>
    where
        'a: 't,
    {
        Timings {
            interrupts: &self.interrupts,
            tasks: &self.tasks,
            spans: &self.spans,
            signals: self.values.as_ref(),
            image,
            facts,
            confirmed,
        }
    }
}

/// Whether any budget is about such a subject.
pub(crate) fn asks_for(budgets: &BudgetFile, wanted: TimingSubject) -> bool {
    budgets
        .figures()
        .any(|figure| matches!(figure, About::Timing(figure) if figure.subject == wanted))
}

/// Figures of tasks and interrupts, with loads over windows of this length.
fn follow(clocks: &Clocks, window: Duration) -> Tracking<TaskFigures, InterruptFigures> {
    let ticks = clocks.timestamp_clock.map_or(1, |clock| clock.cycle_at(window).max(1));
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

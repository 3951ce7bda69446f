//! What the panes of the live view show beside functions: the figures of `interrupts`, `tasks` and
//! `signals`, so far.

use super::watch::Watch;
use std::time::Duration;
use weltblick_core::capture::{Manifest, Priorities};
use weltblick_core::event::{Event, Origin, Position, Sink};
use weltblick_core::image::Image;
use weltblick_core::measure::interrupts::{self, InterruptFigures, InterruptReport};
use weltblick_core::measure::signals::{self, Dictionary, FromText, SignalReport, Signals};
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::tasks::{self, Settings, TaskFigures, TaskReport, Tracking};
use weltblick_core::measure::timing::{Clocks, origin_clocks};
use weltblick_core::pattern::Pattern;
use weltblick_core::time::Frequency;

/// Windows of loads.
const WINDOW: Duration = Duration::from_millis(100);

/// Figures that look on while a capture runs.
pub(super) struct Panes<'a> {
    /// Of one source: the exceptions of two are not to be mixed.
    tracking: Option<Tracking<TaskFigures, InterruptFigures>>,
    values: FromText<'a, Signals<'a>>,
    dictionary: &'a Dictionary<'a>,
}

impl<'a> Panes<'a> {
    pub(super) fn new(
        manifest: &Manifest,
        image: Option<&'a Image>,
        patterns: &'a [Pattern],
        dictionary: &'a Dictionary<'a>,
    ) -> Self {
        let clocks = Clocks::of(manifest);
        let ticks = |clock: Frequency| clock.cycle_at(WINDOW).max(1);
        let window = clocks.timestamp_clock.map_or(1, ticks);
        let both = clocks.timestamp_clock.zip(clocks.core_clock);
        let ratio = both.map_or(1.0, |(stamps, core)| stamps.hertz() / core.hertz());
        let settings = Settings { keep: 0, window, each: false };
        let follow =
            || Tracking::beside(ratio, TaskFigures::new(settings), InterruptFigures::new(0));
        Self {
            tracking: (manifest.samplers() <= 1).then(follow),
            values: FromText::new(patterns, image, Signals::new(dictionary)),
            dictionary,
        }
    }

    /// What `interrupts` would say; nothing without times.
    pub(super) fn interrupts(&self, watch: &Watch<'_>) -> Option<InterruptReport> {
        let (timing, scale) = watch.timing()?;
        let context = interrupts::Context {
            image: watch.image(),
            timing,
            scale,
            priorities: &Priorities::default(),
            intrusive: watch.is_intrusive(),
        };
        Some(interrupts::report(self.tracking.as_ref()?.interrupts(), &[], &context))
    }

    /// What `tasks` would say.
    pub(super) fn tasks(&self, watch: &Watch<'_>) -> Option<TaskReport> {
        let (timing, scale) = watch.timing()?;
        let tracking = self.tracking.as_ref()?;
        let context = tasks::Context {
            image: watch.image(),
            timing,
            scale,
            intrusive: watch.is_intrusive(),
            exceptions: tracking.exceptions,
            unfollowed: tracking.unfollowed,
        };
        Some(tasks::report(&tracking.watcher, &[], &context))
    }

    /// What `signals` would say.
    pub(super) fn values(&self, watch: &Watch<'_>) -> SignalReport {
        let clocks = origin_clocks(watch.manifest);
        let core = watch.manifest.target.core_clock;
        let clock = |origin: Origin| clocks.get(usize::from(origin.0)).copied();
        let context = signals::Context {
            image: watch.image(),
            dictionary: self.dictionary,
            scale: &|origin| Some(Scale::of(clock(origin)?.0?, core)),
            polled: &|origin| clock(origin).is_some_and(|(_, host)| host),
            recording: watch.recording(),
            intrusive: watch.is_intrusive(),
        };
        signals::report(&self.values.sink, &context)
    }
}

impl Sink for Panes<'_> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        self.tracking.event(position, event);
        self.values.event(position, event);
    }
}

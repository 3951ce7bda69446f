//! What the panes of the live view show beside functions: the figures of `interrupts`, `tasks` and
//! `signals`, so far.

use super::watch::Watch;
use std::time::Duration;
use weltblick_core::capture::{Manifest, Priorities};
use weltblick_core::event::{Event, Origin, Position, Sink};
use weltblick_core::image::Image;
use weltblick_core::measure::interrupts::{self, InterruptFigures, InterruptReport};
use weltblick_core::measure::known::Facts;
use weltblick_core::measure::signals::{self, Dictionary, FromText, SignalReport, Signals};
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::tasks::{self, Settings, TaskFigures, TaskReport, Tracking};
use weltblick_core::measure::timing::{Clocks, Timing, origin_clocks};
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

    /// What every figure rests on, so far.
    fn facts(&self, watch: &Watch<'_>) -> Facts {
        let timing = Timing { recording: watch.recording(), clocks: Clocks::of(watch.manifest) };
        let contradictions =
            self.tracking.as_ref().map_or(0, |tracking| tracking.interrupts().contradictions());
        let exceptions = self.tracking.as_ref().is_some_and(|tracking| tracking.exceptions);
        watch.facts(&timing, contradictions, exceptions)
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
            facts: &self.facts(watch),
            confirmed: None,
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
            unfollowed: tracking.unfollowed(),
            facts: &self.facts(watch),
            confirmed: None,
        };
        Some(tasks::report(tracking.watcher(), &[], &context))
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
            ticks_per_cycle: Clocks::of(watch.manifest).ticks_per_cycle(),
            intrusive: watch.is_intrusive(),
            facts: &self.facts(watch),
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::signals::dictionary_of;
    use crate::show::live::{Figures, Order, Pane, Picture, draw};
    use crate::sources::OpenImage;
    use crate::sources::live::Seen;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    const FIRMWARE: &[u8] = include_bytes!("../../../../../demo/buoy/wave-buoy.elf");
    const TRACE: &[u8] = include_bytes!("../../../../../demo/buoy/swo.bin");
    const MANIFEST: &str = include_str!("../../../../../demo/buoy/capture.toml");

    fn drawn(figures: &Figures, pane: Pane, width: u16, height: u16) -> String {
        let picture = Picture {
            name: "wave-buoy",
            time: Duration::from_secs(3),
            bytes: TRACE.len() as u64,
            unseen: 0,
            rate: 174e3,
            rates: &[],
            capacity: None,
            observed: "1 samples".into(),
            losses: Vec::new(),
            pane,
            figures,
            signal: 1,
            order: Order::Share,
            frozen_at: None,
            busy: Vec::new(),
            text: Vec::new(),
            told: &[],
        };
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, &picture)).unwrap();
        terminal.backend().to_string()
    }

    fn figures_of(watch: &Watch<'_>) -> Figures {
        let panes = watch.panes.as_ref().unwrap();
        Figures {
            profile: None,
            executed: watch.executed.as_ref().map(|executed| executed.profile()),
            coverage: watch.executed.as_ref().map(|executed| executed.coverage()),
            interrupts: panes.interrupts(watch),
            tasks: panes.tasks(watch),
            values: Some(panes.values(watch)),
        }
    }

    #[test]
    fn panes_show_what_the_commands_say() {
        let manifest = Manifest::parse("capture.toml", MANIFEST).unwrap();
        let image = Image::parse(FIRMWARE).unwrap();
        let open = OpenImage::new(image);
        let variables = weltblick_core::image::Variables::parse(FIRMWARE).unwrap();
        let dictionary =
            dictionary_of(&manifest, Some(&open.image), Some(&variables), &[], &[]).unwrap();
        let mut watch = Watch::new(&manifest, Some(&open), None);
        watch.panes = Some(Panes::new(&manifest, Some(&open.image), &[], &dictionary));
        for bytes in TRACE.chunks(4096) {
            watch.see(Seen::Bytes { stream: 0, bytes: bytes.to_vec() });
        }
        let figures = figures_of(&watch);
        // The goldens of `interrupts`, `tasks` and `signals` have the same figures.
        for (pane, parts) in [
            (Pane::Interrupts, ["11 998 adc_ready", "145 us", "[interrupts, longest so far]"]),
            (Pane::Tasks, ["74 housekeeping", "4.61 ms", "187 wave_estimator"]),
            (Pane::Values, ["temperature (C)", "> ", "⣀"]),
        ] {
            let screen = drawn(&figures, pane, 130, 40);
            for part in parts {
                assert!(screen.contains(part), "{part} is missing in\n{screen}");
            }
            for (width, height) in [(80, 24), (20, 6), (1, 1), (9, 300)] {
                drawn(&figures, pane, width, height);
            }
        }
    }

    #[test]
    fn an_instruction_trace_is_counted_exactly() {
        let manifest = Manifest::parse(
            "capture.toml",
            include_str!("../../../../../demo/buoy-flow/capture.toml"),
        );
        let (manifest, trace) =
            (manifest.unwrap(), include_bytes!("../../../../../demo/buoy-flow/etm.bin"));
        let open = OpenImage::new(Image::parse(FIRMWARE).unwrap());
        let dictionary = Dictionary::default();
        let mut watch = Watch::new(&manifest, Some(&open), None);
        watch.panes = Some(Panes::new(&manifest, Some(&open.image), &[], &dictionary));
        for bytes in trace.chunks(4096) {
            watch.see(Seen::Bytes { stream: 0, bytes: bytes.to_vec() });
        }
        assert!(watch.observed().ends_with(" instructions"));
        let figures = figures_of(&watch);
        // What the commands say of the whole file; the last of it is not confirmed before it ends.
        for (pane, parts) in [
            (Pane::Functions, ["1 995", "adc_ready_handler", "wave_filter"]),
            (Pane::Coverage, ["[coverage, least covered first]", "71/83", "src/kernel/kernel.c"]),
            (Pane::Interrupts, ["1 995 adc_ready", "498 SysTick", "gnss_pulse"]),
        ] {
            let screen = drawn(&figures, pane, 130, 40);
            for part in parts {
                assert!(screen.contains(part), "{part} is missing in\n{screen}");
            }
            for (width, height) in [(80, 24), (20, 6), (1, 1), (9, 300)] {
                drawn(&figures, pane, width, height);
            }
        }
        let why = Some(weltblick_core::event::LossReason::Disconnected);
        watch.see(Seen::Gap { stream: 0, why, unseen: 1000 });
        assert!(!watch.executed.as_ref().unwrap().coverage().evidence.doubts.is_empty());
    }

    #[test]
    fn panes_of_a_target_that_says_nothing_of_it_say_what_would() {
        let manifest = Manifest::parse("capture.toml", MANIFEST).unwrap();
        let dictionary = dictionary_of(&manifest, None, None, &[], &[]).unwrap();
        let mut watch = Watch::new(&manifest, None, None);
        watch.panes = Some(Panes::new(&manifest, None, &[], &dictionary));
        // A synchronisation, and a sample that no timestamp follows.
        let bytes = [&[0; 5][..], &[0x80, 0x17, 0, 1, 0, 8]].concat();
        watch.see(Seen::Bytes { stream: 0, bytes });
        let figures = figures_of(&watch);
        for (pane, advice) in [
            (Pane::Functions, "give --image"),
            (Pane::Interrupts, "trace exceptions, with timestamps"),
            (Pane::Tasks, "let the firmware state them (weltblick_marks.h)"),
            (Pane::Values, "watch a variable, poll it"),
            (Pane::Coverage, "trace instructions"),
        ] {
            let screen = drawn(&figures, pane, 100, 30);
            assert!(screen.contains(advice), "{screen}");
            for (width, height) in [(80, 24), (20, 6), (1, 1)] {
                drawn(&figures, pane, width, height);
            }
        }
    }

    #[test]
    fn a_pane_counts_on_through_a_gap() {
        let manifest = Manifest::parse("capture.toml", MANIFEST).unwrap();
        let image = Image::parse(FIRMWARE).unwrap();
        let open = OpenImage::new(image);
        let dictionary = dictionary_of(&manifest, Some(&open.image), None, &[], &[]).unwrap();
        let mut watch = Watch::new(&manifest, Some(&open), None);
        watch.panes = Some(Panes::new(&manifest, Some(&open.image), &[], &dictionary));
        let (first, rest) = TRACE.split_at(TRACE.len() / 3);
        watch.see(Seen::Bytes { stream: 0, bytes: first.to_vec() });
        let before = watch.panes.as_ref().unwrap().interrupts(&watch).unwrap();
        let why = Some(weltblick_core::event::LossReason::Disconnected);
        watch.see(Seen::Gap { stream: 0, why, unseen: 1000 });
        watch.see(Seen::Bytes { stream: 0, bytes: rest[1000..].to_vec() });
        let after = watch.panes.as_ref().unwrap().interrupts(&watch).unwrap();
        let runs = |report: &InterruptReport| -> u64 {
            report.interrupts.iter().map(|row| row.often.count).sum()
        };
        assert!(runs(&after) > 2 * runs(&before), "{} {}", runs(&before), runs(&after));
        assert_eq!(after.evidence.hidden, None, "nothing says what the broken connection hid");
        let tasks = watch.panes.as_ref().unwrap().tasks(&watch).unwrap();
        assert!(tasks.evidence.gaps > 0 && tasks.tasks.iter().any(|task| task.often.count > 50));
    }
}

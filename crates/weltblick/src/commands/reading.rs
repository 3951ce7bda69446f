//! A capture that is read once for figures, and again to explain the worst cases.

use super::measured_code::{TraceWitness, doubts_of_trace};
use super::within;
use crate::sources::{Also, Capture};
use anyhow::{Context as _, Result, bail};
use std::ops::Range;
use weltblick_core::event::{Event, Position, Sink};
use weltblick_core::figure::Doubt;
use weltblick_core::image::Image;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::cadence::SysTicks;
use weltblick_core::measure::dissection::{Dissection, Stretch};
use weltblick_core::measure::inspection::Unannounced;
use weltblick_core::measure::known::{Facts, against_times};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timing::Timing;
use weltblick_core::time::Frequency;

/// What a reading found: figures, and what speaks for and against them.
pub(crate) struct Read<S> {
    /// Whoever listened.
    pub(crate) sink: S,
    facing: Facing,
    /// Of an instruction trace: who heard what its synchronisations confirm, and the facts of that.
    pub(crate) confirmed: Option<(S, Recording)>,
    of_trace: Vec<Doubt>,
}

/// What every reading gathers.
pub(crate) struct Facing {
    recording: Recording,
    /// The core whose clock ticks and samples are held against each other: of several, the first.
    core: Option<u8>,
    ticks: SysTicks,
    unannounced: Unannounced,
}

impl Facing {
    pub(crate) fn of(image: Option<&Image>) -> Self {
        let unannounced = image.map_or_else(Unannounced::default, Unannounced::new);
        let (recording, ticks) = (Recording::default(), SysTicks::default());
        Self { recording, core: None, ticks, unannounced }
    }

    pub(crate) const fn recording(&self) -> &Recording {
        &self.recording
    }

    /// What every figure rests on; `of_trace`: what speaks against an instruction trace.
    pub(crate) fn facts(
        &self,
        capture: &Capture,
        contradictions: u64,
        of_trace: Vec<Doubt>,
    ) -> Facts {
        let Self { recording, ticks, unannounced, .. } = self;
        let timing = Timing { recording, clocks: capture.clocks() };
        let mut against = of_trace;
        let conduct = capture.conduct();
        against.extend(against_times(&timing, ticks, contradictions, unannounced, &conduct));
        let by_pace = capture.tells_events_by_flow();
        Facts { by_pace, against, ..Facts::of(&timing) }
    }
}

impl Sink for Facing {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.recording.event(position, event);
        if *self.core.get_or_insert(position.core) == position.core {
            self.ticks.event(position, event);
            self.unannounced.event(position, event);
        }
    }
}

impl<S> Read<S> {
    /// The recording itself.
    pub(crate) const fn recording(&self) -> &Recording {
        &self.facing.recording
    }

    /// What every figure of it rests on.
    pub(crate) fn facts(&self, capture: &Capture, contradictions: u64, exceptions: bool) -> Facts {
        Facts { exceptions, ..self.facing.facts(capture, contradictions, self.of_trace.clone()) }
    }
}

/// One source of a capture, or a stretch of its time.
pub(crate) struct Reading<'a> {
    pub(crate) capture: &'a Capture,
    /// The clock of the timestamps.
    pub(crate) clock: Frequency,
    cycles: Option<Range<u64>>,
    /// How ticks are stated.
    pub(crate) scale: Scale,
    /// Ticks of the timestamps in a core cycle.
    pub(crate) ticks_per_cycle: f64,
    /// Standard input cannot be read again.
    pub(crate) once: bool,
}

impl<'a> Reading<'a> {
    pub(crate) fn new(capture: &'a Capture, within: Option<&PointRange>) -> Result<Self> {
        if capture.sources() > 1 {
            bail!(
                "{}: this capture has {} sources ({}); import the one that is meant into a folder of its own",
                capture.name.display(),
                capture.sources(),
                capture.origin_names().join(", ")
            );
        }
        let clocks = capture.clocks();
        let clock = clocks
            .timestamp_clock
            .with_context(|| format!("{}: {}", capture.name.display(), capture.state_a_clock()))?;
        let core = clocks.core_clock.unwrap_or(clock);
        Ok(Self {
            capture,
            clock,
            cycles: within.map(|range| within::cycles(range, capture)).transpose()?,
            scale: Scale::of(clock, clocks.core_clock),
            ticks_per_cycle: clock.hertz() / core.hertz(),
            once: capture.reads_standard_input(),
        })
    }

    /// Reads for figures, and for everything that speaks for and against them. `make` gives whoever listens: of an
    /// instruction trace a second one hears what its synchronisations confirm.
    pub(crate) fn first<S: Sink>(&self, make: impl Fn() -> S) -> Result<Read<S>> {
        let window = self.cycles.as_ref();
        let mut all = (make(), Facing::of(self.image()));
        // Of a part, figures are of the part: what speaks against the rest is not asked.
        if !self.capture.tells_events_by_flow() || !self.capture.is_whole() {
            match window {
                None => self.capture.replay_into(&mut all)?,
                Some(_) => within::windowed(window, &mut all, |sink| self.capture.replay(sink))?,
            }
            let (sink, facing) = all;
            return Ok(Read { sink, facing, confirmed: None, of_trace: Vec::new() });
        }
        let mut confirmed = (make(), Recording::default());
        let mut witness = TraceWitness::default();
        within::windowed(window, &mut all, |sink| {
            within::windowed(window, &mut confirmed, |confirmed| {
                let also = Also { confirmed: Some(confirmed), beside: Some(&mut witness) };
                self.capture.replay_trace(sink, also)
            })
        })?;
        let is_all = window == Some(&(0..u64::MAX));
        let of_trace = doubts_of_trace(witness, self.capture, is_all);
        let (sink, facing) = all;
        Ok(Read { sink, facing, confirmed: Some(confirmed), of_trace })
    }

    /// Reads again, to look into cases: nothing where there are none, or the recording is gone.
    pub(crate) fn dissect<S: Sink>(
        &self,
        cases: Dissection,
        follow: impl FnOnce(Dissection) -> S,
        finish: impl FnOnce(S) -> Dissection,
    ) -> Result<Vec<Stretch>> {
        if cases.is_empty() {
            return Ok(Vec::new());
        }
        let found = self.second(follow(cases))?;
        Ok(found.map_or_else(Vec::new, |sink| finish(sink).into_stretches()))
    }

    /// Reads again; nothing where the recording is gone.
    pub(crate) fn second<S: Sink>(&self, mut sink: S) -> Result<Option<S>> {
        if self.once {
            return Ok(None);
        }
        let window = self.cycles.as_ref();
        within::windowed(window, &mut sink, |sink| self.capture.replay(sink))?;
        Ok(Some(sink))
    }

    /// Reads all of the recording again, where only a window was read; nothing where it is gone.
    pub(crate) fn whole<S: Sink>(&self, mut sink: S) -> Result<Option<S>> {
        if self.once || self.cycles.is_none() {
            return Ok(None);
        }
        self.capture.replay(&mut sink)?;
        Ok(Some(sink))
    }

    pub(crate) fn image(&self) -> Option<&'a Image> {
        self.capture.image.as_ref().map(|open| &open.image)
    }

    pub(crate) fn timing<'r>(&self, recording: &'r Recording) -> Timing<'r> {
        Timing { recording, clocks: self.capture.clocks() }
    }

    /// An error where there are no timestamps.
    pub(crate) fn require_times(&self, recording: &Recording) -> Result<()> {
        if recording.span().is_some() {
            return Ok(());
        }
        bail!(
            "{}: without timestamps nothing tells how long anything took; set TSENA in ITM_TCR (`plan` says how)",
            self.capture.name.display()
        )
    }
}

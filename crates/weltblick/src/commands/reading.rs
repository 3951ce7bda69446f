//! A capture that is read once for figures, and again to explain the worst cases.

use super::within;
use crate::sources::Capture;
use anyhow::{Context as _, Result, bail};
use std::ops::Range;
use weltblick_core::event::Sink;
use weltblick_core::image::Image;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::dissection::{Dissection, Stretch};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timing::Timing;
use weltblick_core::measure::within::Within;
use weltblick_core::time::Frequency;

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
        let clock = clocks.timestamp_clock.with_context(|| {
            format!(
                "{}: times need the core clock: give --core-clock, or `core_clock` in the manifest",
                capture.name.display()
            )
        })?;
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

    fn read<S: Sink>(&self, mut sink: S) -> Result<(S, bool)> {
        let Some(cycles) = &self.cycles else {
            self.capture.replay(&mut sink)?;
            return Ok((sink, false));
        };
        let mut within = Within::new(cycles.start, cycles.end, sink);
        self.capture.replay(&mut within)?;
        Ok((within.sink, within.slipped))
    }

    /// Reads for figures that are asked for of long recordings, and for the facts of the recording: compiled for them.
    pub(crate) fn first_into<S: Sink>(&self, sink: S) -> Result<(S, Recording)> {
        if self.cycles.is_some() {
            return self.first(sink);
        }
        let mut sink = (sink, Recording::default());
        self.capture.replay_into(&mut sink)?;
        Ok(sink)
    }

    /// Reads for figures, and for the facts of the recording.
    pub(crate) fn first<S: Sink>(&self, sink: S) -> Result<(S, Recording)> {
        let ((sink, mut recording), slipped) = self.read((sink, Recording::default()))?;
        recording.time_slipped |= slipped;
        Ok((sink, recording))
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
    pub(crate) fn second<S: Sink>(&self, sink: S) -> Result<Option<S>> {
        if self.once {
            return Ok(None);
        }
        Ok(Some(self.read(sink)?.0))
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

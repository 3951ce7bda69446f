//! Clocks, and events without them.

use super::{Evidence, Finding, Weight, doubt, doubt_as_finding, fault};
use crate::capture::FlowLine;
use crate::flow::Clocking;
use crate::measure::inspection::kinds::Kind;
use crate::measure::timing::Timing;

/// What `ITM_TCR.TSPrescale` offers.
const PRESCALERS: [u32; 4] = [1, 4, 16, 64];
/// Two factors are the same as far as this.
const ALIKE: f64 = 0.03;

/// How the prescaler of the timestamps is stated, and how it seems to be.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Prescaler {
    stated: u32,
    real: u32,
    /// Samples, which count core cycles, are off by the same factor.
    is_sure: bool,
}

impl Evidence<'_> {
    /// Ticks that are not of one length, events of several cores: verdicts rest on the same doubts.
    pub(super) fn of_events(&self) -> impl Iterator<Item = Finding> {
        let doubts = self.dated().doubts(&self.counted.cadences.ticks);
        doubts.into_iter().map(|doubt| doubt_as_finding(Weight::Fault, &doubt))
    }

    /// The recording and its clocks, whatever its sources are.
    fn dated(&self) -> Timing<'_> {
        Timing { recording: &self.counted.recording, clocks: self.settings.clocks }
    }

    /// By what factor samples lie farther apart than is stated, by the timestamps.
    fn samples_off(&self) -> Option<f64> {
        let timing = self.timing?;
        Some(timing.measured_period()? / timing.clocks.stated_period? as f64)
    }

    /// By what factor ticks lie farther apart than is known.
    fn ticks_off(&self) -> Option<f64> {
        let (real, _) = self.dated().clock_by_tick(&self.counted.cadences.ticks)?;
        Some(real / self.settings.clocks.timestamp_clock?.hertz())
    }

    /// Whether samples are off by the same factor as ticks: then their period is right, and the timestamps are wrong.
    pub(super) fn is_clocks_fault(&self) -> bool {
        let is_it = |(ticks, samples): (f64, f64)| {
            (ticks - 1.0).abs() > ALIKE && (samples / ticks - 1.0).abs() < ALIKE
        };
        self.ticks_off().zip(self.samples_off()).is_some_and(is_it)
    }

    /// A prescaler that explains why ticks do not come at their known period, unless samples exclude it.
    fn wrong_prescaler(&self) -> Option<Prescaler> {
        let stated = self.settings.itm()?.timestamp_prescaler;
        let off = self.ticks_off()?;
        let explains = |&&real: &&u32| {
            real != stated && (off * f64::from(real) / f64::from(stated) - 1.0).abs() < ALIKE
        };
        let real = *PRESCALERS.iter().find(explains)?;
        let samples = self.samples_off();
        // Samples that come as stated: times are right in cycles, and the clock is another one.
        if samples.is_some_and(|samples| (samples - 1.0).abs() < ALIKE) {
            return None;
        }
        let is_sure = samples.is_some_and(|samples| (samples / off - 1.0).abs() < ALIKE);
        Some(Prescaler { stated, real, is_sure })
    }

    /// Times that contradict the tick interrupt's known period: another clock, or another prescaler.
    pub(super) fn clock(&self) -> Option<Finding> {
        let timing = self.dated();
        let (real, ticks) = timing.clock_by_tick(&self.counted.cadences.ticks)?;
        let tick = self.settings.clocks.tick_period?.as_secs_f64();
        let clocks = &self.settings.clocks;
        let stated = clocks.timestamp_clock;
        let own = clocks.timestamp_clock.is_some() && clocks.timestamp_clock != clocks.core_clock;
        let correction = if own {
            format!("timestamp_clock_hz = {real:.0} (or --timestamp-clock {real:.0}Hz)")
        } else {
            let mega = real / 1e6;
            format!("core_clock = \"{mega:.3} MHz\" (or --core-clock {mega:.3}MHz)")
        };
        let Some(stated) = stated else {
            return Some(doubt(
                "no_clock",
                format!(
                    "No core clock is stated; by the tick interrupt it is about {:.3} MHz.",
                    real / 1e6
                ),
                format!("Set {correction}, unless the tick's period is wrong."),
            ));
        };
        let off = timing.clock_off(&self.counted.cadences.ticks)?;
        let prescaler = self.wrong_prescaler();
        let seen = format!(
            "Ticks that are known to come every {} ms are {ticks:.0} cycles of {stated} apart",
            1e3 * tick
        );
        let (finding, advice) = match prescaler {
            Some(Prescaler { stated, real, is_sure: true }) => (
                format!(
                    "{seen}, and samples are off by the same factor: the timestamps' prescaler is {real}, not {stated}. Every time is wrong."
                ),
                format!("Set timestamp_prescaler = {real} (or --timestamp-prescaler {real})."),
            ),
            Some(Prescaler { stated, real: prescaler, .. }) => (
                format!(
                    "{seen}: the timestamps' prescaler is {prescaler}, not {stated}, or the clock is about {:.3} MHz. Every time is wrong.",
                    real / 1e6
                ),
                format!(
                    "See ITM_TCR.TSPrescale: set timestamp_prescaler = {prescaler} (or --timestamp-prescaler {prescaler}); if it is right, set {correction}."
                ),
            ),
            None if self.counted.cadences.ticks.may_lack_some() => (
                format!(
                    "{seen} on average: ticks are left out (in sleep, or lost on the way), or the clock is about {:.3} MHz.",
                    real / 1e6
                ),
                format!(
                    "If none of them can be left out, set {correction}; else leave `tick_period` out."
                ),
            ),
            None => (
                format!(
                    "{seen}: the clock is about {:.3} MHz, and every time is off by {:.0} %.",
                    real / 1e6,
                    100.0 * off
                ),
                format!("Set {correction}, unless the tick's period is wrong."),
            ),
        };
        Some(fault("clock", finding, advice))
    }

    /// Timestamps carry the time of an instruction trace, and nobody says what they count.
    pub(super) fn no_global_clock(&self) -> Option<Finding> {
        let stream = self.settings.stream?;
        let source = stream.sources.iter().position(|source| source.protocol.tells_flow())?;
        let by_timestamps = FlowLine::clocking(stream, source) == Clocking::Timestamps;
        (by_timestamps && self.settings.clocks.timestamp_clock.is_none()).then(|| {
            doubt(
                "no_clock",
                "The instruction trace has timestamps and no cycle counts, and what they count is not stated: there are no times.",
                "Set global_clock in [target] (or --global-clock) to the clock of the timestamp generator. Only where that is the core's is it the core clock.",
            )
        })
    }

    pub(super) fn no_timestamps(&self) -> Option<Finding> {
        let is_itm = self.settings.sources > 0;
        (is_itm && self.wire.packets(Kind::LocalTime) == 0).then(|| {
            doubt(
                "no_timestamps",
                "There are no timestamps: nothing has a time, and what an overflow dropped cannot be bounded.",
                "Turn them on: ITM_TCR.TSENA.",
            )
        })
    }
}

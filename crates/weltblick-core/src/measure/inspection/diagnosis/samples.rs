//! Samples: whether there are any, when they fall, and what they fall on.

use super::{Evidence, Finding, doubt, fault, percent};
use crate::measure::inspection::kinds::Kind;
use crate::measure::profile::{Basis, Context};
use crate::plan::next_sampling_period;
use std::collections::BTreeMap;

/// More samples than this part at a handler's first instruction are none of a core that runs undisturbed.
const MOST_AT_ENTRY: f64 = 0.02;
/// Fewer samples than this show no period: what stands beside the first and last counts too much.
const FEWEST_SAMPLES: u64 = 200;
/// More than this part asleep is everything.
const ALL_ASLEEP: f64 = 0.999;

impl Evidence<'_> {
    /// Polls that found nothing.
    pub(super) fn no_polls(&self) -> Option<Finding> {
        let recording = &self.counted.recording;
        (recording.running == 0 && recording.samples() > 0).then(|| {
            fault(
                "no_samples",
                format!(
                    "The debug stub was asked {} times, and never answered with a program counter.",
                    recording.samples()
                ),
                "Sample with `capture --sample`; if it was on, the target never ran: look into journal.jsonl.",
            )
        })
    }

    /// Whoever is stopped and goes on takes first what became pending meanwhile: the next stop finds that.
    pub(super) fn stops_in_step(&self) -> Option<Finding> {
        let image =
            self.settings.image.filter(|_| self.settings.conduct.basis == Basis::Stopped)?;
        let counts = &self.counted.samples;
        let mut at_entries: BTreeMap<u64, u64> = BTreeMap::new();
        for (address, category) in counts.addresses() {
            *at_entries.entry(address).or_default() += counts.batches().count(category);
        }
        let entries = (1..512).filter_map(|number| Some((number, image.vector(number)?.address)));
        let found = entries.map(|(number, at)| (at_entries.get(&at).copied().unwrap_or(0), number));
        let (most, number) = found.max()?;
        let all = counts.batches().total();
        (most as f64 > MOST_AT_ENTRY * all as f64).then(|| {
            fault(
                "stops_in_step",
                format!(
                    "{} of the samples are at the first instruction of {}: the core takes it as soon as it goes on after a stop, and the next stop finds it there.",
                    percent(most, all),
                    image.interrupt_name(number)
                ),
                "Shares of such samples say nothing: sample with the trace unit, or let the core run for much longer between two stops.",
            )
        })
    }

    pub(super) fn no_samples(&self) -> Option<Finding> {
        if self.settings.sources == 0 {
            return None;
        }
        let prohibited = self.wire.packets(Kind::Prohibited);
        if self.counted.recording.samples() == 0 {
            // A recording that was never meant to have samples is none the worse for it.
            let is_meant = self.settings.clocks.stated_period.is_some();
            // Who knows every instruction needs no samples.
            if !is_meant && self.wire.packets(Kind::Atoms) > 0 {
                return None;
            }
            return Some(if is_meant { fault } else { doubt }(
                "no_samples",
                "There are packets, but no PC samples: sampling is off.",
                "Set DWT_CTRL.PCSAMPLENA and DWT_CTRL.CYCCNTENA, and forward DWT packets with ITM_TCR.TXENA.",
            ));
        }
        (prohibited == self.counted.recording.samples()).then(|| {
            fault(
                "prohibited",
                "Every sample says that sampling is prohibited: the core was in the secure state all the time.",
                "Allow secure non-invasive debug for this target, or sample its non-secure side.",
            )
        })
    }

    pub(super) fn asleep(&self) -> Option<Finding> {
        let recording = &self.counted.recording;
        let part = recording.asleep as f64 / recording.samples().max(1) as f64;
        (part > ALL_ASLEEP).then(|| {
            fault(
                "asleep",
                format!("The core slept all the time: {} of {} samples.", recording.asleep, recording.samples()),
                "Start the trace before the workload, and check that the target got past its start-up and is not waiting for a missing interrupt.",
            )
        })
    }

    /// Samples that do not come as they are stated to.
    pub(super) fn period(&self) -> Option<Finding> {
        let recording = &self.counted.recording;
        if recording.samples() < FEWEST_SAMPLES || self.is_clocks_fault() {
            return None;
        }
        let timing = self.timing?;
        let is_whole = recording.losses.is_empty();
        let measured = timing.measured_period()?;
        let Some(stated) = timing.clocks.stated_period else {
            return is_whole.then(|| doubt(
                "no_period",
                format!(
                    "No sampling period is stated; by the timestamps it is about {measured:.0} cycles."
                ),
                format!(
                    "State it: pc_sample_period = {}.",
                    next_sampling_period((0.99 * measured) as u64).unwrap_or(measured as u64)
                ),
            ));
        };
        // What is lost lies between samples, too: then only those that are closest count.
        let contradicted = || timing.period_contradicted().map(|factor| factor - 1.0);
        let off = if is_whole { timing.period_off() } else { contradicted() }?;
        let stops = off > 0.0 && recording.asleep == 0;
        let sleep = if stops { ", or the cycle counter stops while the core sleeps" } else { "" };
        let knows_clock = timing.clock_by_tick(&self.counted.cadences.ticks).is_some()
            && timing.clock_off(&self.counted.cadences.ticks).is_none();
        let prescaler =
            if knows_clock { "" } else { "; and check timestamp_prescaler (ITM_TCR.TSPrescale)" };
        Some(fault(
            "period",
            format!(
                "The sampling period is stated as {stated} cycles, but by the timestamps there is a sample every {measured:.0} cycles: it is stated wrongly{sleep}."
            ),
            format!(
                "Correct pc_sample_period: (POSTPRESET + 1) times 64 or 1024 cycles, by DWT_CTRL{prescaler}."
            ),
        ))
    }

    pub(super) fn beats(&self) -> Vec<Finding> {
        // Samples that are missing may leave phases out as well, and no other period mends that.
        let samples = self.counted.recording.samples();
        let missing = self.timing.and_then(|timing| timing.missing()).unwrap_or(0);
        let missing = missing as f64 / (samples + missing).max(1) as f64;
        let beats = self.context.map(Context::beats).unwrap_or_default();
        let finding = |step: crate::measure::profile::InStep| {
            let of = if step.every == 1 {
                "its period".to_owned()
            } else {
                format!("{} of its periods", step.every)
            };
            doubt(
                "beats",
                format!(
                    "Samples keep step with {}: into {:.0} % of {of} ({:.0} cycles each) hardly one falls, and what runs there is seen too often or never.",
                    step.name,
                    100.0 * step.unvisited,
                    step.period
                ),
                if step.unvisited > 2.0 * missing {
                    "Choose a sampling period that shares no factor with it; two captures with coprime periods that agree rule it out."
                } else {
                    "Samples are missing, which alone may leave as much out: see to that first. If it stays, choose a sampling period that shares no factor with it."
                },
            )
        };
        beats.into_iter().map(finding).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::capture::Tap as _;
    use crate::event::{Event, Origin, Position, Sink as _};
    use crate::image::Image;
    use crate::measure::inspection::{Inspection, Settings};
    use crate::measure::profile::Conduct;
    use crate::measure::timing::Clocks;

    #[test]
    fn samples_that_keep_step_with_stopping_are_recognised() {
        let image =
            Image::parse(include_bytes!("../../../../../../demo/buoy/wave-buoy.elf")).unwrap();
        let tick = image.vector(15).unwrap().address;
        let codes = |every: u64, basis: Basis| {
            let mut inspection = Inspection::default();
            let (wire, counted) = inspection.split();
            wire.raw(b"polled");
            for number in 0..2000_u64 {
                let pc = if number % every == 0 { tick } else { 0x0800_0a08 + number % 32 * 2 };
                let position = Position::new(Origin(0), number, None);
                counted.event(position, &Event::Sample { pc });
            }
            let report = inspection.report(&Settings {
                trace: None,
                image: Some(&image),
                stream: None,
                sources: 1,
                clocks: Clocks::default(),
                conduct: Conduct { basis, ..Conduct::default() },
            });
            report.findings.into_iter().map(|finding| finding.code).collect::<Vec<_>>()
        };
        let has = |codes: Vec<String>| codes.contains(&"stops_in_step".to_owned());
        assert!(has(codes(3, Basis::Stopped)));
        assert!(!has(codes(500, Basis::Stopped)), "now and then a stop falls there");
        assert!(!has(codes(3, Basis::Sampler)), "the trace unit stops nothing");
    }
}

//! The classic mistakes that the bytes can show, in plain sentences, each with what to do.

use super::agreement::Agreement;
use super::event_trace;
use super::gather::{Counted, Settings, Wire};
use super::kinds::Kind;
use super::trial::{as_framed, as_plain};
use crate::capture::Framing;
use crate::document::few;
use crate::event::LossReason;
use crate::figure::Doubt;
use crate::measure::profile::{Basis, Context};
use crate::measure::timing::Timing;
use crate::plan::{LINK_USE, next_sampling_period};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// More samples than this part at a handler's first instruction are none of a core that runs undisturbed.
const MOST_AT_ENTRY: f64 = 0.02;
/// Fewer samples than this tell no period: what stands beside the first and last counts too much.
const FEWEST_SAMPLES: u64 = 200;
/// More than this part asleep is everything.
const ALL_ASLEEP: f64 = 0.999;

/// How grave a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Weight {
    /// Figures from this recording are wrong or missing.
    Fault,
    /// Figures are weaker than they could be.
    Doubt,
}

/// What is wrong, and what to do.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Finding {
    /// A stable word for programs.
    pub code: String,
    /// How grave it is.
    pub weight: Weight,
    /// What is wrong.
    pub finding: String,
    /// What to do.
    pub advice: String,
    /// The first place in the recording, in nanoseconds since it began; absent where all of it is meant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_ns: Option<f64>,
    /// The last place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until_ns: Option<f64>,
}

/// Everything a question may look at.
struct Evidence<'a> {
    wire: &'a Wire,
    counted: &'a Counted,
    settings: &'a Settings<'a>,
    /// Absent with several sources: samples and time together then say no period.
    timing: Option<Timing<'a>>,
    /// Absent with several sources, and without an image.
    context: Option<&'a Context<'a>>,
    agreement: Option<&'a Agreement>,
}

pub(super) fn diagnose(
    wire: &Wire,
    counted: &Counted,
    settings: &Settings<'_>,
    timing: Option<Timing<'_>>,
    context: Option<&Context<'_>>,
    agreement: Option<&Agreement>,
) -> Vec<Finding> {
    let evidence = Evidence { wire, counted, settings, timing, context, agreement };
    if let Some(finding) = evidence.empty() {
        return vec![finding];
    }
    if settings.conduct.basis != Basis::Sampler {
        return [
            evidence.no_polls(),
            evidence.stops_in_step(),
            evidence.other_image(),
            evidence.disconnected(),
            evidence.overwritten(),
            evidence.no_image(),
            evidence.no_debug_files(),
        ]
        .into_iter()
        .flatten()
        .collect();
    }
    if let Some(trace) = settings.trace {
        let has_clock = settings.clocks.timestamp_clock.is_some();
        let losses = &counted.recording.losses;
        let mut findings = event_trace::findings(trace, &wire.kinds_seen, losses, has_clock);
        findings.extend(evidence.other_image());
        findings.extend(evidence.no_image());
        findings.extend(evidence.no_debug_files());
        findings.extend(evidence.beats());
        findings.extend(evidence.of_events());
        findings.sort_by_key(|finding| finding.weight);
        return findings;
    }
    if settings.sources == 0 {
        return [
            evidence.other_image(),
            evidence.disconnected(),
            evidence.overwritten(),
            evidence.damage(),
            evidence.no_image(),
            evidence.no_debug_files(),
        ]
        .into_iter()
        .flatten()
        .collect();
    }
    // If the bytes are not what they are taken for, nothing else can be said of them.
    // Buffers that wrapped explain by themselves why little can be read.
    let wrapped = evidence.overwritten().is_some();
    let wrong = evidence.wrong_framing().or_else(|| evidence.not_this_protocol());
    if let Some(finding) = wrong.filter(|_| !wrapped) {
        return vec![finding];
    }
    let questions = [
        Evidence::overflow,
        Evidence::flow_gaps,
        Evidence::disconnected,
        Evidence::overwritten,
        Evidence::late,
        Evidence::damage,
        Evidence::no_sync,
        Evidence::no_samples,
        Evidence::asleep,
        Evidence::other_image,
        Evidence::clock,
        Evidence::period,
        Evidence::no_timestamps,
        Evidence::no_image,
        Evidence::no_debug_files,
    ];
    let mut findings: Vec<Finding> =
        questions.iter().filter_map(|question| question(&evidence)).collect();
    findings.extend(evidence.beats());
    findings.extend(evidence.of_events());
    findings.sort_by_key(|finding| finding.weight);
    findings
}

pub(super) fn fault(code: &str, finding: impl Into<String>, advice: impl Into<String>) -> Finding {
    let (finding, advice) = (finding.into(), advice.into());
    let (from_ns, until_ns) = (None, None);
    Finding { code: code.into(), weight: Weight::Fault, finding, advice, from_ns, until_ns }
}

pub(super) fn doubt(code: &str, finding: impl Into<String>, advice: impl Into<String>) -> Finding {
    Finding { weight: Weight::Doubt, ..fault(code, finding, advice) }
}

/// What speaks against figures, as a finding.
pub(super) fn doubt_as_finding(weight: Weight, doubt: &Doubt) -> Finding {
    Finding {
        code: doubt.code().into(),
        weight,
        finding: sentence(&doubt.why()),
        advice: sentence(&doubt.advice()),
        from_ns: doubt.within().map(|within| within.from_ns),
        until_ns: doubt.within().map(|within| within.until_ns),
    }
}

fn sentence(words: &str) -> String {
    let mut letters = words.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}

fn percent(part: u64, whole: u64) -> f64 {
    100.0 * part as f64 / whole.max(1) as f64
}

impl Evidence<'_> {
    fn empty(&self) -> Option<Finding> {
        (self.wire.raw_bytes == 0).then(|| {
            fault(
                "empty",
                "The recording is empty: not one byte arrived.",
                "Check that the trace pin is routed and its pin function is set, that the probe listens on it, and that DEMCR.TRCENA and ITM_TCR.ITMENA are set before the target runs.",
            )
        })
    }

    fn lost_part(&self) -> f64 {
        let lost = match self.settings.framing {
            Framing::None => self.wire.unread(),
            Framing::Tpiu(_) => self.wire.lost + self.wire.frame_lost,
        };
        lost as f64 / self.wire.raw_bytes.max(1) as f64
    }

    fn wrong_framing(&self) -> Option<Finding> {
        let beginning = &self.wire.beginning;
        match self.settings.framing {
            Framing::None if self.lost_part() > 0.05 => {
                let (id, fit) = as_framed(beginning)?;
                Some(fault(
                    "framed",
                    format!(
                        "These bytes are formatter frames, but they are read as plain ITM: as frames, source {id} gives {} sound packets.",
                        fit.packets
                    ),
                    format!(
                        "Set `framing = \"tpiu\"` with trace_id = {id} (or --framing tpiu --trace-id {id}), or switch the formatter off (TPIU_FFCR.EnFCont = 0)."
                    ),
                ))
            }
            Framing::Tpiu(_) if self.wire.all_packets() == 0 || self.lost_part() > 0.5 => {
                let fit = as_plain(beginning);
                if fit.is_good() {
                    return Some(fault(
                        "not_framed",
                        format!(
                            "These bytes are plain ITM packets, but they are read as formatter frames: read plainly they give {} sound packets.",
                            fit.packets
                        ),
                        "Set `framing = \"none\"` (or leave --framing away).",
                    ));
                }
                let (id, fit) = as_framed(beginning)?;
                Some(fault(
                    "other_source",
                    format!(
                        "The named source carries no ITM, but source {id} does: {} sound packets.",
                        fit.packets
                    ),
                    format!("Set trace_id = {id} (or --trace-id {id})."),
                ))
            }
            _ => None,
        }
    }

    /// No synchronisation, and what is there does not read.
    fn not_this_protocol(&self) -> Option<Finding> {
        if self.wire.packets(Kind::Sync) > 0 || self.lost_part() <= 0.05 {
            return None;
        }
        self.starts_inside().or_else(|| {
            Some(fault(
                "no_synchronisation",
                format!("There is no synchronisation in {} bytes, and {:.0} % of them are no ITM packets: the bit rate is wrong, or this is not ITM.", self.wire.raw_bytes, 100.0 * self.lost_part()),
                "Compare the probe's bit rate with trace clock / (TPIU_ACPR + 1), check the core clock that it was computed from, and the encoding (UART or Manchester, TPIU_SPPR).",
            ))
        })
    }

    /// The recording starts inside a packet, and no synchronisation ever tells where the next one is.
    fn starts_inside(&self) -> Option<Finding> {
        let beginning = &self.wire.beginning;
        let skipped =
            (1..8.min(beginning.len())).find(|&skip| as_plain(&beginning[skip..]).reads())?;
        Some(fault(
            "starts_inside",
            format!(
                "The recording starts inside a packet and never synchronises; from byte {skipped} on it reads well."
            ),
            format!(
                "Turn synchronisation on (ITM_TCR.SYNCENA, DWT_CTRL.SYNCTAP = 1), or start recording before the target. To read this one, cut off what stands before byte {skipped}."
            ),
        ))
    }

    fn no_sync(&self) -> Option<Finding> {
        (self.wire.packets(Kind::Sync) == 0).then(|| {
            doubt(
                "never_synchronised",
                "The stream reads well but never synchronises: one damaged byte would lose everything after it.",
                "Turn synchronisation on: ITM_TCR.SYNCENA, and DWT_CTRL.SYNCTAP = 1.",
            )
        })
    }

    /// Connections that broke while it was made.
    fn disconnected(&self) -> Option<Finding> {
        let breaks = self.counted.recording.losses.of(LossReason::Disconnected);
        (breaks > 0).then(|| {
            let goes_on = match self.settings.conduct.basis {
                Basis::Sampler => ", and reading goes on at the next synchronisation",
                Basis::Polled | Basis::Stopped => "",
            };
            let times = if breaks == 1 { "once".into() } else { format!("{breaks} times") };
            doubt(
                "disconnected",
                format!(
                    "The connection broke {times} while this was recorded: what was sent until it stood again is lost, and nothing says how much{goes_on}."
                ),
                "Look into journal.jsonl for when; check cable, power and the probe's server, and record again if shares or counts are to be judged.",
            )
        })
    }

    /// Buffers on the chip that wrapped before they were read out.
    fn overwritten(&self) -> Option<Finding> {
        let times = self.counted.recording.losses.of(LossReason::Overwritten);
        // Branches need no synchronisation.
        let branches = self.wire.packets(Kind::Branch) > 0;
        let left = if branches {
            String::new()
        } else {
            format!(
                ", and what is left is read from its first synchronisation on ({:.0} % of the bytes could not be)",
                100.0 * self.lost_part()
            )
        };
        (times > 0).then(|| {
            doubt(
                "overwritten",
                format!(
                    "The buffer on the chip had wrapped before {times} of its read-outs: the oldest trace is gone{left}."
                ),
                if branches {
                    "Read it out more often than it lasts (`plan` says how long that is), or narrow it to what matters: `capture --window A..B`."
                } else {
                    "Read it out more often than it lasts (`plan` says how long that is), or trace less: a longer sampling period, no timestamps."
                },
            )
        })
    }

    /// It does not start with a synchronisation, but synchronises later.
    fn late(&self) -> Option<Finding> {
        // Where windows were chosen, nobody wanted the beginning.
        let windows = self.counted.recording.unwatched > 0;
        let first = self.wire.first_sync.filter(|&first| first > 0 && !windows)?;
        let lost = self.counted.recording.losses.places().first();
        let unread =
            lost.filter(|place| place.bytes.start == 0).map_or_else(String::new, |place| {
                format!(", and {} bytes before it could not be read", place.bytes.end)
            });
        Some(doubt(
            "late",
            format!(
                "The recording does not start with a synchronisation; the first one stands at byte {first}{unread}. It was started when the trace was running already: what the target did before is not in it."
            ),
            "Start the capture first, then let the target run (`capture --reset` through a debug stub). `check --within 0s..` judges what is there.",
        ))
    }

    /// Polls that found nothing.
    fn no_polls(&self) -> Option<Finding> {
        let recording = &self.counted.recording;
        (recording.running == 0 && recording.samples() > 0).then(|| {
            fault(
                "no_samples",
                format!(
                    "The debug stub was asked {} times, and never told a program counter.",
                    recording.samples()
                ),
                "Sample with `capture --sample`; if it was on, the target never ran: look into journal.jsonl.",
            )
        })
    }

    /// Whoever is stopped and goes on takes first what became pending meanwhile: the next stop finds that.
    fn stops_in_step(&self) -> Option<Finding> {
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

    fn no_samples(&self) -> Option<Finding> {
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

    fn asleep(&self) -> Option<Finding> {
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

    fn other_image(&self) -> Option<Finding> {
        let agreement = self.agreement?;
        let total = agreement.total();
        if total == 0 {
            return None;
        }
        let advice = "Give the ELF file that is on the target (compare build IDs), and mind boot loaders and code that runs from RAM.";
        let what = if self.settings.sources == 0 { "branches" } else { "samples" };
        let outside = percent(agreement.outside, total);
        let impossible = percent(agreement.impossible(), total);
        if outside > 5.0 {
            return Some(fault(
                "other_image",
                format!(
                    "{outside:.1} % of the {what} lie outside the image: it is not the one that ran, or not all of it."
                ),
                advice,
            ));
        }
        (impossible > 1.0).then(|| {
            fault(
                "other_image",
                format!("{impossible:.1} % of the {what} lie inside instructions or in data: the image is of another build."),
                advice,
            )
        })
    }

    /// By how much the sampling period must grow for the link to carry what is traced.
    fn overflow(&self) -> Option<Finding> {
        let overflows = self.counted.recording.losses.overflows();
        if overflows == 0 {
            return None;
        }
        let missing = self.timing.and_then(|timing| timing.missing());
        let lost = missing.map_or_else(String::new, |missing| {
            format!(
                " Up to {missing} {} missing ({:.2} %).",
                if missing == 1 { "sample is" } else { "samples are" },
                percent(missing, self.counted.recording.samples() + missing)
            )
        });
        Some(doubt(
            "overflow",
            format!(
                "The target dropped packets {overflows} times because the link was too slow.{lost}"
            ),
            self.advise_period(missing),
        ))
    }

    /// Instructions that nobody knows of: the link was too slow, or bytes are damaged.
    fn flow_gaps(&self) -> Option<Finding> {
        let gaps = self.counted.recording.losses.of(LossReason::FlowGap);
        let full = self.wire.packets(Kind::Overflow);
        (gaps > 0).then(|| {
            let advice = if full > 0 {
                "Widen the link, raise the threshold of cycle counts, or trace less: `plan` says what fits."
            } else {
                "`flow` shows what ran around each place."
            };
            let often = if gaps == 1 { "once".to_owned() } else { format!("{gaps} times") };
            doubt(
                "flow_gaps",
                format!(
                    "Instructions are missing {often} (the trace unit's buffer was full: {full}), and nothing says for how long: what ran meanwhile is in no figure."
                ),
                advice,
            )
        })
    }

    fn advise_period(&self, missing: Option<u64>) -> String {
        const OTHERWISE: &str =
            "Widen the link, trace less beside the samples, or sample more slowly.";
        let wire = self.wire;
        let samples = [Kind::PcSample, Kind::Asleep, Kind::Prohibited];
        let count: u64 = samples.iter().map(|&kind| wire.packets(kind)).sum();
        let bytes: u64 = samples.iter().map(|&kind| wire.bytes(kind)).sum();
        let known = (|| {
            let timing = self.timing?;
            let capacity = timing.recording.span()? as f64 * self.counted.rate.peak()?;
            Some((timing.period()?, capacity, missing?))
        })();
        let Some((period, capacity, missing)) = known.filter(|_| count > 0) else {
            return OTHERWISE.into();
        };
        // Every sample brings about one timestamp. What was dropped would have come on top: as large
        // a part of everything else as of the samples.
        let stamp =
            wire.bytes(Kind::LocalTime) as f64 / wire.packets(Kind::LocalTime).max(1) as f64;
        let each = bytes as f64 / count as f64 + stamp;
        let whole = (count + missing) as f64 / count as f64;
        let sampled = each * count as f64 * whole;
        let other = (wire.raw_bytes as f64 - each * count as f64).max(0.0) * whole;
        let room = LINK_USE * capacity - other;
        if room <= 0.0 {
            return "What is traced beside the samples fills the link alone: widen the link, or switch exception trace, timestamps or stimulus ports off.".into();
        }
        // Bursts overflow before the mean does: grow by a tenth at least.
        let wanted = period * (sampled / room).max(1.1);
        match next_sampling_period(wanted.ceil() as u64) {
            Some(next) => format!(
                "Sample every {next} cycles or more slowly (now {period:.0}), or widen the link."
            ),
            None => OTHERWISE.into(),
        }
    }

    fn damage(&self) -> Option<Finding> {
        let late = self.late().is_some();
        let before = self.counted.recording.losses.places().first();
        let before = before.filter(|place| late && place.bytes.start == 0);
        let before = before.map_or(0, |place| place.bytes.end);
        let lost = (self.wire.lost + self.wire.frame_lost).saturating_sub(before);
        (lost > 0).then(|| {
            let places = self.counted.recording.losses.places();
            let first = places.iter().find(|place| !place.bytes.is_empty());
            let place = first.map_or_else(String::new, |place| format!(", first at byte {}", place.bytes.start));
            doubt(
                "damaged",
                format!("{lost} bytes ({:.2} %) could not be read{place}. Times after a damaged place are at least what they say.", percent(lost, self.wire.raw_bytes)),
                "Check the wiring and the bit rate, and let the target synchronise more often (DWT_CTRL.SYNCTAP = 1).",
            )
        })
    }

    /// Ticks that are not of one length, events of several cores: verdicts rest on the same doubts.
    fn of_events(&self) -> impl Iterator<Item = Finding> {
        let timing = Timing { recording: &self.counted.recording, clocks: self.settings.clocks };
        let doubts = timing.doubts(&self.counted.cadences.ticks);
        doubts.into_iter().map(|doubt| doubt_as_finding(Weight::Fault, &doubt))
    }

    /// A core clock that contradicts the tick interrupt's known period.
    fn clock(&self) -> Option<Finding> {
        let recording = Timing { recording: &self.counted.recording, clocks: self.settings.clocks };
        let (real, ticks) = recording.clock_by_tick(&self.counted.cadences.ticks)?;
        let tick = self.settings.clocks.tick_period?.as_secs_f64();
        let stated = self.settings.clocks.timestamp_clock;
        let clocks = &self.settings.clocks;
        let own = clocks.timestamp_clock.is_some() && clocks.timestamp_clock != clocks.core_clock;
        let correction = if own {
            format!("timestamp_clock_hz = {real:.0} (or --timestamp-clock {real:.0}Hz)")
        } else {
            let mega = real / 1e6;
            format!("core_clock = \"{mega:.3} MHz\" (or --core-clock {mega:.3}MHz)")
        };
        let advice = format!("Set {correction}, unless the tick's period is wrong.");
        let Some(stated) = stated else {
            return Some(doubt(
                "no_clock",
                format!(
                    "No core clock is stated; by the tick interrupt it is about {:.3} MHz.",
                    real / 1e6
                ),
                advice,
            ));
        };
        recording.clock_off(&self.counted.cadences.ticks).map(|off| {
            fault(
                "clock",
                format!("The clock is stated as {stated}, but by the tick interrupt (every {:.0} cycles, known to be {} ms) it is about {:.3} MHz: every time is off by {:.0} %.", ticks, 1e3 * tick, real / 1e6, 100.0 * off),
                advice,
            )
        })
    }

    fn period(&self) -> Option<Finding> {
        let recording = &self.counted.recording;
        if !recording.losses.is_empty() || recording.samples() < FEWEST_SAMPLES {
            return None;
        }
        let timing = self.timing?;
        let measured = timing.measured_period()?;
        let Some(stated) = timing.clocks.stated_period else {
            return Some(doubt(
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
        timing.period_off().map(|off| {
            let sleep = if off > 0.0 { ", or the cycle counter stops while the core sleeps" } else { "" };
            fault(
                "period",
                format!("The sampling period is stated as {stated} cycles, but by the timestamps there is a sample every {measured:.0} cycles: it is stated wrongly{sleep}."),
                "Correct pc_sample_period: (POSTPRESET + 1) times 64 or 1024 cycles, by DWT_CTRL; and check timestamp_prescaler.",
            )
        })
    }

    fn no_timestamps(&self) -> Option<Finding> {
        (self.wire.packets(Kind::LocalTime) == 0).then(|| {
            doubt(
                "no_timestamps",
                "There are no timestamps: nothing has a time, and what an overflow dropped cannot be bounded.",
                "Turn them on: ITM_TCR.TSENA.",
            )
        })
    }

    fn no_image(&self) -> Option<Finding> {
        self.settings.image.is_none().then(|| {
            doubt(
                "no_image",
                "No image is named: addresses cannot be checked or named.",
                "Give the firmware's ELF file: --image, or `image` in the manifest.",
            )
        })
    }

    fn no_debug_files(&self) -> Option<Finding> {
        let image = self.settings.image?;
        let (missing, moved) = (image.missing_debug_files(), image.moved_debug_files());
        let all: Vec<&str> = missing.iter().chain(moved).map(String::as_str).collect();
        if all.is_empty() {
            return None;
        }
        let some = few(&all);
        let mut advice = Vec::new();
        if !missing.is_empty() {
            advice.push("Put the files beside the image, or name their folder with --debug-info.");
        }
        if !moved.is_empty() {
            advice.push("Give the ELF file as it was linked, with its debug information in it.");
        }
        Some(doubt(
            "no_debug_files",
            format!(
                "Debug information of the image is missing, of another build or too large: {some}. Which functions were inlined, and the variables and types of that code, are not known."
            ),
            advice.join(" "),
        ))
    }

    fn beats(&self) -> Vec<Finding> {
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
                "Choose a sampling period that shares no factor with it; two captures with coprime periods that agree rule it out.",
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
    use crate::measure::inspection::Inspection;
    use crate::measure::profile::Conduct;
    use crate::measure::timing::Clocks;

    #[test]
    fn samples_that_keep_step_with_stopping_are_recognised() {
        let image = Image::parse(include_bytes!("../../../../../demo/buoy/wave-buoy.elf")).unwrap();
        let tick = image.vector(15).unwrap().address;
        let codes = |every: u64, basis: Basis| {
            let mut inspection = Inspection::default();
            let (wire, counted) = inspection.split();
            wire.raw(b"polled");
            for number in 0..2000_u64 {
                let pc = if number % every == 0 { tick } else { 0x0800_0a08 + number % 32 * 2 };
                let position = Position { origin: Origin(0), offset: number, time: None };
                counted.event(position, &Event::Sample { pc });
            }
            let report = inspection.report(&Settings {
                trace: None,
                image: Some(&image),
                framing: Framing::None,
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

//! What was lost on the way from the target to the file.

use super::{Evidence, Finding, Weight, doubt, percent};
use crate::capture::Framing;
use crate::document::times;
use crate::event::LossReason;
use crate::measure::inspection::kinds::Kind;
use crate::measure::profile::Basis;
use crate::plan::{LINK_USE, next_sampling_period};

/// Windows of which more than so many percent is not read are worth a word.
const MOST_UNREAD: f64 = 5.0;
/// What helps against a link that is too slow, whatever else is known.
const LESS: &str = "Widen the link, trace less beside the samples, or sample more slowly.";
/// What may be wrong where single places cannot be read.
pub(in crate::measure::inspection) const ON_THE_WAY: &str = "Bytes were lost or changed between the target and the file. Most often whoever receives them does not keep up (its buffer, the host's load, a slow disk); else the line is noisy: check ground, level and length of the wire.";

impl Evidence<'_> {
    pub(super) fn lost_part(&self) -> f64 {
        let lost = match self.settings.framing() {
            Framing::None => self.wire.unread(),
            Framing::Tpiu(_) => self.wire.lost + self.wire.frame_lost,
        };
        lost as f64 / self.wire.raw_bytes.max(1) as f64
    }

    /// The target dropped packets: its link was too slow, or did not take them for a while.
    pub(super) fn overflow(&self) -> Option<Finding> {
        let overflows = self.counted.recording.losses.overflows();
        if overflows == 0 || self.settings.sources == 0 {
            return None;
        }
        let times = times(overflows);
        // A count of missing samples rests on the stated period.
        let period_is_right =
            self.timing.is_none_or(|timing| timing.period_contradicted().is_none());
        let missing = self.timing.filter(|_| period_is_right).and_then(|timing| timing.missing());
        let lost = missing.map_or_else(String::new, |missing| {
            format!(
                " Up to {missing} {} missing ({:.2} %).",
                if missing == 1 { "sample is" } else { "samples are" },
                percent(missing, self.counted.recording.samples() + missing)
            )
        });
        let advice = if period_is_right { self.advise_period(missing) } else { LESS.into() };
        let (why, advice) = match self.was_stalled() {
            Some(true) => (
                ", mostly while its link was not full: nobody took the trace for a while.",
                "Check what receives the trace: its buffer, flow control, the host's load.".into(),
            ),
            Some(false) => (" because the link was too slow.", advice),
            None => (": the link was too slow, or nobody took the trace for a while.", advice),
        };
        Some(doubt("overflow", format!("The target dropped packets {times}{why}{lost}"), advice))
    }

    /// Whether packets were dropped though the link was not full; absent where nobody knows what it carries, or what
    /// another source beside this one made.
    fn was_stalled(&self) -> Option<bool> {
        let stream = self.settings.stream.filter(|stream| stream.sources.len() == 1)?;
        let capacity = stream.capacity? as f64;
        let clock = self.settings.clocks.timestamp_clock?;
        Some(self.counted.pace.was_stalled(capacity / clock.hertz()))
    }

    /// By how much the sampling period must grow for the link to carry what is traced.
    fn advise_period(&self, missing: Option<u64>) -> String {
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
            return LESS.into();
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
            None => LESS.into(),
        }
    }

    /// Instructions that nobody knows of: the trace unit's buffer was full, or bytes are damaged.
    pub(super) fn flow_gaps(&self) -> Option<Finding> {
        let losses = &self.counted.recording.losses;
        let full = self.wire.packets(Kind::Overflow);
        // Beside an ITM they are overflows of the port. Without cycle counts nothing else reports them.
        let alone = if self.settings.sources == 0 { full } else { 0 };
        let gaps = losses.of(LossReason::FlowGap).max(alone);
        (gaps > 0).then(|| {
            let often = times(gaps);
            let (why, advice) = match full {
                0 => (String::new(), "`flow` shows what ran around each place."),
                _ => (
                    format!(" (the trace unit's buffer was full: {full})"),
                    "The link was too slow, or whoever takes the trace stopped for a while. Check what receives it; else widen the link, or trace less: `plan` says what fits.",
                ),
            };
            doubt(
                "flow_gaps",
                format!(
                    "Instructions are missing {often}{why}, and nothing says for how long: what ran meanwhile is in no figure."
                ),
                advice,
            )
        })
    }

    /// Cycle counts that the trace unit did not know.
    pub(super) fn unknown_counts(&self) -> Option<Finding> {
        let count = self.counted.recording.losses.of(LossReason::CountUnknown);
        (count > 0).then(|| {
            doubt(
                "counts_unknown",
                format!(
                    "The trace unit did not know {} how many cycles had passed: times across such a place are unknown, what ran is not.",
                    times(count)
                ),
                "Turn global timestamps on (TRCCONFIGR.TS), which bound the time there; a lower threshold (TRCCCCTLR) counts shorter intervals.",
            )
        })
    }

    /// Connections that broke while it was made.
    pub(super) fn disconnected(&self) -> Option<Finding> {
        let losses = &self.counted.recording.losses;
        let breaks = losses.of(LossReason::Disconnected);
        (breaks > 0).then(|| {
            let behind = losses.behind_breaks() + self.wire.frame_behind;
            let goes_on = match (self.settings.conduct.basis, behind) {
                (Basis::Polled | Basis::Stopped, _) => String::new(),
                (Basis::Sampler, 0) => ", and reading goes on at the next synchronisation".into(),
                (Basis::Sampler, bytes) => format!(
                    ", and {bytes} bytes up to the next synchronisation could not be read"
                ),
            };
            let often = times(breaks);
            doubt(
                "disconnected",
                format!(
                    "The connection broke {often} while this was recorded: what was sent until it was made again is lost, and nothing says how much{goes_on}."
                ),
                "Look into journal.jsonl for when; check cable, power and the probe's server, and record again if shares or counts are to be judged.",
            )
        })
    }

    /// Buffers on the chip that wrapped before they were read out.
    pub(super) fn overwritten(&self) -> Option<Finding> {
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
                if branches || self.wire.packets(Kind::Atoms) > 0 {
                    "Read it out more often than it lasts (`plan` says how long that is), or narrow it to what matters: `capture --window A..B`, `--inside CODE`."
                } else {
                    "Read it out more often than it lasts (`plan` says how long that is), or trace less: a longer sampling period, no timestamps."
                },
            )
        })
    }

    /// Buffers that wrapped, and have no synchronisation left at which reading could begin.
    pub(super) fn nothing_left(&self) -> Option<Finding> {
        let begins = [Kind::Sync, Kind::Branch, Kind::ExceptionalBranch];
        let finding = self.overwritten()?;
        let none = begins.iter().all(|&kind| self.wire.packets(kind) == 0);
        none.then(|| Finding {
            weight: Weight::Fault,
            finding: "The buffer on the chip had wrapped before it was read out, and no synchronisation is left in it: nothing says where a packet begins.".into(),
            advice: "Read it out before it wraps (`capture --read-out-every`, and `--keep first`), or fill it more slowly than synchronisations come: of the ITM there is one in 2^24 cycles at best. Instruction trace synchronises every kilobyte.".into(),
            ..finding
        })
    }

    /// Windows of time in which reading began late, or not at all.
    pub(super) fn unread_windows(&self) -> Option<Finding> {
        let part = percent(self.wire.unwanted(), self.wire.raw_bytes);
        (self.counted.recording.unwatched > 0 && part > MOST_UNREAD).then(|| {
            doubt(
                "windows_unread",
                format!(
                    "{part:.0} % of what was kept of the windows comes before their first synchronisation, and is not read."
                ),
                "Choose windows that are longer than the time between synchronisations (2^24 cycles at best for the ITM), or keep all and look at a part with --within.",
            )
        })
    }

    /// Bytes of a source before its first synchronisation.
    fn head(&self) -> u64 {
        let losses = &self.counted.recording.losses;
        let first = losses.places().iter().filter(|place| place.bytes.start == 0);
        first.map(|place| place.bytes.end).max().unwrap_or(0)
    }

    /// It does not start with a synchronisation, but synchronises later.
    pub(super) fn late(&self) -> Option<Finding> {
        // Where windows were chosen, nobody wanted the beginning. A buffer that wrapped lost its own.
        let losses = &self.counted.recording.losses;
        let chosen = self.counted.recording.unwatched > 0 || losses.of(LossReason::Overwritten) > 0;
        let first = self.wire.first_sync.filter(|_| !chosen)?;
        let head = self.head() + self.wire.frame_head;
        if first == 0 && head == 0 {
            return None;
        }
        let unread = match head {
            0 => format!("; the first one is at byte {first}"),
            _ => format!(": {head} bytes before the first one could not be read"),
        };
        Some(doubt(
            "late",
            format!(
                "The recording does not start with a synchronisation{unread}. It was started when the trace was running already: what the target did before is not in it."
            ),
            "Start the capture first, then let the target run (`capture --reset` through a debug stub). `check --within 0s..` judges what is there.",
        ))
    }

    /// Bytes that could not be read, for no reason that another finding gives.
    pub(super) fn damage(&self) -> Option<Finding> {
        let losses = &self.counted.recording.losses;
        let wire = self.wire;
        let behind = losses.behind_breaks() + wire.frame_behind;
        let head = if self.late().is_some() { self.head() + wire.frame_head } else { 0 };
        let explained = wire.cut + behind + head;
        let lost = (wire.lost + wire.frame_lost).saturating_sub(explained);
        (lost > 0).then(|| {
            let is_damage = |why: LossReason| {
                matches!(why, LossReason::Malformed(_) | LossReason::Framing(_)) && !why.is_end()
            };
            let first = losses.places().iter().find(|place| is_damage(place.why));
            let place = first
                .map_or_else(String::new, |place| format!(", first at byte {}", place.bytes.start));
            doubt(
                "damaged",
                format!("{lost} bytes ({:.2} %) could not be read{place}. Times after a damaged place are at least what they say.", percent(lost, wire.raw_bytes)),
                format!("{ON_THE_WAY}{}", self.advise_synchronising()),
            )
        })
    }

    /// What is lost at each damaged place reaches up to the next synchronisation: whether they could come more often.
    fn advise_synchronising(&self) -> &'static str {
        /// More cycles than lie between synchronisations with `SYNCTAP` = 1, though some are lost; fewer than with 2.
        const SELDOM: f64 = 3.0 * (1_u64 << 24) as f64;
        /// Where more than this part is lost, so many synchronisations may be that nobody knows.
        const MOST_LOST: f64 = 0.25;
        let syncs = self.wire.packets(Kind::Sync);
        let (Some(timing), 2..) = (self.timing, syncs) else { return "" };
        if self.lost_part() > MOST_LOST {
            return "";
        }
        let cycles = timing.recording.span().map(|span| span as f64 / timing.timestamp_ratio());
        if cycles.is_some_and(|cycles| cycles / syncs as f64 > SELDOM) {
            " Less is lost at each place if the target synchronises more often: DWT_CTRL.SYNCTAP = 1."
        } else {
            ""
        }
    }

    pub(super) fn no_sync(&self) -> Option<Finding> {
        let is_itm = self.settings.sources > 0;
        (is_itm && self.wire.packets(Kind::Sync) == 0).then(|| {
            doubt(
                "never_synchronised",
                "The stream reads well but never synchronises: one damaged byte would lose everything after it.",
                "Turn synchronisation on: ITM_TCR.SYNCENA, and DWT_CTRL.SYNCTAP = 1.",
            )
        })
    }
}

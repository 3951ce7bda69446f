//! What a profile needs to know beside its counts, and the doubts that follow from it.

use super::conduct::{Basis, Conduct};
use super::grouping::{By, Row, RowKind};
use crate::image::Image;
use crate::measure::cadence::Cadences;
use crate::measure::phases::{Recurring, Step};
use crate::measure::timing::Timing;

/// What a profile needs to know beside its counts.
#[derive(Debug)]
pub struct Context<'a> {
    /// What the addresses mean.
    pub image: &'a Image,
    /// The recording (of the window, where there is one) and its clocks.
    pub timing: Timing<'a>,
    /// How regularly exceptions were entered.
    pub cadences: &'a Cadences,
    /// Samples that were left out at the edge of a window.
    pub cut: u64,
    /// The confidence of intervals.
    pub confidence: f64,
    /// How the recording was made.
    pub conduct: Conduct,
}

impl Context<'_> {
    pub(super) fn doubts(&self, rows: &[Row], by: By, in_step: &[InStep]) -> Vec<String> {
        let mut doubts = Vec::new();
        let total = self.timing.recording.samples();
        if self.conduct.intrusive {
            doubts.push(
                "Shares of computing are usable all the same, times are not: interrupts and timers ran otherwise than they would have.".into(),
            );
        }
        if self.conduct.basis == Basis::Polled {
            doubts.push(
                "The program counter was polled through a debug stub: few samples, at times that the host chose.".into(),
            );
        }
        self.doubt_ranges(rows, &mut doubts);
        self.doubt_missing(&mut doubts);
        if by == (By::Function { inlined: true }) {
            self.doubt_inlining(&mut doubts);
        }
        let recording = self.timing.recording;
        if recording.unwatched > 0 && !self.conduct.between_points {
            doubts.push(format!(
                "Nothing was recorded for a while, by choice, {} times: shares are shares of what was recorded, times are at least what they say.",
                recording.unwatched
            ));
        } else if recording.time_slipped {
            doubts.push(
                "Bytes were lost, and time with them: times after that are at least what they say."
                    .into(),
            );
        }
        doubt_beats(in_step, &mut doubts);
        self.doubt_period(&mut doubts);
        if !self.image.has_lines() {
            doubts.push("The image has no line data (DWARF): files, lines and inlining are unknown; build with -g.".into());
        }
        if self.image.functions().is_empty() {
            doubts.push("The image is stripped: there are no names, rows are addresses.".into());
        }
        if total > 0 && total < FEW_SAMPLES {
            doubts.push(format!("Only {total} samples: shares are rough; measure longer."));
        }
        doubts
    }

    fn doubt_ranges(&self, rows: &[Row], doubts: &mut Vec<String>) {
        if self.conduct.ranges.is_everything() {
            return;
        }
        let elsewhere = rows.iter().find(|row| row.kind == RowKind::Elsewhere);
        let part = elsewhere.map_or(0.0, |row| 100.0 * row.estimate.share);
        doubts.push(format!(
            "Only part of the code was asked for (`inside` and `exclude` of the capture): {part:.1} % of the samples lie elsewhere and are not told apart. Shares are shares of all time all the same."
        ));
    }

    /// What debug information that is missing has of inlining is in no row.
    fn doubt_inlining(&self, doubts: &mut Vec<String>) {
        if let Some(missing) = self.image.missing_debug_files_in_words() {
            doubts.push(format!(
                "Debug information is missing: {missing}. Functions that were inlined into that code have no rows; `inspect` says what to do."
            ));
        }
    }

    fn doubt_missing(&self, doubts: &mut Vec<String>) {
        let is_whole = self.timing.recording.losses.is_empty();
        let samples = self.timing.recording.samples();
        match self.timing.missing() {
            Some(0) => {}
            missing if is_whole => {
                let part = self.timing.uncovered();
                let part = missing.map_or(1.0, |_| part);
                if part > 0.001 {
                    doubts.push(format!(
                        "No sample covers {:.1} % of the time: the cycle counter stops while the core sleeps, sampling was off, or the sampling period is not what the capture says. Shares are of the rest.",
                        100.0 * part
                    ));
                }
            }
            Some(missing) => {
                let part = 100.0 * missing as f64 / (samples + missing) as f64;
                doubts.push(format!(
                    "Up to {missing} {samples} missing ({part:.2} % of all): each share may be off by as much, beside its interval.",
                    samples = if missing == 1 { "sample is" } else { "samples are" },
                ));
            }
            None if self.timing.recording.unwatched > 0 => doubts.push(
                "Samples are missing, and because not all of the time was recorded nothing says how many.".to_owned(),
            ),
            None => doubts.push(
                "Samples are missing, and without timestamps and a stated sampling period nothing says how many.".to_owned(),
            ),
        }
    }

    /// What the samples keep step with, the worst first.
    #[must_use]
    pub fn in_step(&self) -> Vec<InStep> {
        let ratio = self.timing.timestamp_ratio();
        let in_step = |step: Step| InStep {
            name: match step.with {
                Recurring::Exception(exception) => self.image.exception_name(exception),
                Recurring::Task(task) => format!("task {task}"),
                Recurring::Span(span) => format!("span {span}"),
            },
            every: step.every,
            unvisited: step.unvisited,
            period: step.period / ratio,
        };
        let mut steps: Vec<InStep> =
            self.cadences.phases.steps().into_iter().map(in_step).collect();
        steps.sort_by(|a, b| b.unvisited.total_cmp(&a.unvisited));
        steps
    }

    /// What the samples keep step with to a degree that deserves a word.
    #[must_use]
    pub fn beats(&self) -> Vec<InStep> {
        self.in_step().into_iter().filter(InStep::is_much).collect()
    }

    fn doubt_period(&self, doubts: &mut Vec<String>) {
        let timing = &self.timing;
        if timing.recording.samples() < FEW_SAMPLES {
            return;
        }
        let clocks = timing.clocks;
        if let (Some(off), Some(measured), Some(stated)) =
            (timing.period_off(), timing.measured_period(), clocks.stated_period)
        {
            let sleep =
                if off > 0.0 { ", or the cycle counter stops while the core sleeps" } else { "" };
            doubts.push(format!(
                "By the timestamps there is a sample in {measured:.0} cycles, not in {stated}: the sampling period is stated wrongly{sleep}. Times per row rest on it."
            ));
        }
    }
}

/// Something that the samples keep step with.
#[derive(Debug, Clone, PartialEq)]
pub struct InStep {
    /// What it is.
    pub name: String,
    /// They keep step with every so many of its beginnings.
    pub every: u32,
    /// The longest part of that time in which hardly a sample falls, from 0 to 1.
    pub unvisited: f64,
    /// Its period in core cycles.
    pub period: f64,
}

impl InStep {
    fn is_much(&self) -> bool {
        self.unvisited >= MUCH_UNVISITED
    }
}

fn doubt_beats(in_step: &[InStep], doubts: &mut Vec<String>) {
    for step in in_step.iter().filter(|step| step.is_much()) {
        let InStep { name, every, unvisited, period } = step;
        let of =
            if *every == 1 { "its period".to_owned() } else { format!("{every} of its periods") };
        doubts.push(format!(
            "Samples keep step with {name}: into {:.0} % of {of} ({period:.0} cycles each) hardly one falls, so what runs there is seen too often or never; choose a sampling period that shares no factor with it.",
            100.0 * unvisited
        ));
    }
}

/// A smaller part that no sample visits is within what shares are known to.
const MUCH_UNVISITED: f64 = 0.02;

/// Fewer samples than this deserve a word.
const FEW_SAMPLES: u64 = 400;

//! Live figures: the same code that reads captures reads what arrives.

use super::executed::Executed;
use super::panes::Panes;
use crate::commands::counting::CONFIDENCE;
use crate::commands::followers::Followers;
use crate::show::count;
use crate::sources::OpenImage;
use crate::sources::live::Seen;
use std::collections::VecDeque;
use std::time::Instant;
use weltblick_core::capture::{Line, Manifest, What};
use weltblick_core::event::{Event, Origin, Position, Sink};
use weltblick_core::image::Image;
use weltblick_core::judge::{About, BudgetFile, Judgement, Verdict, confidence_at_look, judge};
use weltblick_core::measure::inspection::{
    Finding, InspectReport, Inspection, Settings, Unannounced,
};
use weltblick_core::measure::known::{Facts, against_times};
use weltblick_core::measure::losses::LossRow;
use weltblick_core::measure::profile::{By, Conduct, Context, ProfileReport, report};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timing::{Clocks, Timing};

/// Exception numbers of a core: 9 bits.
const EXCEPTIONS: usize = 512;
/// Lines of text that are kept, and bytes of one.
const MOST_LINES: usize = 200;
const LONGEST_LINE: usize = 200;
/// Budgets are looked at again when there are so many times as many samples.
const LOOK_GROWTH: f64 = 1.25;
/// The first look.
const FIRST_LOOK: u64 = 400;

/// What has arrived so far.
pub(super) struct Watch<'a> {
    lines: Vec<Option<Line>>,
    inspection: Inspection,
    pub(super) ticker: Ticker,
    pub(super) image: Option<&'a OpenImage>,
    pub(super) manifest: &'a Manifest,
    conduct: Conduct,
    budgets: Option<&'a BudgetFile>,
    /// Who follows what budgets ask for.
    pub(super) followers: Option<Followers<'a>>,
    unannounced: Unannounced,
    looks: Looks,
    /// Where an instruction trace comes.
    pub(super) executed: Option<Executed<'a>>,
    /// Where somebody looks at a screen.
    pub(super) panes: Option<Panes<'a>>,
    /// When the first byte came.
    pub(super) first: Option<Instant>,
    /// Bytes that were kept.
    pub(super) bytes: u64,
    /// Bytes of them that came too fast to be watched.
    pub(super) unseen: u64,
}

/// What only the live view shows: text, and interrupts as they come.
pub(super) struct Ticker {
    pub(super) text: VecDeque<String>,
    line: String,
    pub(super) entered: Box<[u64; EXCEPTIONS]>,
    /// Events so far.
    pub(super) events: u64,
}

/// How often budgets were looked at, and what came out.
#[derive(Debug, Default)]
struct Looks {
    number: u32,
    next: u64,
    decided: bool,
}

impl Sink for Ticker {
    #[inline]
    fn event(&mut self, _: Position, event: &Event) {
        self.events += 1;
        match *event {
            Event::Entered { exception } => {
                self.entered[usize::from(exception) % EXCEPTIONS] += 1;
            }
            Event::Said { port: 0, bytes } => self.say(bytes.as_slice()),
            _ => {}
        }
    }
}

impl Ticker {
    fn new() -> Self {
        Self {
            text: VecDeque::new(),
            line: String::new(),
            entered: Box::new([0; EXCEPTIONS]),
            events: 0,
        }
    }

    fn say(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            if byte == b'\n' || self.line.len() >= LONGEST_LINE {
                if self.text.len() == MOST_LINES {
                    self.text.pop_front();
                }
                self.text.push_back(std::mem::take(&mut self.line));
            }
            if byte != b'\n' && byte != b'\r' {
                self.line.push(char::from(byte));
            }
        }
    }

    /// The line that is not complete yet.
    pub(super) fn open_line(&self) -> &str {
        &self.line
    }
}

impl<'a> Watch<'a> {
    pub(super) fn new(
        manifest: &'a Manifest,
        image: Option<&'a OpenImage>,
        budgets: Option<&'a BudgetFile>,
    ) -> Self {
        let mut first = 0;
        let mut lines = Vec::new();
        for stream in &manifest.streams {
            lines.push(manifest.leads(stream).then(|| Line::new(stream, Origin(first))));
            first += stream.sources.len() as u16;
        }
        Self {
            lines,
            inspection: Inspection::default(),
            ticker: Ticker::new(),
            image,
            manifest,
            conduct: Conduct { attached: true, ..Conduct::of(manifest) },
            budgets,
            followers: None,
            unannounced: image.map_or_else(Unannounced::default, |o| Unannounced::new(&o.image)),
            looks: Looks { number: 0, next: FIRST_LOOK, decided: false },
            executed: Executed::new(manifest, image),
            panes: None,
            first: None,
            bytes: 0,
            unseen: 0,
        }
    }

    /// Reads what the recorder passed on.
    pub(super) fn see(&mut self, seen: Seen) {
        let (wire, counted) = self.inspection.split();
        let judged = (&mut self.followers, &mut self.unannounced);
        let mut sink = (counted, (&mut self.ticker, &mut self.panes), judged);
        // Samples that nobody asked for are told as such, as everywhere.
        let mut sink = self.conduct.ranges.filtering(&mut sink);
        let stream = match seen {
            Seen::Bytes { stream, .. } | Seen::Gap { stream, .. } => Some(stream),
            Seen::Happened(_) => None,
        };
        let executed = self.executed.as_mut().filter(|executed| Some(executed.stream) == stream);
        match seen {
            Seen::Bytes { stream, bytes } => {
                self.bytes += bytes.len() as u64;
                if !bytes.is_empty() {
                    self.first.get_or_insert_with(Instant::now);
                }
                if let Some(Some(line)) = self.lines.get_mut(stream) {
                    line.push(&bytes, wire, &mut sink);
                }
                if let Some(executed) = executed {
                    executed.push(&bytes, &mut sink);
                }
            }
            Seen::Gap { stream, why, unseen } => {
                self.bytes += unseen;
                self.unseen += unseen;
                if let Some(Some(line)) = self.lines.get_mut(stream) {
                    line.gap(why, wire, &mut sink);
                }
                if let Some(executed) = executed {
                    executed.gap(why, &mut sink);
                }
            }
            Seen::Happened(What::Released) => self.first = None,
            Seen::Happened(_) => {}
        }
    }

    /// Samples so far.
    pub(super) fn samples(&self) -> u64 {
        self.recording().samples()
    }

    /// How much is known, in words: samples, or instructions.
    pub(super) fn observed(&self) -> String {
        let samples = || format!("{} samples", count(self.samples()));
        self.executed.as_ref().map_or_else(samples, |executed| {
            format!("{} instructions", count(executed.instructions()))
        })
    }

    /// The image, if there is one.
    pub(super) fn image(&self) -> Option<&'a Image> {
        self.image.map(|open| &open.image)
    }

    /// Facts about what came.
    pub(super) const fn recording(&self) -> &Recording {
        self.inspection.recording()
    }

    /// A debugger stops the core now and then.
    pub(super) const fn is_intrusive(&self) -> bool {
        self.conduct.intrusive
    }

    /// The recording, its clocks, and how their ticks are stated; nothing without times.
    pub(super) fn timing(&self) -> Option<(Timing<'_>, Scale)> {
        let clocks = Clocks::of(self.manifest);
        let recording = self.recording();
        recording.span()?;
        let scale = Scale::of(clocks.timestamp_clock?, clocks.core_clock);
        Some((Timing { recording, clocks }, scale))
    }

    /// What every figure in time rests on, so far; `exceptions`: they were traced.
    pub(super) fn facts(
        &self,
        timing: &Timing<'_>,
        contradictions: u64,
        exceptions: bool,
    ) -> Facts {
        let ticks = &self.inspection.cadences().ticks;
        let of_trace = self.executed.as_ref().and_then(Executed::against_times);
        let by_pace = of_trace.is_some();
        let mut against = of_trace.unwrap_or_default();
        let unannounced = &self.unannounced;
        against.extend(against_times(timing, ticks, contradictions, unannounced, &self.conduct));
        Facts { exceptions, by_pace, against, ..Facts::of(timing) }
    }

    /// What was lost, by reason.
    pub(super) fn loss_rows(&self) -> Vec<LossRow> {
        self.recording().losses.rows()
    }

    /// How often something was lost.
    pub(super) fn losses(&self) -> u64 {
        self.recording().losses.count()
    }

    /// Everything that `inspect` would say.
    pub(super) fn inspect(&self) -> InspectReport {
        self.inspection.report(&Settings {
            trace: None,
            image: self.image(),
            stream: self.manifest.streams.first(),
            sources: self.manifest.samplers(),
            clocks: Clocks::of(self.manifest),
            conduct: self.conduct.clone(),
        })
    }

    /// What is wrong, if anything makes the recording worthless.
    pub(super) fn faults(&self) -> Vec<Finding> {
        use weltblick_core::measure::inspection::Weight;
        let findings = self.inspect().findings;
        findings.into_iter().filter(|finding| finding.weight == Weight::Fault).collect()
    }

    fn context(&self, confidence: f64) -> Option<Context<'_>> {
        Some(Context {
            image: &self.image?.image,
            timing: Timing {
                recording: self.inspection.recording(),
                clocks: Clocks::of(self.manifest),
            },
            cadences: self.inspection.cadences(),
            cut: 0,
            confidence,
            conduct: self.conduct.clone(),
        })
    }

    /// The profile so far; `None` without an image.
    pub(super) fn profile(&self) -> Option<ProfileReport> {
        let by = By::Function { inlined: false };
        Some(report(self.inspection.samples(), by, &self.context(CONFIDENCE)?))
    }

    /// Whether every budget is decided that can be while a target runs: all but those on what was executed.
    ///
    /// Looks come at samples, or where no budget is on shares events, that grow by a quarter; each spends its part of
    /// the confidence.
    pub(super) fn has_enough(&mut self) -> bool {
        let Some(budgets) = self.budgets else { return false };
        let is_share = |about: &About| {
            matches!(about, About::SelfShare { .. } | About::SleepShare | About::Samples)
        };
        let has_shares = budgets.figures().any(is_share);
        let progress = if has_shares { self.samples() } else { self.ticker.events };
        if self.looks.decided || progress < self.looks.next {
            return self.looks.decided;
        }
        self.looks.number += 1;
        self.looks.next = (progress as f64 * LOOK_GROWTH) as u64 + 1;
        let confidence = confidence_at_look(CONFIDENCE, self.looks.number);
        self.looks.decided = self.judged(budgets, confidence).is_some_and(|verdicts| {
            let is_decided = |verdict: &Judgement| verdict.verdict != Verdict::Undecided;
            !verdicts.is_empty() && verdicts.iter().all(is_decided)
        });
        self.looks.decided
    }

    /// What is decided when there is enough.
    pub(super) fn what_is_decided(&self) -> &'static str {
        let is_of_code = |about: &About| {
            matches!(about, About::Coverage { .. } | About::Call { .. } | About::Way { .. })
        };
        match self.budgets.is_some_and(|budgets| budgets.figures().any(is_of_code)) {
            true => "every budget but those on executed code is",
            false => "every budget is",
        }
    }

    /// The verdicts if the recording ended here; `None` without an image.
    fn judged(&self, budgets: &BudgetFile, confidence: f64) -> Option<Vec<Judgement>> {
        let context = self.context(confidence)?;
        let followed = self.followers.clone().map(|followers| followers.finish(self.recording()));
        let timings = followed.as_ref().map(|followed| {
            let (contradictions, exceptions) = (followed.contradictions(), followed.exceptions);
            let facts = self.facts(&context.timing, contradictions, exceptions);
            followed.timings(self.image(), facts, None)
        });
        let samples = self.inspection.samples();
        Some(judge(budgets, samples, timings.as_ref(), None, &context).ok()?.budgets)
    }

    /// How often it was looked.
    pub(super) const fn looks(&self) -> u32 {
        self.looks.number
    }
}

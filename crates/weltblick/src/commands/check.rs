//! `check`: does every budget hold?

use super::counting::{Counted, context};
use super::coverage::seen_of;
use super::{draft, signals, within};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Beside, Capture, Part};
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::io::Write;
use std::ops::Range;
use std::path::PathBuf;
use std::time::Duration;
use weltblick_core::event::read_apart;
use weltblick_core::figure::Doubt;
use weltblick_core::judge::{
    About, BudgetFile, CheckReport, Confirmed, Executed, Point, PointRange, SHORTEST_RUN,
    TimingSubject, Timings, USUAL_WINDOW, Verdict, address_of, against_times, confidence_at_look,
    judge,
};
use weltblick_core::measure::execution::{
    BlockCounts, Calls, Crossings, Gaps, Listing, Seen, Tally, TimeAgreement,
};
use weltblick_core::measure::inspection::{Unannounced, trace_doubts};
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::profile::{Context, SampleCounts};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::signals::{FromText, Signals};
use weltblick_core::measure::span::StatedSpans;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};
use weltblick_core::measure::windowed::Windowed;
use weltblick_core::time::{Quantity, Unit, Window};

/// Does every budget hold?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The budget file
    #[arg(value_name = "BUDGETS", index = 2, required_unless_present_any = ["schema", "draft"])]
    pub(crate) budgets: Option<PathBuf>,
    /// Write a budget file instead: what this recording shows, and head-room
    #[arg(long, conflicts_with = "budgets")]
    pub(crate) draft: bool,
    /// How far a draft's limits lie from what was seen [default: 20%]
    #[arg(long, value_name = "SHARE", value_parser = parse_headroom)]
    pub(crate) headroom: Option<f64>,
    /// Only this stretch of time, such as `1.2s..1.5s`: as a recording of its own
    #[arg(long, value_name = "A..B")]
    pub(crate) within: Option<PointRange>,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
    #[command(flatten)]
    pub(crate) capture: CaptureArgs,
}

/// A part of what was seen, none included.
fn parse_headroom(text: &str) -> Result<f64, String> {
    let part = Quantity::parse(text, &[Unit::Share]).map_err(|error| error.to_string())?.value;
    if part >= 0.0 { Ok(part) } else { Err("it must not be negative".into()) }
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<CheckReport>(out)?;
        return Ok(Outcome::Done);
    }
    if args.draft {
        return draft::run(args, out);
    }
    if args.headroom.is_some() {
        bail!("--headroom is for --draft, which writes a budget file");
    }
    let path = args.budgets.as_ref().context("which budget file?")?;
    let name = path.display().to_string();
    let text = fs::read_to_string(path).with_context(|| name.clone())?;
    let budgets = BudgetFile::parse(&name, &text)?;
    let capture = sources::open(&args.capture)?;
    let tells_tasks = asks_for(&budgets, TimingSubject::Task);
    let capture = if tells_tasks { capture.telling_tasks() } else { capture };
    let within = args.within.as_ref();
    let judged = with_measured(&capture, &budgets, within, |measured| measured.judge(&budgets))?;
    let report = CheckReport { within: within.map(ToString::to_string), ..judged };
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::check::csv(&report, out)?,
        Format::Text => {
            let shown = capture.name.display().to_string();
            show::check::text(&report, &name, &shown, Paint::new(args.output.color), out)?;
        }
    }
    Ok(match report.verdict {
        Verdict::Met => Outcome::Done,
        Verdict::Broken => Outcome::Broken,
        Verdict::Undecided => Outcome::Undecided,
    })
}

/// Everything that budgets ask for, measured.
pub(super) struct Measured<'m> {
    pub(super) counts: &'m SampleCounts,
    pub(super) timings: &'m Timings<'m>,
    pub(super) executed: Option<&'m Executed<'m>>,
    context: &'m Context<'m>,
}

impl Measured<'_> {
    pub(super) fn judge(&self, budgets: &BudgetFile) -> Result<CheckReport> {
        Ok(judge(budgets, self.counts, Some(self.timings), self.executed, self.context)?)
    }
}

/// Measures what `budgets` ask for, in one reading, and hands it on: all of the recording, or a window of it.
pub(super) fn with_measured<R>(
    capture: &Capture,
    budgets: &BudgetFile,
    window: Option<&PointRange>,
    act: impl FnOnce(&Measured<'_>) -> Result<R>,
) -> Result<R> {
    // Names first: a typing error should not cost a long reading.
    budgets.verify(capture.image()?)?;
    let within = window.map(|range| within::cycles(range, capture)).transpose()?;
    let (is_part, is_all) = (within.is_some(), within == Some(0..u64::MAX));
    if is_part && !is_all && capture.has_flow() && asks_for_executed(budgets, capture) {
        bail!(
            "what was executed is judged over all of an instruction trace, or from its first synchronisation on (--within 0s..): leave other windows out, or these budgets"
        );
    }
    let windows = windows(budgets);
    let followed: Vec<Followed> = windows.iter().map(|window| follow(capture, *window)).collect();
    let wants_values = asks_for(budgets, TimingSubject::Signal);
    let variables = if wants_values { capture.variables()? } else { None };
    let patterns = signals::patterns(&capture.manifest.signals, &[]);
    let dictionary = signals::dictionary(capture, variables.as_ref(), &patterns, &[])?;
    let values = wants_values.then(|| Signals::new(&dictionary));
    let values = values.map(|values| FromText::new(&patterns, dictionary.image, values));
    let spans = asks_for(budgets, TimingSubject::Span).then(|| StatedSpans::new(0));
    let mut following = (followed, (spans, values));
    // Whoever follows handlers, tasks and values has as much to do as whoever reads.
    let counted = read_apart(&mut following, |ahead| {
        // Beside what the other core writes, each event would wait for its cache line.
        let mut sink = (Counted::default(), Unannounced::new(capture.image()?));
        let mut both = (&mut sink, ahead);
        match within.clone() {
            None => capture.replay_into(&mut both)?,
            Some(Range { start, end }) => {
                capture.replay(&mut Windowed::new(start, end, &mut both))?;
            }
        }
        anyhow::Ok(sink)
    });
    let ((counts, recording, cadences), unannounced) = counted?;
    if let (Some(window), None) = (window, recording.last_moment()) {
        bail!("{}: nothing that was recorded has a time in {window}", capture.name.display());
    }
    let (followed, (spans, values)) = following;
    let mut spans = spans.unwrap_or_else(|| StatedSpans::new(0));
    spans.finish();
    let values = values.map(|from_text| from_text.sink);
    let mut context = context(capture, &recording, &cadences, 0)?;
    context.confidence = confidence_at_look(context.confidence, capture.looks());
    let clocks = capture.clocks();
    let exceptions = followed.iter().any(|tracking| tracking.exceptions);
    let (tasks, interrupts) = finished(&windows, followed, &recording);
    let ran = Ran::of(budgets, capture, &counts, is_all)?;
    let mut against = Vec::new();
    if capture.tells_events_by_flow() {
        against = match &ran {
            Some(ran) => doubts_of(ran.times_disagree, &ran.seen.gaps),
            None => doubts_of_trace(capture, is_all)?,
        };
    }
    let ratio = context.timing.timestamp_ratio();
    against.extend(against_times(
        &context.timing,
        &cadences,
        &interrupts,
        &unannounced,
        &context.conduct,
    ));
    let agreed = capture.tells_events_by_flow().then(|| confirmed(capture, &windows, within));
    let agreed = agreed.transpose()?;
    let timings = Timings {
        interrupts: &interrupts,
        tasks: &tasks,
        spans: &spans,
        signals: values.as_ref(),
        image: Some(context.image),
        scale: clocks.timestamp_clock.map(|clock| Scale::of(clock, clocks.core_clock)),
        span: recording.span_between().unwrap_or_default(),
        end: recording.last_moment().unwrap_or(Window::exact(0)),
        exceptions,
        by_pace: capture.tells_events_by_flow(),
        slipped: recording.time_slipped,
        shortest_run: SHORTEST_RUN * ratio,
        against,
        confirmed: None,
    };
    let before = agreed.as_ref().map(|(tasks, interrupts, recording)| Timings {
        interrupts,
        tasks,
        span: recording.span_between().unwrap_or_default(),
        end: recording.last_moment().unwrap_or(Window::exact(0)),
        slipped: recording.time_slipped,
        against: timings.against.clone(),
        ..timings
    });
    let timings =
        Timings { confirmed: before.as_ref(), against: timings.against.clone(), ..timings };
    let executed = ran.as_ref().map(|ran| ran.executed(capture)).transpose()?;
    act(&Measured {
        counts: &counts,
        timings: &timings,
        executed: executed.as_ref(),
        context: &context,
    })
}

/// Figures of tasks, by the window of their loads, and of interrupts.
type Finished = (Vec<(Duration, TaskFigures)>, InterruptFigures);

fn finished(windows: &[Duration], followed: Vec<Followed>, recording: &Recording) -> Finished {
    let (mut tasks, mut interrupts) = (Vec::new(), InterruptFigures::new(0));
    for (window, tracking) in windows.iter().zip(followed) {
        let (mut figures, of_this) = tracking.finish_both_at(recording.end());
        figures.ended_at(recording.last_moment());
        tasks.push((*window, figures));
        interrupts = of_this;
    }
    interrupts.finish();
    interrupts.ended_at(recording.last_moment());
    (tasks, interrupts)
}

/// The same of what an instruction trace tells before its last synchronisation.
fn confirmed(
    capture: &Capture,
    windows: &[Duration],
    within: Option<Range<u64>>,
) -> Result<(Vec<(Duration, TaskFigures)>, InterruptFigures, Recording)> {
    let followed: Vec<Followed> = windows.iter().map(|window| follow(capture, *window)).collect();
    let mut sink = (followed, Recording::default());
    match within {
        None => capture.replay_confirmed(&mut sink)?,
        Some(within) => {
            capture.replay_confirmed(&mut Windowed::new(within.start, within.end, &mut sink))?;
        }
    }
    let (followed, recording) = sink;
    let (tasks, interrupts) = finished(windows, followed, &recording);
    Ok((tasks, interrupts, recording))
}

/// What speaks against times that come from an instruction trace.
fn doubts_of(times_disagree: u64, gaps: &Gaps) -> Vec<Doubt> {
    let head = (gaps.head > 0).then_some(Doubt::Head { bytes: gaps.head });
    trace_doubts(times_disagree, gaps).into_iter().chain(head).collect()
}

/// The same where no budget asks for what was executed.
fn doubts_of_trace(capture: &Capture, without_head: bool) -> Result<Vec<Doubt>> {
    let mut sink = (TimeAgreement::default(), BlockCounts::default());
    capture.replay_flow(&mut sink)?;
    let (times, mut counts) = sink;
    if without_head || capture.conduct().attached {
        counts.gaps.head = 0;
    }
    Ok(doubts_of(times.contradictions(), counts.gaps()))
}

/// What was executed, for budgets that ask for it.
struct Ran<'a> {
    listing: Listing,
    seen: Seen,
    calls: Option<Calls<'a>>,
    ways: Vec<(Vec<Point>, Calls<'a>)>,
    times_disagree: u64,
    /// What was executed before the last synchronisation, where something ran behind it.
    confirmed: Option<Confirmed<'a>>,
}

impl<'a> Ran<'a> {
    fn of(
        budgets: &BudgetFile,
        capture: &'a Capture,
        samples: &SampleCounts,
        without_head: bool,
    ) -> Result<Option<Self>> {
        if !asks_for_executed(budgets, capture) {
            return Ok(None);
        }
        let image = capture.image()?;
        let listing = Listing::of(image);
        if !capture.has_flow() {
            let seen = Seen::of_samples(samples, &listing);
            let (calls, ways, times_disagree) = (None, Vec::new(), 0);
            let confirmed = None;
            return Ok(Some(Self { listing, seen, calls, ways, times_disagree, confirmed }));
        }
        let calls = Calls::new(image, capture.flow_clocking());
        let mut agreement = TimeAgreement::default();
        let mut beside: Beside<'_> = (Some(BlockCounts::default()), Some(&mut agreement));
        let (code, mut calls) = Part::default().follow(capture, &[], &mut beside, calls)?;
        let counts = beside.0.unwrap_or_default();
        let times_disagree = agreement.contradictions();
        let tally = counts.into_tally(&code);
        let seen_of = |tally: &Tally| {
            let mut seen = seen_of(capture, tally, &listing);
            if without_head {
                seen.gaps.head = 0;
            }
            seen
        };
        let seen = seen_of(&tally);
        let mut ways = ways(budgets, capture)?;
        let confirmed = tally.confirmed.map(|tally| {
            let seen = seen_of(&tally);
            let part = |(points, calls): &mut (Vec<Point>, Calls<'a>)| {
                Some((points.clone(), calls.take_confirmed()?))
            };
            let (calls, ways) =
                (calls.take_confirmed(), ways.iter_mut().filter_map(part).collect());
            Confirmed { seen, calls, ways }
        });
        Ok(Some(Self { listing, seen, calls: Some(calls), ways, times_disagree, confirmed }))
    }

    fn executed(&self, capture: &'a Capture) -> Result<Executed<'_>> {
        let clock = capture.manifest.target.core_clock;
        Ok(Executed {
            image: capture.image()?,
            listing: &self.listing,
            seen: &self.seen,
            calls: self.calls.as_ref(),
            ways: &self.ways,
            scale: clock.map(|clock| Scale::of(clock, Some(clock))),
            intrusive: capture.conduct().intrusive,
            kept_the_end: capture.kept_the_end(),
            times_disagree: self.times_disagree,
            confirmed: self.confirmed.as_ref(),
        })
    }
}

/// Follows each way through the code that a budget is about.
fn ways<'a>(budgets: &BudgetFile, capture: &'a Capture) -> Result<Vec<(Vec<Point>, Calls<'a>)>> {
    let mut ways: Vec<(Vec<Point>, Calls<'a>)> = Vec::new();
    let image = capture.image()?;
    for figure in budgets.figures() {
        let About::Way { points, .. } = figure else { continue };
        if ways.iter().any(|(known, _)| known == points) {
            continue;
        }
        let places = points.iter().map(|point| address_of(point, image));
        let places = places.collect::<Result<Vec<u64>, _>>()?;
        let crossings = Crossings::new(&places, false, 0);
        let calls = Calls::new(image, capture.flow_clocking()).crossing(crossings);
        let (_, calls) = Part::default().follow(capture, &places, &mut Beside::default(), calls)?;
        ways.push((points.clone(), calls));
    }
    Ok(ways)
}

/// Whether any budget is about what was executed.
fn asks_for_executed(budgets: &BudgetFile, capture: &Capture) -> bool {
    budgets.figures().any(|figure| match figure {
        About::Coverage { .. } | About::Call { .. } | About::Way { .. } => true,
        About::SelfShare { .. } => capture.has_flow(),
        _ => false,
    })
}

/// Whether any budget is about such a subject.
fn asks_for(budgets: &BudgetFile, wanted: TimingSubject) -> bool {
    budgets
        .figures()
        .any(|figure| matches!(figure, About::Timing(figure) if figure.subject == wanted))
}

type Followed = Tracking<TaskFigures, InterruptFigures>;

/// Figures of tasks and interrupts of this capture, with loads over windows of this length.
fn follow(capture: &Capture, window: Duration) -> Followed {
    let clocks = capture.clocks();
    let stamp = clocks.timestamp_clock;
    let ticks = stamp.map_or(1, |clock| clock.cycle_at(window).max(1));
    let ratio = stamp.zip(clocks.core_clock).map_or(1.0, |(s, core)| s.hertz() / core.hertz());
    let settings = Settings { keep: 0, window: ticks, each: false };
    Tracking::beside(ratio, TaskFigures::new(settings), InterruptFigures::new(0))
}

/// The windows that loads are judged over: none where no budget is about times, so that nothing is
/// followed in vain; one where none asks for others. Exceptions are followed for all: where they contradict each
/// other, other packets are missing, too.
fn windows(budgets: &BudgetFile) -> Vec<Duration> {
    let window = |figure: &About| match figure {
        About::Timing(figure) => match figure.subject {
            TimingSubject::Interrupt | TimingSubject::Task => {
                Some(figure.window.unwrap_or(USUAL_WINDOW))
            }
            TimingSubject::Span | TimingSubject::Signal => Some(USUAL_WINDOW),
        },
        _ => None,
    };
    let mut windows: Vec<Duration> = budgets.figures().filter_map(window).collect();
    windows.sort_unstable();
    windows.dedup();
    windows
}

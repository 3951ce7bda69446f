//! `flow`: what exactly ran around a place?

use super::only::{CodeArgs, OnlyArgs};
use super::within;
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::flow::Here;
use crate::show::{self, Paint};
use crate::sources::{self, Capture, SourceText};
use anyhow::{Context as _, Result, bail};
use std::io::Write;
use std::path::PathBuf;
use weltblick_core::event::{FlowEvents, Origin};
use weltblick_core::flow::Clocking;
use weltblick_core::judge::{End, Point, Subject, address_of};
use weltblick_core::measure::execution::{
    AtTime, EntriesBefore, FlowIndex, Found, History, Place, RanThen, View,
};
use weltblick_core::measure::timeline::Target;
use weltblick_core::time::Window;

/// What exactly ran around a place
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The place: code (`wave_filter`, `src/dsp/filter.c:83`, `0x08000748`), a byte of the trace
    /// (`etm@4096`), a time (`12.5ms`), an occurrence (`irq:adc_ready[3]`), `first` or `last`
    #[arg(long, value_name = "POINT", default_value = "first")]
    around: Point,
    /// The next time that code is reached or the interrupt entered, and the one after that
    #[arg(long, value_name = "TIMES", default_value_t = 0)]
    next: u64,
    /// Instructions in all
    #[arg(short = 'n', long, value_name = "COUNT", default_value_t = 48)]
    count: u64,
    /// Instructions before the place [default: half of them]
    #[arg(long, value_name = "COUNT")]
    back: Option<u64>,
    /// Where the source is
    #[arg(long, value_name = "FOLDER")]
    sources: Vec<PathBuf>,
    #[command(flatten)]
    code: CodeArgs,
    #[command(flatten)]
    part: OnlyArgs,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

/// More instructions than anybody reads are memory.
const MOST: u64 = 1_000_000;
/// An exception that is entered at a cycle is told within so many cycles.
const FAR_ENOUGH: u64 = 1 << 24;
/// Within so many instructions time is told again.
const UP_TO_A_COUNT: u64 = 10_000;

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<show::flow::FlowReport>(out)?;
        return Ok(Outcome::Done);
    }
    let capture = sources::open(&args.capture)?;
    let mut sought = sought(args, &capture)?;
    if args.next > 0 && !matches!(sought, Sought::At(Place::Address(_)) | Sought::Entry { .. }) {
        bail!("--next: {} comes once; give code or the start of an interrupt", args.around);
    }
    let usual = if args.around == Point::Last { args.count } else { args.count / 2 };
    let back = args.back.unwrap_or(usual).min(MOST);
    let after = args.count.saturating_sub(back).min(MOST);
    let image = capture.image()?;
    let shown = Shown::of(args, &capture)?;
    if let (Sought::At(Place::Address(address)), Some(view)) = (sought, &shown.view)
        && !view.has(address, image)
    {
        bail!("--inside and --exclude leave out {}, which is looked for", args.around);
    }
    // What is chosen of the code is looked for from that time on.
    if let (Sought::At(Place::Ticks(ticks)), None) = (sought, &shown.view) {
        sought = ran_then(ticks, &capture)?.map_or(sought, Sought::Then);
    }
    let (history, cut) = history(&capture, sought, args.next, [back, after], &shown)?;
    // Who read from the middle does not know how much time passed before.
    let scale = capture.flow_scale();
    let here = match sought {
        Sought::At(Place::Address(address)) => Here::Address(address),
        Sought::Then(then) => Here::Instruction(then.instructions),
        _ => Here::Instruction(0),
    };
    let alignment = if cut { None } else { capture.placed()? };
    let time = show::flow::Time { scale, alignment, clocking: capture.flow_clocking() };
    let around = match args.around {
        Point::Last => show::flow::Around::End(args.count.min(MOST)),
        _ => show::flow::Around::Place([back, after]),
    };
    let mut texts = SourceText::around(&capture, &args.sources);
    let Some(report) = show::flow::report(&history, image, time, here, around, &mut texts)? else {
        bail!(
            "{}: {} is not reached{} in {}",
            capture.name.display(),
            args.around,
            if args.next > 0 { " so often" } else { "" },
            if shown.view.is_some() { "what is chosen of it" } else { "this instruction trace" }
        );
    };
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::flow::csv(&report, out)?,
        Format::Text => {
            let from =
                if cut { "; times count from where reading began, shortly before" } else { "" };
            let chosen = args.chosen();
            let title = format!("{}, around {}{chosen}{from}", capture.name.display(), args.around);
            let paint = Paint::new(args.output.color);
            show::flow::text(&report, &title, paint, out)?;
            // A choice would have to be made again.
            if args.around != Point::Last && shown.view.is_none() {
                let (again, stream) = (capture.again(), capture.flow_stream_name());
                show::flow::go_on(&report, [&again, &stream], args.count, paint, out)?;
            }
        }
    }
    Ok(Outcome::Done)
}

impl Args {
    /// What is shown, in the words in which it was asked for.
    fn chosen(&self) -> String {
        let only = self.part.only.iter().map(|range| format!(", only {range}"));
        let inside = self.code.inside.iter().map(|name| format!(", inside {name}"));
        let exclude = self.code.exclude.iter().map(|name| format!(", without {name}"));
        only.chain(inside).chain(exclude).collect()
    }
}

/// What of the recording is shown.
#[derive(Default)]
struct Shown {
    view: Option<View>,
    /// Only a part of it.
    is_part: bool,
    /// Where blocks must begin for that.
    cuts: Vec<u64>,
}

impl Shown {
    fn of(args: &Args, capture: &Capture) -> Result<Self> {
        let part = args.part.part(capture)?;
        if part.is_all() && args.code.is_all() {
            return Ok(Self::default());
        }
        let mut view = View::new(part.only(()).timed_by(capture.flow_clocking()));
        if !args.code.is_all() {
            let chosen = args.code.functions(capture.image()?);
            if chosen.is_empty() {
                bail!("--inside and --exclude leave out all code of the image");
            }
            view = view.of(chosen);
        }
        Ok(Self { view: Some(view), is_part: !part.is_all(), cuts: part.cuts(&[]) })
    }
}

/// What ran before and after a place, and whether its times count from where reading began.
fn history<'c>(
    capture: &'c Capture,
    sought: Sought,
    next: u64,
    around: [u64; 2],
    shown: &Shown,
) -> Result<(History<'c>, bool)> {
    let image = capture.image()?;
    let place = sought.place();
    let next = if let Sought::Then(then) = sought { then.skip } else { next };
    let new = |skip| {
        let history = History::new(image, capture.flow_clocking(), place, skip, around);
        match &shown.view {
            Some(view) => history.seen_through(view.clone()),
            None => history,
        }
    };
    let mut history = new(next);
    let near = match (place, found(capture, sought, next)?) {
        // Whether a part has begun is only known from its beginning on.
        _ if shown.is_part => false,
        // A byte is near its place in the file.
        (_, Some(found)) => {
            history = history.from(found);
            capture.replay_flow_stepwise_near(found.offset, &mut history)?
        }
        (Place::Byte(byte), None) if matches!(sought, Sought::At(_)) => {
            capture.replay_flow_stepwise_near(byte, &mut history)?
        }
        (_, None) => false,
    };
    let near = near && history.steps().is_some() && !history.misses();
    // What is shown may lie further back than what was read.
    let near = near && !(shown.view.is_some() && history.is_short());
    let cut = near && matches!(sought, Sought::At(Place::Byte(_)));
    if !near {
        let before = match sought {
            Sought::At(_) | Sought::Then(_) => 0,
            Sought::Entry { exception, moment } => {
                entries_before(exception, moment, capture, None)?
                    .context("--around: the instruction trace ends before that")?
            }
        };
        history = new(before + next);
        capture.replay_flow_stepwise(&shown.cuts, &mut history)?;
    }
    history.finish();
    Ok((history, cut))
}

/// When code is reached for the first time, between two cycle counts.
pub(super) fn when(code: &Point, capture: &Capture) -> Result<Window> {
    let sought = Sought::At(Place::Address(address_of(code, capture.image()?)?));
    let (history, _) = history(capture, sought, 0, [0, UP_TO_A_COUNT], &Shown::default())?;
    let reached = history.steps().and_then(|(steps, hit)| {
        let earliest = steps[hit].ticks?;
        let later = steps.iter().skip(hit).filter_map(|step| step.ticks);
        let latest = later.into_iter().find(|&ticks| ticks > earliest).unwrap_or(earliest);
        Some(Window { earliest, latest })
    });
    reached.with_context(|| format!("`{code}` is not reached in this instruction trace"))
}

/// Near where the place is, by the index of a long trace.
fn found(capture: &Capture, sought: Sought, next: u64) -> Result<Option<Found>> {
    let by_cycles = capture.flow_clocking() == Clocking::Cycles;
    let is_indexed = match sought {
        Sought::At(Place::Address(_)) => true,
        Sought::At(Place::Ticks(_)) | Sought::Then(_) | Sought::Entry { .. } => by_cycles,
        Sought::At(_) => false,
    };
    let Some(index) = (if is_indexed { sources::flow_index(capture)? } else { None }) else {
        return Ok(None);
    };
    Ok(match sought {
        Sought::At(Place::Address(address)) => index.nth(address, next),
        Sought::At(Place::Ticks(cycles)) => index.at_cycles(cycles),
        Sought::At(_) => None,
        Sought::Then(RanThen { offset, skip, ticks, .. }) => {
            Some(Found { offset, cycles: ticks, skip })
        }
        Sought::Entry { exception, moment } => {
            let Some(found) = index.at_cycles(moment) else { return Ok(None) };
            let before = entries_before(exception, moment, capture, Some((index, found)))?;
            before.map(|before| Found { skip: before + next, ..found })
        }
    })
}

/// Where to look.
#[derive(Clone, Copy)]
enum Sought {
    At(Place),
    /// The first entry of this exception that may be as late as this cycle.
    Entry {
        exception: u16,
        moment: u64,
    },
    /// What ran at a time.
    Then(RanThen),
}

impl Sought {
    const fn place(self) -> Place {
        match self {
            Self::At(place) => place,
            Self::Entry { exception, .. } => Place::Entry(exception),
            Self::Then(then) => Place::Byte(then.offset),
        }
    }
}

fn sought(args: &Args, capture: &Capture) -> Result<Sought> {
    let place = match &args.around {
        Point::First => Place::First,
        Point::Last => Place::Last,
        Point::Byte { stream, offset } => {
            let name = capture.flow_stream_name();
            if *stream != name {
                bail!(
                    "--around: the instruction trace of this capture is called `{name}`, not `{stream}`"
                );
            }
            Place::Byte(*offset)
        }
        Point::Time(_) | Point::Event(_) | Point::Occurrence(_) => {
            let time = within::in_flow(&args.around, capture).context("--around")?;
            if let Point::Occurrence(occurrence) = &args.around
                && occurrence.subject == Subject::Interrupt
                && let (Target::Interrupt(exception), End::Begin) =
                    (within::target(occurrence, capture)?, occurrence.end)
            {
                let led = capture.tells_events_by_flow();
                let moment = if led { time.latest } else { time.earliest };
                return Ok(Sought::Entry { exception, moment });
            }
            Place::Ticks(time.earliest)
        }
        code => Place::Address(address_of(code, capture.image()?)?),
    };
    Ok(Sought::At(place))
}

/// What ran after so many ticks, if the trace shows it.
fn ran_then(ticks: u64, capture: &Capture) -> Result<Option<RanThen>> {
    let new = || AtTime::new(capture.flow_clocking(), ticks);
    if let Some(Found { offset, cycles, .. }) = found(capture, Sought::At(Place::Ticks(ticks)), 0)?
    {
        let mut then = new().from_byte(offset, cycles);
        if capture.replay_flow_stepwise_near(offset, &mut then)?
            && let Some(then) = then.found()
        {
            return Ok(Some(then));
        }
    }
    let mut then = new();
    capture.replay_flow_stepwise(&[], &mut then)?;
    Ok(then.found())
}

/// How often an exception was entered before a cycle of the instruction trace: from a place that the index tells
/// on, or in all of it. `None` if it was not entered from then on.
fn entries_before(
    exception: u16,
    moment: u64,
    capture: &Capture,
    near: Option<(&FlowIndex, Found)>,
) -> Result<Option<u64>> {
    let entries = EntriesBefore::new(exception, moment);
    let Some((index, found)) = near else {
        let mut events = FlowEvents::new(Origin(0), capture.flow_clocking(), entries);
        capture.replay_flow(&mut events)?;
        events.finish();
        return Ok(events.sink_mut().count());
    };
    let entries = entries.from_byte(found.offset);
    let until = moment.saturating_add(FAR_ENOUGH);
    let mut events = index.events_from(found, until, Origin(0), entries);
    let near = capture.replay_flow_near(found.offset, &mut events)?;
    events.finish();
    Ok(events.sink_mut().count().filter(|_| near))
}

//! `timeline`: interrupts, tasks, spans, values and text on one axis.

use super::only::OnlyArgs;
use super::reading::Reading;
use super::{list, signals, within};
use crate::cli::{CaptureArgs, Format, OutputArgs, duration};
use crate::outcome::Outcome;
use crate::show::picture::{self, PictureFile};
use crate::show::timeline::{Axis, Chart, Point as Marked, Values};
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Result, bail};
use clap::ValueEnum;
use ratatui::crossterm::terminal;
use std::collections::BTreeSet;
use std::io::{IsTerminal as _, Write};
use std::time::Duration;
use weltblick_core::image::{Image, Variables};
use weltblick_core::judge::{Point, PointRange};
use weltblick_core::measure::execution::{Found, OnStack};
use weltblick_core::measure::signals::{Dictionary, FromText, Signals, name_in};
use weltblick_core::measure::timeline::{
    CallLanes, Context, Entry, EntryRow, Gather, LaneKey, MOST_ENTRIES, Spacing, TimelineReport,
    Wanted, What, entries, kind, report, row,
};
use weltblick_core::measure::within::Within;
use weltblick_core::pattern::Pattern;

/// Cells of lanes in pictures and in JSON.
const CELLS: usize = 1024;
/// How far a search looks at first, how much farther each time, and how far by steps.
const FIRST_STEP: Duration = Duration::from_millis(500);
const STEPS_GROW: u64 = 16;
const LAST_STEP: Duration = Duration::from_secs(150);
/// A depth of calls has a lane by itself if one of them lasts for this part of the axis.
const LEAST_CALL: u64 = 12;
/// Columns of a terminal that says nothing, and at least.
const USUAL_WIDTH: usize = 100;
const LEAST_WIDTH: usize = 80;

/// What happened when, side by side?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only this stretch, between points: `1.2s..1.5s`, `irq:adc_ready[3]..task:telemetry[9].end`
    #[arg(long, value_name = "A..B")]
    within: Option<PointRange>,
    /// Only what is around this point, as wide as --width says
    #[arg(long, value_name = "POINT", conflicts_with = "within")]
    around: Option<Point>,
    /// How much of the time is around a point
    #[arg(long, value_name = "TIME", default_value = "5ms", value_parser = duration)]
    width: Duration,
    /// Mark this point, and show what is around it
    #[arg(long, value_name = "POINT")]
    at: Option<Point>,
    /// Mark this point too, and say how long after the first it is
    #[arg(long, value_name = "POINT", requires = "at")]
    to: Option<Point>,
    /// From the marked point go on to the next: irq:NAME, task:NAME, span:NAME, object:NAME,
    /// value:NAME, text:LETTERS, or lost
    #[arg(long, value_name = "WHAT", conflicts_with_all = ["to", "within"])]
    next: Option<Wanted>,
    /// The same backwards
    #[arg(long, value_name = "WHAT", conflicts_with_all = ["to", "within", "next"])]
    previous: Option<Wanted>,
    /// Only these lanes: names, kinds (interrupt, task, call, span, object, value, access, text), `*` for anything
    #[arg(long, value_name = "LANE", value_delimiter = ',')]
    lanes: Vec<String>,
    /// How the axis is spaced
    #[arg(long, value_enum, default_value_t = SpacingArg::Time)]
    spacing: SpacingArg,
    /// List what happened, moment by moment, instead
    #[arg(long, conflicts_with = "picture")]
    list: bool,
    /// Draw it into a file, too: .svg or .png
    #[arg(long, value_name = "FILE")]
    picture: Option<PictureFile>,
    /// Columns of the text [default: those of the terminal]
    #[arg(long, value_name = "COLUMNS", value_parser = clap::value_parser!(u16).range(80..=1000))]
    columns: Option<u16>,
    #[command(flatten)]
    part: OnlyArgs,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

/// `--spacing`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum SpacingArg {
    /// Every stretch of time is as wide as it is long
    Time,
    /// Every event takes the same space, so that rare ones are readable
    Events,
}

/// What happened on lanes, and what values were.
struct Told<'d> {
    gather: Gather<'d>,
    /// The names of values, by number.
    names: Vec<String>,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        match args.list {
            true => show::schema::<Vec<EntryRow>>(out)?,
            false => show::schema::<TimelineReport>(out)?,
        }
        return Ok(Outcome::Done);
    }
    let capture = args.part.of_events(sources::open(&args.capture)?.telling_tasks())?;
    let reading = Reading::new(&capture, None)?;
    let variables = capture.variables()?;
    let patterns = signals::patterns(&capture.manifest.signals, &[]);
    let dictionary = lenient(&capture, variables.as_ref(), &patterns)?;
    let mut marked = Vec::new();
    for (point, letter) in [(&args.at, 'v'), (&args.to, 'w')] {
        if let Some(point) = point {
            let time = within::moment(point, &capture, reading.clock)?;
            let name = match point {
                Point::Time(_) => "the time that you gave,".to_owned(),
                other => other.to_string(),
            };
            marked.push(Marked { letter, name, tick: time.latest, time });
        }
    }
    search(&reading, args, &dictionary, &patterns, &mut marked)?;
    let window = window(&reading, args, &marked)?;
    let Told { mut gather, names } = read(&reading, &dictionary, &patterns, window, false)?;
    add_calls(&reading, dictionary.image, window, &mut gather)?;
    let context = Context { image: dictionary.image, scale: reading.scale, values: &names };
    let Some(range) = gather.range.filter(|(start, end)| end > start) else {
        capture.require_counted_cycles("`flow` and `profile --tree` tell what ran")?;
        bail!(
            "{}: nothing has a time here; turn timestamps on (TSENA in ITM_TCR, as `plan` says)",
            capture.name.display()
        );
    };
    let lanes = chosen(&gather, &context, &args.lanes, args.spacing)?;
    if args.list {
        return listed(args, &gather, &lanes, &context, out);
    }
    let spacing = spacing(args, &gather, &lanes)?;
    let width = width(args);
    let doubts = doubts(&capture, &gather)?;
    let draw = |cells: usize| TimelineReport {
        doubts: doubts.clone(),
        ..drawn(&gather, &lanes, range, cells, spacing.as_ref(), &context)
    };
    let (title, again) = (capture.name.display().to_string(), capture.again());
    let chart = |cells: usize| Chart {
        capture: &title,
        again: &again,
        report: draw(cells),
        marked: &marked,
        axis: Axis { range, ns: reading.scale.ns, spacing: spacing.as_ref() },
        values: courses(&gather, &lanes),
        said: said(&gather, &lanes, &context),
    };
    if let Some(file) = &args.picture {
        picture::save(file, &picture::Lanes(&chart(CELLS)))?;
    }
    match args.output.format {
        Format::Json => show::json(&draw(CELLS), out)?,
        Format::Csv => show::timeline::csv(&draw(CELLS), out)?,
        Format::Text => {
            let paint = Paint::new(args.output.color);
            show::timeline::text(&chart(show::timeline::cells_of(width)), paint, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// Reads what happens from the one tick of a window to the other; where there is too much of it the
/// first of it, or the last.
fn read<'d>(
    reading: &Reading<'_>,
    dictionary: &'d Dictionary<'d>,
    patterns: &[Pattern],
    window: Option<(u64, u64)>,
    keeps_last: bool,
) -> Result<Told<'d>> {
    let mut values = Signals::new(dictionary);
    values.each = Some(Vec::new());
    let mut gather = Gather::new(reading.ticks_per_cycle, dictionary.image, window);
    gather.keeps_last = keeps_last;
    let (start, end) = window.unwrap_or((0, u64::MAX - 1));
    let only = Within::new(start, end.saturating_add(1), &mut values);
    let lines = FromText::new(patterns, dictionary.image, only);
    let mut sink = (&mut gather, lines);
    let near = match found(reading.capture, window)? {
        Some(found) => reading.capture.replay_events_from(found, end, &mut sink)?,
        None => false,
    };
    if !near {
        reading.capture.replay(&mut sink)?;
    }
    values.finish();
    gather.finish();
    let names = values.list().iter().map(|signal| values.label(signal)).collect();
    add_values(&mut gather, &values);
    Ok(Told { gather, names })
}

/// Where reading may begin for a window, in a long instruction trace.
fn found(capture: &Capture, window: Option<(u64, u64)>) -> Result<Option<Found>> {
    window.map_or(Ok(None), |(start, _)| capture.found_at_cycle(start))
}

/// Adds what was on the stack, where an instruction trace tells, and its times are those of the events.
fn add_calls(
    reading: &Reading<'_>,
    image: Option<&Image>,
    window: Option<(u64, u64)>,
    gather: &mut Gather<'_>,
) -> Result<()> {
    let capture = reading.capture;
    let Some(image) = image.filter(|_| !reading.once) else { return Ok(()) };
    if let Some(alignment) = capture.placed()? {
        let (start, end) = gather.range.unwrap_or_default();
        let Some((from, until)) = alignment.between(start, end) else { return Ok(()) };
        let found = window.map_or(Ok(None), |_| capture.flow_at_cycle(from))?;
        return stack(capture, found, CallLanes::new(image, gather).aligned(alignment, until));
    }
    if !capture.tells_events_by_flow() {
        return Ok(());
    }
    let mut lanes = CallLanes::new(image, gather);
    if let Some(part) = capture.told_part() {
        part.replay(capture, &[], &mut lanes)?;
        lanes.finish();
        return Ok(());
    }
    stack(capture, found(capture, window)?, lanes)
}

/// Reads what was on the stack, from a place that was found on, or all.
fn stack(capture: &Capture, found: Option<Found>, mut lanes: CallLanes<'_, '_, '_>) -> Result<()> {
    let near = match found {
        Some(found) => {
            lanes = lanes.from(found);
            capture.replay_flow_near(found.offset, &mut lanes)?
        }
        None => false,
    };
    if !near {
        capture.replay_flow(&mut lanes)?;
    }
    lanes.finish();
    Ok(())
}

/// The ticks that are looked at; nothing for all.
fn window(reading: &Reading<'_>, args: &Args, marked: &[Marked]) -> Result<Option<(u64, u64)>> {
    if let Some(range) = &args.within {
        let cycles = within::cycles(range, reading.capture)?;
        // Without an end: what there is.
        let open = cycles.end == u64::MAX;
        let end = if open {
            within::moment(&Point::Last, reading.capture, reading.clock)?.latest
        } else {
            cycles.end
        };
        return Ok(Some((cycles.start, end.max(cycles.start + 1))));
    }
    let around = match &args.around {
        Some(point) => Some(within::moment(point, reading.capture, reading.clock)?.latest),
        None => None,
    };
    let half = reading.clock.cycle_at(args.width).max(2) / 2;
    Ok(match (around, marked) {
        (Some(centre), _) => Some((centre.saturating_sub(half), centre.saturating_add(half))),
        (None, []) => None,
        (None, [only]) => Some((only.tick.saturating_sub(half), only.tick.saturating_add(half))),
        (None, [first, second, ..]) => {
            let (low, high) = (first.tick.min(second.tick), first.tick.max(second.tick));
            let edge = ((high - low) / 10).max(2);
            Some((low.saturating_sub(edge), high.saturating_add(edge)))
        }
    })
}

/// Moves the mark to the next, or the previous, of what is searched.
fn search(
    reading: &Reading<'_>,
    args: &Args,
    dictionary: &Dictionary<'_>,
    patterns: &[Pattern],
    marked: &mut Vec<Marked>,
) -> Result<()> {
    let (wanted, forwards) = match (&args.next, &args.previous) {
        (Some(wanted), _) => (wanted, true),
        (None, Some(wanted)) => (wanted, false),
        (None, None) => return Ok(()),
    };
    if reading.once {
        bail!("a search reads twice, and standard input comes once; give a file");
    }
    let start = match (marked.first(), &args.around) {
        (Some(mark), _) => Some(mark.tick),
        (None, Some(point)) => Some(within::moment(point, reading.capture, reading.clock)?.latest),
        (None, None) => None,
    };
    let from = start.unwrap_or(if forwards { 0 } else { u64::MAX - 1 });
    // Where an index leads to any place, first what is near, then ever more.
    let by_steps = start.is_some() && reading.capture.found_at_cycle(from)?.is_some();
    let mut reach = if by_steps { reading.clock.cycle_at(FIRST_STEP) } else { u64::MAX };
    let landed = loop {
        let window = match forwards {
            true => (from, from.saturating_add(reach).min(u64::MAX - 1)),
            false => (from.saturating_sub(reach), from),
        };
        let told = read(reading, dictionary, patterns, Some(window), !forwards)?;
        let context =
            Context { image: dictionary.image, scale: reading.scale, values: &told.names };
        let name = |lane: LaneKey| context.name(&told.gather, lane);
        if let Some(found) = wanted.find(&told.gather.entries, from, forwards, &name) {
            let what = format!("{} {}", name(found.lane), context.what(&told.gather, &found.what));
            let (tick, time) = (found.time.latest, found.time);
            break Marked { letter: 'w', name: what, tick, time };
        }
        if reach == u64::MAX {
            let way = if forwards { "after" } else { "before" };
            let limit = if told.gather.cut {
                format!(" (only {MOST_ENTRIES} events were looked at; start nearer)")
            } else {
                String::new()
            };
            bail!("there is no such thing {way} this point{limit}");
        }
        reach = reach.saturating_mul(STEPS_GROW);
        // From here on all of it is read anyway.
        if reading.clock.cycle_at(LAST_STEP) < reach {
            reach = u64::MAX;
        }
    };
    if marked.is_empty() {
        marked.push(Marked { letter: 'v', ..landed });
    } else {
        marked.push(landed);
    }
    Ok(())
}

/// What is known of values. A watched variable that the image does not have costs its own lane its
/// meaning, not the user all others.
fn lenient<'a>(
    capture: &'a Capture,
    variables: Option<&'a Variables>,
    patterns: &[Pattern],
) -> Result<Dictionary<'a>> {
    signals::dictionary(capture, variables, patterns, &[]).or_else(|why| {
        eprintln!("weltblick: {why}; its values are shown as plain bits");
        signals::dictionary(capture, None, patterns, &[])
    })
}

/// The readings of values as entries of their lanes.
fn add_values(gather: &mut Gather<'_>, values: &Signals<'_>) {
    let readings = values.each.as_deref().unwrap_or_default();
    let scaling: Vec<(f64, f64)> =
        values.list().iter().map(|signal| values.scaling(signal.key)).collect();
    let told = |signal: usize, raw: f64| raw * scaling[signal].0 + scaling[signal].1;
    let (first, last) = gather.range.unwrap_or((0, u64::MAX));
    for reading in readings {
        let Some(time) = reading.time.filter(|time| (first..=last).contains(&time.latest)) else {
            continue;
        };
        let has_values = values.list()[reading.signal].values.count > 0;
        let (lane, what) = match reading.value {
            Some(value) => {
                (LaneKey::Value(reading.signal), What::Value(told(reading.signal, value)))
            }
            // Beside values, an access without one is no moment of its own.
            None if has_values => continue,
            None => (LaneKey::Accessed(reading.signal), What::Accessed),
        };
        gather.add(Entry { time, lane, what });
    }
    gather.entries.sort_by_key(|entry| entry.time.latest);
}

/// The lanes that a user wants, from above.
fn chosen(
    gather: &Gather<'_>,
    context: &Context<'_>,
    wanted: &[String],
    spacing: SpacingArg,
) -> Result<Vec<LaneKey>> {
    let named: Vec<(LaneKey, String)> =
        gather.lanes.keys().map(|&lane| (lane, context.name(gather, lane))).collect();
    let has_tasks = named.iter().any(|(lane, _)| matches!(lane, LaneKey::Task(_)));
    let (start, end) = gather.range.unwrap_or_default();
    let long = |call: &&OnStack| call.until.latest - call.from.latest >= (end - start) / LEAST_CALL;
    let named_calls: BTreeSet<usize> =
        gather.calls.iter().filter(long).map(|call| call.depth).collect();
    let meant = |(lane, name): &&(LaneKey, String), pattern: &str| {
        // `temperature` is meant by its name, and by what its accesses show.
        let plain = match lane {
            LaneKey::Value(_) | LaneKey::Accessed(_) => Some(name_in(name)),
            _ => None,
        };
        signals::is_meant(name, pattern)
            || plain.is_some_and(|name| signals::is_meant(name, pattern))
            || kind(*lane) == pattern.trim_end_matches('s')
    };
    for pattern in wanted {
        if !named.iter().any(|entry| meant(&entry, pattern)) {
            let names: Vec<&str> = named.iter().map(|(_, name)| name.as_str()).collect();
            bail!("there is no lane `{pattern}` here; there are {}", names.join(", "));
        }
    }
    let is_wanted = |entry: &&(LaneKey, String)| match wanted {
        // Thread mode is what tasks share; without them it is a lane of its own.
        [] => {
            let by_events = spacing == SpacingArg::Events;
            match entry.0 {
                LaneKey::Thread(_) => !has_tasks,
                LaneKey::Load => !by_events,
                // Where no call is long enough to be named there is nothing to read.
                LaneKey::Call(depth) => named_calls.contains(&depth),
                _ => true,
            }
        }
        _ => wanted.iter().any(|pattern| meant(entry, pattern)),
    };
    Ok(named.iter().filter(is_wanted).map(|(lane, _)| *lane).collect())
}

fn listed(
    args: &Args,
    gather: &Gather<'_>,
    lanes: &[LaneKey],
    context: &Context<'_>,
    out: &mut dyn Write,
) -> Result<Outcome> {
    list::tell_cut([gather.entries.len()].into_iter(), MOST_ENTRIES);
    let shown: Vec<&Entry> =
        gather.entries.iter().filter(|entry| lanes.contains(&entry.lane)).collect();
    let rows = entries(gather, &shown, context);
    let faces: list::Faces<_> = (show::timeline::list_csv, show::timeline::list);
    list::write(&rows, &args.output, faces, out)
}

/// Where events stand if each takes the same space.
fn spacing(args: &Args, gather: &Gather<'_>, lanes: &[LaneKey]) -> Result<Option<Spacing>> {
    if args.spacing == SpacingArg::Time {
        return Ok(None);
    }
    if gather.cut {
        bail!(
            "--spacing events: there are more than {MOST_ENTRIES} events; look at a shorter time"
        );
    }
    let of_lanes = gather.entries.iter().filter(|entry| lanes.contains(&entry.lane));
    let moments: Vec<u64> = of_lanes.map(|entry| entry.time.latest).collect();
    let spacing = Spacing::new(moments);
    if spacing.steps() < 2 {
        bail!("--spacing events: fewer than two events are here");
    }
    Ok(Some(spacing))
}

/// What should be known of what is shown.
fn doubts(capture: &Capture, gather: &Gather<'_>) -> Result<Vec<String>> {
    let mut doubts = Vec::new();
    if gather.cut {
        doubts.push("there are more lanes or events than are kept one by one".to_owned());
    }
    match capture.alignment()? {
        Some(alignment) if alignment.is_empty() => doubts.push(
            "where the instruction trace lies is not known: its interrupts fit nowhere among those of the ITM, or in several places; --flow-only shows it by itself"
                .into(),
        ),
        Some(alignment) if alignment.unplaced > 0 => doubts.push(format!(
            "{} of the stretches that the instruction trace tells without a gap are not shown: their interrupts fit nowhere among those of the ITM, or in several places",
            alignment.unplaced
        )),
        _ => {}
    }
    Ok(doubts)
}

/// What lanes did, by time or by events.
fn drawn(
    gather: &Gather<'_>,
    lanes: &[LaneKey],
    range: (u64, u64),
    cells: usize,
    spacing: Option<&Spacing>,
    context: &Context<'_>,
) -> TimelineReport {
    let mut whole = report(gather, lanes, range, cells, context);
    if let Some(spacing) = spacing {
        let moments = gather.entries.iter().filter(|entry| entry.lane.has_moments());
        let marks = moments.map(|entry| (entry.lane, entry.time.latest));
        let ticks = spacing.length().max(1) as f64 / cells as f64;
        let warped = spacing.cells(&gather.pieces, marks, cells);
        for (lane, key) in whole.lanes.iter_mut().zip(lanes) {
            let cells = warped.get(key).map_or(&[][..], Vec::as_slice);
            lane.cells = cells.iter().map(|cell| row(cell, ticks)).collect();
        }
    }
    whole
}

/// The courses of values, in ticks.
fn courses(gather: &Gather<'_>, lanes: &[LaneKey]) -> Values {
    let mut courses = Values::default();
    for entry in &gather.entries {
        if let (LaneKey::Value(_), What::Value(value)) = (entry.lane, &entry.what)
            && let Some(at) = lanes.iter().position(|lane| *lane == entry.lane)
        {
            courses.entry(at).or_default().push((entry.time.latest, *value));
        }
    }
    courses
}

/// Texts of lanes, by the lane's number: when, and what.
fn said(
    gather: &Gather<'_>,
    lanes: &[LaneKey],
    context: &Context<'_>,
) -> Vec<(usize, u64, String)> {
    let told = |entry: &Entry| {
        let at = lanes.iter().position(|lane| *lane == entry.lane)?;
        let told = matches!(entry.what, What::Said(_) | What::Takes | What::Gives);
        told.then(|| (at, entry.time.latest, context.what(gather, &entry.what)))
    };
    gather.entries.iter().filter_map(told).collect()
}

/// Columns of the text.
fn width(args: &Args) -> usize {
    if let Some(columns) = args.columns {
        return usize::from(columns);
    }
    let size = std::io::stdout().is_terminal().then(terminal::size).and_then(Result::ok);
    size.map_or(USUAL_WIDTH, |(columns, _)| usize::from(columns)).max(LEAST_WIDTH)
}

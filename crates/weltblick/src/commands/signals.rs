//! `signals`: what watched variables and firmware quantities were over time.

use super::reading::Facing;
use super::{list, within};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::picture::{self, PictureFile};
use crate::show::signals::{Look, curves, waveform};
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Context as _, Result, bail};
use clap::ValueEnum;
use std::io::Write;
use weltblick_core::capture::{Manifest, SignalSpec};
use weltblick_core::event::{Origin, Sink};
use weltblick_core::image::{Image, Variables};
use weltblick_core::judge::{Point, PointRange};
use weltblick_core::measure::inspection::Contradictions;
use weltblick_core::measure::interrupts::{MOST_EACH, Nesting};
use weltblick_core::measure::signals::{
    Context, Dictionary, FromText, Level, ReadingRow, SignalReport, SignalRow, Signals, each,
    report,
};
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timing::origin_clocks;
use weltblick_core::measure::within::Within;
use weltblick_core::pattern::Pattern;

/// What were watched variables and firmware quantities, and when did they change?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only these, in more detail: names, where `*` stands for anything
    #[arg(value_name = "SIGNAL", index = 2)]
    signals: Vec<String>,
    /// Take numbers out of printed lines, such as `battery {battery} mV`; `*` is anything
    #[arg(long, value_name = "PATTERN")]
    from_text: Vec<Pattern>,
    /// Count how often a level is crossed, and how long a signal stays above
    #[arg(long, value_name = "[SIGNAL=]LEVEL", value_parser = level, allow_hyphen_values = true)]
    threshold: Vec<Level>,
    /// List every single access or statement instead
    #[arg(long, conflicts_with_all = ["threshold", "picture", "at"])]
    each: bool,
    /// Read up to this time only: an array is shown as it was then
    #[arg(long, value_name = "TIME", conflicts_with = "within")]
    at: Option<Point>,
    /// Draw the signals into a file, too: .svg or .png
    #[arg(long, value_name = "FILE")]
    picture: Option<PictureFile>,
    /// Draw these against a scale of their own, at the right of the picture
    #[arg(long, value_name = "SIGNAL", requires = "picture")]
    right: Vec<String>,
    /// In which order rows stand
    #[arg(long, value_enum, default_value_t = Sort::Name)]
    sort: Sort,
    /// Only this stretch of time, such as `1.2s..1.5s`
    #[arg(long, value_name = "A..B")]
    within: Option<PointRange>,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

/// `--sort`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Sort {
    /// By name
    Name,
    /// Most accesses first
    Count,
    /// Longest interval first
    Interval,
    /// Most irregular first
    Jitter,
}

/// `--threshold`.
fn level(text: &str) -> Result<Level, String> {
    let (signal, value) = match text.rsplit_once('=') {
        Some((signal, value)) => (Some(signal.trim().to_owned()), value),
        None => (None, text),
    };
    match value.trim().parse::<f64>() {
        Ok(value) if value.is_finite() => Ok(Level { signal, value }),
        _ => Err(format!("`{value}` is no number; write LEVEL or SIGNAL=LEVEL")),
    }
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        match args.each {
            true => show::schema::<Vec<ReadingRow>>(out)?,
            false => show::schema::<SignalReport>(out)?,
        }
        return Ok(Outcome::Done);
    }
    let capture = sources::open(&args.capture)?;
    let variables = capture.variables()?;
    let patterns = patterns(&capture.manifest.signals, &args.from_text);
    let dictionary = dictionary(&capture, variables.as_ref(), &patterns, &args.threshold)?;
    let mut signals = Signals::new(&dictionary);
    signals.each = args.each.then(Vec::new);
    let mut facing = Facing::of(dictionary.image);
    let ratio = capture.clocks().ticks_per_cycle();
    let mut nesting = Nesting::new(ratio, Contradictions::default());
    let window = window(args)?;
    let mut sink = (&mut signals, (&mut facing, &mut nesting));
    read(&capture, window.as_ref(), &patterns, &mut sink)?;
    signals.finish();
    let facts = facing.facts(&capture, nesting.finish().count, Vec::new());
    let clocks = origin_clocks(&capture.manifest);
    let core = capture.manifest.target.core_clock;
    let clock = |origin: Origin| clocks.get(usize::from(origin.0)).copied();
    let context = Context {
        image: dictionary.image,
        dictionary: &dictionary,
        scale: &|origin| Some(Scale::of(clock(origin)?.0?, core)),
        polled: &|origin| clock(origin).is_some_and(|(_, host)| host),
        recording: facing.recording(),
        ticks_per_cycle: ratio,
        intrusive: capture.conduct().intrusive,
        facts: &facts,
    };
    let mut report = report(&signals, &context);
    if report.signals.is_empty() && report.counters.is_empty() {
        bail!(
            "{}: nothing tells of values{}; watch a variable (`plan --watch`, `[signal.NAME]` in the manifest), poll it (`capture --read`), state it (weltblick_marks.h), or find it in texts (--from-text)",
            capture.name.display(),
            if window.is_some() { " in this window of time" } else { "" },
        );
    }
    select(&mut report, &args.signals)?;
    if args.each {
        list::tell_cut(signals.each.iter().map(Vec::len), MOST_EACH);
        let wanted = |row: &ReadingRow| report.signals.iter().any(|s| s.name == row.signal);
        let mut rows = each(&signals, &context);
        rows.retain(wanted);
        let faces: list::Faces<_> = (show::signals::each_csv, show::signals::each);
        return list::write(&rows, &args.output, faces, out);
    }
    sort(&mut report.signals, args.sort);
    if let Some(file) = &args.picture {
        draw(file, &report, args, &capture)?;
    }
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::signals::csv(&report, out)?,
        Format::Text => {
            let look = Look {
                paint: Paint::new(args.output.color),
                capture: &capture.name.display().to_string(),
                again: &capture.again(),
                detailed: !args.signals.is_empty(),
            };
            show::signals::text(&report, &look, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// The patterns of the manifest, then those of the command line.
pub(super) fn patterns(specs: &[SignalSpec], more: &[Pattern]) -> Vec<Pattern> {
    specs.iter().filter_map(|spec| spec.text.clone()).chain(more.iter().cloned()).collect()
}

/// Everything that is known of a capture before its first event.
pub(super) fn dictionary<'a>(
    capture: &'a Capture,
    variables: Option<&'a Variables>,
    patterns: &[Pattern],
    levels: &[Level],
) -> Result<Dictionary<'a>> {
    let image = capture.image.as_ref().map(|open| &open.image);
    dictionary_of(&capture.manifest, image, variables, patterns, levels)
}

/// The same, where there is a manifest only.
pub(super) fn dictionary_of<'a>(
    manifest: &'a Manifest,
    image: Option<&'a Image>,
    variables: Option<&'a Variables>,
    patterns: &[Pattern],
    levels: &[Level],
) -> Result<Dictionary<'a>> {
    let specs = &manifest.signals;
    let watched = Dictionary::look_up(specs, variables)
        .map_err(|(signal, why)| anyhow::anyhow!("signal `{signal}`: {why}"))?;
    Ok(Dictionary {
        image,
        variables,
        specs,
        watched,
        captured: patterns.iter().flat_map(|pattern| pattern.names().to_vec()).collect(),
        levels: levels.to_vec(),
    })
}

/// The stretch of time that is read: `--within`, or everything up to `--at`.
fn window(args: &Args) -> Result<Option<PointRange>> {
    let Some(point) = &args.at else { return Ok(args.within.clone()) };
    within::time_of(Some(point)).context("--at")?;
    Ok(Some(PointRange { start: None, end: Some(point.clone()) }))
}

/// Reads every stream, each in its own time: polled values come beside a trace. Lines are put
/// together before anything is cut by time, lest half a line be taken for a whole one.
fn read(
    capture: &Capture,
    window: Option<&PointRange>,
    patterns: &[Pattern],
    sink: &mut impl Sink,
) -> Result<()> {
    let image = capture.image.as_ref().map(|open| &open.image);
    let clocks = origin_clocks(&capture.manifest);
    let mut first = 0;
    for (number, stream) in capture.manifest.streams.iter().enumerate() {
        match window {
            None => {
                let mut lines = FromText::new(patterns, image, &mut *sink);
                capture.replay_stream(number, &mut lines)?;
            }
            Some(range) => {
                let clock = clocks.get(first).and_then(|(clock, _)| *clock);
                let cycles = within::of_clock(range, clock)?;
                let within = Within::new(cycles.start, cycles.end, &mut *sink);
                let mut lines = FromText::new(patterns, image, within);
                capture.replay_stream(number, &mut lines)?;
            }
        }
        first += stream.sources.len();
    }
    Ok(())
}

/// Whether a name is what a user wrote: `*` stands for anything.
pub(super) fn is_meant(name: &str, pattern: &str) -> bool {
    let Some((start, rest)) = pattern.split_once('*') else { return name == pattern };
    let Some(mut left) = name.strip_prefix(start) else { return false };
    let mut parts = rest.split('*').peekable();
    while let Some(part) = parts.next() {
        if parts.peek().is_none() {
            return left.ends_with(part);
        }
        match left.find(part) {
            Some(at) => left = &left[at + part.len()..],
            None => return false,
        }
    }
    true
}

/// Only the signals that a user names; all, if none.
fn select(report: &mut SignalReport, wanted: &[String]) -> Result<()> {
    let known = |name: &String| report.signals.iter().any(|row| is_meant(&row.name, name));
    if let Some(name) = wanted.iter().find(|name| !known(name)) {
        let mut names: Vec<&str> = report.signals.iter().map(|row| row.name.as_str()).collect();
        names.dedup();
        bail!("there is no signal `{name}` in this recording; there are {}", names.join(", "));
    }
    let is_wanted = |row: &SignalRow| wanted.iter().any(|name| is_meant(&row.name, name));
    report.signals.retain(|row| wanted.is_empty() || is_wanted(row));
    Ok(())
}

fn sort(rows: &mut [SignalRow], sort: Sort) {
    let longest = |statistic: &weltblick_core::measure::statistic::Statistic| {
        statistic.max.map_or(-1.0, |max| max.ns)
    };
    match sort {
        Sort::Name => {}
        Sort::Count => rows.sort_by_key(|row| std::cmp::Reverse(row.count)),
        Sort::Interval => {
            rows.sort_by(|a, b| longest(&b.interval).total_cmp(&longest(&a.interval)));
        }
        Sort::Jitter => rows.sort_by(|a, b| longest(&b.jitter).total_cmp(&longest(&a.jitter))),
    }
}

/// Signals over time; or one array over its index.
fn draw(file: &PictureFile, report: &SignalReport, args: &Args, capture: &Capture) -> Result<()> {
    let title = capture.name.display().to_string();
    if let [only] = report.signals.as_slice()
        && !only.elements.is_empty()
    {
        return picture::save(file, &waveform(only, &title));
    }
    let known = |name: &String| report.signals.iter().any(|row| is_meant(&row.name, name));
    if let Some(name) = args.right.iter().find(|name| !known(name)) {
        bail!("--right: there is no signal `{name}` among those that are drawn");
    }
    let right = |name: &str| args.right.iter().any(|pattern| is_meant(name, pattern));
    let course = curves(report, &title, &right);
    if course.curves.is_empty() {
        bail!("--picture: none of these signals has values over time; name others");
    }
    picture::save(file, &course)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_stand_for_anything() {
        for (name, pattern, meant) in [
            ("battery_mv", "battery_mv", true),
            ("battery_mv", "battery", false),
            ("battery_mv", "battery*", true),
            ("battery_mv", "*_mv", true),
            ("battery_mv", "*tt*v", true),
            ("battery_mv", "*x*", false),
            ("report %u #1", "report*#1", true),
            ("ab", "ab*b", false),
            ("anything", "*", true),
        ] {
            assert_eq!(is_meant(name, pattern), meant, "{pattern} on {name}");
        }
    }

    #[test]
    fn levels_may_be_meant_for_one_signal() {
        assert_eq!(level("3300"), Ok(Level { signal: None, value: 3300.0 }));
        let one = level("battery_mv = 3.3e3").unwrap();
        assert_eq!(one, Level { signal: Some("battery_mv".into()), value: 3300.0 });
        assert!(level("battery_mv").is_err());
        assert!(level("x=NaN").is_err());
    }
}

//! `interrupts`: who interrupted whom, for how long, how late, how regular.

use super::list;
use super::only::{CodeArgs, OnlyArgs};
use super::reading::Reading;
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::picture::{self, PictureFile};
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Result, bail};
use clap::ValueEnum;
use std::io::Write;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::interrupts::{
    Context, InterruptFigures, InterruptReport, InterruptRow, MOST_EACH, Nesting, RunRow, each,
    report,
};
use weltblick_core::measure::recording::Recording;

/// Which interrupt was how late, how long and how regular?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only these, in more detail: names, or exception numbers
    #[arg(value_name = "INTERRUPT", index = 2)]
    interrupts: Vec<String>,
    /// Explain so many of the worst cases of each interrupt
    #[arg(long, value_name = "CASES", default_value_t = 1)]
    worst: usize,
    /// List every single run instead, with what happened inside it
    #[arg(long, conflicts_with = "worst")]
    each: bool,
    /// Draw how long they were pending, and ran, into a file, too: .svg or .png
    #[arg(long, value_name = "FILE", conflicts_with = "each")]
    picture: Option<PictureFile>,
    /// In which order
    #[arg(long, value_enum, default_value_t = Sort::Load)]
    sort: Sort,
    /// Only this stretch of time, such as `1.2s..1.5s`
    #[arg(long, value_name = "A..B")]
    within: Option<PointRange>,
    #[command(flatten)]
    part: OnlyArgs,
    #[command(flatten)]
    code: CodeArgs,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

/// `--sort`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Sort {
    /// Most time first
    Load,
    /// Longest response first
    Response,
    /// Longest pending first
    Pending,
    /// Longest run first
    Elapsed,
    /// By name
    Name,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        if args.each {
            show::schema::<Vec<RunRow>>(out)?;
        } else {
            show::schema::<InterruptReport>(out)?;
        }
        return Ok(Outcome::Done);
    }
    let capture = args.part.of_events(sources::open(&args.capture)?)?;
    let reading = Reading::new(&capture, args.within.as_ref())?;
    let wanted = handled(args, &capture, numbers(args, &capture)?)?;
    let mut read = reading.first(|| {
        let mut figures = InterruptFigures::new(args.worst);
        if args.each {
            let all = if wanted.is_empty() { (0..512).collect() } else { wanted.clone() };
            figures.list_each(all);
        }
        Some(Nesting::new(reading.ticks_per_cycle, figures))
    })?;
    let mut figures = finished(read.sink.take(), read.recording());
    let earlier = Nesting::new(reading.ticks_per_cycle, figures.earlier());
    if (args.each || args.worst > 0)
        && let Some(earlier) = reading.whole(earlier)?
    {
        figures.renumber(&earlier.finish());
    }
    let facts = read.facts(&capture, figures.contradictions(), true);
    let confirmed = read.confirmed.take().map(|(nesting, recording)| {
        let facts = facts.up_to(&recording);
        (finished(nesting, &recording), facts)
    });
    if figures.rows().next().is_none() {
        capture.require_counted_cycles(
            "`profile --by interrupt` tells how often handlers were entered, and what they ran",
        )?;
        bail!(
            "{}: no exception trace{}; turn it on with `plan --interrupt NAME=RATE`, or see with `inspect` what is in it instead",
            capture.name.display(),
            if args.within.is_some() { " in this window of time" } else { "" },
        );
    }
    reading.require_times(read.recording())?;
    let follow = |cases| Nesting::new(reading.ticks_per_cycle, cases);
    let stretches = reading.dissect(figures.cases(), follow, Nesting::finish)?;
    let priorities = capture.priorities()?;
    let context = Context {
        priorities: &priorities,
        image: reading.image(),
        timing: reading.timing(read.recording()),
        scale: reading.scale,
        intrusive: capture.conduct().intrusive,
        facts: &facts,
        confirmed: confirmed.as_ref().map(|(figures, facts)| (figures, facts)),
    };
    if args.each {
        let listed = figures.rows().filter_map(|row| row.each.as_ref()).map(Vec::len);
        list::tell_cut(listed, MOST_EACH);
        let rows = each(&figures, &stretches, &context);
        let faces: list::Faces<_> = (show::interrupts::each_csv, show::interrupts::each);
        return list::write(&rows, &args.output, faces, out);
    }
    let mut report = report(&figures, &stretches, &context);
    if !wanted.is_empty() {
        select(&mut report, &wanted, &capture)?;
    }
    sort(&mut report.interrupts, args.sort);
    if let Some(file) = &args.picture {
        picture::save(file, &show::interrupts::histograms(&report))?;
    }
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::interrupts::csv(&report, out)?,
        Format::Text => {
            let look = show::interrupts::Look {
                paint: Paint::new(args.output.color),
                capture: &capture.name.display().to_string(),
                again: &capture.again(),
                detailed: !args.interrupts.is_empty(),
                explained: !reading.once,
                by_flow: capture.tells_events_by_flow(),
            };
            show::interrupts::text(&report, &look, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// Figures of a reading that has ended.
fn finished(nesting: Option<Nesting<InterruptFigures>>, recording: &Recording) -> InterruptFigures {
    let Some(nesting) = nesting else { return InterruptFigures::new(0) };
    let mut figures = nesting.finish_at(recording.end());
    figures.finish();
    figures.ended_at(recording.last_moment());
    figures
}

/// The exception numbers that a user means.
fn numbers(args: &Args, capture: &Capture) -> Result<Vec<u16>> {
    let find = |name: &String| capture.exceptions_named(name);
    let found: Vec<Vec<u16>> = args.interrupts.iter().map(find).collect::<Result<_>>()?;
    Ok(found.concat())
}

/// Of these, or of all, the exceptions whose handlers lie in the code that a user means.
fn handled(args: &Args, capture: &Capture, wanted: Vec<u16>) -> Result<Vec<u16>> {
    if args.code.is_all() {
        return Ok(wanted);
    }
    let image = capture.image()?;
    let all = if wanted.is_empty() { (0..512).collect() } else { wanted };
    let is_meant = |number: &u16| {
        let handler = image.vector(*number).and_then(|vector| vector.handler);
        handler.is_some() && args.code.takes("", handler, image)
    };
    let handled: Vec<u16> = all.into_iter().filter(is_meant).collect();
    if handled.is_empty() {
        bail!(
            "no handler lies in this code; --inside and --exclude take names of functions and files"
        );
    }
    Ok(handled)
}

fn select(report: &mut InterruptReport, wanted: &[u16], capture: &Capture) -> Result<()> {
    let names: Vec<String> = report.interrupts.iter().map(|row| row.name.clone()).collect();
    report.interrupts.retain(|row| wanted.contains(&row.exception));
    if report.interrupts.is_empty() {
        bail!("{}: none of these ever ran; what did: {}", capture.name.display(), names.join(", "));
    }
    let shown: Vec<&str> = report.interrupts.iter().map(|row| row.name.as_str()).collect();
    report
        .preemptions
        .retain(|row| shown.contains(&row.above.as_str()) || shown.contains(&row.below.as_str()));
    Ok(())
}

fn sort(rows: &mut [InterruptRow], sort: Sort) {
    let longest = |row: &InterruptRow| -> f64 {
        let statistic = match sort {
            Sort::Load => return row.load.share,
            Sort::Response => row.response.as_ref(),
            Sort::Pending => row.pending.as_ref(),
            Sort::Elapsed | Sort::Name => Some(&row.elapsed),
        };
        statistic.and_then(|s| s.max).map_or(-1.0, |max| max.ns)
    };
    if sort == Sort::Name {
        rows.sort_by(|a, b| a.name.cmp(&b.name));
    } else {
        rows.sort_by(|a, b| longest(b).total_cmp(&longest(a)));
    }
}

//! `tasks`: who ran when and for how long, how late, how much stack, and what it waited for.

use super::list;
use super::only::{CodeArgs, OnlyArgs};
use super::reading::Reading;
use crate::cli::{CaptureArgs, Format, OutputArgs, duration};
use crate::outcome::Outcome;
use crate::show::picture::{self, PictureFile};
use crate::show::{self, Paint};
use crate::sources;
use anyhow::{Result, bail};
use clap::ValueEnum;
use std::io::Write;
use std::time::Duration;
use weltblick_core::image::Image;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::inspection::Contradictions;
use weltblick_core::measure::interrupts::MOST_EACH;
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::tasks::{
    ActivationRow, Context, MOST_TURNS, Order, Settings, TaskFigures, TaskReport, TaskRow,
    Tracking, TurnRow, each, report, turns,
};

/// Which task ran how long, how late, and what did it wait for?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only these, in more detail: names, or numbers
    #[arg(value_name = "TASK", index = 2)]
    tasks: Vec<String>,
    /// Explain so many of the worst cases of each task
    #[arg(long, value_name = "CASES", default_value_t = 1)]
    worst: usize,
    /// List every single activation instead, with who ran meanwhile
    #[arg(long, conflicts_with_all = ["worst", "order"])]
    each: bool,
    /// List in which order tasks ran
    #[arg(long, conflicts_with = "worst")]
    order: bool,
    /// Draw how long they took into a file, too: .svg or .png
    #[arg(long, value_name = "FILE", conflicts_with_all = ["each", "order"])]
    picture: Option<PictureFile>,
    /// The window of a load
    #[arg(long, value_name = "TIME", default_value = "100ms", value_parser = duration)]
    load_window: Duration,
    /// In which order rows stand
    #[arg(long, value_enum, default_value_t = Sort::Pending)]
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
    /// Longest from ready to running first
    Pending,
    /// Longest from ready to stop first
    Response,
    /// Most time first
    Load,
    /// Fullest stack first
    Stack,
    /// By name
    Name,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        match (args.each, args.order) {
            (true, _) => show::schema::<Vec<ActivationRow>>(out)?,
            (_, true) => show::schema::<Vec<TurnRow>>(out)?,
            _ => show::schema::<TaskReport>(out)?,
        }
        return Ok(Outcome::Done);
    }
    let capture = args.part.of_events(sources::open(&args.capture)?.telling_tasks())?;
    let reading = Reading::new(&capture, args.within.as_ref())?;
    let window = (args.load_window.as_secs_f64() * 1e9 / reading.scale.ns).round() as u64;
    if window == 0 {
        bail!("--load-window: a window must be longer than a tick of the timestamps");
    }
    let settings = Settings { keep: args.worst, window, each: args.each };
    let mut read = reading.first(|| {
        let (tasks, exceptions) = (TaskFigures::new(settings), Contradictions::default());
        Some(Tracking::beside(reading.ticks_per_cycle, tasks, exceptions))
    })?;
    let Some(tracking) = read.sink.take() else { return Ok(Outcome::Done) };
    let (exceptions, unfollowed) = (tracking.exceptions, tracking.unfollowed());
    let (mut figures, contradictions) = finished(tracking, read.recording());
    if (args.each || args.worst > 0)
        && let Some(earlier) = reading.whole(Tracking::new(figures.earlier()))?
    {
        figures.renumber(&earlier.finish());
    }
    let facts = read.facts(&capture, contradictions.count, exceptions);
    let confirmed = read.confirmed.take().and_then(|(tracking, recording)| {
        let facts = facts.up_to(&recording);
        Some((finished(tracking?, &recording).0, facts))
    });
    if figures.rows().next().is_none() {
        if capture.manifest.flow_stands_back() {
            bail!(
                "{}: the ITM of this capture tells of no tasks; its instruction trace may tell whose turn it was: --flow-only",
                capture.name.display()
            );
        }
        capture.require_counted_cycles("`profile --by task` tells what each of them ran")?;
        bail!(
            "{}: nothing tells of tasks{}; let the firmware state them (weltblick_marks.h) and say on which port: `marks_port` in the manifest, or --marks-port",
            capture.name.display(),
            if args.within.is_some() { " in this window of time" } else { "" },
        );
    }
    reading.require_times(read.recording())?;
    let context = Context {
        image: reading.image(),
        timing: reading.timing(read.recording()),
        scale: reading.scale,
        intrusive: capture.conduct().intrusive,
        exceptions,
        unfollowed,
        facts: &facts,
        confirmed: confirmed.as_ref().map(|(figures, facts)| (figures, facts)),
    };
    let mut report = report(&figures, &[], &context);
    select(&mut report, args, reading.image())?;
    let wanted = |name: &str| report.tasks.iter().any(|row| row.name == name);
    if args.order {
        let Some(order) = reading.second(Tracking::new(Order::default()))? else {
            bail!("--order reads twice, and standard input only once; give a file");
        };
        let order = order.finish();
        list::tell_cut([order.turns.len()].into_iter(), MOST_TURNS);
        let mut rows = turns(&order, &figures, &context);
        rows.retain(|row| wanted(&row.task));
        let faces: list::Faces<_> = (show::tasks::order_csv, show::tasks::order);
        return list::write(&rows, &args.output, faces, out);
    }
    let stretches = reading.dissect(figures.cases(), Tracking::new, Tracking::finish)?;
    if args.each {
        let listed = figures.rows().filter_map(|row| row.each.as_ref()).map(Vec::len);
        list::tell_cut(listed, MOST_EACH);
        let mut rows = each(&figures, &stretches, &context);
        rows.retain(|row| wanted(&row.task));
        let faces: list::Faces<_> = (show::tasks::each_csv, show::tasks::each);
        return list::write(&rows, &args.output, faces, out);
    }
    let mut report = self::report(&figures, &stretches, &context);
    select(&mut report, args, reading.image())?;
    sort(&mut report.tasks, args.sort);
    if let Some(file) = &args.picture {
        picture::save(file, &show::tasks::histograms(&report))?;
    }
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::tasks::csv(&report, out)?,
        Format::Text => {
            let look = show::tasks::Look {
                paint: Paint::new(args.output.color),
                capture: &capture.name.display().to_string(),
                again: &capture.again(),
                detailed: !args.tasks.is_empty(),
                explained: !reading.once,
                by_flow: capture.tells_events_by_flow(),
            };
            show::tasks::text(&report, &look, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// Figures of a reading that has ended.
fn finished(
    tracking: Tracking<TaskFigures, Contradictions>,
    recording: &Recording,
) -> (TaskFigures, Contradictions) {
    let (mut tasks, contradictions) = tracking.finish_both_at(recording.end());
    tasks.finish();
    tasks.ended_at(recording.last_moment());
    (tasks, contradictions)
}

/// Only the tasks that a user names; all, if none.
fn select(report: &mut TaskReport, args: &Args, image: Option<&Image>) -> Result<()> {
    let wanted = &args.tasks;
    let is_it = |row: &TaskRow, name: &String| row.name == *name || row.id.to_string() == *name;
    if let Some(name) = wanted.iter().find(|name| !report.tasks.iter().any(|row| is_it(row, name)))
    {
        let known: Vec<&str> = report.tasks.iter().map(|row| row.name.as_str()).collect();
        bail!("there is no task `{name}` in this recording; there are {}", known.join(", "));
    }
    if let (false, Some(image)) = (args.code.is_all(), image) {
        let function = |name: &str| image.functions_named(name).first().copied();
        report.tasks.retain(|row| args.code.takes(&row.name, function(&row.name), image));
        if report.tasks.is_empty() {
            bail!("no task is called so, or begins in this code");
        }
    }
    report.tasks.retain(|row| wanted.is_empty() || wanted.iter().any(|name| is_it(row, name)));
    Ok(())
}

fn sort(rows: &mut [TaskRow], sort: Sort) {
    let weight = |row: &TaskRow| -> f64 {
        let longest = |max: Option<weltblick_core::measure::duration::Duration>| {
            max.map_or(-1.0, |max| max.ns_low)
        };
        match sort {
            Sort::Pending => longest(row.pending.max),
            Sort::Response => longest(row.response.max),
            Sort::Load => row.load.all.share,
            Sort::Stack => row.stack.share.unwrap_or(-1.0),
            Sort::Name => 0.0,
        }
    };
    if sort == Sort::Name {
        rows.sort_by(|a, b| a.name.cmp(&b.name));
    } else {
        rows.sort_by(|a, b| weight(b).total_cmp(&weight(a)));
    }
}

//! `profile`: where does the time go?

use super::counting::{Counted, context, require_one_sampled_core};
use super::only::{CodeArgs, OnlyArgs};
use super::{exact, within};
use crate::cli::{CaptureArgs, Format, OutputArgs, duration};
use crate::outcome::Outcome;
use crate::show::picture::PictureFile;
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Context as _, Result, bail};
use clap::ValueEnum;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;
use weltblick_core::event::{Sink, Thing};
use weltblick_core::image::Image;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::profile::{
    Attributed, By, ProfileReport, ReportRow, Series, Window, report,
};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::timeline::Names;
use weltblick_core::measure::within::Within;

/// Where does the time go?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What one row stands for
    #[arg(long, value_enum, default_value_t = ByArg::Function)]
    pub(crate) by: ByArg,
    /// Give functions that were inlined into others rows of their own
    #[arg(long)]
    pub(crate) inline: bool,
    /// Show so many rows; 0 shows all
    #[arg(long, value_name = "ROWS", default_value_t = 30)]
    pub(crate) top: usize,
    /// Order of rows
    #[arg(long, value_enum, default_value_t = Sort::Share)]
    pub(crate) sort: Sort,
    /// Only what happened from A up to B, for example `1.2s..1.5s`
    #[arg(long, value_name = "A..B", conflicts_with = "every")]
    pub(crate) within: Option<PointRange>,
    /// One profile per window of so much time
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub(crate) every: Option<Duration>,
    /// From samples, where there is an instruction trace too
    #[arg(long)]
    pub(crate) samples: bool,
    #[command(flatten)]
    pub(crate) code: CodeArgs,
    #[command(flatten)]
    pub(crate) calls: CallArgs,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
    #[command(flatten)]
    pub(crate) capture: CaptureArgs,
}

/// What only an instruction trace tells.
#[derive(Debug, clap::Args)]
#[command(next_help_heading = "From an instruction trace")]
pub(crate) struct CallArgs {
    /// All that is known of one function: each call, callers, callees
    #[arg(long, value_name = "FUNCTION", conflicts_with = "tree")]
    pub(crate) of: Option<String>,
    /// Who called whom, as a tree
    #[arg(long)]
    pub(crate) tree: bool,
    /// Write folded stacks into a file
    #[arg(long, value_name = "FILE")]
    pub(crate) folded: Option<PathBuf>,
    /// Draw who called whom into a file: .svg or .png
    #[arg(long, value_name = "FILE")]
    pub(crate) picture: Option<PictureFile>,
    #[command(flatten)]
    pub(crate) part: OnlyArgs,
}

impl CallArgs {
    const fn is_used(&self) -> bool {
        let files = self.folded.is_some() || self.picture.is_some();
        files || self.of.is_some() || self.tree || self.part.only.is_some()
    }
}

/// `--by`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ByArg {
    /// Functions
    Function,
    /// Source files
    File,
    /// Source lines
    Line,
    /// Instruction addresses
    Address,
    /// Tasks, as the firmware states them
    Task,
    /// Interrupts
    Interrupt,
}

/// `--sort`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Sort {
    /// Largest share first
    Share,
    /// By name
    Name,
    /// Largest share with what it calls first (instruction trace)
    Total,
    /// Most calls first (instruction trace)
    Calls,
    /// Longest call first (instruction trace)
    Longest,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<ProfileReport>(out)?;
        return Ok(Outcome::Done);
    }
    if args.inline && args.by != ByArg::Function {
        bail!(
            "--inline gives inlined functions rows of their own: it goes with --by function only"
        );
    }
    let capture = sources::open(&args.capture)?;
    if capture.has_flow() && !args.samples {
        return exact::run(&capture, args, out);
    }
    if args.calls.is_used() || !matches!(args.sort, Sort::Share | Sort::Name) {
        bail!(
            "{}: only an instruction trace tells calls, and this capture has none",
            capture.name.display()
        );
    }
    let mut names = Names::default();
    let mut reports = match args.every {
        Some(every) => series(&capture, args, every, &mut names)?,
        None => vec![single(&capture, args, &mut names)?],
    };
    if reports.iter().all(|report| report.recording.samples == 0) {
        bail!(
            "{}: no program-counter samples{}; `weltblick inspect` says what is in it instead",
            capture.name.display(),
            if args.within.is_some() { " in this window of time" } else { "" },
        );
    }
    name_tasks(&names, capture.image()?, &mut reports);
    choose(&mut reports, args, &capture)?;
    for report in &mut reports {
        sort(&mut report.rows, args.sort);
    }
    write(&reports, &capture, args, out)?;
    Ok(Outcome::Done)
}

fn by(args: &Args) -> By {
    match args.by {
        ByArg::Function => By::Function { inlined: args.inline },
        ByArg::File => By::File,
        ByArg::Line => By::Line,
        ByArg::Address => By::Address,
        ByArg::Task => By::Task,
        ByArg::Interrupt => By::Interrupt,
    }
}

/// Reads into a figure; by task or interrupt samples count for whom has the core, and what tasks are
/// called is noted.
fn replay(capture: &Capture, args: &Args, names: &mut Names, sink: &mut dyn Sink) -> Result<()> {
    match args.by {
        ByArg::Task | ByArg::Interrupt => capture.replay(&mut (names, Attributed::new(sink))),
        _ => capture.replay(sink),
    }
}

/// Puts names in the place of numbers, as far as the firmware tells them.
fn name_tasks(names: &Names, image: &Image, reports: &mut [ProfileReport]) {
    for (thing, name) in &names.list {
        let Thing::Task(number) = thing else { continue };
        let text = name.told(|address| image.text_at(address));
        let number = format!("task {number}");
        let rows = reports.iter_mut().flat_map(|report| &mut report.rows);
        for row in rows.filter(|row| row.task.as_ref() == Some(&number)) {
            row.task = text.clone().or(row.task.take());
        }
    }
}

/// Keeps the rows that are asked for: their shares stay shares of all samples.
fn choose(reports: &mut [ProfileReport], args: &Args, capture: &Capture) -> Result<()> {
    args.require_rows_of_code()?;
    if args.code.is_all() {
        return Ok(());
    }
    let image = capture.image()?;
    for report in reports.iter_mut() {
        report.rows.retain(|row| {
            let address = row.address.as_deref();
            args.code.takes_row([row.function.as_deref(), row.file.as_deref(), address], image)
        });
    }
    if reports.iter().all(|report| report.rows.is_empty()) {
        bail!(
            "no sample is in code that is called so; --inside and --exclude take names of functions and files"
        );
    }
    Ok(())
}

impl Args {
    /// An error where code is chosen and rows are none.
    pub(super) fn require_rows_of_code(&self) -> Result<()> {
        let has_code = !matches!(self.by, ByArg::Interrupt | ByArg::Task) && !self.calls.tree;
        if !has_code && !self.code.is_all() {
            bail!(
                "--inside and --exclude choose functions and files; --by interrupt, --by task and --tree have none"
            );
        }
        Ok(())
    }
}

/// One profile, of everything or of a window.
fn single(capture: &Capture, args: &Args, names: &mut Names) -> Result<ProfileReport> {
    capture.image()?;
    let counted = Counted::default();
    let Some(range) = &args.within else {
        let mut counted = counted;
        match args.by {
            ByArg::Task | ByArg::Interrupt => replay(capture, args, names, &mut counted)?,
            _ => capture.replay_into(&mut counted)?,
        }
        let (counts, recording, cadences) = &counted;
        require_one_sampled_core(capture, recording)?;
        return Ok(report(counts, by(args), &context(capture, recording, cadences, 0)?));
    };
    let cycles = within::cycles(range, capture)?;
    let start = within::time_of(range.start.as_ref())?.unwrap_or(Duration::ZERO);
    let end = within::time_of(range.end.as_ref())?;
    let mut within = Within::new(cycles.start, cycles.end, counted);
    replay(capture, args, names, &mut within)?;
    within.sink.1.time_slipped |= within.slipped;
    let (counts, recording, cadences) = &within.sink;
    require_one_sampled_core(capture, recording)?;
    if recording.samples() == 0 && within.undated > 0 {
        bail!("--within needs times, and this recording has no timestamps");
    }
    let mut report = report(counts, by(args), &context(capture, recording, cadences, within.cut)?);
    report.from_ns = Some(start.as_secs_f64() * 1e9);
    report.until_ns = end.map(|end| end.as_secs_f64() * 1e9).or_else(|| {
        report.from_ns.zip(report.recording.duration).map(|(from, length)| from + length.ns)
    });
    Ok(report)
}

/// One profile per window of time.
fn series(
    capture: &Capture,
    args: &Args,
    every: Duration,
    names: &mut Names,
) -> Result<Vec<ProfileReport>> {
    capture.image()?;
    let clock = capture.timestamp_clock().context(
        "--every needs the core clock: give --core-clock, or `core_clock` in the manifest",
    )?;
    if every.is_zero() {
        bail!("--every: a window must be longer than nothing");
    }
    let mut counted =
        (Series::new(clock.cycle_at(every)), Recording::default(), Cadences::default());
    replay(capture, args, names, &mut counted)?;
    let (series, recording, cadences) = &counted;
    require_one_sampled_core(capture, recording)?;
    let windows = series.windows().context("--every")?;
    let dated = windows.iter().any(|window| window.recording.samples() > 0);
    if !dated && recording.samples() > 0 {
        bail!("--every needs times, and this recording has no timestamps");
    }
    let one = |window: &Window| {
        let context = context(capture, &window.recording, cadences, window.cut)?;
        let mut report = report(&window.counts, by(args), &context);
        let from = clock.nanoseconds(window.start);
        report.from_ns = Some(from);
        report.until_ns = Some(from + every.as_secs_f64() * 1e9);
        Ok(report)
    };
    windows.iter().map(one).collect()
}

fn sort(rows: &mut [ReportRow], sort: Sort) {
    if sort == Sort::Name {
        rows.sort_by(|a, b| {
            let key = |row: &ReportRow| {
                let of_code =
                    (row.function.clone(), row.file.clone(), row.line, row.address.clone());
                (row.task.clone(), row.interrupt.clone(), of_code)
            };
            key(a).cmp(&key(b))
        });
    }
}

fn write(
    reports: &[ProfileReport],
    capture: &Capture,
    args: &Args,
    out: &mut dyn Write,
) -> Result<()> {
    match args.output.format {
        Format::Json if args.every.is_some() => show::json(&reports, out),
        Format::Json => show::json(&reports[0], out),
        Format::Csv => show::profile::csv(reports, out),
        Format::Text => {
            let image = capture.image.as_ref().map(|open| open.path.display().to_string());
            let look = show::profile::Look {
                paint: Paint::new(args.output.color),
                chosen: !args.code.is_all(),
                top: if args.top == 0 { usize::MAX } else { args.top },
                capture: &capture.name.display().to_string(),
                image: image.as_deref().unwrap_or_default(),
            };
            for (number, report) in reports.iter().enumerate() {
                if number > 0 {
                    writeln!(out)?;
                }
                show::profile::text(report, &look, out)?;
            }
            Ok(())
        }
    }
}

//! `check`: does every budget hold?

use super::counting::{Counted, context};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Context as _, Result};
use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;
use weltblick_core::budget::{
    BudgetFile, CheckReport, Figure, Timings, USUAL_WINDOW, Verdict, judge,
};
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};

/// Does every budget hold?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The budget file
    #[arg(value_name = "BUDGETS", index = 2, required_unless_present = "schema")]
    pub(crate) budgets: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
    #[command(flatten)]
    pub(crate) capture: CaptureArgs,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let path = match &args.budgets {
        Some(path) if !args.output.schema => path,
        _ => {
            show::schema::<CheckReport>(out)?;
            return Ok(Outcome::Done);
        }
    };
    let name = path.display().to_string();
    let text = fs::read_to_string(path).with_context(|| name.clone())?;
    let budgets = BudgetFile::parse(&name, &text)?;
    let capture = sources::open(&args.capture)?;
    // Names first: a typing error should not cost a long reading.
    for budget in &budgets.budgets {
        budgets.function(budget, capture.image()?)?;
    }
    let mut sink = (Counted::default(), followed(&capture, USUAL_WINDOW));
    capture.replay(&mut (), &mut sink)?;
    let ((counts, recording, cadences), tracking) = sink;
    let (mut first, mut interrupts) = tracking.finish_both();
    interrupts.finish();
    first.finish();
    let mut tasks = vec![(USUAL_WINDOW, first)];
    // Loads with other windows: one more reading for each.
    for window in windows(&budgets) {
        if tasks.iter().all(|(known, _)| *known != window) {
            let mut tracking = followed(&capture, window);
            capture.replay(&mut (), &mut tracking)?;
            tasks.push((window, tracking.finish_both().0));
        }
    }
    let context = context(&capture, &recording, &cadences, 0)?;
    let clocks = capture.clocks();
    let timings = Timings {
        interrupts: &interrupts,
        tasks: &tasks,
        image: Some(context.image),
        scale: clocks.timestamp_clock.map(|clock| Scale::of(clock, clocks.core_clock)),
        span: recording.span().unwrap_or(0),
        intrusive: context.conduct.intrusive,
        slipped: recording.time_slipped,
    };
    let report = judge(&budgets, &counts, Some(&timings), &context)?;
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

/// Figures of tasks and interrupts of this capture, with loads over windows of this length.
fn followed(capture: &Capture, window: Duration) -> Tracking<TaskFigures, InterruptFigures> {
    let clocks = capture.clocks();
    let stamp = clocks.timestamp_clock;
    let ticks = stamp.map_or(1, |clock| clock.cycle_at(window).max(1));
    let ratio = stamp.zip(clocks.core_clock).map_or(1.0, |(s, core)| s.hertz() / core.hertz());
    let settings = Settings { keep: 1, window: ticks, each: false };
    Tracking::beside(ratio, TaskFigures::new(settings), InterruptFigures::new(1))
}

/// The windows that budgets on loads ask for.
fn windows(budgets: &BudgetFile) -> Vec<Duration> {
    let window = |figure: &Figure| match figure {
        Figure::Timing(figure) => figure.window,
        _ => None,
    };
    budgets.budgets.iter().filter_map(|budget| window(&budget.figure)).collect()
}

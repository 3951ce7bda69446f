//! `check`: does every budget hold?

use super::draft;
use super::followers::asks_for;
use super::measured::with_measured;
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources;
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::io::Write;
use std::path::PathBuf;
use weltblick_core::judge::{BudgetFile, CheckReport, PointRange, TimingSubject, Verdict};
use weltblick_core::time::{Quantity, Unit};

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
            let again = capture.again();
            show::check::text(&report, &name, &again, Paint::new(args.output.color), out)?;
        }
    }
    Ok(match report.verdict {
        Verdict::Met => Outcome::Done,
        Verdict::Broken => Outcome::Broken,
        Verdict::Undecided => Outcome::Undecided,
    })
}

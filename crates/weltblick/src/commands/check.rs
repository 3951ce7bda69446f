//! `check`: does every budget hold?

use super::counting::{Counted, context};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources;
use anyhow::{Context as _, Result};
use std::fs;
use std::io::Write;
use std::path::PathBuf;
use weltblick_core::budget::{BudgetFile, CheckReport, Verdict, judge};

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
    let mut counted = Counted::default();
    capture.replay(&mut (), &mut counted)?;
    let (counts, recording, cadences) = &counted;
    let report = judge(&budgets, counts, &context(&capture, recording, cadences, 0)?)?;
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

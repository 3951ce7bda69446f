//! `span` of what the firmware states: from where it says that something begins to where it says that
//! it ends.

use super::reading::Reading;
use super::span::Args;
use crate::cli::Format;
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::Capture;
use anyhow::{Result, bail};
use std::io::Write;
use weltblick_core::measure::span::{StatedContext, StatedReport, StatedSpans, stated_report};

/// What is remembered one by one at most.
const MOST_WORST: usize = 100_000;

pub(super) fn run(args: &Args, capture: &Capture, out: &mut dyn Write) -> Result<Outcome> {
    let reading = Reading::new(capture, None)?;
    let top = if args.top == 0 { MOST_WORST } else { args.top };
    let (mut spans, recording) = reading.first(StatedSpans::new(top))?;
    spans.finish();
    if spans.list().is_empty() {
        bail!(
            "{}: no span is in it; let the firmware state where they begin and end (weltblick_marks.h), or time points in the code: `capture stub:HOST:PORT --laps A,B`",
            capture.name.display()
        );
    }
    reading.require_times(&recording)?;
    let context = StatedContext {
        image: reading.image(),
        timing: reading.timing(&recording),
        scale: reading.scale,
        intrusive: capture.conduct().intrusive,
    };
    let mut report = stated_report(&spans, &context);
    select(&mut report, args)?;
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::spans::csv(&report, out)?,
        Format::Text => {
            let paint = Paint::new(args.output.color);
            let shown = capture.name.display().to_string();
            show::spans::text(&report, &shown, !args.points.is_empty(), paint, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// Only the spans that a user names; all, if none.
fn select(report: &mut StatedReport, args: &Args) -> Result<()> {
    let wanted: Vec<String> = args.points.iter().map(ToString::to_string).collect();
    if let Some(name) = wanted.iter().find(|name| !report.spans.iter().any(|s| s.name == **name)) {
        let names: Vec<&str> = report.spans.iter().map(|span| span.name.as_str()).collect();
        bail!(
            "the firmware states no span `{name}`; it states {}. Nothing tells when points in the code were passed: record that with `capture stub:HOST:PORT --laps A,B`",
            names.join(", ")
        );
    }
    report.spans.retain(|span| wanted.is_empty() || wanted.contains(&span.name));
    Ok(())
}

//! `span` of what the firmware states: from where it says that something begins to where it says that
//! it ends.

use super::reading::Reading;
use super::span::Args;
use super::within;
use crate::cli::Format;
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::Capture;
use anyhow::{Result, bail};
use std::io::Write;
use weltblick_core::judge::{Occurrence, Point, Which};
use weltblick_core::measure::inspection::Contradictions;
use weltblick_core::measure::interrupts::Nesting;
use weltblick_core::measure::span::{
    Between, Mark, StatedContext, StatedReport, StatedSpans, stated_report,
};

/// What is remembered one by one at most.
const MOST_WORST: usize = 100_000;

pub(super) fn run(args: &Args, capture: &Capture, out: &mut dyn Write) -> Result<Outcome> {
    let reading = Reading::new(capture, None)?;
    let top = if args.top == 0 { MOST_WORST } else { args.top };
    let marks = marks(args, capture)?;
    let between = !marks.is_empty();
    let follow = || Nesting::new(reading.ticks_per_cycle, Contradictions::default());
    let make = || {
        let spans = StatedSpans::new(top);
        let (ways, spans) = if between {
            (Some(Between::new(marks.clone(), spans)), None)
        } else {
            (None, Some(spans))
        };
        (ways, (spans, Some(follow())))
    };
    let mut read = reading.first(make)?;
    let (ways, (spans, nesting)) = &mut read.sink;
    let contradictions = nesting.take().map_or(0, |nesting| nesting.finish().count);
    let spans = ways.take().map(Between::finish).or_else(|| spans.take());
    let mut spans = spans.unwrap_or_else(|| StatedSpans::new(top));
    spans.finish();
    let facts = read.facts(capture, contradictions, false);
    if between && spans.list().iter().all(|span| span.elapsed.count() == 0) {
        bail!(
            "{}: no way from the first of these marks to the last was seen whole; `timeline --list` lists what happened",
            capture.name.display()
        );
    }
    if spans.list().is_empty() {
        bail!(
            "{}: no span is in it; let the firmware state where they begin and end (weltblick_marks.h), or time points in the code: `capture stub:HOST:PORT --laps A,B`",
            capture.name.display()
        );
    }
    reading.require_times(read.recording())?;
    let context = StatedContext {
        image: reading.image(),
        timing: reading.timing(read.recording()),
        scale: reading.scale,
        intrusive: capture.conduct().intrusive,
        between,
        facts: &facts,
    };
    let mut report = stated_report(&spans, &context);
    if !between {
        select(&mut report, args)?;
    }
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::spans::csv(&report, out)?,
        Format::Text => {
            let look = show::spans::Look {
                paint: Paint::new(args.output.color),
                capture: &capture.name.display().to_string(),
                again: &capture.again(),
                detailed: !args.points.is_empty(),
                explained: true,
                by_flow: capture.tells_events_by_flow(),
            };
            show::spans::text(&report, &look, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// The marks that a user names; nothing, if he names spans.
fn marks(args: &Args, capture: &Capture) -> Result<Vec<Mark>> {
    if !args.has_marks() {
        return Ok(Vec::new());
    }
    if args.points.len() < 2 {
        bail!("a way needs two marks; give the same one twice for the time from each to the next");
    }
    let mark = |point: &Point| match point {
        Point::Occurrence(occurrence @ Occurrence { which: Which::Every, .. }) => Ok(Mark {
            target: within::target(occurrence, capture)?,
            end: occurrence.end,
            name: point.to_string(),
        }),
        other => bail!(
            "`{other}` is no mark: ways lead from one of irq:NAME, task:NAME and span:NAME to another, or between places in the code"
        ),
    };
    args.points.iter().map(mark).collect()
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

//! `span` of a capture that has an instruction trace: from one instruction to another, each time.

use super::coverage::seen_of;
use super::only::CodeArgs;
use super::span::Args;
use crate::cli::Format;
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{Beside, Capture};
use anyhow::{Context as _, Result, bail};
use std::collections::HashSet;
use std::io::Write;
use weltblick_core::image::Image;
use weltblick_core::judge::{Point, address_of};
use weltblick_core::measure::execution::{
    BlockCounts, Callers, Calls, Confirmed, Crossings, Executed, Listing, MOST_POINTS, Named,
    TimeAgreement,
};
use weltblick_core::measure::span::{CodeContext, StartUp, code_report};

/// What is remembered one by one at most.
const MOST_WORST: usize = 100_000;

pub(super) fn run(args: &Args, capture: &Capture, out: &mut dyn Write) -> Result<Outcome> {
    let places = places(args, capture)?;
    let image = capture.image()?;
    let part = args.part.part(capture)?.on_one_clock();
    let keep = if args.top == 0 { MOST_WORST } else { args.top };
    let clocking = capture.flow_clocking();
    let mut crossings = Crossings::new(&places, args.across, keep);
    if let Some(callers) = callers(args, image)? {
        crossings = crossings.called_by(callers);
    }
    let calls = Calls::new(image, clocking).crossing(crossings);
    let mut start_up = StartUp::new(image);
    let cuts: Vec<u64> = places.iter().copied().chain(start_up.place()).collect();
    let mut agreement = TimeAgreement::default();
    let mut both = (&mut start_up, &mut agreement);
    let mut beside: Beside<'_> = (Some(BlockCounts::default()), Some(&mut both));
    let (code, mut calls) = part.follow(capture, &cuts, &mut beside, calls)?;
    let tally = beside.0.unwrap_or_default().into_tally(&code);
    let points: Vec<String> = args.points.iter().map(Point::to_string).collect();
    let listing = Listing::of(image);
    let way = |calls| vec![(args.points.clone(), calls)];
    let confirmed = tally.confirmed.as_ref().map(|tally| Confirmed {
        seen: seen_of(capture, tally, &listing),
        ways: calls.take_confirmed().map_or_else(Vec::new, way),
        calls: None,
        sleep: None,
    });
    let ways = way(calls);
    let calls = &ways[0].1;
    let scale = capture.flow_scale();
    let executed = Executed {
        image,
        listing: &listing,
        seen: &seen_of(capture, &tally, &listing),
        calls: None,
        ways: &ways,
        sleep: None,
        scale,
        intrusive: capture.conduct().intrusive,
        kept_the_end: capture.kept_the_end(),
        times_disagree: agreement.contradictions(),
        confirmed: confirmed.as_ref(),
    };
    // Of a part, figures are of the part.
    let is_all = args.part.only.is_none() && tally.gaps.unwatched == 0;
    let Some(crossings) = calls.crossings().filter(|c| c.total.instructions.count() > 0) else {
        bail!("{}: {}", capture.name.display(), nothing(calls, &points, args.across));
    };
    let context = CodeContext {
        points: &points,
        callers: [&args.callers.inside, &args.callers.exclude],
        scale,
        alignment: capture.placed()?,
        gaps: &tally.gaps,
        time: clocking.name(),
        start_up: start_up.found,
        executed: is_all.then_some((&executed, &args.points)),
    };
    let report = code_report(crossings, &context);
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::code_span::csv(&report, out)?,
        Format::Text => {
            let paint = Paint::new(args.output.color);
            let shown = capture.name.display().to_string();
            let again = capture.again();
            show::code_span::text(
                &report,
                [&shown, &again],
                &capture.flow_stream_name(),
                paint,
                out,
            )?;
        }
    }
    Ok(Outcome::Done)
}

/// Who must have called, and who must not, if that is asked for.
fn callers(args: &Args, image: &Image) -> Result<Option<Callers>> {
    let named = |patterns: &[String]| {
        let mut all = HashSet::default();
        for pattern in patterns {
            let chosen = CodeArgs { inside: vec![pattern.clone()], exclude: Vec::new() };
            let functions = chosen.functions(image);
            if functions.is_empty() {
                bail!(
                    "no function of the image is called `{pattern}`, lies in such a file, or starts there"
                );
            }
            all.extend(functions.into_iter().map(Named));
        }
        Ok(all)
    };
    let (inside, exclude) = (named(&args.callers.inside)?, named(&args.callers.exclude)?);
    let anybody = inside.is_empty() && exclude.is_empty();
    Ok((!anybody).then_some(Callers { inside, exclude }))
}

/// The addresses of the points that are asked for.
fn places(args: &Args, capture: &Capture) -> Result<Vec<u64>> {
    if args.points.len() < 2 {
        bail!(
            "a span needs two points in the code, such as `span {} modem_send wave_filter`; give the same one twice for the time from each to the next",
            capture.name.display()
        );
    }
    if args.points.len() > MOST_POINTS {
        bail!("a way has {MOST_POINTS} points at most");
    }
    let image = capture.image()?;
    let place = |point: &Point| match point {
        Point::Function { .. } | Point::Line { .. } | Point::Address(_) => {
            address_of(point, image).with_context(|| format!("`{point}`"))
        }
        _ => bail!(
            "`{point}` is no place in the code: name a function, a line (src/dsp/filter.c:83) or an address; --only takes times and bytes"
        ),
    };
    args.points.iter().map(place).collect()
}

/// Why nothing went the whole way.
fn nothing(calls: &Calls<'_>, points: &[String], across: bool) -> String {
    let way = points.join(" .. ");
    let Some(crossings) = calls.crossings() else { return way };
    let begun = crossings.begun;
    let strays = crossings.strays;
    let hint = if crossings.elsewhere > 0 && begun == 0 {
        format!(
            "; it was begun {} times, but not inside of the calls that are asked for",
            crossings.elsewhere
        )
    } else if strays > 0 && begun > 0 && !across {
        format!(
            "; its last point was passed {strays} times by threads or handlers that had not passed the first: --across follows it from one to another"
        )
    } else {
        String::new()
    };
    format!("the way {way} was gone not once ({begun} times begun){hint}")
}

//! `profile` of a capture that has an instruction trace: exact, with calls.

use super::coverage::seen_of;
use super::only::part_between;
use super::profile::{Args, ByArg, Sort};
use crate::cli::Format;
use crate::outcome::Outcome;
use crate::show::picture::{self, Flames};
use crate::show::{self, Paint};
use crate::sources::{Beside, Capture, Part};
use anyhow::{Context as _, Result, anyhow, bail};
use std::io::Write;
use std::rc::Rc;
use std::time::Duration;
use weltblick_core::flow::{Clocking, Code};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{
    BlockCounts, Calls, CodeBy, Confirmed, ExactContext, ExactProfile, ExactRow, Executed, Gaps,
    InstructionTimes, Listing, Seen, Tally, TimeAgreement, Times, Window, Windows, by_code,
    by_function, by_interrupt, by_task,
};

/// Profiles what ran.
pub(super) fn run(capture: &Capture, args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.inline {
        bail!(
            "--inline takes samples apart; `source` shows lines that were inlined (--samples takes the samples of this capture)"
        );
    }
    if let Some(every) = args.every {
        return in_windows(capture, args, every, out);
    }
    // An interval of time is a part like any other.
    let part = match (&args.within, &args.calls.part.only) {
        (Some(_), Some(_)) => bail!("--within and --only exclude each other: both choose a part"),
        (Some(within), None) => part_between(within, capture).context("--within")?,
        (None, _) => args.calls.part.part(capture)?,
    };
    let mut ran = Ran::read(capture, &part, args.by)?;
    if ran.calls.instructions() == 0 {
        if part.is_all() {
            return Err(nothing_ran(capture));
        }
        bail!("{}: nothing ran in this part of the recording", capture.name.display());
    }
    // Of a part, figures are of the part.
    let is_all = ran.gaps().unwatched == 0;
    let report = ran.explained(capture, is_all, |ran, context| {
        files(ran, args, context)?;
        if args.calls.tree {
            show::tree::text(&ran.calls, context, &look(capture, args), out)?;
            return Ok(None);
        }
        table(ran, args, context).map(Some)
    })?;
    let Some(report) = report else { return Ok(Outcome::Done) };
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::exact::csv(&[report], out)?,
        Format::Text => text(&report, capture, args, out)?,
    }
    Ok(Outcome::Done)
}

/// One profile for each window of time.
fn in_windows(
    capture: &Capture,
    args: &Args,
    every: Duration,
    out: &mut dyn Write,
) -> Result<Outcome> {
    let calls = &args.calls;
    if calls.tree || calls.folded.is_some() || calls.picture.is_some() || calls.part.only.is_some()
    {
        bail!("--every makes tables: --tree, --folded, --picture and --only go with --within A..B");
    }
    if every.is_zero() {
        bail!("--every: a window must be longer than nothing");
    }
    if capture.flow_clocking() == Clocking::Nothing {
        bail!("--every: this instruction trace counts no cycles and has no timestamps");
    }
    let scale = capture.flow_scale().with_context(|| capture.state_a_clock())?;
    let every = every.as_secs_f64() * 1e9;
    let mut reports = Vec::new();
    let ticks = (every / scale.ns).round() as u64;
    for (number, window) in Ran::read_in_windows(capture, ticks, args.by)?.into_iter().enumerate() {
        let Window { slipped, sink: mut ran } = window;
        let mut report = ran.explained(capture, true, |ran, context| table(ran, args, context))?;
        if slipped {
            let later = "Time is missing in this window or before it: it lies later than its times say, by an unknown time.";
            report.evidence.doubts.push(later.into());
        }
        let from = number as f64 * every;
        (report.from_ns, report.until_ns) = (Some(from), Some(from + every));
        reports.push(report);
    }
    if reports.iter().all(|report| report.instructions == 0) {
        return Err(nothing_ran(capture));
    }
    match args.output.format {
        Format::Json => show::json(&reports, out)?,
        Format::Csv => show::exact::csv(&reports, out)?,
        Format::Text => {
            for (number, report) in reports.iter().enumerate() {
                if number > 0 {
                    writeln!(out)?;
                }
                text(report, capture, args, out)?;
            }
        }
    }
    Ok(Outcome::Done)
}

fn nothing_ran(capture: &Capture) -> anyhow::Error {
    anyhow!(
        "{}: the instruction trace has no instruction that ran; `weltblick inspect` says what is in it",
        capture.name.display()
    )
}

fn text(report: &ExactProfile, capture: &Capture, args: &Args, out: &mut dyn Write) -> Result<()> {
    let look = look(capture, args);
    match args.calls.of {
        Some(_) => show::exact::details(report, &look, out),
        None => show::exact::text(report, &look, out),
    }
}

/// Everything that ran.
struct Ran<'a> {
    calls: Calls<'a>,
    tally: Tally,
    listing: Rc<Listing>,
    agreement: TimeAgreement,
    /// How long instructions took, if that is asked for.
    times: Option<InstructionTimes>,
    clocking: Clocking,
}

/// What is counted beside calls.
type Further = (TimeAgreement, Option<Times>);

impl<'a> Ran<'a> {
    fn read(capture: &'a Capture, part: &Part, by: ByArg) -> Result<Self> {
        let calls = Calls::new(capture.image()?, capture.flow_clocking());
        let mut further = further(capture, by);
        let mut beside: Beside<'_> = (Some(BlockCounts::default()), Some(&mut further));
        let (code, calls) = part.follow(capture, &[], &mut beside, calls)?;
        let counts = beside.0.unwrap_or_default();
        let listing = Rc::new(Listing::of(capture.image()?));
        Ok(Self::of(capture.flow_clocking(), &code, listing, (calls, counts, further)))
    }

    /// What ran in each window of so many ticks.
    fn read_in_windows(capture: &'a Capture, every: u64, by: ByArg) -> Result<Vec<Window<Self>>> {
        let (image, clocking) = (capture.image()?, capture.flow_clocking());
        let make = || (Calls::new(image, clocking), (BlockCounts::default(), further(capture, by)));
        let close = |(_, (counts, _)): &mut (Calls<'_>, (BlockCounts, Further))| counts.compact();
        let mut windows = Windows::new(every, clocking, make, close);
        let code = capture.replay_flow(&mut windows)?;
        let windows = windows.finish().context("--every")?.into_iter();
        let listing = Rc::new(Listing::of(image));
        let of =
            |Window { slipped, sink: (mut calls, (counts, further)) }: Window<(Calls<'a>, _)>| {
                calls.finish();
                let sink = Self::of(clocking, &code, Rc::clone(&listing), (calls, counts, further));
                Window { slipped, sink }
            };
        Ok(windows.map(of).collect())
    }

    fn of(
        clocking: Clocking,
        code: &Code<'_>,
        listing: Rc<Listing>,
        (calls, counts, (agreement, times)): (Calls<'a>, BlockCounts, Further),
    ) -> Self {
        let times = times.map(|times| times.into_instructions(code, &listing));
        let tally = counts.into_tally(code);
        Self { calls, tally, listing, agreement, times, clocking }
    }

    /// Makes a report of it, with what figures rest on; `is_all`: it is all of a recording.
    fn explained<T>(
        &mut self,
        capture: &Capture,
        is_all: bool,
        report: impl FnOnce(&Self, &ExactContext<'_>) -> Result<T>,
    ) -> Result<T> {
        let confirmed = self.take_confirmed(capture)?;
        let seen = seen_of(capture, &self.tally, &self.listing);
        let executed = Executed {
            image: capture.image()?,
            listing: &self.listing,
            seen: &seen,
            calls: Some(&self.calls),
            ways: &[],
            sleep: None,
            scale: capture.flow_scale(),
            intrusive: capture.conduct().intrusive,
            kept_the_end: capture.kept_the_end(),
            times_disagree: self.agreement.contradictions(),
            confirmed: confirmed.as_ref(),
        };
        report(self, &self.context(&executed, is_all))
    }

    /// What ran before the last synchronisation, where something ran behind it.
    fn take_confirmed(&mut self, capture: &Capture) -> Result<Option<Confirmed<'a>>> {
        let Some(tally) = self.tally.confirmed.take() else { return Ok(None) };
        let seen = seen_of(capture, &tally, &self.listing);
        let calls = self.calls.take_confirmed();
        Ok(Some(Confirmed { seen, calls, ways: Vec::new(), sleep: None }))
    }

    fn gaps(&self) -> &Gaps {
        &self.tally.gaps
    }

    fn context<'c>(&'c self, executed: &'c Executed<'c>, is_all: bool) -> ExactContext<'c> {
        ExactContext {
            image: executed.image,
            scale: executed.scale,
            gaps: self.gaps(),
            time: self.clocking.name(),
            executed: is_all.then_some(executed),
        }
    }
}

fn further(capture: &Capture, by: ByArg) -> Further {
    let by_code = matches!(by, ByArg::File | ByArg::Line | ByArg::Address);
    let wants_times = by_code && capture.flow_clocking() == Clocking::Cycles;
    (TimeAgreement::default(), wants_times.then(Times::default))
}

/// The rows that are asked for, in the order that is.
fn table(ran: &Ran<'_>, args: &Args, context: &ExactContext<'_>) -> Result<ExactProfile> {
    let mut report = report(ran, args, context);
    if report.instructions == 0 {
        return Ok(report);
    }
    if let Some(name) = &args.calls.of {
        report.rows.retain(|row| row.function.as_deref() == Some(name));
        if report.rows.is_empty() && args.every.is_none() {
            bail!("no function called `{name}` ran");
        }
    }
    choose(&mut report.rows, args, context.image)?;
    sort(&mut report.rows, args.sort);
    Ok(report)
}

fn report(ran: &Ran<'_>, args: &Args, context: &ExactContext<'_>) -> ExactProfile {
    let by = match args.by {
        ByArg::Function => return by_function(&ran.calls, context),
        ByArg::Task => return by_task(&ran.calls, context),
        ByArg::Interrupt => return by_interrupt(&ran.calls, context),
        ByArg::File => CodeBy::File,
        ByArg::Line => CodeBy::Line,
        ByArg::Address => CodeBy::Address,
    };
    let seen = Seen::of_flow(&ran.tally, &ran.listing);
    by_code(&ran.calls, &ran.listing, (&seen, ran.times.as_ref()), by, context)
}

/// Keeps the rows that are asked for.
fn choose(rows: &mut Vec<ExactRow>, args: &Args, image: &Image) -> Result<()> {
    args.require_rows_of_code()?;
    if args.code.is_all() {
        return Ok(());
    }
    rows.retain(|row| {
        let address = row.address.as_deref();
        args.code.takes_row([row.function.as_deref(), row.file.as_deref(), address], image)
    });
    if rows.is_empty() && args.every.is_none() {
        bail!(
            "nothing that ran is called so; --inside and --exclude take names of functions and files"
        );
    }
    Ok(())
}

fn sort(rows: &mut [ExactRow], sort: Sort) {
    match sort {
        Sort::Share => {}
        Sort::Name => rows.sort_by(|a, b| {
            let key = |row: &ExactRow| {
                (row.interrupt.clone(), row.function.clone(), row.file.clone(), row.line)
            };
            key(a).cmp(&key(b))
        }),
        Sort::Total => rows.sort_by(|a, b| {
            let total = |row: &ExactRow| row.total_share.unwrap_or(row.instruction_share);
            total(b).total_cmp(&total(a))
        }),
        Sort::Calls => rows.sort_by_key(|row| std::cmp::Reverse(row.calls)),
        Sort::Longest => rows.sort_by(|a, b| {
            let longest = |row: &ExactRow| {
                row.elapsed.as_ref().and_then(|elapsed| elapsed.max).map_or(-1.0, |max| max.ns)
            };
            longest(b).total_cmp(&longest(a))
        }),
    }
}

/// Files that are written beside the result.
fn files(ran: &Ran<'_>, args: &Args, context: &ExactContext<'_>) -> Result<()> {
    if let Some(path) = &args.calls.folded {
        let mut text = Vec::new();
        show::tree::folded(&ran.calls, context, &mut text)?;
        std::fs::write(path, text).with_context(|| path.display().to_string())?;
    }
    if let Some(file) = &args.calls.picture {
        picture::save(file, &Flames::of(&ran.calls, context))?;
    }
    Ok(())
}

fn look<'a>(capture: &'a Capture, args: &Args) -> show::exact::Look<'a> {
    show::exact::Look {
        paint: Paint::new(args.output.color),
        top: if args.top == 0 { usize::MAX } else { args.top },
        capture: capture.name.display().to_string(),
        again: capture.again(),
        stream: capture.flow_stream_name(),
        image: capture.image.as_ref().map(|open| open.path.as_path()),
    }
}

//! `profile` of a capture that has an instruction trace: exact, with calls.

use super::coverage::seen_of;
use super::only::part_between;
use super::profile::{Args, ByArg, Sort};
use crate::cli::Format;
use crate::outcome::Outcome;
use crate::show::picture::{self, Flames};
use crate::show::{self, Paint};
use crate::sources::{Beside, Capture, Part};
use anyhow::{Context as _, Result, bail};
use std::io::Write;
use weltblick_core::flow::Clocking;
use weltblick_core::measure::execution::{
    BlockCounts, Calls, CodeBy, Confirmed, ExactContext, ExactProfile, ExactRow, Executed, Gaps,
    InstructionTimes, Listing, Seen, Tally, TimeAgreement, Times, by_code, by_function,
    by_interrupt, by_task,
};

/// Profiles what ran.
pub(super) fn run(capture: &Capture, args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.every.is_some() {
        bail!(
            "--every takes samples apart (--samples takes those of this capture); of an instruction trace --within A..B takes a part"
        );
    }
    if args.inline {
        bail!(
            "--inline takes samples apart; `source` shows lines that were inlined (--samples takes the samples of this capture)"
        );
    }
    // An interval of time is a part like any other.
    let part = match (&args.within, &args.calls.part.only) {
        (Some(_), Some(_)) => bail!("--within and --only exclude each other: both choose a part"),
        (Some(within), None) => part_between(within, capture).context("--within")?,
        (None, _) => args.calls.part.part(capture)?,
    };
    let mut ran = Ran::read(capture, &part, args.by)?;
    if ran.calls.instructions() == 0 {
        bail!(
            "{}: the instruction trace tells of no instruction that ran; `weltblick inspect` says what is in it",
            capture.name.display()
        );
    }
    let confirmed = ran.take_confirmed(capture)?;
    let seen = seen_of(capture, &ran.tally, &ran.listing);
    let executed = Executed {
        image: capture.image()?,
        listing: &ran.listing,
        seen: &seen,
        calls: Some(&ran.calls),
        ways: &[],
        scale: capture.flow_scale(),
        intrusive: capture.conduct().intrusive,
        kept_the_end: capture.kept_the_end(),
        times_disagree: ran.agreement.contradictions(),
        confirmed: confirmed.as_ref(),
    };
    // Of a part, figures are of the part.
    let is_all = ran.gaps().unwatched == 0;
    let context = ran.context(&executed, is_all);
    files(&ran, args, &context)?;
    if args.calls.tree {
        let look = look(capture, args);
        show::tree::text(&ran.calls, &context, &look, out)?;
        return Ok(Outcome::Done);
    }
    let mut report = report(&ran, args, &context);
    if let Some(name) = &args.calls.of {
        report.rows.retain(|row| row.function.as_deref() == Some(name));
        if report.rows.is_empty() {
            bail!("no function called `{name}` ran");
        }
    }
    choose(&mut report.rows, args)?;
    sort(&mut report.rows, args.sort);
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::exact::csv(&report, out)?,
        Format::Text if args.calls.of.is_some() => {
            show::exact::details(&report, &look(capture, args), out)?
        }
        Format::Text => show::exact::text(&report, &look(capture, args), out)?,
    }
    Ok(Outcome::Done)
}

/// Everything that ran.
struct Ran<'a> {
    calls: Calls<'a>,
    tally: Tally,
    listing: Listing,
    agreement: TimeAgreement,
    /// How long instructions took, if that is asked for.
    times: Option<InstructionTimes>,
    clocking: Clocking,
}

impl<'a> Ran<'a> {
    fn read(capture: &'a Capture, part: &Part, by: ByArg) -> Result<Self> {
        let clocking = capture.flow_clocking();
        let image = capture.image()?;
        let calls = Calls::new(image, clocking);
        let by_code = matches!(by, ByArg::File | ByArg::Line | ByArg::Address);
        let wants_times = by_code && clocking == Clocking::Cycles;
        let mut further = (TimeAgreement::default(), wants_times.then(Times::default));
        let mut beside: Beside<'_> = (Some(BlockCounts::default()), Some(&mut further));
        let (code, calls) = part.follow(capture, &[], &mut beside, calls)?;
        let counts = beside.0.unwrap_or_default();
        let listing = Listing::of(image);
        let (agreement, times) = further;
        let times = times.map(|times| times.into_instructions(&code, &listing));
        let tally = counts.into_tally(&code);
        Ok(Self { calls, tally, listing, agreement, times, clocking })
    }

    /// What ran before the last synchronisation, where something ran behind it.
    fn take_confirmed(&mut self, capture: &Capture) -> Result<Option<Confirmed<'a>>> {
        let Some(tally) = self.tally.confirmed.take() else { return Ok(None) };
        let seen = seen_of(capture, &tally, &self.listing);
        Ok(Some(Confirmed { seen, calls: self.calls.take_confirmed(), ways: Vec::new() }))
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
fn choose(rows: &mut Vec<ExactRow>, args: &Args) -> Result<()> {
    if args.calls.code.is_all() {
        return Ok(());
    }
    if matches!(args.by, ByArg::Interrupt | ByArg::Task) || args.calls.tree {
        bail!(
            "--inside and --exclude choose functions and files; --by interrupt, --by task and --tree have none"
        );
    }
    let choice = args.calls.code.choice();
    let start = |row: &ExactRow| {
        let digits = row.address.as_deref()?.strip_prefix("0x")?;
        u64::from_str_radix(digits, 16).ok()
    };
    rows.retain(|row| {
        choice.takes(row.function.as_deref().unwrap_or_default(), row.file.as_deref(), start(row))
    });
    if rows.is_empty() {
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

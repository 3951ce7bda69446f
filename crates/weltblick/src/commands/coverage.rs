//! `coverage`: which code never ran?

use super::counting::Counted;
use super::only::{CodeArgs, OnlyArgs};
use crate::cli::{Format, OutputArgs, SetupArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Capture, SourceText};
use anyhow::{Context as _, Result, anyhow, bail};
use clap::ValueEnum;
use std::io::Write;
use std::path::PathBuf;
use weltblick_core::exchange::{cobertura, lcov};
use weltblick_core::image::Image;
use weltblick_core::measure::coverage::{
    Build, Choice, CoverageReport, left_out, report_of_builds,
};
use weltblick_core::measure::execution::{BlockCounts, Confirmed, Executed, Listing, Seen, Tally};

/// Which functions, lines, instructions and branches ran
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Capture folders or raw trace files; several are added up, of other builds by file and line
    #[arg(value_name = "CAPTURE", required_unless_present = "schema")]
    captures: Vec<PathBuf>,
    /// What the rows of the table stand for
    #[arg(long, value_enum, default_value_t = By::File)]
    by: By,
    #[command(flatten)]
    code: CodeArgs,
    /// Where the source is; its comments `not covered: REASON` leave lines out
    #[arg(long, value_name = "FOLDER")]
    sources: Vec<PathBuf>,
    /// Show so many rows of each table; 0 shows all
    #[arg(long, value_name = "ROWS", default_value_t = 20)]
    top: usize,
    #[command(flatten)]
    part: OnlyArgs,
    #[command(flatten)]
    files: FileArgs,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    setup: SetupArgs,
}

/// Files to write beside the table.
#[derive(Debug, clap::Args)]
#[command(next_help_heading = "Files to write beside it")]
struct FileArgs {
    /// An LCOV tracefile
    #[arg(long, value_name = "FILE")]
    lcov: Option<PathBuf>,
    /// Cobertura XML
    #[arg(long, value_name = "FILE")]
    cobertura: Option<PathBuf>,
    /// The source with what ran in its margin, as one page
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
    /// Put them in the place of existing files
    #[arg(long)]
    replace: bool,
}

/// `--by`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum By {
    /// Source files
    File,
    /// Functions
    Function,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<CoverageReport>(out)?;
        return Ok(Outcome::Done);
    }
    let captures = args
        .captures
        .iter()
        .map(|path| sources::open_as(path, &args.setup))
        .collect::<Result<Vec<_>>>()?;
    let mut texts = SourceText::new(&args.sources);
    let (report, builds) = cover(&captures, args, &mut texts)?;
    let names: Vec<String> =
        captures.iter().map(|capture| capture.name.display().to_string()).collect();
    write_files(&report, args, &names.join(", "), &mut texts)?;
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::coverage::csv(&report, args.by == By::Function, out)?,
        Format::Text => {
            let look = show::coverage::Look {
                paint: Paint::new(args.output.color),
                top: if args.top == 0 { usize::MAX } else { args.top },
                captures: &names,
                builds: &builds,
                by_function: args.by == By::Function,
            };
            show::coverage::text(&report, &look, out)?;
        }
    }
    Ok(Outcome::Done)
}

/// Files that are written beside the result.
fn write_files(
    report: &CoverageReport,
    args: &Args,
    title: &str,
    texts: &mut SourceText,
) -> Result<()> {
    let seconds = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let seconds = seconds.map_or(0, |since| since.as_secs());
    let save = |path: &PathBuf, text: String| -> Result<()> {
        if path.exists() && !args.files.replace {
            bail!("{}: exists; say --replace to put the new one in its place", path.display());
        }
        std::fs::write(path, text).with_context(|| path.display().to_string())
    };
    if let Some(path) = &args.files.lcov {
        save(path, lcov::tracefile(report))?;
    }
    if let Some(path) = &args.files.cobertura {
        save(path, cobertura::document(report, seconds))?;
    }
    if let Some(path) = &args.files.html {
        save(path, show::coverage_page::page(report, title, texts))?;
    }
    Ok(())
}

/// What all captures of one build saw together.
struct OneBuild<'a> {
    /// The first of them.
    capture: &'a Capture,
    image: &'a Image,
    listing: Listing,
    seen: Seen,
    /// What they saw that a synchronisation confirms.
    confirmed: Seen,
}

impl OneBuild<'_> {
    const fn build(&self) -> Build<'_> {
        Build { image: self.image, listing: &self.listing, seen: &self.seen }
    }

    /// Says what speaks against what was seen.
    fn weigh(&self, report: &mut CoverageReport, captures: &[Capture], choice: &Choice) {
        let seen = self.confirmed.clone();
        let confirmed = Confirmed { seen, calls: None, ways: Vec::new(), sleep: None };
        let executed = Executed {
            image: self.image,
            listing: &self.listing,
            seen: &self.seen,
            calls: None,
            ways: &[],
            sleep: None,
            scale: None,
            intrusive: false,
            kept_the_end: captures.iter().any(Capture::kept_the_end),
            times_disagree: 0,
            confirmed: Some(&confirmed),
        };
        report.weigh(&executed, choice);
    }
}

/// What all captures saw together: those of one build by address, builds of one source by file and line.
/// Beside it the build of each capture, by number from 1.
fn cover(
    captures: &[Capture],
    args: &Args,
    texts: &mut SourceText,
) -> Result<(CoverageReport, Vec<usize>)> {
    let mut builds: Vec<OneBuild<'_>> = Vec::new();
    let mut numbers = Vec::new();
    for capture in captures {
        let known = builds.iter().position(|build| build.capture.same_image(capture));
        let number = match known {
            Some(number) => {
                let OneBuild { listing, seen, confirmed, .. } = &mut builds[number];
                let [more, agreed] = look(capture, listing, &args.part)?;
                seen.merge(more);
                confirmed.merge(agreed);
                number
            }
            None => {
                let image = capture.image()?;
                let listing = Listing::of(image);
                let [seen, confirmed] = look(capture, &listing, &args.part)?;
                builds.push(OneBuild { capture, image, listing, seen, confirmed });
                builds.len() - 1
            }
        };
        numbers.push(number + 1);
    }
    let lines = builds.iter().flat_map(|build| lines_left_out(&build.listing, texts)).collect();
    let choice = Choice { lines, ..args.code.choice() };
    let built: Vec<Build<'_>> = builds.iter().map(OneBuild::build).collect();
    let mut report = report_of_builds(&built, &choice).map_err(|(number, why)| {
        anyhow!(
            "{}: {why}; only builds of the same source are added up",
            builds[number].capture.name.display()
        )
    })?;
    if report.functions.is_empty() {
        bail!("no function or file of the image has a name that --inside and --exclude leave");
    }
    report.captures = captures.len() as u64;
    // Several builds have no total that one of them knows bounds of; of a part, figures are of the part.
    if let ([only], true) = (builds.as_slice(), args.part.only.is_none()) {
        only.weigh(&mut report, captures, &choice);
    }
    Ok((report, numbers))
}

/// What one capture saw: its instruction trace, or its samples if it has none.
/// Beside it what a synchronisation confirms of that.
pub(super) fn look(capture: &Capture, listing: &Listing, part: &OnlyArgs) -> Result<[Seen; 2]> {
    let part = part.part(capture)?;
    if capture.has_flow() {
        let tally = if part.is_all() {
            capture.count_flow()?
        } else {
            let mut counts = BlockCounts::default();
            let code = part.replay(capture, &[], &mut counts)?;
            counts.into_tally(&code)
        };
        let seen = seen_of(capture, &tally, listing);
        let confirmed = tally.confirmed.as_ref().map(|tally| seen_of(capture, tally, listing));
        let confirmed = confirmed.unwrap_or_else(|| seen.clone());
        return Ok([seen, confirmed]);
    }
    let mut counted = Counted::default();
    capture.replay(&mut counted)?;
    if counted.1.samples() == 0 {
        bail!(
            "{}: neither an instruction trace nor program-counter samples; `weltblick inspect` says what is in it instead",
            capture.name.display()
        );
    }
    let seen = Seen::of_samples(&counted.0, listing);
    Ok([seen.clone(), seen])
}

/// What an instruction trace saw.
pub(super) fn seen_of(capture: &Capture, tally: &Tally, listing: &Listing) -> Seen {
    let mut seen = Seen::of_flow(tally, listing);
    if capture.conduct().attached {
        seen.gaps.head = 0;
    }
    // Narrowed by choice: the trace unit need not say so.
    let narrowed = capture.conduct().between_points || !capture.manifest.ranges.is_everything();
    seen.gaps.unwatched += u64::from(narrowed);
    seen
}

/// Lines that comments in the source leave out.
fn lines_left_out(
    listing: &Listing,
    texts: &mut SourceText,
) -> Vec<(String, std::ops::Range<u32>)> {
    if texts.is_empty() {
        return Vec::new();
    }
    let ranges = listing.files.iter().flat_map(|file| {
        let ranges = texts.text(file).map(left_out).unwrap_or_default();
        ranges.into_iter().map(|range| (file.clone(), range))
    });
    ranges.collect()
}

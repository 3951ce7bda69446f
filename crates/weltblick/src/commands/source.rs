//! `source`: a function's or a file's lines, with what ran in the margin.

use super::coverage::{look, seen_of};
use super::only::{CodeArgs, OnlyArgs};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Capture, SourceText};
use anyhow::{Result, bail};
use std::io::Write;
use std::path::PathBuf;
use weltblick_core::document::nearest;
use weltblick_core::flow::Clocking;
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{BlockCounts, InstructionTimes, Listing, Seen, Times};
use weltblick_core::measure::statistic::Scale;

/// A function's or a file's lines, with counts and coverage in the margin
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// A function (`wave_filter`), or a source file or the end of its path (`dsp/filter.c`)
    #[arg(value_name = "NAME", index = 2, required_unless_present = "schema")]
    name: Option<String>,
    /// Where the source is
    #[arg(long, value_name = "FOLDER")]
    sources: Vec<PathBuf>,
    /// Show the instructions of each line below it
    #[arg(short, long)]
    instructions: bool,
    #[command(flatten)]
    code: CodeArgs,
    #[command(flatten)]
    part: OnlyArgs,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<show::source::SourceReport>(out)?;
        return Ok(Outcome::Done);
    }
    let capture = sources::open(&args.capture)?;
    let image = capture.image()?;
    let listing = Listing::of(image);
    let name = args.name.as_deref().unwrap_or_default();
    let (mut chosen, home, whole) = choose(name, image, &listing)?;
    let whole = whole && args.code.is_all();
    if !args.code.is_all() {
        let functions = args.code.functions(image);
        let address = |place: usize| listing.instructions[place].address;
        chosen.retain(|&place| functions.contains(&image.function_at(address(place))));
        if chosen.is_empty() {
            bail!("--inside and --exclude leave out all of `{name}`");
        }
    }
    let (seen, timed) = match times(args, &capture, &listing)? {
        Some((seen, times, ticks)) => (seen, Some((times, ticks))),
        None => {
            let [seen, _] = look(&capture, &listing, &args.part)?;
            (seen, None)
        }
    };
    let clock = capture.manifest.target.core_clock;
    let times = clock.zip(timed.as_ref()).map(|(clock, (times, ticks))| {
        let ns = Scale::of(clock, Some(clock)).ns;
        show::source::Timed { times, ns, ticks: *ticks }
    });
    let (listing, seen) = (&listing, &seen);
    let wanted = show::source::Wanted { image, listing, seen, times, chosen, home, whole };
    let mut texts = SourceText::around(&capture, &args.sources);
    let report = show::source::report(&wanted, &mut texts)?;
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => bail!("source has no CSV form; --format json has all of it"),
        Format::Text => {
            show::source::text(&report, args.instructions, Paint::new(args.output.color), out)?;
        }
    }
    Ok(Outcome::Done)
}

/// What ran, and how long each instruction took, of how many ticks in all: where cycles are counted.
fn times(
    args: &Args,
    capture: &Capture,
    listing: &Listing,
) -> Result<Option<(Seen, InstructionTimes, u64)>> {
    let clock = capture.manifest.target.core_clock;
    if !capture.has_flow() || capture.flow_clocking() != Clocking::Cycles || clock.is_none() {
        return Ok(None);
    }
    let mut sink = (BlockCounts::default(), Times::default());
    let code = args.part.part(capture)?.replay(capture, &[], &mut sink)?;
    let (counts, times) = sink;
    let ticks = times.ticks();
    let times = times.into_instructions(&code, listing);
    Ok(Some((seen_of(capture, &counts.into_tally(&code), listing), times, ticks)))
}

/// The instructions that a name means, the file that comes first, and whether all of that is meant.
fn choose(
    name: &str,
    image: &Image,
    listing: &Listing,
) -> Result<(Vec<usize>, Option<String>, bool)> {
    let ids = image.functions_named(name);
    if !ids.is_empty() {
        let functions = listing.functions.iter().filter(|function| ids.contains(&function.id));
        let functions: Vec<_> = functions.collect();
        let home = functions.first().and_then(|function| function.place);
        let chosen = functions.iter().flat_map(|function| function.instructions.clone()).collect();
        return Ok((chosen, home.map(|(file, _)| listing.file(file).to_owned()), false));
    }
    let is_end = |file: &str| file == name || file.ends_with(&format!("/{name}"));
    let files: Vec<&String> = listing.files.iter().filter(|file| is_end(file)).collect();
    match files.as_slice() {
        [] => {
            let known = image.functions().iter().map(|function| function.name.as_str());
            let hint = nearest(name, known.chain(listing.files.iter().map(String::as_str)));
            bail!("`{name}` is no function of the image, and no source file of it{hint}")
        }
        [file] => {
            let here = |place: &usize| {
                let line = listing.instructions[*place].line;
                line.is_some_and(|(number, _)| listing.file(number) == *file)
            };
            let chosen = (0..listing.instructions.len()).filter(here).collect();
            Ok((chosen, Some((*file).clone()), true))
        }
        several => {
            let names: Vec<&str> = several.iter().map(|file| file.as_str()).collect();
            bail!("`{name}` is the end of several files: {}; write more of it", names.join(", "))
        }
    }
}

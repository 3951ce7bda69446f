//! `export`: a capture's events in an open format.

use super::within;
use crate::cli::SetupArgs;
use crate::outcome::Outcome;
use crate::show;
use crate::sources::{self, Capture, NewFolder, Place};
use anyhow::{Context as _, Result, bail};
use clap::ValueEnum;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::PathBuf;
use weltblick_core::capture::{
    CtfSettings, EventTrace, InterruptSpec, MANIFEST, Manifest, StreamSpec,
};
use weltblick_core::document::At;
use weltblick_core::exchange::ctf::{self, LeftOut, Writer};
use weltblick_core::judge::PointRange;
use weltblick_core::measure::within::Within;

/// The folder of the event trace inside of the exported one.
const EVENTS: &str = "events";
/// The file of a core's packets.
fn packets_of(core: u8) -> String {
    format!("{EVENTS}/core{core}")
}

/// Write a capture's events in an open format
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The format
    #[arg(long, value_enum, default_value_t = To::Ctf)]
    to: To,
    /// The folder to make
    #[arg(long, value_name = "FOLDER")]
    out: PathBuf,
    /// Put the new folder in the place of an existing one
    #[arg(long)]
    replace: bool,
    /// Only what happened in a stretch of time, such as `1.2s..1.5s`
    #[arg(long, value_name = "A..B")]
    within: Option<PointRange>,
    /// A capture folder, a raw trace file, or `-` for standard input
    #[arg(value_name = "CAPTURE")]
    capture: PathBuf,
    #[command(flatten)]
    setup: SetupArgs,
}

/// `--to`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum To {
    /// Common Trace Format 1.8, with a manifest that says what its events mean
    Ctf,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let To::Ctf = args.to;
    let capture = sources::open_as(&args.capture, &args.setup)?;
    if capture.sources() != 1 {
        bail!(
            "{}: an event trace has one clock, and this capture has {} sources ({}); import the one that is meant into a folder of its own",
            capture.name.display(),
            capture.sources(),
            capture.origin_names().join(", ")
        );
    }
    let clock = capture.timestamp_clock().with_context(|| {
        format!(
            "{}: an event trace needs a clock: give --core-clock, or `core_clock` in the manifest",
            capture.name.display()
        )
    })?;
    let place = if args.replace { Place::Replace } else { Place::New };
    let folder = NewFolder::begin(&args.out, place, MANIFEST)?;
    let target = capture.manifest.target.name.as_deref();
    let offset = capture.event_trace().map_or(0, EventTrace::offset);
    folder.write(
        format!("{EVENTS}/{}", sources::events::METADATA),
        ctf::metadata(clock, offset, target),
    )?;
    let files = RefCell::new(BTreeMap::<u8, BufWriter<File>>::new());
    // A packet that cannot be written ends nothing: the sink itself cannot say so.
    let trouble = RefCell::new(None);
    let image = capture.image.as_ref().map(|open| &open.image);
    let text_at = |address| image.and_then(|image| image.text_at(address));
    let packet = |core: u8, bytes: &[u8]| {
        let mut files = files.borrow_mut();
        let mut write = || {
            let file = match files.entry(core) {
                Entry::Occupied(file) => file.into_mut(),
                Entry::Vacant(place) => {
                    place.insert(BufWriter::new(folder.create(packets_of(core))?))
                }
            };
            file.write_all(bytes).map_err(anyhow::Error::from)
        };
        if let Err(error) = write() {
            trouble.borrow_mut().get_or_insert(error);
        }
    };
    let mut writer = Writer::new(text_at, packet);
    match &args.within {
        None => capture.replay(&mut writer)?,
        Some(range) => {
            let cycles = within::cycles(range, &capture)?;
            capture.replay(&mut Within::new(cycles.start, cycles.end, &mut writer))?;
        }
    }
    writer.finish();
    let (written, left_out) = (writer.written, writer.left_out);
    drop(writer);
    let flushed = files.into_inner().values_mut().try_for_each(BufWriter::flush);
    let flushed = flushed.map_err(anyhow::Error::from);
    trouble.into_inner().map_or(flushed, Err).with_context(|| args.out.display().to_string())?;
    if written == 0 {
        bail!(
            "{}: nothing to export: no event has a time{}; `weltblick inspect` says what is in it",
            capture.name.display(),
            if args.within.is_some() { " in this window" } else { "" },
        );
    }
    describe(&capture, &folder)?;
    folder.finish()?;
    let shown = args.out.display().to_string();
    let shown = show::plain(&shown);
    writeln!(out, "{shown}: {written} events in {EVENTS}/ (ctf), what they mean in {MANIFEST}")?;
    tell_left_out(left_out);
    writeln!(out, "next: weltblick inspect {}", show::shell(&args.out.display().to_string()))?;
    Ok(Outcome::Done)
}

fn tell_left_out(left_out: LeftOut) {
    let LeftOut { undated, others } = left_out;
    match undated {
        0 => {}
        1 => eprintln!("weltblick: one event has no time: a gap stands in its place"),
        many => eprintln!("weltblick: {many} events have no time: gaps stand in their place"),
    }
    if others > 0 {
        eprintln!(
            "weltblick: left out, for the format has no place for them: {others} wraps of event counters or laps"
        );
    }
}

/// A manifest, so that what was written can be read here too, and the image, for names.
fn describe(capture: &Capture, folder: &NewFolder) -> Result<()> {
    let pc_sample_period = capture.clocks().stated_period;
    let settings = CtfSettings { pc_sample_period, ..ctf::settings(EVENTS) };
    let mut manifest =
        Manifest { streams: vec![StreamSpec::events(settings)], ..Manifest::default() };
    manifest.target = capture.manifest.target.clone();
    manifest.signals.clone_from(&capture.manifest.signals);
    let spec = |(exception, priority): (u16, u8)| InterruptSpec {
        name: At { value: exception.to_string(), span: 0..0 },
        priority,
    };
    manifest.interrupts = capture.priorities()?.iter().map(spec).collect();
    let conduct = capture.conduct();
    manifest.intrusive = conduct.intrusive;
    manifest.between_points = conduct.between_points;
    manifest.ranges = conduct.ranges;
    if let Some(open) = &capture.image {
        let name = open.path.file_name().and_then(|name| name.to_str()).unwrap_or("image.elf");
        let name = if name == EVENTS || name == MANIFEST { "image.elf" } else { name };
        folder.copy(&open.path, name)?;
        manifest.image = Some(At { value: name.to_owned(), span: 0..0 });
    }
    folder.write(MANIFEST, manifest.to_toml())
}

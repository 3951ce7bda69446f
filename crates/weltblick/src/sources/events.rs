//! Event traces: a folder of files that are read side by side.

use super::read::Input;
use anyhow::{Context as _, Result, bail};
use std::fs::{self, File};
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use weltblick_core::capture::{CtfSettings, EventTrace, Tap};
use weltblick_core::document::Source;
use weltblick_core::event::{Origin, Sink, StrangeCore};
use weltblick_core::time::Frequency;
use weltblick_core::wire::ctf::{MOST_METADATA, metadata_text};

/// The description's name in a trace's folder.
pub(crate) const METADATA: &str = "metadata";
/// Files of one trace at most: all are open at once.
const MOST_FILES: usize = 512;

/// Bytes that are read of all files together before their events are put in order: they wait in
/// memory, and take up to a hundred times as much there.
const AT_ONCE: usize = 128 << 10;
/// The same of each of many files.
const LEAST_AT_ONCE: usize = 2 << 10;

/// Whether a folder is an event trace.
pub(crate) fn is_trace(folder: &Path) -> bool {
    folder.join(METADATA).is_file()
}

/// Opens a trace, and completes the settings with what it says of its clock.
pub(crate) fn open(
    folder: &Path,
    settings: &mut CtfSettings,
    manifest: Source<'_>,
) -> Result<(EventTrace, Vec<Input>)> {
    let path = folder.join(METADATA);
    let shown = path.display().to_string();
    let size = fs::symlink_metadata(&path).with_context(|| shown.clone())?;
    if !size.is_file() || size.len() > MOST_METADATA as u64 {
        bail!(
            "{shown}: a description is a plain file, no link, of at most {} MB",
            MOST_METADATA >> 20
        );
    }
    let bytes = fs::read(&path).with_context(|| shown.clone())?;
    let text = metadata_text(&bytes).map_err(|why| anyhow::anyhow!("{shown}: {why}"))?;
    let mut trace = EventTrace::new(&shown, &text, settings, manifest)?;
    let own = trace.clock().and_then(|clock| Frequency::from_hertz(clock.hertz as f64));
    settings.clock = settings.clock.or(own);
    let files = files(folder)?;
    if let Some(first) = first_moment(&trace, &files)? {
        trace.begin_at(first);
    }
    Ok((trace, files.into_iter().map(Input::File).collect()))
}

/// The files of packets, by name: every plain file but the description.
pub(crate) fn files(folder: &Path) -> Result<Vec<PathBuf>> {
    let shown = || folder.display().to_string();
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).with_context(shown)? {
        let entry = entry.with_context(shown)?;
        let name = entry.file_name();
        let is_hidden = name.to_string_lossy().starts_with('.');
        // A link might lead anywhere.
        if entry.file_type().with_context(shown)?.is_file() && !is_hidden && name != METADATA {
            files.push(entry.path());
        }
    }
    files.sort();
    if files.is_empty() {
        bail!("{}: there is no file of packets beside `{METADATA}`", folder.display());
    }
    if files.len() > MOST_FILES {
        bail!("{}: {} files; at most {MOST_FILES} are read", folder.display(), files.len());
    }
    Ok(files)
}

/// What to write where a core has a number that no core has.
fn strange_core(strange: &StrangeCore, inputs: &[Input]) -> String {
    let folder = match inputs.first() {
        Some(Input::File(path)) => path.parent().unwrap_or(path).display().to_string(),
        _ => "the event trace".into(),
    };
    let StrangeCore { event, field, number } = strange;
    format!(
        "{folder}: `{event}` happened on core {number} by its field `{field}`, and cores have numbers up to 255; name the field that has it: `core_field` in [stream.settings] of the manifest"
    )
}

/// The first moment of all files, in ticks of the trace's clock.
fn first_moment(trace: &EventTrace, files: &[PathBuf]) -> Result<Option<u64>> {
    let mut earliest = None;
    let mut buffer = vec![0; 64 << 10];
    for path in files {
        let shown = || path.display().to_string();
        let mut file = File::open(path).with_context(shown)?;
        let mut first = trace.first();
        loop {
            match file.read(&mut buffer) {
                Ok(0) => break,
                Ok(count) if first.push(&buffer[..count]) => {}
                Ok(_) => break,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error).with_context(shown),
            }
        }
        earliest = earliest.into_iter().chain(first.found).min();
    }
    Ok(earliest)
}

/// Reads all files side by side into events, until the tap has enough.
pub(super) fn replay(
    trace: &EventTrace,
    inputs: &[Input],
    (origin, resolution): (Origin, u64),
    tap: &mut dyn Tap,
    sink: &mut dyn Sink,
) -> Result<()> {
    let mut files = Vec::new();
    let (mut starts, mut end) = (Vec::new(), 0);
    for input in inputs {
        let Input::File(path) = input else { bail!("an event trace cannot come as one stream") };
        let shown = || path.display().to_string();
        let file = File::open(path).with_context(shown)?;
        starts.push(end);
        end += file.metadata().with_context(shown)?.len();
        files.push((file, path));
    }
    let mut reading = trace.reading(origin, &starts, resolution);
    let mut buffer = vec![0; (AT_ONCE / files.len().max(1)).max(LEAST_AT_ONCE)];
    while let Some(wanted) = reading.wants() {
        let (file, path) = &mut files[wanted];
        match file.read(&mut buffer) {
            Ok(0) => reading.finish_file(wanted, sink),
            Ok(count) => {
                tap.raw(&buffer[..count]);
                reading.push(wanted, &buffer[..count], sink);
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error).with_context(|| path.display().to_string()),
        }
        if let Some(strange) = reading.strange_core() {
            bail!(strange_core(strange, inputs));
        }
        if tap.has_enough() {
            return Ok(());
        }
    }
    tap.event_counts(&reading.counts());
    Ok(())
}

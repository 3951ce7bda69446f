//! Opening a capture: a folder with a manifest, a raw file, or standard input.

use super::capture::{Capture, OpenImage};
use super::debug_files::DebugPlaces;
use super::events;
use super::given;
use super::inside;
use super::part::Part;
use super::read::Input;
use super::segments::{gaps, journal, segments};
use super::setup::{correct, setup_of_raw};
use crate::cli::{CaptureArgs, SetupArgs};
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use weltblick_core::capture::{EventTrace, MANIFEST, Manifest, Protocol, SourceSpec};
use weltblick_core::document::{At, Source};
use weltblick_core::image::Image;

/// Opens what the user named, and applies corrections.
pub(crate) fn open(args: &CaptureArgs) -> Result<Capture> {
    let name = args.capture.as_deref().context("name a capture")?;
    open_as(name, &args.setup)
}

/// Opens a capture, and applies corrections.
pub(crate) fn open_as(name: &Path, setup: &SetupArgs) -> Result<Capture> {
    let mut opened = match name {
        path if path == Path::new("-") => raw(setup, Input::StandardInput)?,
        path if path.is_dir() => folder(path)?,
        path if path.exists() => raw(setup, Input::File(path.to_owned()))?,
        path => bail!("{}: there is no such file or folder", path.display()),
    };
    correct(&mut opened.manifest, setup)?;
    if setup.flow_only {
        opened.keep_flow().with_context(|| name.display().to_string())?;
    }
    let Opened { manifest, inputs, image: named_image, traces } = opened;
    let named = setup.debug_info.as_deref();
    let image = match (&setup.image, named_image) {
        (Some(path), _) => Some(read_image(path, named)?),
        (None, Some(path)) => {
            let places = DebugPlaces::of_captured(&path, named);
            Some(read_image_in(&path, places)?)
        }
        (None, None) => None,
    };
    if let (Some(isa), Some(open)) = (manifest.target.isa, &image)
        && isa != open.image.isa()
    {
        bail!(
            "{}: the image is for {}, but {MANIFEST} says that the target is {}",
            open.path.display(),
            open.image.isa().name(),
            isa.name()
        );
    }
    let journal = if name.is_dir() { journal(name)? } else { Vec::new() };
    let gaps = gaps(name, &manifest, &journal);
    let name = name.to_owned();
    let (index, alignment) = (OnceLock::new(), OnceLock::new());
    let (roster, turns) = (OnceLock::new(), OnceLock::new());
    let (part, tells_tasks) = (Part::default(), false);
    Ok(Capture {
        name,
        given: given::options(setup),
        manifest,
        image,
        inputs,
        gaps,
        journal,
        traces,
        index,
        alignment,
        part,
        tells_tasks,
        roster,
        turns,
    })
}

/// Reads and parses an ELF file that the user named; `debug_info` is the folder of what it was split into.
pub(crate) fn read_image(path: &Path, debug_info: Option<&Path>) -> Result<OpenImage> {
    read_image_in(path, DebugPlaces::of_named(path, debug_info))
}

fn read_image_in(path: &Path, places: DebugPlaces) -> Result<OpenImage> {
    let bytes = fs::read(path).with_context(|| format!("{}", path.display()))?;
    let image = Image::parse_with(&bytes, Box::new(places.clone()))
        .with_context(|| format!("{}", path.display()))?;
    Ok(OpenImage { path: path.to_owned(), image, places })
}

/// What was found under a name.
struct Opened {
    manifest: Manifest,
    inputs: Vec<Vec<Input>>,
    image: Option<PathBuf>,
    traces: Vec<Option<EventTrace>>,
}

impl Opened {
    /// As if nothing but the instruction trace had been recorded.
    fn keep_flow(&mut self) -> Result<()> {
        let Some((stream, source)) = self.manifest.flow() else {
            bail!("--flow-only: no stream of this capture is an instruction trace")
        };
        let mut spec = self.manifest.streams.swap_remove(stream);
        spec.sources = vec![spec.sources.swap_remove(source)];
        self.manifest.streams = vec![spec];
        self.inputs = vec![self.inputs.swap_remove(stream)];
        self.traces = vec![self.traces.swap_remove(stream)];
        Ok(())
    }
}

/// A single stream of one protocol, or of frames around it, as options say.
fn raw(setup: &SetupArgs, input: Input) -> Result<Opened> {
    let stream = setup_of_raw(setup, Vec::new())?;
    let manifest = Manifest { streams: vec![stream], ..Manifest::default() };
    Ok(Opened { manifest, inputs: vec![vec![input]], image: None, traces: vec![None] })
}

/// A folder with a manifest. Paths in it never leave it, links included.
fn folder(path: &Path) -> Result<Opened> {
    let manifest_path = path.join(MANIFEST);
    let Some(text) = inside::text(path, MANIFEST)? else {
        if events::is_trace(path) {
            bail!(
                "{}: this folder is an event trace; `weltblick import` makes a capture of it, in which you say what its events mean",
                path.display()
            );
        }
        bail!(
            "{}: this folder has no {MANIFEST}; `weltblick import` makes one from raw files",
            path.display()
        );
    };
    let shown = manifest_path.display().to_string();
    let mut manifest = Manifest::parse(&shown, &text)?;
    let source = Source::new(&shown, &text);
    let folder_in = |file: &At<String>| {
        inside::resolve(path, &file.value).map_err(|why| source.fault(file.span.clone(), why))
    };
    let file_in = |file: &At<String>| {
        inside::resolve_file(path, &file.value).map_err(|why| source.fault(file.span.clone(), why))
    };
    let mut inputs = Vec::new();
    let mut traces = Vec::new();
    for stream in &mut manifest.streams {
        if let [SourceSpec { protocol: Protocol::Ctf(settings), .. }] =
            stream.sources.as_mut_slice()
        {
            let folder = settings.folder.as_ref().map(folder_in).transpose()?.unwrap_or_default();
            let (trace, files) = events::open(&folder, settings, source)?;
            traces.push(Some(trace));
            inputs.push(files);
            continue;
        }
        traces.push(None);
        let files = stream.files.iter().map(|file| file_in(file).map(Input::File));
        inputs.push(match &stream.segments {
            None => files.collect::<Result<_, _>>()?,
            Some(name) => segments(path, name)?,
        });
    }
    let image = manifest.image.as_ref().map(file_in).transpose()?;
    Ok(Opened { manifest, inputs, image, traces })
}

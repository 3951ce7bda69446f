//! `import`: raw files from elsewhere into a capture folder, or new settings for one.

use crate::cli::SetupArgs;
use crate::outcome::Outcome;
use crate::show;
use crate::sources::{self, NewFolder, Place};
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::io::{BufRead as _, BufReader, Write};
use std::path::{Path, PathBuf};
use weltblick_core::capture::{CtfSettings, MANIFEST, Manifest, StreamSpec};
use weltblick_core::document::{At, Source};

/// Make a capture folder from raw files, or amend one
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Raw trace files, in order: together they are one stream. Or the folder of an event trace
    #[arg(value_name = "FILE", required_unless_present = "amend")]
    files: Vec<PathBuf>,
    /// The capture folder to make or amend
    #[arg(long, value_name = "FOLDER")]
    out: PathBuf,
    /// What to call the target
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Put the new folder in the place of an existing capture
    #[arg(long, conflicts_with = "amend")]
    replace: bool,
    /// Change the settings of an existing capture; files become a further stream, or, if the capture has them, say
    /// which stream is meant
    #[arg(long)]
    amend: bool,
    #[command(flatten)]
    setup: SetupArgs,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let copies = if args.amend { amend(args)? } else { make(args)? };
    let folder = args.out.display().to_string();
    writeln!(out, "{}: {MANIFEST}, {}", show::plain(&folder), copies.join(", "))?;
    writeln!(out, "next: weltblick inspect {}", show::shell(&folder))?;
    Ok(Outcome::Done)
}

/// A file to be copied, and its name in the folder.
struct Copy {
    from: PathBuf,
    name: String,
}

/// The image, and the files that hold its debug information.
#[derive(Default)]
struct ImageCopy {
    image: Option<Copy>,
    debug_files: Vec<(PathBuf, PathBuf)>,
}

/// Plans the copies of one stream; names stay what they were.
fn plan_files(files: &[PathBuf], taken: &mut Vec<String>) -> Result<Vec<Copy>> {
    files
        .iter()
        .map(|from| {
            if !from.is_file() {
                bail!("{}: there is no such file", from.display());
            }
            Ok(Copy { from: from.clone(), name: free_name(from, taken)? })
        })
        .collect()
}

/// The folder of an event trace, if one is named.
fn plan_trace(files: &[PathBuf], taken: &mut Vec<String>) -> Result<Option<Copy>> {
    let Some(folder) = files.iter().find(|file| file.is_dir()) else { return Ok(None) };
    if files.len() > 1 {
        bail!("{}: an event trace is imported by itself", folder.display());
    }
    if !sources::events::is_trace(folder) {
        bail!(
            "{}: a folder is imported as an event trace, and this one has no `{}`",
            folder.display(),
            sources::events::METADATA
        );
    }
    let real = fs::canonicalize(folder).with_context(|| folder.display().to_string())?;
    let name = free_name(&real, taken)?;
    Ok(Some(Copy { from: real, name }))
}

/// The files of an event trace: its description, and its packets.
fn plan_trace_files(trace: &Copy) -> Result<Vec<Copy>> {
    let description = trace.from.join(sources::events::METADATA);
    let mut files = vec![description];
    files.extend(sources::events::files(&trace.from)?);
    let copy = |from: PathBuf| {
        let name = from.file_name().and_then(|name| name.to_str());
        let name = name.with_context(|| format!("{}: the name is not UTF-8", from.display()))?;
        let name = format!("{}/{name}", trace.name);
        Ok(Copy { from, name })
    };
    files.into_iter().map(copy).collect()
}

/// An event trace of whose events nothing is known yet.
fn stream_of(trace: &Copy) -> StreamSpec {
    let folder = Some(At { value: trace.name.clone(), span: 0..0 });
    StreamSpec::events(CtfSettings { folder, ..CtfSettings::default() })
}

fn free_name(from: &Path, taken: &mut Vec<String>) -> Result<String> {
    let name = from.file_name().and_then(|name| name.to_str());
    let name = name.with_context(|| format!("{}: the name is not UTF-8", from.display()))?;
    if taken.iter().any(|other| other == name) || name == MANIFEST {
        bail!("{}: the folder has a file of this name already; rename one", from.display());
    }
    taken.push(name.to_owned());
    Ok(name.to_owned())
}

/// The image, checked before anything is copied.
fn plan_image(setup: &SetupArgs, taken: &mut Vec<String>) -> Result<ImageCopy> {
    let Some(path) = &setup.image else { return Ok(ImageCopy::default()) };
    let debug_files = sources::read_image(path, setup.debug_info.as_deref())?.debug_files();
    let image = Some(Copy { from: path.clone(), name: free_name(path, taken)? });
    Ok(ImageCopy { image, debug_files })
}

impl ImageCopy {
    /// The files beside the image, in words; nothing where there are none.
    fn debug_files_in_words(&self) -> Option<String> {
        match self.debug_files.len() {
            0 => None,
            1 => Some("1 file of debug information".into()),
            files => Some(format!("{files} files of debug information")),
        }
    }
}

fn named(copies: &[Copy]) -> Vec<At<String>> {
    copies.iter().map(|copy| At { value: copy.name.clone(), span: 0..0 }).collect()
}

fn make(args: &Args) -> Result<Vec<String>> {
    let mut names = Vec::new();
    let trace = plan_trace(&args.files, &mut names)?;
    let files = match &trace {
        Some(trace) => plan_trace_files(trace)?,
        None => plan_files(&args.files, &mut names)?,
    };
    let image = plan_image(&args.setup, &mut names)?;
    if let Some(folder) = args.files.iter().find(|_| trace.is_some()) {
        // What cannot be read is told before anything appears.
        sources::events::open(folder, &mut CtfSettings::default(), Source::new("", ""))?;
    }
    let stream = match &trace {
        Some(trace) => stream_of(trace),
        None => sources::setup_of_raw(&args.setup, named(&files))?,
    };
    let mut manifest = Manifest { streams: vec![stream], ..Manifest::default() };
    describe(&mut manifest, args, 0, image.image.as_ref())?;
    let place = if args.replace { Place::Replace } else { Place::New };
    let folder = NewFolder::begin(&args.out, place, MANIFEST)?;
    if let Some(trace) = &trace {
        folder.make(&trace.name)?;
    }
    for copy in files.iter().chain(&image.image) {
        folder.copy(&copy.from, &copy.name)?;
    }
    for (from, name) in &image.debug_files {
        folder.copy(from, name)?;
    }
    folder.write(MANIFEST, manifest.to_toml())?;
    folder.finish()?;
    names.extend(image.debug_files_in_words());
    Ok(names)
}

/// What options say about the target, and about the packets of one stream.
fn describe(
    manifest: &mut Manifest,
    args: &Args,
    stream: usize,
    image: Option<&Copy>,
) -> Result<()> {
    sources::correct_stream(manifest, stream, &args.setup)?;
    if args.name.is_some() {
        manifest.target.name.clone_from(&args.name);
    }
    if let Some(image) = image {
        manifest.image = Some(At { value: image.name.clone(), span: 0..0 });
    }
    Ok(())
}

fn amend(args: &Args) -> Result<Vec<String>> {
    if let Some(folder) = args.files.iter().find(|file| file.is_dir()) {
        bail!(
            "{}: an event trace has a clock of its own; import it into a folder of its own",
            folder.display()
        );
    }
    let path = args.out.join(MANIFEST);
    let name = path.display().to_string();
    let text = sources::inside::text(&args.out, MANIFEST)?;
    let text = text.with_context(|| format!("{name}: there is nothing to amend"))?;
    let mut manifest = Manifest::parse(&name, &text)?;
    let mut taken = names_in(&args.out)?;
    // A newer build of the same name takes the old one's place.
    taken.retain(|name| manifest.image.as_ref().is_none_or(|image| image.value != *name));
    let before = taken.len();
    let same = same_stream(args, &manifest)?;
    let files = match same {
        Some(_) => Vec::new(),
        None => plan_files(&args.files, &mut taken)?,
    };
    let image = plan_image(&args.setup, &mut taken)?;
    if !files.is_empty() {
        manifest.streams.push(sources::setup_of_raw(&args.setup, named(&files))?);
    }
    describe(&mut manifest, args, same.unwrap_or(0), image.image.as_ref())?;
    for (from, name) in &image.debug_files {
        sources::copy(from, &args.out.join(name))?;
    }
    for copy in files.iter().chain(&image.image) {
        sources::copy(&copy.from, &args.out.join(&copy.name))?;
    }
    // The manifest last, and in one step: a capture is never half amended.
    let partial = args.out.join(format!(".{MANIFEST}.partial"));
    fs::write(&partial, manifest.to_toml()).with_context(|| partial.display().to_string())?;
    fs::rename(&partial, &path).with_context(|| name)?;
    let mut changed = taken.split_off(before);
    changed.extend(image.debug_files_in_words());
    if changed.is_empty() {
        changed.push("settings amended".into());
    }
    Ok(changed)
}

/// The stream of a capture that these files are already: same names, same bytes. Then what is said of them is said of
/// it.
fn same_stream(args: &Args, manifest: &Manifest) -> Result<Option<usize>> {
    let names = args.files.iter().map(|file| file.file_name().and_then(|name| name.to_str()));
    let Some(names) = names.collect::<Option<Vec<&str>>>().filter(|names| !names.is_empty()) else {
        return Ok(None);
    };
    let is_it = |stream: &StreamSpec| stream.files.iter().map(|file| &file.value).eq(&names);
    let Some(number) = manifest.streams.iter().position(is_it) else { return Ok(None) };
    for (file, name) in args.files.iter().zip(names) {
        let old = args.out.join(name);
        if !is_same(file, &old)? {
            bail!(
                "{}: {} has another file of this name; rename one, or make a capture of its own",
                file.display(),
                args.out.display()
            );
        }
    }
    Ok(Some(number))
}

/// Whether two files hold the same bytes.
fn is_same(one: &Path, other: &Path) -> Result<bool> {
    let open = |path: &Path| {
        let file = fs::File::open(path).with_context(|| path.display().to_string())?;
        let length = file.metadata().with_context(|| path.display().to_string())?.len();
        Ok::<_, anyhow::Error>((BufReader::new(file), length))
    };
    let ((mut one, length), (mut other, other_length)) = (open(one)?, open(other)?);
    if length != other_length {
        return Ok(false);
    }
    loop {
        let (left, right) = (one.fill_buf()?, other.fill_buf()?);
        let length = left.len().min(right.len());
        if length == 0 || left[..length] != right[..length] {
            return Ok(left.is_empty() && right.is_empty());
        }
        one.consume(length);
        other.consume(length);
    }
}

fn names_in(folder: &Path) -> Result<Vec<String>> {
    let name = || folder.display().to_string();
    let mut names = Vec::new();
    for entry in fs::read_dir(folder).with_context(name)? {
        names.push(entry.with_context(name)?.file_name().to_string_lossy().into_owned());
    }
    Ok(names)
}

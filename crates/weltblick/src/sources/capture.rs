//! A capture that was opened, and what it is.

use super::debug_files::{self, DebugPlaces};
use super::part::Part;
use super::read::Input;
use super::segments::{Gap, Piece};
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::OnceLock;
use weltblick_core::capture::{
    CtfSettings, Entry, EventTrace, FlowLine, InterruptSpec, MANIFEST, Manifest, Priorities,
    Protocol, What,
};
use weltblick_core::event::Means;
use weltblick_core::flow;
use weltblick_core::image::{Image, Variables};
use weltblick_core::measure::alignment::Alignment;
use weltblick_core::measure::execution::{FlowIndex, Roster};
use weltblick_core::measure::interrupts::InterruptNames;
use weltblick_core::measure::profile::Conduct;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timeline::Turns;
use weltblick_core::measure::timing::Clocks;
use weltblick_core::time::Frequency;
use weltblick_core::wire::mtb;

/// An image and where it came from.
#[derive(Debug)]
pub(crate) struct OpenImage {
    pub(crate) path: PathBuf,
    pub(crate) image: Image,
    /// Where its debug information may be, if that is in files of its own.
    pub(super) places: DebugPlaces,
}

impl OpenImage {
    /// An image that came from no file.
    #[cfg(test)]
    pub(crate) fn new(image: Image) -> Self {
        let path = PathBuf::new();
        Self { places: DebugPlaces::of_named(&path, None), path, image }
    }

    /// The files that its debug information is in, beside its own, and what to call them in a capture folder.
    pub(crate) fn debug_files(&self) -> Vec<(PathBuf, PathBuf)> {
        let split = self.image.split_files().into_iter().filter_map(|file| {
            let name = PathBuf::from(debug_files::copied_name(&file));
            Some((self.places.locate(&file)?, name))
        });
        let name = self.path.file_name().map(debug_files::package_name).map(PathBuf::from);
        let package = self.places.locate_package().zip(name);
        let mut files: Vec<_> = split.chain(package).collect();
        files.sort_by(|a, b| a.1.cmp(&b.1));
        files.dedup_by(|a, b| a.1 == b.1);
        files
    }

    /// Its variables: the file is read again, for those who ask.
    pub(crate) fn variables(&self) -> Result<Variables> {
        let shown = || format!("{}", self.path.display());
        let bytes = fs::read(&self.path).with_context(shown)?;
        Variables::parse_with(&bytes, Box::new(self.places.clone())).with_context(shown)
    }
}

/// A capture that is ready to be read.
#[derive(Debug)]
pub(crate) struct Capture {
    /// What the user called it.
    pub(crate) name: PathBuf,
    /// The options that it was read with, as words of a command line.
    pub(crate) given: Vec<String>,
    /// The manifest, corrected by options.
    pub(crate) manifest: Manifest,
    /// The image, if one is named.
    pub(crate) image: Option<OpenImage>,
    /// The files of each stream of the manifest.
    pub(super) inputs: Vec<Vec<Input>>,
    /// Where bytes are missing, by stream: what the journal says.
    pub(super) gaps: Vec<Vec<Gap>>,
    /// What happened while it was made.
    pub(super) journal: Vec<Entry>,
    /// What the event traces among the streams are, by stream.
    pub(crate) traces: Vec<Option<EventTrace>>,
    /// The index of its instruction trace, once it was asked for.
    pub(super) index: OnceLock<Option<FlowIndex>>,
    /// How its cycles stand to the time of events, once that was asked for.
    pub(super) alignment: OnceLock<Alignment>,
    /// The part of an instruction trace that events are told of, where that leads.
    pub(super) part: Part,
    /// Threads of an instruction trace that leads are told as tasks.
    pub(super) tells_tasks: bool,
    /// Who they are, once all of it was read.
    pub(super) roster: OnceLock<Roster>,
    /// Their turns, once one was asked for.
    pub(super) turns: OnceLock<Turns>,
}

impl Capture {
    /// The image, or an error that says how to name one.
    pub(crate) fn image(&self) -> Result<&Image> {
        self.image.as_ref().map(|open| &open.image).with_context(|| {
            format!(
                "{}: no image is named; give the firmware's ELF file with --image, or as `image` in {MANIFEST}",
                self.name.display()
            )
        })
    }

    /// The same; of an instruction trace that leads, events are told of a part only.
    pub(crate) const fn telling(mut self, part: Part) -> Self {
        self.part = part.on_one_clock();
        self
    }

    /// Whether it has events of all of the recording.
    pub(crate) const fn is_whole(&self) -> bool {
        self.part.is_all()
    }

    /// The image's variables, if an image is named.
    pub(crate) fn variables(&self) -> Result<Option<Variables>> {
        self.image.as_ref().map(OpenImage::variables).transpose()
    }

    /// The event trace, where the target sent no trace of its own.
    pub(crate) fn event_trace(&self) -> Option<&EventTrace> {
        self.manifest.event_trace()?;
        self.traces.iter().flatten().next()
    }

    /// The image, or one of nothing where none is named.
    pub(crate) fn image_or_none(&self) -> &Image {
        static NONE: OnceLock<Image> = OnceLock::new();
        match &self.image {
            Some(open) => &open.image,
            None => NONE.get_or_init(Image::empty),
        }
    }

    /// What the recording calls interrupts: it may say so anywhere, so all of it is read, if any of its events can.
    pub(crate) fn interrupt_names(&self) -> Result<InterruptNames> {
        let mut names = InterruptNames::default();
        let can = |trace: &&EventTrace| trace.translation().has(Means::InterruptNamed);
        if self.event_trace().filter(can).is_some() {
            self.replay(&mut names)?;
        }
        Ok(names)
    }

    /// The exceptions that are called so, at least one; or the one that has this number.
    pub(crate) fn exceptions_named(&self, name: &str) -> Result<Vec<u16>> {
        if let Ok(number) = name.parse::<u16>() {
            return Ok(vec![number]);
        }
        let (names, image) = (self.interrupt_names()?, self.image.as_ref().map(|open| &open.image));
        let found = names.named(name, image);
        if !found.is_empty() {
            return Ok(found);
        }
        let known = names.all(image);
        match image {
            None if known.is_empty() => {
                bail!("`{name}`: without an image interrupts have numbers only; give --image")
            }
            Some(_) if names.is_empty() => {
                bail!("the image's vector table has no `{name}`; it has {}", known.join(", "))
            }
            _ => bail!("no interrupt is called `{name}`; there are {}", known.join(", ")),
        }
    }

    /// What is known of the priorities of exceptions: what was read last, corrected by the manifest.
    pub(crate) fn priorities(&self) -> Result<Priorities> {
        let read = self.journal.iter().rev().find(|entry| entry.what == What::Priorities);
        let read = read.and_then(|entry| entry.detail.as_deref());
        let mut priorities = read.map(Priorities::parse).unwrap_or_default();
        if self.manifest.interrupts.is_empty() {
            return Ok(priorities);
        }
        let names = self.interrupt_names()?;
        for InterruptSpec { name, priority } in &self.manifest.interrupts {
            let image = self.image.as_ref().map(|open| &open.image);
            let number = name.value.parse::<u16>().ok().filter(|number| *number < 512);
            let number = number.or_else(|| names.named(&name.value, image).first().copied());
            let number = number.with_context(|| {
                format!(
                    "{}: [interrupt.{}]: the image's vector table has no such name; write its exception number",
                    self.name.join(MANIFEST).display(),
                    name.value
                )
            })?;
            priorities.set(number, *priority);
        }
        Ok(priorities)
    }

    /// What points call the event trace.
    pub(crate) fn event_trace_name(&self) -> String {
        self.traces
            .iter()
            .position(Option::is_some)
            .map_or_else(String::new, |n| self.stream_name(n))
    }

    /// The files of packets of the event trace.
    pub(crate) fn event_files(&self) -> &[Input] {
        let number = self.traces.iter().position(Option::is_some);
        number.map_or(&[], |number| &self.inputs[number])
    }

    /// With which byte of the event trace each of its files begins.
    pub(crate) fn event_file_starts(&self) -> Result<Vec<u64>> {
        let (mut starts, mut end) = (Vec::new(), 0);
        for input in self.event_files() {
            starts.push(end);
            if let Input::File(path) = input {
                end += fs::metadata(path).with_context(|| path.display().to_string())?.len();
            }
        }
        Ok(starts)
    }

    /// Whether the instruction trace is what a buffer on the chip kept: it does not begin where tracing began, so
    /// that what ran before is unknown.
    pub(crate) fn kept_the_end(&self) -> bool {
        let Some((stream, source)) = self.manifest.flow() else { return false };
        let protocol = &self.manifest.streams[stream].sources[source].protocol;
        if !matches!(protocol, Protocol::Mtb(_)) {
            return false;
        }
        // The first branch after tracing was switched on says so.
        let mut branch = Vec::new();
        let read = self.read_stream(stream, &mut |piece| {
            let Piece::Bytes(bytes) = piece else { return ControlFlow::Continue(()) };
            branch.extend_from_slice(&bytes[..bytes.len().min(mtb::PACKET - branch.len())]);
            let is_whole = branch.len() == mtb::PACKET;
            if is_whole { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        let first = <[u8; mtb::PACKET]>::try_from(branch.as_slice()).map(mtb::Packet::from_bytes);
        read.is_err() || first.map_or(true, |first| !first.starts)
    }

    /// How the recording was made.
    pub(crate) fn conduct(&self) -> Conduct {
        let attached = !self.journal.is_empty();
        Conduct { attached, ..Conduct::of(&self.manifest) }
    }

    /// How often budgets were judged while it was recorded, to see whether there is enough.
    pub(crate) fn looks(&self) -> u32 {
        self.journal.iter().filter(|entry| entry.what == What::Looked).count() as u32
    }

    /// Whether any of it comes from standard input, which can be read only once.
    pub(crate) fn reads_standard_input(&self) -> bool {
        self.inputs.iter().flatten().any(|input| matches!(input, Input::StandardInput))
    }

    /// What the capture says of its clocks.
    pub(crate) fn clocks(&self) -> Clocks {
        Clocks::of(&self.manifest)
    }

    /// The clock of the timestamps: of the ITM's, or of the host that polled.
    pub(crate) fn timestamp_clock(&self) -> Option<Frequency> {
        self.clocks().timestamp_clock
    }

    /// How many sources of samples the manifest names.
    pub(crate) fn sources(&self) -> usize {
        self.manifest.samplers()
    }

    /// The name of a stream in points: its first file without folder and extension.
    pub(crate) fn stream_name(&self, stream: usize) -> String {
        let spec = self.manifest.streams.get(stream);
        if let Some(name) = spec.and_then(|spec| spec.segments.as_ref()) {
            return name.clone();
        }
        let protocol = spec.and_then(|spec| spec.sources.first()).map(|source| &source.protocol);
        if let Some(Protocol::Ctf(CtfSettings { folder: Some(folder), .. })) = protocol {
            return folder.value.clone();
        }
        match self.inputs.get(stream).and_then(|inputs| inputs.first()) {
            Some(Input::File(path)) => path
                .file_stem()
                .map_or_else(String::new, |stem| stem.to_string_lossy().into_owned()),
            _ => "stdin".to_owned(),
        }
    }

    /// The names of all origins, by number.
    pub(crate) fn origin_names(&self) -> Vec<String> {
        let mut names = Vec::new();
        for (number, stream) in self.manifest.streams.iter().enumerate() {
            for source in &stream.sources {
                let name = self.stream_name(number);
                names.push(source.trace_id.map_or(name.clone(), |id| format!("{name}.{id}")));
            }
        }
        names
    }

    /// Where the bytes of a stream come from.
    pub(super) fn inputs_of(&self, stream: usize) -> &[Input] {
        self.inputs.get(stream).map_or(&[], Vec::as_slice)
    }

    /// Where something is missing between the bytes of a stream.
    pub(super) fn gaps_of(&self, stream: usize) -> &[Gap] {
        self.gaps.get(stream).map_or(&[], Vec::as_slice)
    }

    /// Whether another capture is of the same build.
    pub(crate) fn same_image(&self, other: &Self) -> bool {
        match (&self.image, &other.image) {
            (Some(mine), Some(theirs)) => mine.image.has_same_code(&theirs.image),
            _ => false,
        }
    }

    /// Whether there is an instruction trace.
    pub(crate) fn has_flow(&self) -> bool {
        self.manifest.flow().is_some()
    }

    /// Whether events come from the instruction trace, with its cycle counts or timestamps.
    pub(crate) fn tells_events_by_flow(&self) -> bool {
        self.manifest.flow_events().is_some() && self.image.is_some()
    }

    /// Stops where everything that is wanted needs a time and nothing has one; says what tells more instead.
    pub(crate) fn require_counted_cycles(&self, instead: &str) -> Result<()> {
        if self.manifest.is_without_times() {
            bail!(
                "{}: this instruction trace counts no cycles and has no timestamps, so that nothing has a time; {instead}",
                self.name.display()
            );
        }
        Ok(())
    }

    /// How ticks of the instruction trace are stated, if their clock is known.
    pub(crate) fn flow_scale(&self) -> Option<Scale> {
        let clock = self.manifest.flow_clock()?;
        Some(Scale::of(clock, self.manifest.target.core_clock))
    }

    /// How to say which clock times are of, where none is known.
    pub(crate) fn state_a_clock(&self) -> &'static str {
        if self.manifest.flow_events().is_some()
            && self.flow_clocking() == flow::Clocking::Timestamps
        {
            "times need the clock that global timestamps count: give --global-clock, or `global_clock` in the manifest ([target])"
        } else {
            "times need the core clock: give --core-clock, or `core_clock` in the manifest"
        }
    }

    /// What tells time in the instruction trace.
    pub(crate) fn flow_clocking(&self) -> flow::Clocking {
        self.manifest.flow().map_or(flow::Clocking::Nothing, |(number, source)| {
            FlowLine::clocking(&self.manifest.streams[number], source)
        })
    }

    /// What points call the instruction trace.
    pub(crate) fn flow_stream_name(&self) -> String {
        let Some((number, source)) = self.manifest.flow() else { return String::new() };
        self.origin_names().swap_remove(usize::from(self.manifest.origin(number, source).0))
    }

    /// The part of the instruction trace that events are told of, on the clock of all of it; `None` for all.
    pub(crate) fn told_part(&self) -> Option<Part> {
        Some(self.part).filter(|part| !part.is_all())
    }
}

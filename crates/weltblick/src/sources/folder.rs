//! Opening a capture: a folder with a manifest, a raw file, or standard input.

use super::events;
use super::flow_index;
use super::read::{Files, Input};
use super::segments::{Gap, Piece, gaps, gaps_from, journal, push_between, segments};
use super::setup::{correct, setup_of_raw};
use crate::cli::{CaptureArgs, SetupArgs};
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use weltblick_core::capture::{
    Anchor, CtfSettings, Entry, EventTrace, FlowLine, Framing, InterruptSpec, Line, MANIFEST,
    Manifest, PollSettings, Priorities, Protocol, SourceSpec, StreamSpec, Tap, What,
};
use weltblick_core::document::{At, Source};
use weltblick_core::event::{CodeRanges, CurrentTask, FlowEvents, Sink};
use weltblick_core::flow::{self, Edge, Only};
use weltblick_core::image::{Image, Variables};
use weltblick_core::measure::alignment::Alignment;
use weltblick_core::measure::execution::{FlowIndex, Roster, TaskEvents};
use weltblick_core::measure::profile::Conduct;
use weltblick_core::measure::timeline::Turns;
use weltblick_core::measure::timing::Clocks;
use weltblick_core::time::Frequency;

/// An image and where it came from.
#[derive(Debug)]
pub(crate) struct OpenImage {
    pub(crate) path: PathBuf,
    pub(crate) image: Image,
}

impl OpenImage {
    /// Its variables: the file is read again, for those who ask.
    pub(crate) fn variables(&self) -> Result<Variables> {
        let shown = || format!("{}", self.path.display());
        let bytes = fs::read(&self.path).with_context(shown)?;
        Variables::parse(&bytes).with_context(shown)
    }
}

/// A capture that is ready to be read.
#[derive(Debug)]
pub(crate) struct Capture {
    /// What the user called it.
    pub(crate) name: PathBuf,
    /// The manifest, corrected by options.
    pub(crate) manifest: Manifest,
    /// The image, if one is named.
    pub(crate) image: Option<OpenImage>,
    /// The files of each stream of the manifest.
    pub(super) inputs: Vec<Vec<Input>>,
    /// Where bytes are missing, by stream: what the journal says.
    gaps: Vec<Vec<Gap>>,
    /// What happened while it was made.
    journal: Vec<Entry>,
    /// What the event traces among the streams are, by stream.
    pub(crate) traces: Vec<Option<EventTrace>>,
    /// The index of its instruction trace, once it was asked for.
    pub(super) index: OnceLock<Option<FlowIndex>>,
    /// How its cycles stand to the time of events, once that was asked for.
    pub(super) alignment: OnceLock<Alignment>,
    /// The part of an instruction trace that events are told of, where that leads.
    pub(super) part: (Option<Edge>, Option<Edge>),
    /// Threads of an instruction trace that leads are told as tasks.
    pub(super) tells_tasks: bool,
    /// Who they are, once all of it was read.
    pub(super) roster: OnceLock<Roster>,
    /// Their turns, once one was asked for.
    pub(super) turns: OnceLock<Turns>,
}

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
    let image = setup.image.clone().or(named_image);
    let image = image.map(|path| read_image(&path)).transpose()?;
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
    let (part, tells_tasks) = ((None, None), false);
    Ok(Capture {
        name,
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

/// Reads and parses an ELF file.
pub(crate) fn read_image(path: &Path) -> Result<OpenImage> {
    let bytes = fs::read(path).with_context(|| format!("{}", path.display()))?;
    let image = Image::parse(&bytes).with_context(|| format!("{}", path.display()))?;
    Ok(OpenImage { path: path.to_owned(), image })
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

/// Bytes before a place in an instruction trace from which on reading starts: many synchronisations, and
/// most of the calls that led there.
const FLOW_RUN_UP: u64 = 1 << 20;

/// A single stream of one protocol, or of frames around it, as options say.
fn raw(setup: &SetupArgs, input: Input) -> Result<Opened> {
    let stream = setup_of_raw(setup, Vec::new())?;
    let manifest = Manifest { streams: vec![stream], ..Manifest::default() };
    Ok(Opened { manifest, inputs: vec![vec![input]], image: None, traces: vec![None] })
}

/// A folder with a manifest. Paths in it never leave it, links included.
fn folder(path: &Path) -> Result<Opened> {
    let manifest_path = path.join(MANIFEST);
    let text = match fs::read_to_string(&manifest_path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && events::is_trace(path) => {
            bail!(
                "{}: this folder is an event trace; `weltblick import` makes a capture of it, in which you say what its events mean",
                path.display()
            )
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => bail!(
            "{}: this folder has no {MANIFEST}; `weltblick import` makes one from raw files",
            path.display()
        ),
        Err(error) => return Err(error).with_context(|| format!("{}", manifest_path.display())),
    };
    let shown = manifest_path.display().to_string();
    let mut manifest = Manifest::parse(&shown, &text)?;
    let source = Source::new(&shown, &text);
    let inside = |file: &At<String>| {
        resolve(path, &file.value).map_err(|why| source.fault(file.span.clone(), why))
    };
    let mut inputs = Vec::new();
    let mut traces = Vec::new();
    for stream in &mut manifest.streams {
        if let [SourceSpec { protocol: Protocol::Ctf(settings), .. }] =
            stream.sources.as_mut_slice()
        {
            let folder = settings.folder.as_ref().map(inside).transpose()?.unwrap_or_default();
            let (trace, files) = events::open(&folder, settings, source)?;
            traces.push(Some(trace));
            inputs.push(files);
            continue;
        }
        traces.push(None);
        let files = stream.files.iter().map(|file| inside(file).map(Input::File));
        inputs.push(match &stream.segments {
            None => files.collect::<Result<_, _>>()?,
            Some(name) => segments(path, name)?,
        });
    }
    let image = manifest.image.as_ref().map(inside).transpose()?;
    Ok(Opened { manifest, inputs, image, traces })
}

/// The real path of a file that a manifest names, if it lies in the folder.
fn resolve(folder: &Path, file: &str) -> Result<PathBuf, String> {
    let real = fs::canonicalize(folder).map_err(|error| error.to_string())?;
    let joined = folder.join(file);
    if Path::new(file).is_absolute() || escapes(Path::new(file)) {
        return Err(format!("`{file}` leaves the capture folder; name a file inside it"));
    }
    let target = fs::canonicalize(&joined)
        .map_err(|_| format!("there is no file `{file}` in the capture folder"))?;
    if !target.starts_with(&real) {
        return Err(format!("`{file}` leads out of the capture folder; put the file itself there"));
    }
    Ok(joined)
}

fn escapes(path: &Path) -> bool {
    path.components().any(|part| matches!(part, std::path::Component::ParentDir))
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
    pub(crate) const fn telling_part(mut self, from: Option<Edge>, until: Option<Edge>) -> Self {
        self.part = (from, until);
        self
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

    /// What is known of the priorities of exceptions: what was read last, corrected by the manifest.
    pub(crate) fn priorities(&self) -> Result<Priorities> {
        let read = self.journal.iter().rev().find(|entry| entry.what == What::Priorities);
        let read = read.and_then(|entry| entry.detail.as_deref());
        let mut priorities = read.map(Priorities::parse).unwrap_or_default();
        for InterruptSpec { name, priority } in &self.manifest.interrupts {
            let image = self.image.as_ref().map(|open| &open.image);
            let number = name.value.parse::<u16>().ok().filter(|number| *number < 512);
            let number = number.or_else(|| image?.exception_named(&name.value));
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

    /// How the recording was made.
    pub(crate) fn conduct(&self) -> Conduct {
        Conduct::of(&self.manifest)
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

    /// Reads all streams, one after the other, into events, until the tap has enough.
    pub(crate) fn replay(&self, tap: &mut impl Tap, sink: &mut impl Sink) -> Result<()> {
        match self.manifest.current_task() {
            None => self.replay_asked_for(tap, sink),
            watch => {
                let variables = self.variables()?;
                let name_of = |task| task_at(task, variables.as_ref());
                self.replay_asked_for(tap, &mut CurrentTask::new(watch, name_of, sink))
            }
        }
    }

    fn replay_asked_for(&self, tap: &mut impl Tap, sink: &mut impl Sink) -> Result<()> {
        let ranges = &self.manifest.ranges;
        if ranges.is_everything() {
            self.replay_all(tap, sink)
        } else {
            self.replay_all(tap, &mut ranges.filtering(sink))
        }
    }

    fn replay_all(&self, tap: &mut impl Tap, sink: &mut impl Sink) -> Result<()> {
        for (number, stream) in self.manifest.streams.iter().enumerate() {
            if self.manifest.leads(stream) {
                self.replay_stream(number, tap, sink)?;
            }
        }
        Ok(())
    }

    /// Reads one stream into events, until the tap has enough.
    pub(crate) fn replay_stream(
        &self,
        number: usize,
        tap: &mut impl Tap,
        sink: &mut impl Sink,
    ) -> Result<()> {
        let origin = self.manifest.origin(number, 0);
        if let Some(trace) = &self.traces[number] {
            return events::replay(trace, &self.inputs[number], origin, tap, sink);
        }
        let spec = &self.manifest.streams[number];
        let mut line = Line::new(spec, origin);
        let image = self.image.as_ref().map(|open| &open.image);
        if let (Some((stream, source)), Some(image)) = (self.manifest.flow_events(), image)
            && stream == number
            && let Some(mut flow) = FlowLine::new(spec, source, image)
        {
            // Packets for those who want them, events from what ran.
            let events = FlowEvents::new(self.manifest.origin(number, source), sink);
            let threads = self.roster()?.map(|roster| self.threads(image, roster));
            let (from, until) = self.part;
            flow.cut_at(&addresses(&[from, until]));
            let mut events = TaskEvents::new(threads, events).only(from, until);
            self.read_stream(number, |piece| {
                match piece {
                    Piece::Bytes(bytes) => {
                        line.push(bytes, tap, &mut ());
                        flow.push(bytes, &mut events);
                    }
                    Piece::Gap(why) => {
                        line.gap(why, tap, &mut ());
                        flow.gap(why, &mut events);
                    }
                }
                if tap.has_enough() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            })?;
            line.finish(tap, &mut ());
            flow.finish(&mut events);
            events.finish();
            return Ok(());
        }
        self.read_stream(number, |piece| {
            match piece {
                Piece::Bytes(bytes) => line.push(bytes, tap, sink),
                Piece::Gap(why) => line.gap(why, tap, sink),
            }
            if tap.has_enough() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        line.finish(tap, sink);
        Ok(())
    }

    /// Hands on the bytes of a stream and the gaps between them, until `take` breaks off.
    fn read_stream(
        &self,
        number: usize,
        mut take: impl FnMut(Piece<'_>) -> ControlFlow<()>,
    ) -> Result<()> {
        let mut gaps = self.gaps.get(number).map_or(&[][..], Vec::as_slice);
        let mut at = 0;
        for input in &self.inputs[number] {
            input.read(|bytes| {
                let mut flow = ControlFlow::Continue(());
                push_between(bytes, &mut at, &mut gaps, |piece| flow = take(piece));
                flow
            })?;
        }
        Ok(())
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

    /// Whether events come from the instruction trace, with the cycles that it counts.
    pub(crate) fn tells_events_by_flow(&self) -> bool {
        self.manifest.flow_events().is_some() && self.image.is_some()
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

    /// Follows the instruction trace through the image; the blocks that were reached.
    pub(crate) fn replay_flow(&self, sink: &mut impl flow::Sink) -> Result<flow::Code<'_>> {
        self.replay_flow_cut(&[], sink)
    }

    /// Whether events are told of a part only.
    pub(crate) fn tells_part(&self) -> bool {
        self.part != (None, None)
    }

    /// The part of the instruction trace that events are told of, on the clock of all of it.
    pub(crate) fn replay_flow_part(&self, sink: &mut impl flow::Sink) -> Result<()> {
        let (from, until) = self.part;
        let mut only = Only::new(from, until, sink).on_one_clock();
        self.replay_flow_cut(&addresses(&[from, until]), &mut only).map(drop)
    }

    /// The same; blocks begin at these addresses, and none runs across them.
    pub(crate) fn replay_flow_cut(
        &self,
        cuts: &[u64],
        sink: &mut impl flow::Sink,
    ) -> Result<flow::Code<'_>> {
        let mut line = self.flow_line_cut(cuts)?;
        self.push_flow(&mut line, sink)?;
        Ok(line.finish(sink))
    }

    /// A line at the start of the instruction trace.
    pub(super) fn flow_line_cut(&self, cuts: &[u64]) -> Result<FlowLine<'_>> {
        let image = self.image()?;
        let (number, source) = self.manifest.flow().with_context(|| {
            format!(
                "{}: no stream of this capture is an instruction trace (`protocol = \"etmv3\"`, `\"etmv4\"` or `\"mtb\"`)",
                self.name.display()
            )
        })?;
        let spec = &self.manifest.streams[number];
        let Some(mut line) = FlowLine::new(spec, source, image) else {
            bail!("{}: stream {number} tells no flow", self.name.display())
        };
        line.cut_at(cuts);
        Ok(line)
    }

    /// Reads all of the instruction trace, until the sink has enough.
    pub(super) fn push_flow(
        &self,
        line: &mut FlowLine<'_>,
        sink: &mut impl flow::Sink,
    ) -> Result<()> {
        let Some((number, _)) = self.manifest.flow() else { return Ok(()) };
        self.read_stream(number, |piece| push_piece(line, piece, sink))
    }

    /// The same from shortly before byte `near` of the instruction trace on: what ran is known from the
    /// first synchronisation there. Whether that is possible: in files, and by an index if they hold frames.
    pub(crate) fn replay_flow_near(&self, near: u64, sink: &mut impl flow::Sink) -> Result<bool> {
        let Some((number, source)) = self.manifest.flow() else { return Ok(false) };
        let spec = &self.manifest.streams[number];
        let start = near.saturating_sub(FLOW_RUN_UP);
        let anchor = match spec.framing {
            Framing::None => Some(Anchor::at(start)),
            Framing::Tpiu(_) => flow_index(self)?.and_then(|index| index.anchor(start)),
        };
        let (Some(anchor), Some(files)) = (anchor, Files::of(&self.inputs[number])) else {
            return Ok(false);
        };
        let Some(mut line) = FlowLine::starting_at(spec, source, self.image()?, anchor) else {
            return Ok(false);
        };
        let mut gaps = gaps_from(self.gaps_of(number), anchor.stream);
        let mut at = anchor.stream;
        files.read(anchor.stream..files.length, |bytes| {
            let mut flow = ControlFlow::Continue(());
            push_between(bytes, &mut at, &mut gaps, |piece| {
                flow = push_piece(&mut line, piece, sink);
            });
            flow
        })?;
        line.finish(sink);
        Ok(true)
    }

    /// What else the manifest says that readers should know: one line each.
    fn conduct_lines(&self) -> Vec<String> {
        let CodeRanges { inside, exclude } = &self.manifest.ranges;
        let named = |range: &std::ops::Range<u64>| {
            let image = self.image.as_ref().map(|open| &open.image);
            let function =
                image.and_then(|image| Some(image.function(image.function_at(range.start)?)));
            match function.filter(|function| function.range == *range) {
                Some(function) => function.name.clone(),
                None => format!("{:#010x}..{:#010x}", range.start, range.end),
            }
        };
        let list = |ranges: &[std::ops::Range<u64>]| {
            ranges.iter().map(named).collect::<Vec<_>>().join(", ")
        };
        let mut lines = Vec::new();
        if !inside.is_empty() {
            lines.push(format!("asked for: code inside {}", list(inside)));
        }
        if !exclude.is_empty() {
            lines.push(format!("not asked for: code inside {}", list(exclude)));
        }
        if self.conduct().between_points {
            lines.push("recorded only between points in the code".into());
        }
        if self.conduct().intrusive {
            lines.push("intrusive: a debugger stopped the core while this was recorded".into());
        }
        lines
    }

    /// One line per stream for people, and what else they should know.
    pub(crate) fn stream_lines(&self) -> Vec<String> {
        let line = |(number, stream): (usize, &StreamSpec)| {
            let name = self.stream_name(number);
            let settings = |source: &SourceSpec| {
                let settings = match &source.protocol {
                    Protocol::Itm(settings) => settings,
                    Protocol::Ctf(settings) => return trace_line(settings),
                    Protocol::Etmv3(settings) => {
                        return instruction_line(
                            source,
                            &[
                                ("etmv3", true),
                                ("cycles", settings.cycle_accurate()),
                                ("timestamps", settings.timestamps()),
                                ("every target", settings.branch_broadcast()),
                            ],
                        );
                    }
                    Protocol::Etmv4(settings) => {
                        return instruction_line(
                            source,
                            &[
                                ("etmv4", true),
                                ("cycle counts", settings.cycle_counts()),
                                ("return stack", settings.return_stack()),
                                ("every target", settings.branch_broadcast()),
                            ],
                        );
                    }
                    Protocol::Mtb => {
                        return "branches of a micro trace buffer, in order but without times"
                            .to_owned();
                    }
                    Protocol::Poll(PollSettings { intrusive, laps }) => {
                        let how =
                            if *intrusive { "by stopping the core" } else { "while the core ran" };
                        let names: Vec<&str> = laps.iter().map(|lap| lap.name.as_str()).collect();
                        let laps = match names.as_slice() {
                            [] => String::new(),
                            names => format!("; laps at {} (`weltblick span`)", names.join(", ")),
                        };
                        return format!("polled {how}, times from the host{laps}");
                    }
                };
                let id = source.trace_id.map_or_else(String::new, |id| format!("source {id}: "));
                let clock = match settings.timestamp_clock {
                    Some(clock) => format!("{clock}"),
                    None => "the core clock".to_owned(),
                };
                let prescaler = settings.timestamp_prescaler;
                let ticks = if prescaler == 1 { String::new() } else { format!(" / {prescaler}") };
                format!("{id}itm, timestamps from {clock}{ticks}")
            };
            let sources: Vec<String> = stream.sources.iter().map(settings).collect();
            let framing = if stream.framing == Framing::None { "" } else { "formatter frames, " };
            format!("{name}: {framing}{}", sources.join("; "))
        };
        let streams = self.manifest.streams.iter().enumerate().map(line);
        streams.chain(self.conduct_lines()).collect()
    }
}

/// Reads what comes next of an instruction trace, unless the sink has enough.
fn push_piece(
    line: &mut FlowLine<'_>,
    piece: Piece<'_>,
    sink: &mut impl flow::Sink,
) -> ControlFlow<()> {
    match piece {
        Piece::Bytes(bytes) => line.push(bytes, sink),
        Piece::Gap(why) => line.gap(why, sink),
    }
    if sink.has_enough() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
}

/// The instructions among these edges.
pub(crate) fn addresses(edges: &[Option<Edge>]) -> Vec<u64> {
    let address = |edge: &Option<Edge>| match edge {
        Some(Edge::Address(address)) => Some(*address),
        _ => None,
    };
    edges.iter().filter_map(address).collect()
}

/// What to call a task that a kernel knows by this word: mostly it points at a variable.
fn task_at(task: u32, variables: Option<&Variables>) -> String {
    let variable = variables.and_then(|variables| variables.name_at(u64::from(task)));
    variable.unwrap_or_else(|| match task {
        ..=0xffff => format!("task {task}"),
        _ => format!("task at {task:#010x}"),
    })
}

/// One line about an instruction trace for people: what it has.
fn instruction_line(source: &SourceSpec, has: &[(&str, bool)]) -> String {
    let id = source.trace_id.map_or_else(String::new, |id| format!("source {id}: "));
    let has: Vec<&str> = has.iter().filter(|(_, has)| *has).map(|(name, _)| *name).collect();
    format!("{id}instruction trace ({})", has.join(", "))
}

/// One line about an event trace for people.
fn trace_line(settings: &CtfSettings) -> String {
    let clock = match settings.clock {
        Some(clock) => format!("times from its own clock of {clock}"),
        None => "without a clock".to_owned(),
    };
    let meanings = match settings.meanings.len() {
        0 => "nothing says what its events mean".to_owned(),
        1 => "one meaning".to_owned(),
        count => format!("{count} meanings"),
    };
    format!("an event trace (ctf), {clock}; {meanings}")
}

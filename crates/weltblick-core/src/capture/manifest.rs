//! `capture.toml`: what the streams of a capture are, read strictly.

use crate::document::{At, Fault, Source, Table, nearest};
use crate::event::{CodeRanges, ItmClock};
use crate::isa::Isa;
use crate::time::{Frequency, parse_duration};
use crate::wire::tpiu::{Start, TraceId};
use std::fmt::Write as _;
use std::ops::Range;
use std::time::Duration;

/// The manifest's file name in a capture folder.
pub const MANIFEST: &str = "capture.toml";
/// The only version of the form.
const FORMAT: u64 = 1;
/// Lap points are numbered with one byte.
const MOST_LAPS: usize = 256;

/// What a capture consists of.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Manifest {
    /// The firmware's ELF file, relative to the folder, and where the manifest names it.
    pub image: Option<At<String>>,
    /// What was measured.
    pub target: Target,
    /// Which code was asked for; all of it, if nothing else is said.
    pub ranges: CodeRanges,
    /// A debugger stopped the core while this was recorded: its timing is not its own.
    pub intrusive: bool,
    /// The streams, in order.
    pub streams: Vec<StreamSpec>,
}

/// What was measured.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Target {
    /// What people call it.
    pub name: Option<String>,
    /// The instruction set; the image says it too.
    pub isa: Option<Isa>,
    /// The core clock.
    pub core_clock: Option<Frequency>,
    /// The known period of the SysTick interrupt, against which the clock is checked.
    pub tick_period: Option<Duration>,
}

/// One stream of bytes, from one or several files.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamSpec {
    /// Files relative to the folder, in order, and where the manifest names them.
    pub files: Vec<At<String>>,
    /// Instead of files: the name of numbered segments (`swo` for `swo.000000.bin` and so on).
    pub segments: Option<String>,
    /// What lies between the bytes and the protocol.
    pub framing: Framing,
    /// The sources in the stream: exactly one without framing.
    pub sources: Vec<SourceSpec>,
}

/// What lies between the bytes of a stream and its protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Framing {
    /// Nothing.
    None,
    /// The CoreSight formatter.
    Tpiu(Start),
}

/// One source: a protocol, and how it was set up.
#[derive(Debug, Clone, PartialEq)]
pub struct SourceSpec {
    /// Its trace ID in a framed stream.
    pub trace_id: Option<TraceId>,
    /// How to read it.
    pub protocol: Protocol,
}

/// A protocol and its settings.
#[derive(Debug, Clone, PartialEq)]
pub enum Protocol {
    /// ITM and DWT packets.
    Itm(ItmSettings),
    /// Packets of a micro trace buffer.
    Mtb,
    /// What a debug stub was asked.
    Poll(PollSettings),
}

/// How a target was polled.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PollSettings {
    /// The core was stopped for every answer: its timing is not its own.
    pub intrusive: bool,
    /// Points in the code at which the core was stopped to time its passing, by number.
    pub laps: Vec<LapPoint>,
}

/// A point in the code whose passing is timed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LapPoint {
    /// What the user called it.
    pub name: String,
    /// Where it is.
    pub address: u64,
}

impl Protocol {
    /// The settings of an ITM.
    #[must_use]
    pub const fn itm(&self) -> Option<&ItmSettings> {
        match self {
            Self::Itm(settings) => Some(settings),
            Self::Mtb | Self::Poll(_) => None,
        }
    }

    /// Whether it may carry samples of the program counter.
    #[must_use]
    pub const fn samples(&self) -> bool {
        matches!(self, Self::Itm(_) | Self::Poll(_))
    }
}

/// How an ITM was set up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ItmSettings {
    /// Core cycles between PC samples.
    pub pc_sample_period: Option<u64>,
    /// Cycles of the timestamp clock per tick.
    pub timestamp_prescaler: u32,
    /// The timestamp clock, where it is not the core clock.
    pub timestamp_clock: Option<Frequency>,
}

impl Default for ItmSettings {
    fn default() -> Self {
        Self { pc_sample_period: None, timestamp_prescaler: 1, timestamp_clock: None }
    }
}

impl ItmSettings {
    /// How its timestamps count.
    #[must_use]
    pub const fn clock(&self) -> ItmClock {
        ItmClock { prescaler: self.timestamp_prescaler }
    }
}

impl StreamSpec {
    /// A stream of plain ITM packets.
    #[must_use]
    pub fn itm(files: Vec<At<String>>, settings: ItmSettings) -> Self {
        let source = SourceSpec { trace_id: None, protocol: Protocol::Itm(settings) };
        Self { files, segments: None, framing: Framing::None, sources: vec![source] }
    }
}

impl Manifest {
    /// Reads a manifest that the user knows as `file`.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong, with its line.
    ///
    /// ```
    /// use weltblick_core::capture::Manifest;
    /// let text = "format = 1\n[[stream]]\nfile = 'swo.bin'\nprotcol = 'itm'\n";
    /// let fault = Manifest::parse("capture.toml", text).unwrap_err();
    /// assert_eq!(fault.line, 4);
    /// assert!(fault.message.ends_with("did you mean `protocol`?"));
    /// ```
    pub fn parse(file: &str, text: &str) -> Result<Self, Fault> {
        let source = Source::new(file, text);
        let parsed = source.parse()?;
        let root = Table::root(source, &parsed);
        root.require_format(FORMAT)?;
        let image = root.text("image")?.map(owned);
        let ranges = CodeRanges {
            inside: read_ranges(&root, "inside")?,
            exclude: read_ranges(&root, "exclude")?,
        };
        let intrusive = root.boolean("intrusive")?.unwrap_or(false);
        let target = root.table("target")?.map(read_target).transpose()?.unwrap_or_default();
        let streams =
            root.tables("stream")?.into_iter().map(read_stream).collect::<Result<Vec<_>, _>>()?;
        if streams.is_empty() {
            return Err(root.missing("[[stream]]"));
        }
        root.finish()?;
        Ok(Self { image, target, ranges, intrusive, streams })
    }

    /// The settings of the first ITM source: those that profiles follow.
    #[must_use]
    pub fn itm(&self) -> Option<&ItmSettings> {
        self.streams
            .iter()
            .flat_map(|stream| &stream.sources)
            .find_map(|source| source.protocol.itm())
    }

    /// How the target was polled, where it sent no trace of its own.
    #[must_use]
    pub fn polled(&self) -> Option<&PollSettings> {
        if self.itm().is_some() {
            return None;
        }
        let mut sources = self.streams.iter().flat_map(|stream| &stream.sources);
        sources.find_map(|source| match &source.protocol {
            Protocol::Poll(settings) => Some(settings),
            Protocol::Itm(_) | Protocol::Mtb => None,
        })
    }

    /// Whether a stream's events count: where a target sends its own samples, polled ones stand
    /// back.
    #[must_use]
    pub fn leads(&self, stream: &StreamSpec) -> bool {
        let is_poll = |source: &SourceSpec| matches!(source.protocol, Protocol::Poll(_));
        self.polled().is_some() || !stream.sources.iter().all(is_poll)
    }

    /// The lap points, and the number of the stream that tells of them.
    #[must_use]
    pub fn laps(&self) -> Option<(usize, &[LapPoint])> {
        self.streams.iter().enumerate().find_map(|(number, stream)| {
            stream.sources.iter().find_map(|source| match &source.protocol {
                Protocol::Poll(PollSettings { laps, .. }) if !laps.is_empty() => {
                    Some((number, laps.as_slice()))
                }
                _ => None,
            })
        })
    }

    /// How many of the sources that count may carry samples.
    #[must_use]
    pub fn samplers(&self) -> usize {
        let leading = self.streams.iter().filter(|stream| self.leads(stream));
        leading.flat_map(|stream| &stream.sources).filter(|s| s.protocol.samples()).count()
    }

    /// The settings of the first ITM source, to be corrected.
    pub fn itm_mut(&mut self) -> Option<&mut ItmSettings> {
        self.streams.iter_mut().flat_map(|stream| &mut stream.sources).find_map(|source| {
            match &mut source.protocol {
                Protocol::Itm(settings) => Some(settings),
                Protocol::Mtb | Protocol::Poll(_) => None,
            }
        })
    }

    /// Writes the manifest. Reading it again gives the same.
    #[must_use]
    pub fn to_toml(&self) -> String {
        let mut text = format!("format = {FORMAT}\n");
        if let Some(image) = &self.image {
            let _ = writeln!(text, "image = {}", quoted(&image.value));
        }
        write_ranges(&mut text, "inside", &self.ranges.inside);
        write_ranges(&mut text, "exclude", &self.ranges.exclude);
        if self.intrusive {
            let _ = writeln!(text, "intrusive = true");
        }
        write_target(&mut text, &self.target);
        for stream in &self.streams {
            write_stream(&mut text, stream);
        }
        text
    }
}

fn owned(at: At<&str>) -> At<String> {
    At { value: at.value.to_owned(), span: at.span }
}

/// Ranges of code, as `0xA..0xB`.
fn read_ranges(table: &Table<'_>, key: &'static str) -> Result<Vec<Range<u64>>, Fault> {
    let read = |text: At<&str>| {
        let address = |text: &str| u64::from_str_radix(text.trim().strip_prefix("0x")?, 16).ok();
        let sides = text.value.split_once("..");
        let range = sides.and_then(|(start, end)| Some(address(start)?..address(end)?));
        range.filter(|range| range.start < range.end).ok_or_else(|| {
            let message = format!(
                "`{}` is no range of addresses, such as 0x08000100..0x08000200",
                text.value
            );
            table.fault(text.span, message)
        })
    };
    table.texts(key)?.into_iter().map(read).collect()
}

fn read_target(table: Table<'_>) -> Result<Target, Fault> {
    let isa = table.text("isa")?.map(|isa| read_isa(&table, &isa)).transpose()?;
    let core_clock = read_frequency(&table, "core_clock")?;
    let tick_period = table
        .text("tick_period")?
        .map(|text| {
            parse_duration(text.value)
                .map_err(|error| table.fault(text.span, format!("`tick_period`: {error}")))
        })
        .transpose()?;
    let name = table.text("name")?.map(|name| name.value.to_owned());
    table.finish()?;
    Ok(Target { name, isa, core_clock, tick_period })
}

fn read_isa(table: &Table<'_>, isa: &At<&str>) -> Result<Isa, Fault> {
    const KNOWN: [Isa; 3] = [Isa::Thumb, Isa::Riscv32, Isa::Riscv64];
    KNOWN.into_iter().find(|known| known.name() == isa.value).ok_or_else(|| {
        let hint = nearest(isa.value, KNOWN.iter().map(|isa| isa.name()));
        table.fault(isa.span.clone(), format!("`{}` is no instruction set{hint}", isa.value))
    })
}

fn read_frequency(table: &Table<'_>, key: &'static str) -> Result<Option<Frequency>, Fault> {
    let read = |text: At<&str>| {
        text.value.parse().map_err(|error| table.fault(text.span, format!("`{key}`: {error}")))
    };
    table.text(key)?.map(read).transpose()
}

fn read_stream(table: Table<'_>) -> Result<StreamSpec, Fault> {
    let files: Vec<_> = table.texts("file")?.into_iter().map(owned).collect();
    let segments = table.text("segments")?;
    match (&segments, files.is_empty()) {
        (None, true) => return Err(table.missing("file")),
        (Some(name), false) => {
            let message = "`file` and `segments` exclude each other";
            return Err(table.fault(name.span.clone(), message));
        }
        (Some(name), true) if name.value.is_empty() || name.value.contains(['/', '\\', '\0']) => {
            let message = "`segments` is a name inside the folder, without slashes";
            return Err(table.fault(name.span.clone(), message));
        }
        _ => {}
    }
    let segments = segments.map(|name| name.value.to_owned());
    let framing = table.text("framing")?;
    let at_frame = table.boolean("starts_at_frame")?.unwrap_or(false);
    let framing = match framing {
        None => Framing::None,
        Some(At { value: "none", .. }) => Framing::None,
        Some(At { value: "tpiu", .. }) if at_frame => Framing::Tpiu(Start::AtFrame),
        Some(At { value: "tpiu", .. }) => Framing::Tpiu(Start::Anywhere),
        Some(other) => {
            let hint = nearest(other.value, ["none", "tpiu"].into_iter());
            let message = format!("`{}` is no framing{hint}", other.value);
            return Err(table.fault(other.span, message));
        }
    };
    let sources = match framing {
        Framing::None => vec![read_source(&table, None)?],
        Framing::Tpiu(_) => read_framed_sources(&table)?,
    };
    table.finish()?;
    Ok(StreamSpec { files, segments, framing, sources })
}

fn read_framed_sources(table: &Table<'_>) -> Result<Vec<SourceSpec>, Fault> {
    let mut sources: Vec<SourceSpec> = Vec::new();
    for source in table.tables("source")? {
        let id = source.integer("trace_id")?.ok_or_else(|| source.missing("trace_id"))?;
        if !(1..=0x6f).contains(&id.value) {
            return Err(source.fault(id.span, "`trace_id` must lie between 1 and 111"));
        }
        let trace_id = Some(id.value as TraceId);
        if sources.iter().any(|other| other.trace_id == trace_id) {
            let message = format!("trace ID {} is there already", id.value);
            return Err(source.fault(id.span, message));
        }
        sources.push(read_source(&source, trace_id)?);
        source.finish()?;
    }
    if sources.is_empty() {
        return Err(table.missing("[[stream.source]]"));
    }
    Ok(sources)
}

fn read_source(table: &Table<'_>, trace_id: Option<TraceId>) -> Result<SourceSpec, Fault> {
    let protocol = table.required_text("protocol")?;
    let settings = table.table("settings")?;
    let protocol = match protocol.value {
        "itm" => Protocol::Itm(settings.map(read_itm).transpose()?.unwrap_or_default()),
        // A micro trace buffer writes into memory: no formatter is in between.
        "mtb" if trace_id.is_none() => {
            settings.map(Table::finish).transpose()?;
            Protocol::Mtb
        }
        "poll" if trace_id.is_none() => {
            Protocol::Poll(settings.map(read_poll).transpose()?.unwrap_or_default())
        }
        other => {
            let message = format!(
                "`{other}` is no protocol that this version reads here; write `itm`, `mtb` or `poll`"
            );
            return Err(table.fault(protocol.span, message));
        }
    };
    Ok(SourceSpec { trace_id, protocol })
}

fn read_poll(table: Table<'_>) -> Result<PollSettings, Fault> {
    let intrusive = table.boolean("intrusive")?.unwrap_or(false);
    let mut laps = Vec::new();
    for lap in table.tables("lap")? {
        let name = lap.required_text("name")?.value.to_owned();
        let address = lap.integer("address")?.ok_or_else(|| lap.missing("address"))?.value;
        lap.finish()?;
        if laps.len() == MOST_LAPS {
            return Err(table.fault(table.span(), "there are more than 256 lap points"));
        }
        laps.push(LapPoint { name, address });
    }
    table.finish()?;
    Ok(PollSettings { intrusive, laps })
}

fn read_itm(table: Table<'_>) -> Result<ItmSettings, Fault> {
    let pc_sample_period = table.integer("pc_sample_period")?;
    if let Some(At { value: 0, span }) = pc_sample_period {
        return Err(table.fault(span, "`pc_sample_period` must be more than zero"));
    }
    let prescaler = table.integer("timestamp_prescaler")?;
    let timestamp_prescaler = match prescaler {
        None => 1,
        Some(At { value: value @ (1 | 4 | 16 | 64), .. }) => value as u32,
        Some(other) => {
            let message = "`timestamp_prescaler` must be 1, 4, 16 or 64, as ITM_TCR offers";
            return Err(table.fault(other.span, message));
        }
    };
    let timestamp_clock = match table.integer("timestamp_clock_hz")? {
        None => None,
        Some(hertz) => Some(Frequency::from_hertz(hertz.value as f64).ok_or_else(|| {
            table.fault(hertz.span, "`timestamp_clock_hz` must be more than zero")
        })?),
    };
    table.finish()?;
    let pc_sample_period = pc_sample_period.map(|period| period.value);
    Ok(ItmSettings { pc_sample_period, timestamp_prescaler, timestamp_clock })
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn write_ranges(text: &mut String, key: &str, ranges: &[Range<u64>]) {
    if ranges.is_empty() {
        return;
    }
    let ranges =
        ranges.iter().map(|range| format!("\"{:#010x}..{:#010x}\"", range.start, range.end));
    let _ = writeln!(text, "{key} = [{}]", ranges.collect::<Vec<_>>().join(", "));
}

fn write_target(text: &mut String, target: &Target) {
    let Target { name, isa, core_clock, tick_period } = target;
    let mut lines = String::new();
    if let Some(name) = name {
        let _ = writeln!(lines, "name = {}", quoted(name));
    }
    if let Some(isa) = isa {
        let _ = writeln!(lines, "isa = \"{}\"", isa.name());
    }
    if let Some(clock) = core_clock {
        let _ = writeln!(lines, "core_clock = \"{} Hz\"", clock.hertz());
    }
    if let Some(period) = tick_period {
        let _ = writeln!(lines, "tick_period = \"{} ns\"", period.as_nanos());
    }
    if !lines.is_empty() {
        let _ = write!(text, "\n[target]\n{lines}");
    }
}

fn write_stream(text: &mut String, stream: &StreamSpec) {
    let _ = writeln!(text, "\n[[stream]]");
    let files: Vec<String> = stream.files.iter().map(|file| quoted(&file.value)).collect();
    let _ = match files.as_slice() {
        [] => {
            writeln!(text, "segments = {}", quoted(stream.segments.as_deref().unwrap_or("trace")))
        }
        [only] => writeln!(text, "file = {only}"),
        several => writeln!(text, "file = [{}]", several.join(", ")),
    };
    match stream.framing {
        Framing::None => {}
        Framing::Tpiu(start) => {
            let _ = writeln!(text, "framing = \"tpiu\"");
            if start == Start::AtFrame {
                let _ = writeln!(text, "starts_at_frame = true");
            }
        }
    }
    for source in &stream.sources {
        let settings = match &source.protocol {
            Protocol::Itm(settings) => settings,
            Protocol::Mtb => {
                let _ = writeln!(text, "protocol = \"mtb\"");
                continue;
            }
            Protocol::Poll(settings) => {
                let _ = writeln!(text, "protocol = \"poll\"\n\n[stream.settings]");
                let _ = writeln!(text, "intrusive = {}", settings.intrusive);
                for LapPoint { name, address } in &settings.laps {
                    let name = quoted(name);
                    let _ = writeln!(text, "\n[[stream.settings.lap]]\nname = {name}");
                    let _ = writeln!(text, "address = {address:#010x}");
                }
                continue;
            }
        };
        let table = match source.trace_id {
            Some(id) => {
                let _ = writeln!(text, "\n[[stream.source]]\ntrace_id = {id}");
                "stream.source.settings"
            }
            None => "stream.settings",
        };
        let _ = writeln!(text, "protocol = \"itm\"\n\n[{table}]");
        if let Some(period) = settings.pc_sample_period {
            let _ = writeln!(text, "pc_sample_period = {period}");
        }
        let _ = writeln!(text, "timestamp_prescaler = {}", settings.timestamp_prescaler);
        if let Some(clock) = settings.timestamp_clock {
            let _ = writeln!(text, "timestamp_clock_hz = {:.0}", clock.hertz());
        }
    }
}

//! A manifest from its text.

use super::interrupt::read_interrupts;
use super::meaning::read_ctf;
use super::{
    CtfSettings, FORMAT, Framing, ItmSettings, LapPoint, Manifest, PollSettings, Protocol,
    SourceSpec, StreamSpec, Target, read_signals,
};
use crate::document::{At, Fault, Source, Table, nearest};
use crate::event::CodeRanges;
use crate::isa::Isa;
use crate::time::{Frequency, parse_duration};
use crate::wire::tpiu::{Start, TraceId};
use crate::wire::{etmv3, etmv4, mtb};
use std::ops::Range;

/// The last stimulus port: 256 pages of 32.
const MOST_PORTS: u64 = 8191;
/// Lap points are numbered with one byte.
const MOST_LAPS: usize = 256;

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
        let between_points = root.boolean("between_points")?.unwrap_or(false);
        let target = root.table("target")?.map(read_target).transpose()?.unwrap_or_default();
        let streams =
            root.tables("stream")?.into_iter().map(read_stream).collect::<Result<Vec<_>, _>>()?;
        if streams.is_empty() {
            return Err(root.missing("[[stream]]"));
        }
        let signals = read_signals(&root)?;
        let interrupts = read_interrupts(&root)?;
        root.finish()?;
        Ok(Self { image, target, ranges, intrusive, between_points, streams, signals, interrupts })
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
    let global_clock = read_frequency(&table, "global_clock")?;
    let tick_period = table
        .text("tick_period")?
        .map(|text| {
            parse_duration(text.value)
                .map_err(|error| table.fault(text.span, format!("`tick_period`: {error}")))
        })
        .transpose()?;
    let name = table.text("name")?.map(|name| name.value.to_owned());
    table.finish()?;
    Ok(Target { name, isa, core_clock, global_clock, tick_period })
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
    if let Some(folder) = table.text("folder")? {
        return read_event_trace(table, folder);
    }
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
    let capacity = table.integer("capacity")?;
    if let Some(zero) = capacity.as_ref().filter(|capacity| capacity.value == 0) {
        return Err(table.fault(zero.span.clone(), "`capacity` must be more than zero"));
    }
    let capacity = capacity.map(|capacity| capacity.value);
    let sources = match framing {
        Framing::None => vec![read_source(&table, None)?],
        Framing::Tpiu(_) => read_framed_sources(&table)?,
    };
    table.finish()?;
    Ok(StreamSpec { files, segments, framing, capacity, sources })
}

/// A stream that is a folder.
fn read_event_trace(table: Table<'_>, folder: At<&str>) -> Result<StreamSpec, Fault> {
    let protocol = table.required_text("protocol")?;
    if protocol.value != "ctf" {
        let message = format!("`{}` is read from files; a `folder` is of `ctf`", protocol.value);
        return Err(table.fault(protocol.span, message));
    }
    let settings = table.table("settings")?;
    let settings = CtfSettings { folder: Some(owned(folder)), ..read_ctf(&table, settings)? };
    table.finish()?;
    Ok(StreamSpec::events(settings))
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
            read_registers(Protocol::Mtb(mtb::Settings::default()), settings)?
        }
        "etmv3" => read_registers(Protocol::Etmv3(etmv3::Settings::default()), settings)?,
        "etmv4" => read_registers(Protocol::Etmv4(etmv4::Settings::default()), settings)?,
        "poll" if trace_id.is_none() => {
            Protocol::Poll(settings.map(read_poll).transpose()?.unwrap_or_default())
        }
        "ctf" => {
            let message = "an event trace is a folder: name it with `folder` instead of `file`";
            return Err(table.fault(protocol.span, message));
        }
        other => {
            let message = format!(
                "`{other}` is no protocol that this version reads here; write `itm`, `etmv3`, `etmv4`, `mtb`, `poll` or `ctf`"
            );
            return Err(table.fault(protocol.span, message));
        }
    };
    Ok(SourceSpec { trace_id, protocol })
}

/// Registers under their standard names: of a trace unit what differs from that of an M-profile core.
fn read_registers(mut protocol: Protocol, table: Option<Table<'_>>) -> Result<Protocol, Fault> {
    let Some(table) = table else { return Ok(protocol) };
    for (name, register) in protocol.registers_mut() {
        let Some(At { value, span }) = table.integer(name)? else { continue };
        *register = u32::try_from(value)
            .map_err(|_| table.fault(span, format!("`{name}` is a register of 32 bits")))?;
    }
    table.finish()?;
    Ok(protocol)
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

/// The stimulus port of firmware marks.
pub(crate) fn read_marks_port(table: &Table<'_>) -> Result<Option<u32>, Fault> {
    match table.integer("marks_port")? {
        None => Ok(None),
        Some(At { value: port @ 0..MOST_PORTS, .. }) => Ok(Some(port as u32)),
        Some(other) => {
            let message = "`marks_port` must lie below 8191: marks take it and the next";
            Err(table.fault(other.span, message))
        }
    }
}

/// Core cycles between samples of the program counter.
pub(super) fn read_sample_period(table: &Table<'_>) -> Result<Option<u64>, Fault> {
    match table.integer("pc_sample_period")? {
        Some(At { value: 0, span }) => {
            Err(table.fault(span, "`pc_sample_period` must be more than zero"))
        }
        period => Ok(period.map(|period| period.value)),
    }
}

fn read_itm(table: Table<'_>) -> Result<ItmSettings, Fault> {
    let pc_sample_period = read_sample_period(&table)?;
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
    let marks_port = read_marks_port(&table)?;
    let timestamp_dates_group = table.boolean("timestamp_dates_group")?.unwrap_or(false);
    table.finish()?;
    Ok(ItmSettings {
        pc_sample_period,
        timestamp_prescaler,
        timestamp_clock,
        marks_port,
        timestamp_dates_group,
    })
}

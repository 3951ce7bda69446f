//! The part of a plan that `capture` applies: register writes, and what to say in the manifest.

use super::core::{Architecture, Core, InstructionTrace};
use super::description::Description;
use super::narrow::TraceUnit;
use super::registers::{ETM_TRACE_ID, ITM_TRACE_ID, Register};
use super::rows::PlanReport;
use crate::capture::{Framing, ItmSettings, Protocol, SignalSpec, SourceSpec, StreamSpec, Target};
use crate::capture::{read_marks_port, read_signals, write_signals};
use crate::document::{At, Fault, Source, Table};
use crate::isa::Isa;
use crate::time::parse_duration;
use crate::wire::tpiu::Start;
use crate::wire::{etmv3, etmv4};
use std::fmt::Write as _;
use std::time::Duration;

/// The only version of the form.
const FORMAT: u64 = 1;
/// A plan with more writes than this is no plan.
const MOST_WRITES: usize = 10_000;
/// The ITM's trace control register; its bit 0 switches it on.
const ITM_TCR: u32 = 0xe000_0e80;

/// The DWT's control register; its bits 11:10 pace synchronisations.
const DWT_CTRL: u32 = 0xe000_1000;

/// What `capture` needs of a plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Applied {
    /// The core that it is for.
    pub core: Option<Core>,
    /// The firmware that it is for: a path, seen from the plan's folder.
    pub image: Option<String>,
    /// What the manifest says of the target.
    pub target: Target,
    /// Bytes per second that the link carries.
    pub capacity: Option<f64>,
    /// Bits per second on a serial wire.
    pub bit_rate: Option<f64>,
    /// How long a buffer on the chip lasts until it overwrites the oldest trace.
    pub lasts: Option<Duration>,
    /// The stream is framed by the formatter.
    pub framed: bool,
    /// How the ITM is set up.
    pub itm: ItmSettings,
    /// The unit that traces instructions, where it is on.
    pub unit: Option<TraceUnit>,
    /// What to write, in order.
    pub writes: Vec<Write>,
    /// What comparators watch.
    pub signals: Vec<SignalSpec>,
}

/// One register write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Write {
    /// The register's name.
    pub name: String,
    /// Where it is.
    pub address: u32,
    /// What goes there.
    pub value: u32,
    /// Bits that are written; the others keep what they are.
    pub mask: u32,
}

impl From<&Register> for Write {
    fn from(register: &Register) -> Self {
        let &Register { address, value, mask, .. } = register;
        Self { name: register.name.clone(), address: address as u32, value, mask }
    }
}

/// What values are called, their scales and units: of the variables that are watched, and of what the firmware states.
fn signals(description: &Description) -> Vec<SignalSpec> {
    let mut signals = description.signals.clone();
    for (comparator, watched) in (0..).zip(&description.observe.variables) {
        let is_it =
            |spec: &&mut SignalSpec| spec.variable.as_ref().unwrap_or(&spec.name) == &watched.name;
        match signals.iter_mut().find(is_it) {
            Some(spec) => {
                (spec.comparator, spec.runs_task) = (Some(comparator), watched.runs_task);
            }
            None => signals.push(SignalSpec {
                runs_task: watched.runs_task,
                ..SignalSpec::watched(comparator, &watched.name)
            }),
        }
    }
    signals
}

impl Applied {
    /// What of a plan is applied.
    #[must_use]
    pub fn new(description: &Description, plan: &PlanReport) -> Self {
        let link = plan.link.as_ref();
        Self {
            core: description.core,
            image: None,
            target: Target {
                name: description.name.clone(),
                isa: Some(Isa::Thumb),
                core_clock: description.core_clock,
                global_clock: description.global_clock,
                tick_period: description.tick_period,
            },
            capacity: link.and_then(|link| link.capacity),
            lasts: plan.buffer.as_ref().map(|buffer| Duration::from_nanos(buffer.lasts.ns as u64)),
            bit_rate: link.filter(|link| link.kind != "port").and_then(|link| link.bits_per_second),
            framed: link.is_some_and(|link| link.formatter),
            itm: ItmSettings {
                marks_port: description.observe.marks_port,
                pc_sample_period: description.observe.pc_sample_period,
                timestamp_prescaler: description.observe.timestamp_prescaler.unwrap_or(1),
                timestamp_clock: None,
                timestamp_dates_group: description.observe.timestamp_dates_group,
            },
            unit: plan.unit,
            writes: plan.registers.iter().map(Write::from).collect(),
            signals: signals(description),
        }
    }

    /// Reads a plan that the user knows as `file`.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong, with its line.
    pub fn parse(file: &str, text: &str) -> Result<Self, Fault> {
        let source = Source::new(file, text);
        let parsed = source.parse()?;
        let root = Table::root(source, &parsed);
        root.require_format(FORMAT)?;
        let mut applied = Self::default();
        if let Some(target) = root.table("target")? {
            read_target(target, &mut applied)?;
        }
        if let Some(link) = root.table("link")? {
            let number = |value: Option<At<u64>>| value.map(|value| value.value as f64);
            applied.capacity = number(link.integer("capacity")?);
            applied.bit_rate = number(link.integer("bit_rate")?);
            applied.lasts =
                match link.text("lasts")? {
                    None => None,
                    Some(text) => Some(parse_duration(text.value).map_err(|error| {
                        link.fault(text.span.clone(), format!("`lasts`: {error}"))
                    })?),
                };
            link.finish()?;
        }
        if let Some(stream) = root.table("stream")? {
            read_stream(stream, &mut applied)?;
        }
        applied.unit = root.table("trace_unit")?.map(read_unit).transpose()?;
        applied.signals = read_signals(&root)?;
        for write in root.tables("register")? {
            if applied.writes.len() == MOST_WRITES {
                return Err(write.fault(write.span(), "there are more than 10 000 writes"));
            }
            applied.writes.push(read_write(write)?);
        }
        root.finish()?;
        Ok(applied)
    }

    /// Writes the plan. Reading it again gives the same.
    #[must_use]
    pub fn to_toml(&self) -> String {
        let mut text = format!("format = {FORMAT}\n\n[target]\n");
        let Target { name, isa: _, core_clock, global_clock, tick_period } = &self.target;
        if let Some(name) = name {
            let _ = writeln!(text, "name = {}", toml::Value::String(name.clone()));
        }
        if let Some(core) = self.core {
            let _ = writeln!(text, "core = \"{core}\"");
        }
        if let Some(image) = &self.image {
            let _ = writeln!(text, "image = {}", toml::Value::String(image.clone()));
        }
        if let Some(clock) = core_clock {
            let _ = writeln!(text, "core_clock = \"{} Hz\"", clock.hertz());
        }
        if let Some(clock) = global_clock {
            let _ = writeln!(text, "global_clock = \"{} Hz\"", clock.hertz());
        }
        if let Some(period) = tick_period {
            let _ = writeln!(text, "tick_period = \"{} ns\"", period.as_nanos());
        }
        if self.capacity.is_some() || self.bit_rate.is_some() || self.lasts.is_some() {
            let _ = writeln!(text, "\n[link]");
        }
        if let Some(rate) = self.bit_rate {
            let _ = writeln!(text, "bit_rate = {rate:.0}     # per second");
        }
        if let Some(lasts) = self.lasts {
            let _ = writeln!(text, "lasts = \"{} ns\"", lasts.as_nanos());
        }
        if let Some(capacity) = self.capacity {
            let _ = writeln!(text, "capacity = {capacity:.0}      # bytes of trace per second");
        }
        if self.unit.is_none_or(|unit| unit.kind != InstructionTrace::Mtb) {
            let framing = if self.framed { "tpiu" } else { "none" };
            let _ = writeln!(text, "\n[stream]\nprotocol = \"itm\"\nframing = \"{framing}\"");
            if let Some(period) = self.itm.pc_sample_period {
                let _ = writeln!(text, "pc_sample_period = {period}");
            }
            let _ = writeln!(text, "timestamp_prescaler = {}", self.itm.timestamp_prescaler);
            if let Some(port) = self.itm.marks_port {
                let _ = writeln!(text, "marks_port = {port}");
            }
            if self.itm.timestamp_dates_group {
                let _ = writeln!(text, "timestamp_dates_group = true");
            }
        }
        if let Some(TraceUnit { kind, architecture, base, comparators, used }) = &self.unit {
            let _ = writeln!(text, "\n[trace_unit]               # what `capture` may narrow");
            let _ = writeln!(text, "kind = \"{}\"\nbase = {base:#010x}", kind.name());
            let _ = writeln!(text, "comparators = \"{}\"", architecture.name());
            let _ = writeln!(text, "comparator_count = {comparators}\ncomparators_used = {used}");
        }
        write_signals(&mut text, &self.signals);
        let _ =
            writeln!(text, "\n# Written in this order; bits outside the mask keep their value.");
        for write in &self.writes {
            let Write { name, address, value, mask } = write;
            let _ = writeln!(text, "\n[[register]]");
            let _ = writeln!(text, "name = {}", toml::Value::String(name.clone()));
            let _ = writeln!(text, "address = {address:#010x}\nvalue = {value:#010x}");
            if *mask != u32::MAX {
                let _ = writeln!(text, "mask = {mask:#010x}");
            }
        }
        text
    }

    /// The stream that such a set-up sends, kept in segments that are called `name`: what the registers
    /// switch on.
    #[must_use]
    pub fn stream(&self, name: &str) -> StreamSpec {
        let framing = if self.framed { Framing::Tpiu(Start::Anywhere) } else { Framing::None };
        let instructions = self.instructions();
        let silent = self.written(ITM_TCR).is_none_or(|control| control & 1 == 0);
        let mut sources = Vec::new();
        if instructions.is_none() || !silent {
            let trace_id = self.framed.then_some(ITM_TRACE_ID);
            sources.push(SourceSpec { trace_id, protocol: Protocol::Itm(self.itm) });
        }
        // Without framing there is one source.
        sources.extend(instructions.filter(|_| self.framed || sources.is_empty()));
        let capacity =
            self.capacity.map(|capacity| capacity as u64).filter(|capacity| *capacity > 0);
        let segments = Some(name.to_owned());
        StreamSpec { files: Vec::new(), segments, framing, capacity, sources }
    }

    /// The time between synchronisations that the DWT's cycle counter paces, where it does: those of the ITM, and of
    /// frames of Armv7-M.
    #[must_use]
    pub fn synchronises_every(&self) -> Option<Duration> {
        let tap = self.written(DWT_CTRL)? >> 10 & 0b11;
        let cycles = (tap > 0).then(|| 1_u64 << (22 + 2 * tap))?;
        Some(Duration::from_nanos(self.target.core_clock?.nanoseconds(cycles) as u64))
    }

    /// The instruction trace of a macrocell, as its registers are written. Its identification registers
    /// are not in a plan: they are taken to be those of an M-profile core.
    fn instructions(&self) -> Option<SourceSpec> {
        let TraceUnit { kind, base, .. } = self.unit?;
        let register = |offset: u64| self.written(u32::try_from(base + offset).ok()?);
        let (protocol, id) = match kind {
            InstructionTrace::Etm4 => {
                let trcconfigr = register(0x010)?;
                let settings = etmv4::Settings { trcconfigr, ..etmv4::Settings::default() };
                (Protocol::Etmv4(settings), register(0x040))
            }
            InstructionTrace::Etm3 => {
                let settings =
                    etmv3::Settings { etmcr: register(0)?, ..etmv3::Settings::default() };
                (Protocol::Etmv3(settings), register(0x200))
            }
            InstructionTrace::Mtb => return None,
        };
        let id = id.map_or(ETM_TRACE_ID, |id| (id & 0x7f) as u8);
        Some(SourceSpec { trace_id: self.framed.then_some(id), protocol })
    }

    /// What is written to a register last.
    fn written(&self, address: u32) -> Option<u32> {
        let last = self.writes.iter().rev().find(|write| write.address == address)?;
        Some(last.value)
    }
}

fn read_target(table: Table<'_>, applied: &mut Applied) -> Result<(), Fault> {
    let fault = |text: &At<&str>, key: &str, error: crate::time::QuantityError| {
        table.fault(text.span.clone(), format!("`{key}`: {error}"))
    };
    let name = table.text("name")?.map(|name| name.value.to_owned());
    if let Some(core) = table.text("core")? {
        let known = core.value.parse::<Core>();
        applied.core = Some(known.map_err(|error| table.fault(core.span, error.to_string()))?);
    }
    applied.image = table.text("image")?.map(|image| image.value.to_owned());
    let frequency = |key: &'static str| match table.text(key)? {
        None => Ok(None),
        Some(text) => text.value.parse().map(Some).map_err(|e| fault(&text, key, e)),
    };
    let (core_clock, global_clock) = (frequency("core_clock")?, frequency("global_clock")?);
    let tick_period = match table.text("tick_period")? {
        None => None,
        Some(text) => Some(parse_duration(text.value).map_err(|e| fault(&text, "tick_period", e))?),
    };
    table.finish()?;
    applied.target = Target { name, isa: Some(Isa::Thumb), core_clock, global_clock, tick_period };
    Ok(())
}

fn read_stream(table: Table<'_>, applied: &mut Applied) -> Result<(), Fault> {
    let protocol = table.required_text("protocol")?;
    if protocol.value != "itm" {
        return Err(table.fault(protocol.span, "a plan's protocol is `itm`"));
    }
    applied.framed = match table.text("framing")? {
        None | Some(At { value: "none", .. }) => false,
        Some(At { value: "tpiu", .. }) => true,
        Some(other) => return Err(table.fault(other.span, "`framing` is `none` or `tpiu`")),
    };
    if let Some(period) = table.integer("pc_sample_period")? {
        if period.value == 0 {
            return Err(table.fault(period.span, "`pc_sample_period` must be more than zero"));
        }
        applied.itm.pc_sample_period = Some(period.value);
    }
    applied.itm.marks_port = read_marks_port(&table)?;
    applied.itm.timestamp_dates_group = table.boolean("timestamp_dates_group")?.unwrap_or(false);
    match table.integer("timestamp_prescaler")? {
        None => {}
        Some(At { value: value @ (1 | 4 | 16 | 64), .. }) => {
            applied.itm.timestamp_prescaler = value as u32;
        }
        Some(other) => {
            let message = "`timestamp_prescaler` must be 1, 4, 16 or 64, as ITM_TCR offers";
            return Err(table.fault(other.span, message));
        }
    }
    table.finish()
}

fn read_unit(table: Table<'_>) -> Result<TraceUnit, Fault> {
    let kind = table.required_text("kind")?;
    let kinds = [InstructionTrace::Etm3, InstructionTrace::Etm4, InstructionTrace::Mtb];
    let kind = kinds
        .into_iter()
        .find(|known| known.name() == kind.value)
        .ok_or_else(|| table.fault(kind.span.clone(), "`kind` is `etmv3`, `etmv4` or `mtb`"))?;
    let edition = table.required_text("comparators")?;
    let architecture = Architecture::ALL
        .into_iter()
        .find(|known| known.name() == edition.value)
        .ok_or_else(|| {
            let names: Vec<_> = Architecture::ALL.iter().map(|known| known.name()).collect();
            table.fault(
                edition.span.clone(),
                format!("`comparators` is one of {}", names.join(", ")),
            )
        })?;
    let small = |key: &'static str| -> Result<u8, Fault> {
        let value = table.integer(key)?.ok_or_else(|| table.missing(key))?;
        u8::try_from(value.value)
            .map_err(|_| table.fault(value.span, format!("`{key}` is a small number")))
    };
    let base = table.integer("base")?.ok_or_else(|| table.missing("base"))?;
    if base.value > 0xffff_f000 || base.value % 0x1000 != 0 {
        let message = "`base` is a multiple of 0x1000 below 2^32";
        return Err(table.fault(base.span, message));
    }
    let unit = TraceUnit {
        kind,
        architecture,
        base: base.value,
        comparators: small("comparator_count")?,
        used: small("comparators_used")?,
    };
    table.finish()?;
    Ok(unit)
}

fn read_write(table: Table<'_>) -> Result<Write, Fault> {
    let word = |key: &'static str| -> Result<Option<u32>, Fault> {
        let Some(value) = table.integer(key)? else { return Ok(None) };
        u32::try_from(value.value)
            .map(Some)
            .map_err(|_| table.fault(value.span, format!("`{key}` must fit 32 bits")))
    };
    let name = table.text("name")?.map_or_else(String::new, |name| name.value.to_owned());
    let address = word("address")?.ok_or_else(|| table.missing("address"))?;
    if address % 4 != 0 {
        return Err(table.fault(table.span(), "`address` must be a multiple of 4"));
    }
    let value = word("value")?.ok_or_else(|| table.missing("value"))?;
    let mask = word("mask")?.unwrap_or(u32::MAX);
    table.finish()?;
    Ok(Write { name, address, value, mask })
}

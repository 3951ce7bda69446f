//! A target description: which core, which link, what to observe.

use super::core::{CORES, Core, InstructionTrace};
use super::link::Link;
use super::registers::Register;
use crate::capture::{SignalSpec, read_marks_port, read_meaning, read_signals};
use crate::document::{At, Fault, Source, Table, nearest};
use crate::time::{
    Frequency, QuantityError, parse_bit_rate, parse_byte_rate, parse_bytes, parse_duration,
    parse_share,
};
use std::time::Duration;

/// The only version of the form.
const FORMAT: u64 = 1;
/// Registers of the chip at most.
const MOST_REGISTERS: usize = 256;

/// What a measurement is planned for. Absent parts must come from options.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Description {
    /// What values are called, their scales and units.
    pub signals: Vec<SignalSpec>,
    /// What people call the target.
    pub name: Option<String>,
    /// The core.
    pub core: Option<Core>,
    /// The core clock.
    pub core_clock: Option<Frequency>,
    /// What global timestamps count, which the manifest passes on.
    pub global_clock: Option<Frequency>,
    /// The known period of SysTick, which the manifest passes on.
    pub tick_period: Option<Duration>,
    /// The firmware's ELF file, relative to the description.
    pub image: Option<String>,
    /// The link.
    pub link: Option<Link>,
    /// The clock that the trace port divides; absent: the core clock.
    pub trace_clock: Option<Frequency>,
    /// Whether the formatter is on, where the link leaves the choice.
    pub formatter: bool,
    /// Bytes that the trace unit holds while the link is busy.
    pub fifo: Option<u64>,
    /// What to observe.
    pub observe: Observe,
    /// A memory ring of firmware marks.
    pub ring: Option<Ring>,
    /// Base address of the ETB or TMC registers: the vendor chooses it.
    pub buffer_base: Option<u64>,
    /// Base address of a micro trace buffer's registers: the vendor chooses it.
    pub mtb_base: Option<u64>,
    /// The array that the program reserves for it: a symbol, or an address.
    pub mtb_buffer: Option<String>,
    /// Where its RAM starts, which `MTB_BASE` reads; absent: 0x20000000.
    pub mtb_ram: Option<u64>,
    /// What this chip needs beyond the core (a pin, a clock gate), in order: before the core's own registers.
    pub before: Vec<Register>,
    /// And after them.
    pub after: Vec<Register>,
}

/// What to observe.
#[derive(Debug, Clone, PartialEq)]
pub struct Observe {
    /// Core cycles between PC samples; absent: none.
    pub pc_sample_period: Option<u64>,
    /// The share of time that the core sleeps: such samples are shorter. 0 if unknown.
    pub asleep: f64,
    /// Cycles per tick of local timestamps: 1, 4, 16 or 64; absent: no timestamps.
    pub timestamp_prescaler: Option<u32>,
    /// The trace unit sends a synchronous timestamp only where all packets before it are of its tick.
    pub timestamp_dates_group: bool,
    /// Global timestamps.
    pub global_timestamps: bool,
    /// A synchronisation every two to the power of so many cycles: 24, 26 or 28.
    pub synchronise: u32,
    /// Stimulus ports, one bit each.
    pub ports: u32,
    /// The stimulus port of firmware marks: it and the next are on.
    pub marks_port: Option<u32>,
    /// Bytes of text and marks per second.
    pub text: f64,
    /// Interrupts; with any, exceptions are traced.
    pub interrupts: Vec<Interrupt>,
    /// Watched variables.
    pub variables: Vec<Watched>,
    /// Event counters of the DWT.
    pub counters: Vec<EventCounter>,
    /// Instruction trace.
    pub instructions: Option<Instructions>,
}

impl Default for Observe {
    fn default() -> Self {
        Self {
            pc_sample_period: None,
            asleep: 0.0,
            timestamp_prescaler: Some(1),
            timestamp_dates_group: false,
            global_timestamps: false,
            synchronise: 24,
            ports: 0,
            marks_port: None,
            text: 0.0,
            interrupts: Vec::new(),
            variables: Vec::new(),
            counters: Vec::new(),
            instructions: None,
        }
    }
}

/// An interrupt and how often it is expected.
#[derive(Debug, Clone, PartialEq)]
pub struct Interrupt {
    /// Its name.
    pub name: String,
    /// Entries per second.
    pub rate: f64,
}

/// A variable to be watched by a comparator.
#[derive(Debug, Clone, PartialEq)]
pub struct Watched {
    /// A variable's name, `file.c#name`, or an address.
    pub name: String,
    /// Accesses per second.
    pub rate: f64,
    /// What is traced of an access.
    pub trace: WatchTrace,
    /// Which accesses.
    pub on: WatchAccess,
    /// Its value is the task that runs from then on.
    pub runs_task: bool,
}

/// What is traced of a watched access.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WatchTrace {
    /// The value.
    #[default]
    Value,
    /// The address of the accessing instruction.
    Code,
    /// Both.
    ValueAndCode,
}

/// Which accesses are watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WatchAccess {
    /// Writes.
    #[default]
    Write,
    /// Reads.
    Read,
    /// Both.
    Any,
}

/// Counters of the DWT that send a packet when they wrap (DDI 0403E, C1.8.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EventCounter {
    /// `CPIEVTENA`: cycles beyond the first of instructions.
    Instruction,
    /// `EXCEVTENA`: cycles of exception entry and return.
    Exception,
    /// `SLEEPEVTENA`: cycles asleep.
    Sleep,
    /// `LSUEVTENA`: cycles of loads and stores beyond the first.
    LoadStore,
    /// `FOLDEVTENA`: instructions that took no cycle.
    Fold,
    /// `CYCEVTENA`: every POSTCNT underflow; instead of PC samples.
    Cycle,
}

impl EventCounter {
    /// Every counter, its name in files and options, and its bit in `DWT_CTRL`.
    pub const ALL: [(Self, &'static str, u32); 6] = [
        (Self::Instruction, "instruction", 17),
        (Self::Exception, "exception", 18),
        (Self::Sleep, "sleep", 19),
        (Self::LoadStore, "load_store", 20),
        (Self::Fold, "fold", 21),
        (Self::Cycle, "cycle", 22),
    ];

    /// Name and bit.
    #[must_use]
    pub fn entry(self) -> (&'static str, u32) {
        Self::ALL.iter().find(|(counter, ..)| *counter == self).map_or(("", 0), |&(_, n, b)| (n, b))
    }
}

/// Instruction trace, and where.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Instructions {
    /// Instructions per second while the core is awake; absent: one every 1.4 core cycles.
    pub rate: Option<f64>,
    /// Bits of trace per instruction; absent: what is usual for the unit.
    pub bits: Option<f64>,
    /// Cycle counts.
    pub cycle_counts: bool,
    /// Only inside these: names of functions, or `0xA..0xB`.
    pub inside: Vec<String>,
    /// Not inside these.
    pub exclude: Vec<String>,
    /// From each time that this is reached...
    pub start: Option<String>,
    /// ...until this is reached.
    pub stop: Option<String>,
}

/// A ring of firmware marks in memory.
#[derive(Debug, Clone, PartialEq)]
pub struct Ring {
    /// Its symbol.
    pub symbol: String,
    /// Marks per second.
    pub rate: f64,
    /// Bytes per mark.
    pub mark_bytes: u64,
    /// The stretch of time that it must hold.
    pub holds: Duration,
}

impl Description {
    /// The unit that traces instructions: a core that could have another one has a micro trace
    /// buffer if its registers are said to be somewhere.
    #[must_use]
    pub fn trace_kind(&self) -> Option<InstructionTrace> {
        let kind = self.core?.instructions;
        Some(if self.mtb_base.is_some() { InstructionTrace::Mtb } else { kind })
    }

    /// Reads a description that the user knows as `file`.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong, with its line.
    ///
    /// ```
    /// use weltblick_core::plan::Description;
    /// let text = "format = 1\ncore = 'cortex-m3'\n[link]\nkind = 'uart'\nbit_rate = '2 Mbit/s'\n";
    /// let target = Description::parse("target.toml", text).unwrap();
    /// assert_eq!(target.link.unwrap().capacity(false, 1), Some(200_000.0));
    /// ```
    pub fn parse(file: &str, text: &str) -> Result<Self, Fault> {
        let source = Source::new(file, text);
        let parsed = source.parse()?;
        let root = Table::root(source, &parsed);
        root.require_format(FORMAT)?;
        let mut read = Self {
            name: root.text("name")?.map(|name| name.value.to_owned()),
            core: quantity(&root, "core", str::parse)?,
            core_clock: quantity(&root, "core_clock", str::parse)?,
            global_clock: quantity(&root, "global_clock", str::parse)?,
            tick_period: quantity(&root, "tick_period", parse_duration)?,
            image: root.text("image")?.map(|image| image.value.to_owned()),
            mtb_base: root.integer("mtb_base")?.map(|base| base.value),
            mtb_buffer: root.text("mtb_buffer")?.map(|name| name.value.to_owned()),
            mtb_ram: root.integer("mtb_ram")?.map(|ram| ram.value),
            buffer_base: root.integer("buffer_base")?.map(|base| base.value),
            ..Self::default()
        };
        for table in root.tables("register")? {
            if read.before.len() + read.after.len() == MOST_REGISTERS {
                return Err(table.fault(table.span(), "there are more than 256 registers"));
            }
            let (when, register) = read_register(table)?;
            if when == When::Before { &mut read.before } else { &mut read.after }.push(register);
        }
        if let Some(link) = root.table("link")? {
            read_link(link, &mut read)?;
        }
        if let Some(observe) = root.table("observe")? {
            read.observe = read_observe(observe)?;
        }
        read.ring = root.table("ring")?.map(read_ring).transpose()?;
        read.signals = read_signals(&root)?;
        if let Some(signal) = read.signals.iter().find(|signal| signal.comparator.is_some()) {
            let why = format!(
                "signal `{}`: a plan chooses comparators itself: write `variable`, and watch that in [[observe.variable]]",
                signal.name
            );
            return Err(root.fault(root.span(), why));
        }
        root.finish()?;
        Ok(read)
    }
}

/// When a register of the chip is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum When {
    Before,
    After,
}

/// A register of the chip, and when it is written.
fn read_register(table: Table<'_>) -> Result<(When, Register), Fault> {
    let number = |key: &'static str| -> Result<Option<u32>, Fault> {
        let Some(value) = table.integer(key)? else { return Ok(None) };
        let fault = |_| table.fault(value.span, format!("`{key}` must fit 32 bits"));
        u32::try_from(value.value).map(Some).map_err(fault)
    };
    let when = word(&table, "when", &[("before", When::Before), ("after", When::After)])?;
    let name = table.required_text("name")?.value.to_owned();
    let address = number("address")?.ok_or_else(|| table.missing("address"))?;
    if address % 4 != 0 {
        return Err(table.fault(table.span(), "`address` must be a multiple of 4"));
    }
    let value = number("value")?.ok_or_else(|| table.missing("value"))?;
    let mask = number("mask")?.unwrap_or(u32::MAX);
    if value & !mask != 0 {
        return Err(table.fault(table.span(), "`value` has bits that `mask` leaves alone"));
    }
    let purpose = table.text("purpose")?.map_or("", |purpose| purpose.value).to_owned();
    table.finish()?;
    let register = Register::of_chip(name, address.into(), (value, mask), purpose);
    Ok((when.unwrap_or(When::Before), register))
}

/// A text that means something, if present.
fn quantity<T, E: std::fmt::Display>(
    table: &Table<'_>,
    key: &'static str,
    read: impl FnOnce(&str) -> Result<T, E>,
) -> Result<Option<T>, Fault> {
    let Some(text) = table.text(key)? else { return Ok(None) };
    read(text.value).map(Some).map_err(|error| table.fault(text.span, format!("`{key}`: {error}")))
}

/// A text that must be there and means something.
fn required<T, E: std::fmt::Display>(
    table: &Table<'_>,
    key: &'static str,
    read: impl FnOnce(&str) -> Result<T, E>,
) -> Result<T, Fault> {
    quantity(table, key, read)?.ok_or_else(|| table.missing(key))
}

/// One of a few words, if present.
fn word<T: Copy>(
    table: &Table<'_>,
    key: &'static str,
    words: &[(&'static str, T)],
) -> Result<Option<T>, Fault> {
    quantity(table, key, |text| {
        let known = words.iter().find(|(name, _)| *name == text).map(|&(_, value)| value);
        known.ok_or_else(|| {
            format!("`{text}` is unknown{}", nearest(text, words.iter().map(|(name, _)| *name)))
        })
    })
}

fn read_link(table: Table<'_>, read: &mut Description) -> Result<(), Fault> {
    #[derive(Clone, Copy)]
    enum Kind {
        Uart,
        Manchester,
        Port,
        Buffer,
    }
    let kinds = [
        ("uart", Kind::Uart),
        ("manchester", Kind::Manchester),
        ("port", Kind::Port),
        ("buffer", Kind::Buffer),
    ];
    let kind = word(&table, "kind", &kinds)?.ok_or_else(|| table.missing("kind"))?;
    read.link = Some(match kind {
        Kind::Uart => Link::Uart { bit_rate: required(&table, "bit_rate", parse_bit_rate)? },
        Kind::Manchester => {
            Link::Manchester { bit_rate: required(&table, "bit_rate", parse_bit_rate)? }
        }
        Kind::Port => Link::Port {
            width: match table.integer("width")? {
                Some(At { value: width @ (1 | 2 | 4), .. }) => width as u8,
                Some(other) => {
                    return Err(table.fault(other.span, "`width` must be 1, 2 or 4 pins"));
                }
                None => return Err(table.missing("width")),
            },
            clock: required(&table, "port_clock", str::parse)?,
        },
        Kind::Buffer => Link::Buffer { bytes: required(&table, "size", parse_bytes)? },
    });
    read.trace_clock = quantity(&table, "trace_clock", str::parse)?;
    read.formatter = table.boolean("formatter")?.unwrap_or(false);
    read.fifo = quantity(&table, "fifo", parse_bytes)?;
    table.finish()
}

fn read_observe(table: Table<'_>) -> Result<Observe, Fault> {
    let mut observe = Observe::default();
    if let Some(period) = table.integer("pc_sample_period")? {
        if period.value == 0 {
            return Err(table.fault(period.span, "`pc_sample_period` must be more than zero"));
        }
        observe.pc_sample_period = Some(period.value);
    }
    observe.asleep = quantity(&table, "asleep", parse_share)?.unwrap_or(0.0);
    match table.integer("timestamp_prescaler")? {
        None => {}
        Some(At { value: value @ (1 | 4 | 16 | 64), .. }) => {
            observe.timestamp_prescaler = Some(value as u32);
        }
        Some(other) => {
            let message = "`timestamp_prescaler` must be 1, 4, 16 or 64, as ITM_TCR offers";
            return Err(table.fault(other.span, message));
        }
    }
    if table.boolean("timestamps")? == Some(false) {
        observe.timestamp_prescaler = None;
    }
    observe.timestamp_dates_group = table.boolean("timestamp_dates_group")?.unwrap_or(false);
    observe.global_timestamps = table.boolean("global_timestamps")?.unwrap_or(false);
    match table.integer("synchronise")? {
        None => {}
        Some(At { value: tap @ (24 | 26 | 28), .. }) => observe.synchronise = tap as u32,
        Some(other) => {
            let message = "`synchronise` must be 24, 26 or 28: two to that power in cycles";
            return Err(table.fault(other.span, message));
        }
    }
    if let Some(ports) = table.integer("ports")? {
        observe.ports = u32::try_from(ports.value)
            .map_err(|_| table.fault(ports.span, "`ports` has one bit for each of 32 ports"))?;
    }
    if let Some(port) = read_marks_port(&table)? {
        observe.marks_port = Some(port);
        // Ports above 31 are other pages: `ports` does not switch them.
        observe.ports |= 0b11_u32.checked_shl(port).unwrap_or(0);
    }
    observe.text = quantity(&table, "text", parse_byte_rate)?.unwrap_or(0.0);
    for counter in table.texts("event_counters")? {
        let known = EventCounter::ALL.iter().find(|(_, name, _)| *name == counter.value);
        let Some(&(known, ..)) = known else {
            let hint = nearest(counter.value, EventCounter::ALL.iter().map(|(_, name, _)| *name));
            let message = format!("`{}` is no event counter{hint}", counter.value);
            return Err(table.fault(counter.span, message));
        };
        observe.counters.push(known);
    }
    for entry in table.tables("interrupt")? {
        let name = entry.required_text("name")?.value.to_owned();
        let rate = required(&entry, "rate", rate)?;
        entry.finish()?;
        observe.interrupts.push(Interrupt { name, rate });
    }
    for entry in table.tables("variable")? {
        observe.variables.push(read_variable(entry)?);
    }
    observe.instructions = table.table("instructions")?.map(read_instructions).transpose()?;
    table.finish()?;
    Ok(observe)
}

/// So many times a second.
pub fn rate(text: &str) -> Result<f64, QuantityError> {
    text.parse::<Frequency>().map(Frequency::hertz)
}

fn read_variable(table: Table<'_>) -> Result<Watched, Fault> {
    let traces = [
        ("value", WatchTrace::Value),
        ("code", WatchTrace::Code),
        ("value and code", WatchTrace::ValueAndCode),
    ];
    let accesses =
        [("write", WatchAccess::Write), ("read", WatchAccess::Read), ("any", WatchAccess::Any)];
    let means = read_meaning(&table)?;
    let watched = Watched {
        name: table.required_text("name")?.value.to_owned(),
        rate: required(&table, "rate", rate)?,
        trace: word(&table, "trace", &traces)?.unwrap_or_default(),
        on: word(&table, "on", &accesses)?.unwrap_or_default(),
        runs_task: means.is_some(),
    };
    if let Some(span) = means.filter(|_| watched.trace == WatchTrace::Code) {
        let message = "which task runs is told by the value: write trace = \"value\"";
        return Err(table.fault(span, message));
    }
    table.finish()?;
    Ok(watched)
}

fn read_instructions(table: Table<'_>) -> Result<Instructions, Fault> {
    let names = |key| -> Result<Vec<String>, Fault> {
        Ok(table.texts(key)?.into_iter().map(|name| name.value.to_owned()).collect())
    };
    let bits = |text: &str| {
        text.parse::<f64>()
            .ok()
            .filter(|bits| bits.is_finite() && *bits > 0.0)
            .ok_or_else(|| format!("`{text}` is no number above zero"))
    };
    let instructions = Instructions {
        rate: quantity(&table, "rate", rate)?,
        bits: quantity(&table, "bits_per_instruction", bits)?,
        cycle_counts: table.boolean("cycle_counts")?.unwrap_or(false),
        inside: names("inside")?,
        exclude: names("exclude")?,
        start: table.text("start")?.map(|point| point.value.to_owned()),
        stop: table.text("stop")?.map(|point| point.value.to_owned()),
    };
    table.finish()?;
    Ok(instructions)
}

fn read_ring(table: Table<'_>) -> Result<Ring, Fault> {
    let ring = Ring {
        symbol: table.required_text("symbol")?.value.to_owned(),
        rate: required(&table, "rate", rate)?,
        mark_bytes: table.integer("mark_bytes")?.map_or(16, |bytes| bytes.value.max(1)),
        holds: required(&table, "holds", parse_duration)?,
    };
    table.finish()?;
    Ok(ring)
}

/// The names of all cores, for people.
#[must_use]
pub fn core_names() -> Vec<&'static str> {
    CORES.iter().map(|core| core.name).collect()
}

//! Faces of single packets.

use super::{cell, duration_ns, plain};
use crate::cli::Format;
use serde_json::json;
use std::io::{self, Write};
use std::ops::Range;
use weltblick_core::capture::Instructions;
use weltblick_core::image::Image;
use weltblick_core::time::{Frequency, Window};
use weltblick_core::wire::ctf::{Record, Schema, Value};
use weltblick_core::wire::itm::{Action, Carried, Packet, Relation, Size};
use weltblick_core::wire::mtb;

/// Where and when a packet is.
pub(crate) struct PacketLine<'a> {
    pub(crate) origin: &'a str,
    pub(crate) at: Range<u64>,
    pub(crate) time: Option<Window>,
    pub(crate) clock: Option<Frequency>,
    pub(crate) image: Option<&'a Image>,
}

/// Writes packets one a line.
pub(crate) struct PacketFace<'a> {
    format: Format,
    out: &'a mut dyn Write,
}

impl<'a> PacketFace<'a> {
    /// In a format: text, one JSON object a line, or CSV.
    pub(crate) fn new(format: Format, out: &'a mut dyn Write) -> Self {
        Self { format, out }
    }

    /// The first line.
    pub(crate) fn heading(&mut self) -> io::Result<()> {
        match self.format {
            Format::Csv => {
                writeln!(self.out, "stream,byte,bytes,cycle_low,cycle_high,packet,meaning")
            }
            Format::Text => writeln!(
                self.out,
                "{:<16} {:>4}  {:<26} {:<16} meaning",
                "byte", "size", "time (-uncertain)", "packet"
            ),
            Format::Json => Ok(()),
        }
    }

    /// A packet, and what it and those before it left behind.
    pub(crate) fn packet(
        &mut self,
        line: &PacketLine<'_>,
        packet: Packet,
        carried: &Carried,
    ) -> io::Result<()> {
        let (name, meaning) = describe(packet, line.image, carried);
        self.line(line, name, &meaning)
    }

    /// A branch.
    pub(crate) fn branch(&mut self, line: &PacketLine<'_>, packet: mtb::Packet) -> io::Result<()> {
        let (name, meaning) = describe_branch(packet, line.image);
        self.line(line, name, &meaning)
    }

    /// A packet of an instruction trace.
    pub(crate) fn instructions(
        &mut self,
        line: &PacketLine<'_>,
        packet: &Instructions,
    ) -> io::Result<()> {
        let (name, meaning) = super::instructions::describe(packet, line.image);
        self.line(line, name, &meaning)
    }

    /// An event of an event trace.
    pub(crate) fn record(
        &mut self,
        line: &PacketLine<'_>,
        schema: &Schema,
        record: &Record<'_>,
    ) -> io::Result<()> {
        self.line(line, &schema.events()[record.class].name, &describe_record(schema, record))
    }

    /// Bytes that are no packet.
    pub(crate) fn loss(&mut self, line: &PacketLine<'_>, why: &str) -> io::Result<()> {
        self.line(line, "! lost", why)
    }

    fn line(&mut self, line: &PacketLine<'_>, name: &str, meaning: &str) -> io::Result<()> {
        let PacketLine { origin, at, time, clock, .. } = line;
        let bytes = at.end - at.start;
        let name = plain(name);
        match self.format {
            Format::Text => {
                let place = format!("{}@{}", plain(origin), at.start);
                let when = moment(*time, *clock);
                let text =
                    format!("{place:<16} {bytes:>4}  {when:<26} {name:<16} {}", plain(meaning));
                writeln!(self.out, "{}", text.trim_end())
            }
            Format::Json => {
                let value = json!({
                    "stream": origin, "byte": at.start, "bytes": bytes, "packet": name,
                    "meaning": meaning,
                    "cycle_low": time.map(|time| time.earliest),
                    "cycle_high": time.map(|time| time.latest),
                });
                writeln!(self.out, "{value}")
            }
            Format::Csv => {
                let cycle = |at: Option<u64>| at.map(|at| at.to_string()).unwrap_or_default();
                let (low, high) = (time.map(|t| t.earliest), time.map(|t| t.latest));
                let mut csv = csv::Writer::from_writer(&mut *self.out);
                let (start, bytes) = (at.start.to_string(), bytes.to_string());
                csv.write_record([
                    &cell(origin),
                    start.as_str(),
                    &bytes,
                    &cycle(low),
                    &cycle(high),
                    &cell(&name),
                    &cell(meaning),
                ])?;
                csv.flush()
            }
        }
    }
}

/// A time, or the stretch in which it lies.
fn moment(time: Option<Window>, clock: Option<Frequency>) -> String {
    let Some(time) = time else { return "-".into() };
    let show = |cycle: u64| match clock {
        Some(clock) => format!("{:.3} us", clock.nanoseconds(cycle) / 1e3),
        None => format!("cycle {cycle}"),
    };
    if time.earliest == time.latest {
        return show(time.earliest);
    }
    let width = time.latest - time.earliest;
    let width = clock
        .map_or_else(|| format!("{width} cycles"), |clock| duration_ns(clock.nanoseconds(width)));
    format!("{} -{width}", show(time.latest))
}

const fn bytes(size: Size) -> &'static str {
    match size {
        Size::Byte => "1 byte",
        Size::Half => "2 bytes",
        Size::Word => "4 bytes",
    }
}

/// What a packet is called, and what it says.
fn describe(packet: Packet, image: Option<&Image>, carried: &Carried) -> (&'static str, String) {
    let exception = |number: u16| {
        image.map_or_else(|| format!("exception {number}"), |image| image.exception_name(number))
    };
    // Its number, as far as its bits were sent; until the high ones follow it is not one.
    let is_whole = !matches!(packet, Packet::GlobalTimeLow { wrapped: true, .. });
    let global = carried.global().filter(|_| is_whole);
    let whole = global.map_or_else(String::new, |global| format!(": {global} ticks"));
    match packet {
        Packet::Sync => ("sync", String::new()),
        Packet::Overflow => ("overflow", "packets were dropped here".into()),
        Packet::LocalTime { ticks, relation } => {
            let relation = match relation {
                Relation::Synchronous => "",
                Relation::TimestampDelayed => ", timestamp delayed",
                Relation::PacketDelayed => ", packets delayed",
                Relation::BothDelayed => ", packets and timestamp delayed",
            };
            ("time", format!("+{ticks} ticks{relation}"))
        }
        Packet::GlobalTimeLow { bits, width, clock_changed, wrapped } => {
            let flags = [(clock_changed, ", clock changed"), (wrapped, ", high bits follow")];
            let flags: String =
                flags.iter().filter(|(set, _)| *set).map(|(_, text)| *text).collect();
            ("global time", format!("low {width} bits {bits:#x}{flags}{whole}"))
        }
        Packet::GlobalTimeHigh { bits, width } => {
            ("global time", format!("high {width} bits {bits:#x}{whole}"))
        }
        Packet::Extension { hardware, value } => {
            let what = if hardware { "hardware source" } else { "stimulus page" };
            ("extension", format!("{what} {value}"))
        }
        Packet::Stimulus { port, size, value } => (
            "stimulus",
            format!(
                "port {}, {}, {value:#x}{}",
                carried.port(port),
                bytes(size),
                letter(size, value)
            ),
        ),
        Packet::EventCounters(counters) => {
            ("counters", counters.names().collect::<Vec<_>>().join(" "))
        }
        Packet::Exception { number, action } => {
            let action = match action {
                Action::Enter => "enter",
                Action::Exit => "exit",
                Action::Return => "return to",
            };
            ("exception", format!("{action} {} ({number})", exception(number)))
        }
        Packet::PcSample { pc } => ("pc", format!("{pc:#010x}{}", place(pc, image))),
        Packet::Asleep => ("pc", "asleep".into()),
        Packet::Prohibited => ("pc", "prohibited".into()),
        Packet::DataPc { comparator, pc } => {
            ("data", format!("watch {comparator}, by {pc:#010x}{}", place(pc, image)))
        }
        Packet::DataAddress { comparator, offset } => {
            ("data", format!("watch {comparator}, address ..{offset:04x}"))
        }
        Packet::DataValue { comparator, write, size, value } => {
            let way = if write { "wrote" } else { "read" };
            ("data", format!("watch {comparator}, {way} {}, {value:#x}", bytes(size)))
        }
        Packet::DataMatch { comparator } => ("data", format!("watch {comparator} matched")),
        Packet::PmuOverflow { counters } => ("pmu", format!("counters {counters:#010b}")),
    }
}

/// What a branch is called, and where it goes.
fn describe_branch(packet: mtb::Packet, image: Option<&Image>) -> (&'static str, String) {
    let mtb::Packet { source, exceptional, destination, starts } = packet;
    let name = if exceptional { "exception" } else { "branch" };
    let start = if starts { ", the first since tracing started" } else { "" };
    let meaning = format!(
        "{source:#010x}{} -> {destination:#010x}{}{start}",
        place(source, image),
        place(destination, image)
    );
    (name, meaning)
}

/// Values of an event that are listed at most.
const MOST_VALUES: usize = 32;

/// The fields of an event, by name; those of its packet and its header stand in its time.
fn describe_record(schema: &Schema, record: &Record<'_>) -> String {
    let mut values = record.values().filter(|(field, _)| schema.field(*field).is_of_event());
    let shown = values.by_ref().take(MOST_VALUES).map(|(number, value)| {
        let field = schema.field(number);
        let label = value.integer().and_then(|value| field.label(value));
        let value = match value {
            Value::Unsigned(value) if field.is_hex => format!("{value:#x}"),
            Value::Unsigned(value) => value.to_string(),
            Value::Signed(value) => value.to_string(),
            Value::Float(value) => value.to_string(),
            Value::Text(text) => format!("\"{}\"", String::from_utf8_lossy(text)),
        };
        let label = label.map_or_else(String::new, |label| format!(" ({label})"));
        format!("{}={value}{label}", field.path)
    });
    let mut text = shown.collect::<Vec<_>>().join(" ");
    match values.count() {
        0 => {}
        more => text += &format!(" and {more} more"),
    }
    text
}

fn letter(size: Size, value: u32) -> String {
    match char::from_u32(value) {
        Some(c) if size == Size::Byte && (c.is_ascii_graphic() || c == ' ') => format!(" '{c}'"),
        _ => String::new(),
    }
}

/// The function and line of an address.
pub(super) fn place(pc: u32, image: Option<&Image>) -> String {
    if mtb::is_exception_return(pc) {
        return "  exception return".into();
    }
    let Some(image) = image else { return String::new() };
    let address = u64::from(pc & !1);
    let Some(id) = image.function_at(address) else { return "  outside the image".into() };
    let line = image.location_at(address).map_or_else(String::new, |location| {
        let line = location.line.map_or_else(String::new, |line| format!(":{line}"));
        format!("  {}{line}", location.file)
    });
    format!("  {}{line}", image.function(id).name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_say_what_is_uncertain() {
        let clock = Frequency::from_hertz(1e6);
        let window = |earliest, latest| Some(Window { earliest, latest });
        assert_eq!(moment(None, clock), "-");
        assert_eq!(moment(window(1500, 1500), clock), "1500.000 us");
        assert_eq!(moment(window(1000, 1500), clock), "1500.000 us -500 us");
        assert_eq!(moment(window(1000, 1500), None), "cycle 1500 -500 cycles");
    }

    #[test]
    fn packets_say_what_they_mean() {
        for (packet, name, meaning) in [
            (Packet::Asleep, "pc", "asleep"),
            (Packet::PcSample { pc: 0x0800_0100 }, "pc", "0x08000100"),
            (
                Packet::Exception { number: 15, action: Action::Exit },
                "exception",
                "exit exception 15 (15)",
            ),
            (
                Packet::Stimulus { port: 3, size: Size::Byte, value: 0x41 },
                "stimulus",
                "port 3, 1 byte, 0x41 'A'",
            ),
            (
                Packet::LocalTime { ticks: 9, relation: Relation::PacketDelayed },
                "time",
                "+9 ticks, packets delayed",
            ),
            (
                Packet::DataValue { comparator: 2, write: true, size: Size::Half, value: 7 },
                "data",
                "watch 2, wrote 2 bytes, 0x7",
            ),
            (Packet::Extension { hardware: false, value: 1 }, "extension", "stimulus page 1"),
        ] {
            let plain = Carried::default();
            assert_eq!(describe(packet, None, &plain), (name, meaning.to_owned()));
        }
    }

    #[test]
    fn what_packets_mean_by_those_before_them_is_said() {
        let mut carried = Carried::default();
        let mut said = |packet: Packet| {
            carried.take(&packet);
            describe(packet, None, &carried).1
        };
        let write = Packet::Stimulus { port: 3, size: Size::Byte, value: 0x41 };
        let low = |bits, width, wrapped| Packet::GlobalTimeLow {
            bits,
            width,
            clock_changed: false,
            wrapped,
        };
        assert_eq!(said(write), "port 3, 1 byte, 0x41 'A'");
        said(Packet::Extension { hardware: false, value: 2 });
        assert_eq!(said(write), "port 67, 1 byte, 0x41 'A'");
        assert_eq!(said(low(9, 7, false)), "low 7 bits 0x9", "the others were never sent");
        assert_eq!(said(low(0x100, 26, false)), "low 26 bits 0x100: 256 ticks");
        assert_eq!(said(low(9, 7, false)), "low 7 bits 0x9: 265 ticks");
        assert_eq!(said(low(1, 26, true)), "low 26 bits 0x1, high bits follow");
        let high = Packet::GlobalTimeHigh { bits: 1, width: 22 };
        assert_eq!(said(high), "high 22 bits 0x1: 67108865 ticks");
    }
}

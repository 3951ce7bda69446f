//! A life as the bytes of an event trace, and what may become of it. It shares nothing with the reader.

use crate::chance::Chance;
use crate::life::{Life, QUANTITY, What};
use std::ops::Range;
use weltblick_core::capture::{EventTrace, Manifest, Protocol};
use weltblick_core::document::Source;
use weltblick_core::event::{Origin, Sink};

/// What happens to an event trace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum TraceFault {
    Clean,
    /// The tracer dropped events once, and counts them.
    Dropped,
    /// A packet never came.
    PacketMissing,
    /// The target began anew: so do times.
    Reset,
    /// A tick of the clock is many cycles.
    Slow,
    /// Interrupts stand in one file and everything else in another, which the tracer dropped events from.
    TwoFiles,
    /// Events tell 16 bits of the time, and silence may last longer than these.
    Short,
    /// The trace begins with a later packet.
    Headless,
    /// Interrupts of odd and even numbers stand in files of their own, as those of two cores do.
    ByTurns,
}

pub(crate) const TRACE_FAULTS: [TraceFault; 8] = [
    TraceFault::Clean,
    TraceFault::Dropped,
    TraceFault::PacketMissing,
    TraceFault::Reset,
    TraceFault::Slow,
    TraceFault::TwoFiles,
    TraceFault::Short,
    TraceFault::Headless,
];

pub(crate) struct Traced {
    metadata: String,
    files: Vec<Vec<u8>>,
    /// Core cycles in a tick.
    pub(crate) divider: u64,
    /// From its first moment to its last, in cycles.
    pub(crate) window: Range<u64>,
}

/// Events in a packet.
const PACKED: usize = 40;

fn metadata(short: bool, hertz: f64) -> String {
    let stamp = if short { 16 } else { 64 };
    let head = format!(
        "/* CTF 1.8 */
        typealias integer {{ size = 8; align = 8; }} := u8;
        typealias integer {{ size = 16; align = 8; }} := u16;
        typealias integer {{ size = 32; align = 8; signed = true; }} := i32;
        typealias integer {{ size = 64; align = 8; }} := u64;
        trace {{ major = 1; minor = 8; byte_order = le; }};
        clock {{ name = ticks; freq = {hertz}; }};
        typealias integer {{ size = {stamp}; align = 8; map = clock.ticks.value; }} := stamp;
        typealias integer {{ size = 64; align = 8; map = clock.ticks.value; }} := whole;
        stream {{
            packet.context := struct {{
                whole timestamp_begin; whole timestamp_end; u64 content_size; u64 packet_size;
                u64 events_discarded; u64 packet_seq_num;
            }};
            event.header := struct {{ u8 id; stamp timestamp; }};
        }};
        "
    );
    let event = |(id, [name, ..]): (usize, [&str; 3])| {
        let value = if name == "value" { " i32 value;" } else { "" };
        format!("event {{ name = {name}; id = {id}; fields := struct {{ u16 n;{value} }}; }};\n")
    };
    head + &KINDS.into_iter().enumerate().map(event).collect::<String>()
}

/// Kinds of events by their numbers: what they are called, what they mean, and which part their number is.
const KINDS: [[&str; 3]; 8] = [
    ["enter", "interrupt entered", "exception"],
    ["leave", "interrupt left", "exception"],
    ["ready", "task ready", "task"],
    ["runs", "task runs", "task"],
    ["stops", "task sleeps", "task"],
    ["begins", "span begins", "span"],
    ["ends", "span ends", "span"],
    ["value", "quantity", "quantity"],
];

fn manifest() -> String {
    let mut text = "format = 1\n[[stream]]\nfolder = 'events'\nprotocol = 'ctf'\n".to_owned();
    for [event, means, part] in KINDS {
        text +=
            &format!("[[stream.meaning]]\nevent = '{event}'\nmeans = '{means}'\n{part} = 'n'\n");
        text += if event == "value" { "value = 'value'\n" } else { "" };
    }
    text
}

/// The number of its kind, and its fields.
fn fields(what: What) -> Option<(u8, Vec<u8>)> {
    let plain = |id, n: u16| Some((id, n.to_le_bytes().to_vec()));
    match what {
        What::Enter(n) => plain(0, n),
        What::Leave(n) => plain(1, n),
        What::Ready(n) => plain(2, n),
        What::Runs(n) => plain(3, n),
        What::Stops(n) => plain(4, n),
        What::SpanBegins(n) => plain(5, n),
        What::SpanEnds(n) => plain(6, n),
        What::Value(value) => {
            Some((7, [&QUANTITY.to_le_bytes()[..], &value.to_le_bytes()].concat()))
        }
        // What a handler resumes is added by whoever reads; samples are none of a tracer's.
        What::Resume(_) | What::Sample(_) => None,
    }
}

/// One event, by its number in the life.
type Item = (usize, u64, What);

/// Packets of one file: without these events, which are counted, and without that packet.
fn file(
    events: &[Item],
    stamp_of: &dyn Fn(usize, u64) -> u64,
    (short, end): (bool, u64),
    dropped: &Range<usize>,
    absent: Option<usize>,
) -> Vec<u8> {
    let mut bytes = Vec::new();
    let (mut discarded, mut number) = (0_u64, 0_u64);
    let mut rest = events;
    while !rest.is_empty() {
        let dropped_first = rest.iter().take_while(|(n, ..)| dropped.contains(n)).count();
        discarded += dropped_first as u64;
        rest = &rest[dropped_first..];
        let length = rest.iter().take(PACKED).take_while(|(n, ..)| !dropped.contains(n)).count();
        let (packet, after) = rest.split_at(length);
        let Some(first) = packet.first() else { continue };
        rest = after;
        let ends = after.first().map_or(end, |(n, at, _)| stamp_of(*n, *at));
        let mut content = Vec::new();
        for &(n, at, what) in packet {
            let Some((id, fields)) = fields(what) else { continue };
            content.push(id);
            let stamp = stamp_of(n, at).to_le_bytes();
            content.extend(if short { &stamp[..2] } else { &stamp[..] });
            content.extend(fields);
        }
        let size = 8 * (6 * 8 + content.len() as u64);
        let began = stamp_of(first.0, first.1);
        if absent != Some(number as usize) {
            for word in [began, ends.max(began), size, size, discarded, number] {
                bytes.extend(word.to_le_bytes());
            }
            bytes.extend(content);
        }
        number += 1;
    }
    bytes
}

impl Traced {
    pub(crate) fn of(life: &Life, fault: TraceFault, chance: &mut Chance) -> Self {
        let told: Vec<Item> = (0..)
            .zip(&life.events)
            .filter(|(_, (_, what))| fields(*what).is_some())
            .map(|(number, &(at, what))| (number, at, what))
            .collect();
        let count = told.len();
        let from = chance.within(count as u64 / 4, count as u64 / 2) as usize;
        let divider = match fault {
            TraceFault::Slow => chance.one_of(&[48, 480, 4800]),
            _ => 1,
        };
        let drops = matches!(fault, TraceFault::Dropped | TraceFault::TwoFiles);
        let last_dropped = from + chance.within(1, count as u64 / 50 + 2) as usize;
        let dropped = if drops { told[from].0..told[last_dropped.min(count - 1)].0 } else { 0..0 };
        // Without its first packet, or its last, it is a whole recording of less.
        let absent = (fault == TraceFault::PacketMissing).then_some((from / PACKED).max(1));
        let (reset, began_anew) = (told[from].0, told[from].1);
        let stamp_of = move |number: usize, at: u64| match fault {
            TraceFault::Reset if number >= reset => (at - began_anew) / divider,
            _ => at / divider,
        };
        let told =
            if fault == TraceFault::Headless { &told[from / PACKED * PACKED..] } else { &told };
        let is_of_core = |item: &&Item| matches!(item.2, What::Enter(_) | What::Leave(_));
        let none = 0..0;
        let form = (fault == TraceFault::Short, stamp_of(usize::MAX, life.end));
        let is_odd = |item: &&Item| matches!(item.2, What::Enter(number) | What::Leave(number) if number % 2 == 1);
        let files = if fault == TraceFault::ByTurns {
            let (odd, rest): (Vec<Item>, Vec<Item>) = told.iter().partition(is_odd);
            vec![
                file(&odd, &stamp_of, form, &none, None),
                file(&rest, &stamp_of, form, &none, None),
            ]
        } else if fault == TraceFault::TwoFiles {
            let (core, rest): (Vec<Item>, Vec<Item>) = told.iter().partition(is_of_core);
            vec![
                file(&core, &stamp_of, form, &none, None),
                file(&rest, &stamp_of, form, &dropped, None),
            ]
        } else {
            vec![file(told, &stamp_of, form, &dropped, absent)]
        };
        let metadata = metadata(form.0, 48e6 / divider as f64);
        let window = told[0].1..told[told.len() - 1].1;
        Self { metadata, files, divider, window }
    }

    /// Reads it into events.
    pub(crate) fn read(&self, sink: &mut dyn Sink) {
        let text = manifest();
        let manifest = Manifest::parse("capture.toml", &text).unwrap();
        let Protocol::Ctf(settings) = &manifest.streams[0].sources[0].protocol else {
            panic!("no event trace")
        };
        let source = Source::new("capture.toml", &text);
        let trace = EventTrace::new("metadata", &self.metadata, settings, source).unwrap();
        let starts: Vec<u64> = self
            .files
            .iter()
            .scan(0, |end, file| Some(std::mem::replace(end, *end + file.len() as u64)))
            .collect();
        let mut reading = trace.reading(Origin(0), &starts, u64::from(self.divider > 1));
        let mut files: Vec<_> = self.files.iter().map(|file| file.chunks(4096)).collect();
        while let Some(wanted) = reading.wants() {
            match files[wanted].next() {
                Some(bytes) => reading.push(wanted, bytes, sink),
                None => reading.finish_file(wanted, sink),
            }
        }
    }
}

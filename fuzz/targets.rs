//! What a fuzzer, and the replay of what it found, does with any bytes: read them, and ask for all that there is.
//!
//! Nothing may panic, take long, or grow beyond bounds. `crates/weltblick/tests/corpus.rs` replays the corpus.

#![allow(dead_code, reason = "each fuzzer has a target of its own")]

#[path = "../crates/weltblick/src/sources/stub/packet.rs"]
#[allow(dead_code, unreachable_pub, reason = "a part of the program, read by itself")]
mod packet;

use std::hint::black_box;
use std::sync::LazyLock;
use weltblick_core::capture::{
    EventTrace, FlowLine, ItmSettings, Line, Manifest, Protocol, StreamSpec, parse_journal,
};
use weltblick_core::document::Source;
use weltblick_core::event::Origin;
use weltblick_core::image::{Image, Variables};
use weltblick_core::judge::BudgetFile;
use weltblick_core::measure::execution::{BlockCounts, Calls};
use weltblick_core::measure::interrupts::InterruptNames;
use weltblick_core::measure::interrupts::{InterruptFigures, Nesting};
use weltblick_core::measure::profile::SampleCounts;
use weltblick_core::measure::signals::{Dictionary, Signals};
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};
use weltblick_core::plan::{Applied, Description};
use weltblick_core::wire::{etmv3, etmv4, mtb};

/// The demo's firmware.
static FIRMWARE: LazyLock<Image> = LazyLock::new(|| {
    Image::parse(include_bytes!("../demo/buoy/wave-buoy.elf")).expect("the demo firmware")
});

/// A target by its name, as corpus folders are called.
pub(crate) fn named(name: &str) -> Option<fn(&[u8])> {
    Some(match name {
        "image" => image,
        "itm" => itm,
        "framed" => framed,
        "etmv3" => etmv3,
        "etmv4" => etmv4,
        "mtb" => mtb,
        "poll" => poll,
        "event_description" => event_description,
        "event_packets" => event_packets,
        "manifest" => manifest,
        "budgets" => budgets,
        "target" => target,
        "plan" => plan,
        "journal" => journal,
        "remote" => remote,
        _ => return None,
    })
}

/// An ELF file, and all questions that are put to one.
pub(crate) fn image(bytes: &[u8]) {
    if let Ok(image) = Image::parse(bytes) {
        let code: Vec<_> = image.code().map(|(range, _)| range).collect();
        for range in code.iter().take(4) {
            let step = ((range.end - range.start) / 32).max(1);
            for address in range.clone().step_by(step as usize).take(33) {
                black_box((image.place(address), image.frames_at(address)));
                black_box((image.location_at(address), image.declaration_of(address)));
                black_box((image.instructions_from(address), image.after_literal(address)));
            }
        }
        for function in image.functions().iter().take(16) {
            black_box(image.lines_of(&function.name));
            black_box(image.functions_named(&function.name));
            black_box(image.frames_at(function.range.start));
        }
        black_box((image.interrupt_names(), image.missing_debug_files()));
        black_box(image.lines_of("main.c"));
    }
    if let Ok(variables) = Variables::parse(bytes) {
        for variable in variables.all().iter().take(32) {
            let name = &variable.name;
            black_box((variables.find(name).is_ok(), variables.name_at(variable.address)));
            for path in [name.clone(), format!("{name}[1]"), format!("{name}.a.b")] {
                black_box(variables.field(&path).is_ok());
            }
        }
    }
}

/// A stream of packets to events and figures; its first bytes are settings.
fn events(protocol: Protocol, framed: bool, bytes: &[u8]) {
    let mut spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    spec.sources[0].protocol = protocol;
    if framed {
        spec.framing =
            weltblick_core::capture::Framing::Tpiu(weltblick_core::wire::tpiu::Start::Anywhere);
        spec.sources[0].trace_id = Some(1);
    }
    let dictionary = Dictionary::default();
    let settings = Settings { keep: 2, window: 48_000, each: false };
    let times =
        (Nesting::new(1.0, InterruptFigures::new(2)), Tracking::new(TaskFigures::new(settings)));
    let mut sink = (SampleCounts::default(), (times, Signals::new(&dictionary)));
    let mut line = Line::new(&spec, Origin(0));
    // Where it was cut does not matter; that it may be cut does.
    for part in bytes.chunks(61) {
        line.push(part, &mut (), &mut sink);
    }
    line.finish(&mut (), &mut sink);
    black_box(sink);
}

pub(crate) fn itm(bytes: &[u8]) {
    let settings = ItmSettings { marks_port: Some(16), ..ItmSettings::default() };
    events(Protocol::Itm(settings), false, bytes);
}

pub(crate) fn framed(bytes: &[u8]) {
    events(Protocol::Itm(ItmSettings::default()), true, bytes);
}

pub(crate) fn poll(bytes: &[u8]) {
    events(Protocol::Poll(weltblick_core::capture::PollSettings::default()), false, bytes);
}

/// An instruction trace of the demo's firmware.
fn flow(protocol: Protocol, bytes: &[u8]) {
    events(protocol.clone(), false, bytes);
    let image = &*FIRMWARE;
    let mut spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    spec.sources[0].protocol = protocol;
    let Some(mut line) = FlowLine::new(&spec, 0, image) else { return };
    let mut sink = (BlockCounts::default(), Calls::new(image, FlowLine::clocking(&spec, 0)));
    for part in bytes.chunks(61) {
        line.push(part, &mut sink);
    }
    let code = line.finish(&mut sink);
    sink.1.finish();
    black_box((sink.0.into_tally(&code).instructions(), sink.1.instructions()));
}

fn register(bytes: &mut &[u8]) -> u32 {
    let (first, rest) = bytes.split_first_chunk::<4>().unwrap_or((&[0; 4], &[]));
    *bytes = rest;
    u32::from_le_bytes(*first)
}

pub(crate) fn etmv4(mut bytes: &[u8]) {
    let trcconfigr = register(&mut bytes);
    flow(Protocol::Etmv4(etmv4::Settings { trcconfigr, ..etmv4::Settings::default() }), bytes);
}

pub(crate) fn etmv3(mut bytes: &[u8]) {
    let etmcr = register(&mut bytes);
    flow(Protocol::Etmv3(etmv3::Settings { etmcr, ..etmv3::Settings::default() }), bytes);
}

pub(crate) fn mtb(bytes: &[u8]) {
    flow(Protocol::Mtb(mtb::Settings::default()), bytes);
}

fn text(bytes: &[u8], read: impl FnOnce(&str)) {
    if let Ok(text) = std::str::from_utf8(bytes) {
        read(text);
    }
}

const DESCRIPTION: &str = "
    clock { name = c; freq = 1000000; };
    typealias integer { size = 8; align = 8; } := u8;
    typealias integer { size = 5; align = 1; } := bits;
    typealias integer { size = 32; align = 8; map = clock.c.value; } := time_t;
    trace { major = 1; minor = 8; byte_order = le; packet.header := struct { u8 stream_id; }; };
    stream { id = 0; packet.context := struct { u8 content_size; u8 events_discarded; };
             event.header := struct { u8 id; time_t timestamp; }; };
    event { name = run; id = 0; stream_id = 0; fields := struct { u8 n; u8 list[n]; string name; }; };
    event { name = go; id = 1; stream_id = 0; fields := struct { bits a; bits b;
            enum : u8 { one, two = 2 ... 9 } kind; variant <kind> { u8 one; string two; } v; }; };
";

fn event_trace(description: &str, packets: &[u8]) {
    let settings = weltblick_core::capture::CtfSettings::default();
    let source = Source::new("capture.toml", "");
    let Ok(trace) = EventTrace::new("metadata", description, &settings, source) else { return };
    let mut reading = trace.reading(Origin(0), &[0], 0);
    let mut parts = packets.chunks(61);
    let settings = Settings { keep: 2, window: 48_000, each: false };
    let mut sink =
        (Nesting::new(1.0, InterruptFigures::new(2)), Tracking::new(TaskFigures::new(settings)));
    while let Some(wanted) = reading.wants() {
        match parts.next() {
            Some(part) => reading.push(wanted, part, &mut sink),
            None => reading.finish_file(wanted, &mut sink),
        }
    }
    black_box(sink);
}

pub(crate) fn event_description(bytes: &[u8]) {
    if let Ok(description) = weltblick_core::wire::ctf::metadata_text(bytes) {
        event_trace(&description, &[0; 96]);
    }
}

pub(crate) fn event_packets(bytes: &[u8]) {
    event_trace(DESCRIPTION, bytes);
}

pub(crate) fn manifest(bytes: &[u8]) {
    text(bytes, |text| {
        if let Ok(manifest) = Manifest::parse("capture.toml", text) {
            // What is written is read again.
            let written = manifest.to_toml();
            assert!(Manifest::parse("capture.toml", &written).is_ok(), "{written}");
        }
    });
}

pub(crate) fn budgets(bytes: &[u8]) {
    text(bytes, |text| {
        if let Ok(budgets) = BudgetFile::parse("budgets.toml", text) {
            let image = &*FIRMWARE;
            black_box((
                budgets.figures().count(),
                budgets.verify(image, &InterruptNames::default()).is_ok(),
            ));
        }
    });
}

pub(crate) fn target(bytes: &[u8]) {
    text(bytes, |text| {
        if let Ok(description) = Description::parse("target.toml", text) {
            black_box(weltblick_core::plan::plan(&description, None, &[]).is_ok());
        }
    });
}

pub(crate) fn plan(bytes: &[u8]) {
    text(bytes, |text| drop(black_box(Applied::parse("plan.toml", text))));
}

pub(crate) fn journal(bytes: &[u8]) {
    text(bytes, |text| drop(black_box(parse_journal(text))));
}

/// What a debug stub sends.
pub(crate) fn remote(bytes: &[u8]) {
    let mut framer = packet::Framer::default();
    for received in bytes.iter().filter_map(|&byte| framer.push(byte)) {
        if let Ok(packet::Received::Packet(payload) | packet::Received::Notice(payload)) = received
        {
            black_box(packet::unhex(&payload));
        }
    }
}

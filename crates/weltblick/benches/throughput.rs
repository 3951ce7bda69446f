//! How fast bytes become packets, events and profiles, on one core where nothing else is said, beside a
//! plain copy of the same bytes in the same run. The floors stand in `docs/guide/performance.md`.
//!
//! `cargo bench -p weltblick`

use divan::counter::BytesCount;
use divan::{Bencher, black_box};
use std::ops::Range;
use std::sync::LazyLock;
use weltblick_core::capture::{FlowLine, ItmSettings, Line, Protocol, StreamSpec};
use weltblick_core::event::Origin;
use weltblick_core::flow::{Clocking, Code};
use weltblick_core::image::Image;
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::execution::{BlockCounts, Calls};
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::profile::SampleCounts;
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};
use weltblick_core::wire::itm::{Decoder, Malformed, Packet, Sink};
use weltblick_core::wire::tpiu;
use weltblick_core::wire::{etmv3, etmv4};
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, record};
use weltblick_standin::trace::tpiu::Formatter;
use weltblick_standin::{Machine, Model, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
const SIZE: usize = 64 << 20;

fn main() {
    divan::main();
}

/// Eight seconds of the buoy, again and again: 64 MB.
static STREAM: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let program = Program::parse(FIRMWARE).expect("the demo firmware");
    // A link that loses nothing: figures work hardest where nothing is missing.
    let setup = Setup { link_bit_rate: 40_000_000, link_buffer: 4096, ..Setup::default() };
    let trace = TraceSetup { sample_reload: 0, ..TraceSetup::default() };
    let (_, bytes) = record(&program, setup, trace, 8 * setup.core_clock).expect("it runs");
    bytes.iter().copied().cycle().take(SIZE).collect()
});

/// The same in formatter frames.
static FRAMED: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut formatter = Formatter::new();
    for chunk in STREAM.chunks(4096) {
        formatter.synchronise();
        formatter.write(1, chunk);
    }
    formatter.complete();
    formatter.take()
});

#[derive(Default)]
struct Count {
    packets: u64,
    lost: u64,
}

impl Sink for Count {
    fn packet(&mut self, _: Range<u64>, packet: Packet) {
        black_box(packet);
        self.packets += 1;
    }
    fn loss(&mut self, at: Range<u64>, _: Malformed) {
        self.lost += at.end - at.start;
    }
}

#[divan::bench(sample_count = 10)]
fn plain_copy(bencher: Bencher<'_, '_>) {
    let stream = &*STREAM;
    let mut copy = vec![0; stream.len()];
    bencher.counter(BytesCount::of_slice(stream)).bench_local(|| {
        copy.copy_from_slice(stream);
        black_box(&copy);
    });
}

#[divan::bench(sample_count = 10)]
fn itm_bytes_to_packets(bencher: Bencher<'_, '_>) {
    let stream = &*STREAM;
    bencher.counter(BytesCount::of_slice(stream)).bench_local(|| {
        let mut count = Count::default();
        let mut decoder = Decoder::new();
        for chunk in stream.chunks(256 << 10) {
            decoder.push(chunk, &mut count);
        }
        decoder.finish(&mut count);
        assert!(count.packets > 1_000_000 && count.lost < 100);
    });
}

#[divan::bench(sample_count = 10)]
fn itm_bytes_to_profile(bencher: Bencher<'_, '_>) {
    let stream = &*STREAM;
    let spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    bencher.counter(BytesCount::of_slice(stream)).bench_local(|| {
        let mut counted = (SampleCounts::default(), Recording::default(), Cadences::default());
        let mut line = Line::new(&spec, Origin(0));
        for chunk in stream.chunks(256 << 10) {
            line.push_into(chunk, &mut (), &mut counted);
        }
        line.finish(&mut (), &mut counted);
        assert!(counted.1.samples() > 1_000_000);
    });
}

/// The same stream through everything that `interrupts` and `tasks` state.
#[divan::bench(sample_count = 10)]
fn itm_bytes_to_interrupts_and_tasks(bencher: Bencher<'_, '_>) {
    let stream = &*STREAM;
    let settings = ItmSettings { marks_port: Some(16), ..ItmSettings::default() };
    let spec = StreamSpec::itm(Vec::new(), settings);
    bencher.counter(BytesCount::of_slice(stream)).bench_local(|| {
        let settings = Settings { keep: 5, window: 4_800_000, each: false };
        let interrupts = InterruptFigures::new(5);
        let tracking = Tracking::beside(1.0, TaskFigures::new(settings), interrupts);
        let mut sink = (tracking, Recording::default());
        let mut line = Line::new(&spec, Origin(0));
        for chunk in stream.chunks(256 << 10) {
            line.push_into(chunk, &mut (), &mut sink);
        }
        line.finish(&mut (), &mut sink);
        let (mut tasks, mut figures) = sink.0.finish_both();
        figures.finish();
        assert!(figures.rows().map(|row| row.entries).sum::<u64>() > 1_000_000);
        tasks.finish();
        assert!(tasks.rows().map(|row| row.activations).sum::<u64>() > 10_000);
    });
}

#[divan::bench(sample_count = 10)]
fn tpiu_frames_to_bytes(bencher: Bencher<'_, '_>) {
    #[derive(Default)]
    struct Total(u64);
    impl tpiu::Sink for Total {
        fn data(&mut self, _: tpiu::TraceId, bytes: &[u8], _: u64) {
            self.0 += bytes.len() as u64;
        }
        fn loss(&mut self, _: Range<u64>, _: tpiu::Damage) {}
        fn synchronised(&mut self, _: Range<u64>) {}
    }
    let stream = &*FRAMED;
    bencher.counter(BytesCount::of_slice(stream)).bench_local(|| {
        let mut total = Total::default();
        let mut deframer = tpiu::Deframer::new(tpiu::Start::Anywhere);
        deframer.push(stream, &mut total);
        deframer.finish(&mut total);
        assert_eq!(total.0, SIZE as u64);
    });
}

/// Instruction trace of the buoy at work, again and again, and how many instructions it tells.
static INSTRUCTIONS: LazyLock<(Vec<u8>, u64)> = LazyLock::new(|| instructions(RETURN_STACK, USUAL));

/// The same with a cycle count as soon as four cycles have passed.
static CYCLES: LazyLock<(Vec<u8>, u64)> =
    LazyLock::new(|| instructions(RETURN_STACK | CYCLE_COUNTS, USUAL));

/// The first with a synchronisation every 256 bytes: as often as it gets.
static SYNCHRONISED: LazyLock<(Vec<u8>, u64)> = LazyLock::new(|| instructions(RETURN_STACK, 8));

/// `TRCSYNCPR`: a synchronisation every 1024 bytes.
const USUAL: u32 = 10;
/// Bits of `TRCCONFIGR`.
const RETURN_STACK: u32 = 1 | 1 << 12;
const CYCLE_COUNTS: u32 = 1 << 4;

fn instructions(trcconfigr: u32, synchronises: u32) -> (Vec<u8>, u64) {
    let program = Program::parse(FIRMWARE).expect("the demo firmware");
    let setup = Setup { model: Model::CortexM7, link_bit_rate: 10_000_000_000, ..Setup::default() };
    let mut machine = Machine::new(&program, setup).expect("it fits");
    const ETM: u32 = 0xe004_1000;
    for (address, value) in [
        (0xe000_edfc, 1 << 24),
        (ETM + 0x010, trcconfigr),
        (ETM + 0x034, synchronises),
        (ETM + 0x038, 4),
        (ETM + 0x080, 1 | 1 << 9),
        (ETM + 0x004, 1),
    ] {
        machine.poke(address, 4, value).expect("debug registers answer");
    }
    machine.run(8 * setup.core_clock);
    let bytes = machine.take_trace();
    let told = machine.trace().etm().segments().iter().map(|segment| segment.told).sum::<u64>();
    let copies = 100_000_000_u64.div_ceil(told);
    (bytes.repeat(copies as usize), told * copies)
}

#[divan::bench(sample_count = 10)]
fn instruction_trace_to_packets(bencher: Bencher<'_, '_>) {
    #[derive(Default)]
    struct Atoms(u64);
    impl weltblick_core::wire::Sink<etmv4::Packet> for Atoms {
        fn packet(&mut self, _: Range<u64>, packet: etmv4::Packet) {
            if let etmv4::Packet::Atoms(atoms) = packet {
                self.0 += u64::from(atoms.count);
            }
        }
        fn loss(&mut self, _: Range<u64>, _: Malformed) {}
    }
    let (stream, _) = &*INSTRUCTIONS;
    bencher.counter(BytesCount::of_slice(stream)).bench_local(|| {
        let mut atoms = Atoms::default();
        let mut decoder = etmv4::Decoder::new(etmv4::Settings::default());
        decoder.push(stream, &mut atoms);
        decoder.finish(&mut atoms);
        assert!(atoms.0 > 10_000_000);
    });
}

/// Items are instructions.
#[divan::bench(sample_count = 10)]
fn instruction_trace_to_counts(bencher: Bencher<'_, '_>) {
    let (stream, instructions) = &*INSTRUCTIONS;
    println!("{:.3} bytes an instruction", stream.len() as f64 / *instructions as f64);
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    bencher.counter(divan::counter::ItemsCount::new(*instructions)).bench_local(|| {
        let mut counts = BlockCounts::default();
        let code = follow(&image, stream, etmv4(RETURN_STACK), &mut counts);
        let tally = counts.into_tally(&code);
        let ran = tally.runs.iter().map(|(run, counts)| run.instructions * (counts[0] + counts[1]));
        assert!(ran.sum::<u64>() > *instructions * 9 / 10);
    });
}

/// Counts of a trace that synchronises as often as it can.
#[divan::bench(sample_count = 10)]
fn instruction_trace_to_counts_synchronised_often(bencher: Bencher<'_, '_>) {
    let (stream, instructions) = &*SYNCHRONISED;
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    bencher.counter(divan::counter::ItemsCount::new(*instructions)).bench_local(|| {
        let mut counts = BlockCounts::default();
        let code = follow(&image, stream, etmv4(RETURN_STACK), &mut counts);
        assert!(counts.into_tally(&code).instructions() > *instructions * 9 / 10);
    });
}

/// The same, with calls, and who called whom.
#[divan::bench(sample_count = 10)]
fn instruction_trace_to_counts_and_calls(bencher: Bencher<'_, '_>) {
    let (stream, instructions) = &*INSTRUCTIONS;
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    bencher.counter(divan::counter::ItemsCount::new(*instructions)).bench_local(|| {
        let mut sink = (BlockCounts::default(), Calls::new(&image, Clocking::Nothing));
        follow(&image, stream, etmv4(RETURN_STACK), &mut sink);
        let (_, mut calls) = sink;
        calls.finish();
        assert!(calls.instructions() > *instructions * 9 / 10);
    });
}

/// The exact profile: counts, calls, and the time of each of them.
#[divan::bench(sample_count = 10)]
fn instruction_trace_with_cycles_to_profile(bencher: Bencher<'_, '_>) {
    let (stream, instructions) = &*CYCLES;
    println!("{:.3} bytes an instruction", stream.len() as f64 / *instructions as f64);
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    bencher.counter(divan::counter::ItemsCount::new(*instructions)).bench_local(|| {
        let mut sink = (BlockCounts::default(), Calls::new(&image, Clocking::Cycles));
        follow(&image, stream, etmv4(RETURN_STACK | CYCLE_COUNTS), &mut sink);
        let (_, mut calls) = sink;
        calls.finish();
        assert!(calls.instructions() > *instructions * 9 / 10);
    });
}

/// The same; one core reads, and the other follows calls.
#[divan::bench(sample_count = 10)]
fn instruction_trace_with_cycles_to_profile_on_two_cores(bencher: Bencher<'_, '_>) {
    let (stream, instructions) = &*CYCLES;
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    bencher.counter(divan::counter::ItemsCount::new(*instructions)).bench_local(|| {
        let (_, mut calls) = Calls::new(&image, Clocking::Cycles).apart(|ahead| {
            let mut sink = (BlockCounts::default(), ahead);
            follow(&image, stream, etmv4(RETURN_STACK | CYCLE_COUNTS), &mut sink);
            sink.0
        });
        calls.finish();
        assert!(calls.instructions() > *instructions * 9 / 10);
    });
}

fn etmv4(trcconfigr: u32) -> Protocol {
    Protocol::Etmv4(etmv4::Settings { trcconfigr, ..etmv4::Settings::default() })
}

fn follow<'a>(
    image: &'a Image,
    stream: &[u8],
    protocol: Protocol,
    sink: &mut impl weltblick_core::flow::Sink,
) -> Code<'a> {
    let mut spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    spec.sources[0].protocol = protocol;
    let mut line = FlowLine::new(&spec, 0, image).expect("an instruction trace");
    for chunk in stream.chunks(256 << 10) {
        line.push_into(chunk, sink);
    }
    line.finish(sink)
}

/// The same work as an ETMv3 tells it, an atom for every instruction, again and again; without cycles.
static ATOMS: LazyLock<(Vec<u8>, u64)> = LazyLock::new(|| {
    let program = Program::parse(FIRMWARE).expect("the demo firmware");
    let setup = Setup { link_bit_rate: 10_000_000_000, ..Setup::default() };
    let mut machine = Machine::new(&program, setup).expect("it fits");
    const ETM: u32 = 0xe004_1000;
    for (address, value) in [(0xe000_edfc, 1 << 24), (ETM + 0x020, 0x6f), (ETM, 0)] {
        machine.poke(address, 4, value).expect("debug registers answer");
    }
    machine.run(2 * setup.core_clock);
    let bytes = machine.take_trace();
    let told = machine.trace().etm().segments().iter().map(|segment| segment.told).sum::<u64>();
    let copies = 100_000_000_u64.div_ceil(told);
    (bytes.repeat(copies as usize), told * copies)
});

#[divan::bench(sample_count = 10)]
fn atoms_of_every_instruction_to_counts(bencher: Bencher<'_, '_>) {
    let (stream, instructions) = &*ATOMS;
    println!("{:.3} bytes an instruction", stream.len() as f64 / *instructions as f64);
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    bencher.counter(divan::counter::ItemsCount::new(*instructions)).bench_local(|| {
        let mut counts = BlockCounts::default();
        let protocol = Protocol::Etmv3(etmv3::Settings::default());
        let code = follow(&image, stream, protocol, &mut counts);
        let tally = counts.into_tally(&code);
        assert!(tally.instructions() > *instructions * 9 / 10);
    });
}

#[divan::bench]
fn function_at_address(bencher: Bencher<'_, '_>) {
    let image = Image::parse(FIRMWARE).expect("the demo firmware");
    let addresses: Vec<u64> = (0..1024).map(|n| 0x0800_0058 + n * 6).collect();
    bencher.counter(divan::counter::ItemsCount::new(addresses.len())).bench_local(|| {
        for &address in &addresses {
            black_box(image.function_at(black_box(address)));
        }
    });
}

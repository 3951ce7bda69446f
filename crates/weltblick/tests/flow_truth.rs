//! Executed instructions, held against those that the stand-in executed.

use weltblick_core::flow::{Block, Etmv4Flow, Gap, Moment, MtbFlow, Sink};
use weltblick_core::image::Image;
use weltblick_core::isa::{Isa, instruction_length};
use weltblick_core::wire::etmv4::{Decoder, Settings};
use weltblick_core::wire::mtb;
use weltblick_standin::machine::Setup;
use weltblick_standin::trace::{Manners, TailChain};
use weltblick_standin::{Machine, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");

/// Base of the trace unit's registers, and some of them.
const ETM: u32 = 0xe004_1000;

/// `TRCCONFIGR` bits.
const CYCLE_COUNTS: u32 = 1 << 4;
const BROADCAST: u32 = 1 << 3;
const TIMESTAMPS: u32 = 1 << 11;
const RETURN_STACK: u32 = 1 << 12;

/// How it is traced.
#[derive(Debug, Clone, Copy)]
struct Trace {
    config: u32,
    /// Bytes between synchronisations, as a power of two.
    sync: u32,
    bit_rate: u64,
    manners: Manners,
    /// Further registers.
    more: &'static [(u32, u32)],
}

impl Default for Trace {
    fn default() -> Self {
        Self {
            config: 1 | RETURN_STACK,
            sync: 10,
            bit_rate: 10_000_000_000,
            manners: Manners::default(),
            more: &[],
        }
    }
}

/// A machine that ran so many cycles from reset, and its instruction trace.
fn record(trace: Trace, cycles: u64) -> (Machine, Vec<u8>) {
    let program = Program::parse(FIRMWARE).unwrap();
    let setup = Setup { link_bit_rate: trace.bit_rate, ..Setup::default() };
    let mut machine = Machine::new(&program, setup).unwrap();
    machine.keep_addresses();
    machine.trace_mut().etm_mut().manners = trace.manners;
    let registers = [
        (0xe000_edfc, 1 << 24),
        (ETM + 0x010, trace.config),
        (ETM + 0x034, trace.sync),
        (ETM + 0x038, 4),
        (ETM + 0x040, 2),
        (ETM + 0x080, 1 | 1 << 9),
    ];
    for (address, value) in registers.iter().chain(trace.more) {
        machine.poke(*address, 4, *value).unwrap();
    }
    machine.poke(ETM + 0x004, 4, 1).unwrap();
    machine.run(cycles);
    let bytes = machine.take_trace();
    (machine, bytes)
}

/// The addresses of all instructions that ran, gap by gap.
struct Executed<'a> {
    image: &'a Image,
    segments: Vec<Vec<u32>>,
    gaps: Vec<(u64, Gap)>,
    cycles: u64,
    lost: bool,
}

impl<'a> Executed<'a> {
    fn new(image: &'a Image) -> Self {
        Self { image, segments: Vec::new(), gaps: Vec::new(), cycles: 0, lost: true }
    }

    fn push(&mut self, start: u64, until: u64) {
        let segment = self.segments.last_mut().expect("it arrived somewhere");
        let bytes = self.image.instructions_from(start).unwrap();
        let mut at = start;
        while at < until {
            segment.push(at as u32);
            at += instruction_length(Isa::Thumb, &bytes[(at - start) as usize..]).unwrap();
        }
    }
}

impl Sink for Executed<'_> {
    fn ran(&mut self, block: &Block, _: bool) {
        self.push(block.start, block.after());
    }
    fn ran_part(&mut self, block: &Block, until: u64, _: u32) {
        self.push(block.start, until);
    }
    fn arrived(&mut self, _: &Block) {
        if std::mem::take(&mut self.lost) {
            self.segments.push(Vec::new());
        }
    }
    fn moment(&mut self, offset: u64, moment: &Moment) {
        match *moment {
            Moment::Gap(gap) => {
                self.gaps.push((offset, gap));
                self.lost = true;
            }
            Moment::Cycles(cycles) => self.cycles += u64::from(cycles.unwrap()),
            _ => {}
        }
    }
}

fn follow<'a>(image: &'a Image, config: u32, bytes: &[u8]) -> Executed<'a> {
    let settings = Settings { trcconfigr: config, ..Settings::default() };
    let mut executed = Executed::new(image);
    let mut flow = Etmv4Flow::new(image, &settings);
    let mut decoder = Decoder::new(settings);
    decoder.push(bytes, &mut flow.feeding(&mut executed));
    decoder.finish(&mut flow.feeding(&mut executed));
    flow.finish(&mut executed);
    executed
}

/// Every segment is what the trace unit told, instruction for instruction.
fn compare(machine: &Machine, executed: &Executed<'_>) -> usize {
    let truth = machine.truth().addresses.as_ref().unwrap();
    let told = machine.trace().etm().segments.iter().filter(|segment| segment.told > 0);
    let told: Vec<_> = told.collect();
    let found: Vec<_> = executed.segments.iter().filter(|found| !found.is_empty()).collect();
    for (number, (found, told)) in found.iter().zip(&told).enumerate() {
        let first = told.first as usize;
        let truth = &truth[first..first + told.told as usize];
        if found.as_slice() != truth {
            let place = found.iter().zip(truth).take_while(|(a, b)| a == b).count();
            let near = |list: &[u32]| {
                list.iter()
                    .skip(place.saturating_sub(4))
                    .take(8)
                    .map(|a| format!("{a:x}"))
                    .collect::<Vec<_>>()
            };
            panic!(
                "segment {number}: {} instructions instead of {}, equal up to {place}: {:?} instead of {:?}; gaps {:?}",
                found.len(),
                truth.len(),
                near(found),
                near(truth),
                &executed.gaps[..executed.gaps.len().min(5)],
            );
        }
    }
    assert_eq!(found.len(), told.len(), "segments; gaps {:?}", executed.gaps);
    found.iter().map(|segment| segment.len()).sum()
}

fn image() -> Image {
    Image::parse(FIRMWARE).unwrap()
}

/// Records, follows and compares: how many instructions were told, and what was recorded.
fn check(trace: Trace, cycles: u64) -> (usize, Vec<(u64, Gap)>, Vec<u8>) {
    let image = image();
    let (machine, bytes) = record(trace, cycles);
    let executed = follow(&image, trace.config, &bytes);
    let instructions = compare(&machine, &executed);
    println!("{instructions} instructions in {} bytes, {} gaps", bytes.len(), executed.gaps.len());
    (instructions, executed.gaps, bytes)
}

#[test]
fn every_instruction_is_found() {
    let (instructions, gaps, bytes) = check(Trace::default(), 40_000_000);
    assert!(instructions > 4_000_000, "{instructions}");
    assert_eq!(gaps, []);
    assert!(bytes.len() * 4 < instructions, "more than 2 bits an instruction");
}

#[test]
fn whatever_is_switched_on_instructions_are_the_same() {
    for config in [
        1,
        1 | BROADCAST,
        1 | CYCLE_COUNTS,
        1 | TIMESTAMPS | RETURN_STACK,
        1 | CYCLE_COUNTS | TIMESTAMPS | RETURN_STACK | BROADCAST,
    ] {
        for sync in [0, 8, 12] {
            let (_, gaps, _) = check(Trace { config, sync, ..Trace::default() }, 3_000_000);
            assert_eq!(gaps, [], "{config:#x}");
        }
    }
}

#[test]
fn cycle_counts_add_up() {
    let trace = Trace { config: 1 | CYCLE_COUNTS, ..Trace::default() };
    let (machine, bytes) = record(trace, 3_000_000);
    let executed = follow(&image(), trace.config, &bytes).cycles;
    let cycles = machine.cycle();
    // From the first instruction to the last branch.
    assert!(executed <= cycles && executed + 10_000 > cycles, "{executed} of {cycles}");
}

#[test]
fn tail_chained_exceptions_may_carry_any_address() {
    for tail_chain in [TailChain::ReturnValue, TailChain::Stacked, TailChain::StackedAfter] {
        for config in [1, 1 | RETURN_STACK] {
            let manners = Manners { tail_chain, ..Manners::default() };
            let (_, gaps, _) = check(Trace { config, manners, ..Trace::default() }, 20_000_000);
            assert_eq!(gaps, [], "{tail_chain:?}");
        }
    }
}

#[test]
fn after_an_overflow_it_goes_on() {
    for overflow_synchronises in [true, false] {
        for config in [1 | RETURN_STACK, 1 | CYCLE_COUNTS | TIMESTAMPS] {
            let manners = Manners { overflow_synchronises, ..Manners::default() };
            let trace = Trace { config, bit_rate: 3_000_000, manners, ..Trace::default() };
            let (instructions, gaps, _) = check(trace, 20_000_000);
            let overflows = gaps.iter().filter(|(_, gap)| *gap == Gap::Overflow).count();
            assert!(overflows > 20 && instructions > 40_000, "{overflows}, {instructions}");
            assert_eq!(gaps.len(), overflows, "{gaps:?}");
        }
    }
}

/// `DWT_COMPn`, `DWT_MASKn`, `DWT_FUNCTIONn` of a comparator that watches instructions.
fn comparator(number: u32, address: u64, mask: u32) -> [(u32, u32); 3] {
    let base = 0xe000_1020 + 16 * number;
    [(base, address as u32), (base + 4, mask), (base + 8, 0b1000)]
}

#[test]
fn windows_and_ranges_are_unwatched_and_not_lost() {
    let image = image();
    let function = |name: &str| image.function(image.functions_named(name)[0]).range.clone();
    let (start, stop) = (function("spectrum_power").start, function("systick_handler").start);
    let between = [
        &comparator(0, start, 0)[..],
        &comparator(1, stop, 0)[..],
        &[(ETM + 0x080, 1), (ETM + 0x08c, 0b10 << 16 | 0b01)][..],
    ]
    .concat();
    // 1 KiB of code around it, and everything else.
    let inside = [
        &comparator(0, start & !0x3ff, 10)[..],
        &[(ETM + 0x080, 2 | 1 << 9), (ETM + 0x208, 1 << 16 | 0b01)][..],
    ]
    .concat();
    let outside = [
        &comparator(0, start & !0x3ff, 10)[..],
        &[(ETM + 0x080, 2 | 1 << 9), (ETM + 0x208, 1 << 20 | 1 << 16 | 0b01)][..],
    ]
    .concat();
    for more in [between, inside, outside] {
        let trace = Trace { more: more.leak(), ..Trace::default() };
        let (instructions, gaps, _) = check(trace, 20_000_000);
        assert!(instructions > 5_000 && gaps.len() > 3, "{instructions}, {}", gaps.len());
        assert!(gaps.iter().all(|(_, gap)| *gap == Gap::Unwatched), "{gaps:?}");
    }
}

/// Whether `found` stands in `truth`, from some place after `from` on; where it ends.
fn stands_in(found: &[u32], truth: &[u32], from: usize) -> Option<usize> {
    let start = truth[from..].windows(found.len()).position(|window| window == found)?;
    Some(from + start + found.len())
}

#[test]
fn a_recording_may_start_and_end_anywhere() {
    let image = image();
    let (machine, bytes) = record(Trace::default(), 8_000_000);
    let truth = machine.truth().addresses.as_ref().unwrap();
    for cut in [1, 777, 1_500, 9_001] {
        let executed = follow(&image, 1 | RETURN_STACK, &bytes[cut..bytes.len() - cut]);
        assert_eq!(executed.segments.len(), 1, "{:?}", executed.gaps);
        assert!(stands_in(&executed.segments[0], truth, 0).is_some(), "{cut}");
        let damage = |(_, gap): &(u64, Gap)| matches!(gap, Gap::Damaged { .. });
        assert!(executed.gaps.iter().all(damage), "{:?}", executed.gaps);
        assert!(executed.gaps.len() <= 2);
    }
}

/// Damage costs instructions up to the next synchronisation, and is told. A damaged atom can be as
/// good as a real one: then what runs is wrong until image and packets contradict each other.
#[test]
fn a_damaged_byte_costs_up_to_the_next_synchronisation() {
    let image = image();
    let (machine, bytes) = record(Trace::default(), 8_000_000);
    let truth = machine.truth().addresses.as_ref().unwrap();
    let whole = follow(&image, 1 | RETURN_STACK, &bytes);
    let sync = [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80];
    let mut told = 0;
    for round in 1..60 {
        let mut damaged = bytes.clone();
        let place = round * bytes.len() / 61;
        damaged[place] ^= 1 << (round % 8) | 0x10;
        let next = place + bytes[place + 12..].windows(12).position(|w| w == sync).unwrap();
        let executed = follow(&image, 1 | RETURN_STACK, &damaged);
        // What was read before the byte and after the synchronisation is the same.
        let before = follow(&image, 1 | RETURN_STACK, &bytes[..place]).segments.concat();
        let after = follow(&image, 1 | RETURN_STACK, &bytes[next..]).segments.concat();
        let all = executed.segments.concat();
        assert!(all.starts_with(&before), "round {round}");
        assert!(all.ends_with(&after), "round {round}");
        told += usize::from(!executed.gaps.is_empty());
        assert!(executed.gaps.len() <= 4, "round {round}: {:?}", executed.gaps);
    }
    assert!(told > 30, "{told} of 59");
    assert!(stands_in(&whole.segments[0], truth, 0).is_some());
}

#[test]
fn another_image_is_told_at_its_first_contradiction() {
    let (_, bytes) = record(Trace::default(), 2_000_000);
    // The same file with a function's branches moved: nops at the start of one that runs.
    let image = image();
    let range = image.function(image.functions_named("spectrum_power")[0]).range.clone();
    let code = image.instructions_from(range.start).unwrap()[..32].to_vec();
    let place = FIRMWARE.windows(32).position(|window| window == code).unwrap();
    let mut other = FIRMWARE.to_vec();
    for half in other[place..place + 64].chunks_exact_mut(2) {
        half.copy_from_slice(&0xbf00_u16.to_le_bytes());
    }
    let other = Image::parse(&other).unwrap();
    let executed = follow(&other, 1 | RETURN_STACK, &bytes);
    assert!(
        matches!(executed.gaps.first(), Some((_, Gap::Mismatch(_)))),
        "{:?}",
        executed.gaps.first()
    );
}

/// Registers of the micro trace buffer, and where it writes.
const MTB: u32 = 0xe004_3000;
const BUFFER: u32 = 0x2001_0000;

/// The buffer's bytes after so many cycles, the oldest packet first.
fn record_branches(cycles: u64, size_code: u32) -> (Machine, Vec<u8>) {
    let program = Program::parse(FIRMWARE).unwrap();
    let mut machine = Machine::new(&program, Setup::default()).unwrap();
    machine.keep_addresses();
    machine.poke(MTB, 4, BUFFER - 0x2000_0000).unwrap();
    machine.poke(MTB + 4, 4, 1 << 31 | size_code).unwrap();
    machine.run(cycles);
    let position = machine.peek(MTB, 4).unwrap();
    let size = 16 << size_code;
    let written = (position & !7) - (BUFFER - 0x2000_0000);
    let (start, length) = if position & 4 != 0 { (written, size) } else { (0, written) };
    let word = |at: u32| BUFFER + (start + at) % size;
    let words: Vec<u32> =
        (0..length).step_by(4).map(|at| machine.peek(word(at), 4).unwrap()).collect();
    (machine, words.iter().flat_map(|word| word.to_le_bytes()).collect())
}

#[test]
fn a_micro_trace_buffer_tells_the_same() {
    let image = image();
    // Not full, and wrapped many times.
    for (cycles, size_code, at_least) in [(60_000, 11, 5_000), (5_000_000, 11, 8_000)] {
        let (machine, bytes) = record_branches(cycles, size_code);
        let truth = machine.truth().addresses.as_ref().unwrap();
        let mut executed = Executed::new(&image);
        let mut flow = MtbFlow::new(&image);
        let mut decoder = mtb::Decoder::new();
        decoder.push(&bytes, &mut flow.feeding(&mut executed));
        decoder.finish(&mut flow.feeding(&mut executed));
        assert_eq!(executed.gaps, []);
        let [found] = executed.segments.as_slice() else { panic!("{}", executed.segments.len()) };
        assert!(found.len() > at_least, "{}", found.len());
        assert!(stands_in(found, truth, 0).is_some(), "{cycles}");
    }
}

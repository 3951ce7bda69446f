//! Executed instructions, held against those that the stand-in executed.

use weltblick_core::flow::{Block, Etmv4Flow, Gap, Moment, Sink};
use weltblick_core::image::Image;
use weltblick_core::isa::{Isa, instruction_length};
use weltblick_core::wire::etmv4::{Decoder, Settings};
use weltblick_standin::machine::Setup;
use weltblick_standin::trace::Manners;
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
    fn ran_part(&mut self, block: &Block, until: u64) {
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

#[test]
fn every_instruction_is_found() {
    let image = Image::parse(FIRMWARE).unwrap();
    let (machine, bytes) = record(Trace::default(), 12_000_000);
    let executed = follow(&image, 1 | RETURN_STACK, &bytes);
    let instructions = compare(&machine, &executed);
    println!("{instructions} instructions in {} bytes", bytes.len());
    assert_eq!(executed.segments.len(), 1);
    assert!(instructions > 1_000_000, "{instructions}");
}

//! ETMv3, held against what the stand-in executed.

use crate::executed::{Executed, FIRMWARE, comparator, compare, image, stands_in};
use crate::recording::{self, ETM, FAST, Told};
use weltblick_core::flow::{Clocking, Etmv3Flow, Gap, Sink};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{AtTime, History, Place, What};
use weltblick_core::wire::etmv3::{Decoder, Settings};
use weltblick_standin::Machine;
use weltblick_standin::trace::Fitted;
use weltblick_standin::trace::etmv3::{Etm, Manners};

/// Registers of the trace unit.
const ETMTEEVR: u32 = ETM + 0x020;
const ETMTECR1: u32 = ETM + 0x024;
const ETMSYNCFR: u32 = ETM + 0x1e0;
const ETMTESSEICR: u32 = ETM + 0x1f0;

/// `ETMCR` bits.
const BROADCAST: u32 = 1 << 8;
const CYCLES: u32 = 1 << 12;
const TIMESTAMPS: u32 = 1 << 28;

/// How it is traced.
#[derive(Debug, Clone, Copy)]
struct Trace {
    etmcr: u32,
    sync: u32,
    bit_rate: u64,
    manners: Manners,
    /// Further registers.
    more: &'static [(u32, u32)],
}

impl Default for Trace {
    fn default() -> Self {
        let manners = Manners::default();
        Self { etmcr: 0, sync: 1024, bit_rate: FAST, manners, more: &[] }
    }
}

/// Everything that implementations may do differently, at once.
const ODD: Manners = Manners {
    cancels: true,
    sync_is_target: true,
    return_after_address: true,
    folds: true,
    original_branches: true,
};

/// A machine that ran so many cycles from reset, and its instruction trace.
fn record(trace: Trace, cycles: u64) -> (Machine, Vec<u8>) {
    let registers = [(ETMTEEVR, 0x6f), (ETMSYNCFR, trace.sync)];
    let registers = [&registers, trace.more, &[(ETM, trace.etmcr)]].concat();
    let unit = Fitted::Etmv3(Etm::new(trace.manners));
    recording::record(unit, trace.bit_rate, &registers, cycles)
}

pub(crate) fn follow<'a>(
    image: &'a Image,
    etmcr: u32,
    original_branches: bool,
    bytes: &[u8],
) -> Executed<'a> {
    let etmidr = if original_branches { 0x4104_f250 } else { 0x4114_f250 };
    let told = Told::Etmv3(Settings { etmcr, etmidr, ..Settings::default() });
    let mut executed = Executed::new(image);
    told.follow(image, &[], (bytes, 0), &mut executed);
    executed
}

/// Records, follows and compares: how many instructions were told, and what was recorded.
fn check(trace: Trace, cycles: u64) -> (usize, Vec<(u64, Gap)>, Vec<u8>) {
    let image = image();
    let (machine, bytes) = record(trace, cycles);
    let executed = follow(&image, trace.etmcr, trace.manners.original_branches, &bytes);
    let instructions = compare(&machine, &executed, 1);
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
    for etmcr in [0, BROADCAST, CYCLES, TIMESTAMPS, CYCLES | TIMESTAMPS | BROADCAST] {
        for manners in [Manners::default(), ODD] {
            for sync in [0, 256, 1024] {
                let trace = Trace { etmcr, sync, manners, ..Trace::default() };
                let (instructions, gaps, _) = check(trace, 3_000_000);
                assert!(instructions > 300_000, "{instructions}");
                assert!(gaps.is_empty(), "{trace:?}");
            }
        }
    }
}

#[test]
fn cycles_add_up() {
    for manners in [Manners::default(), ODD] {
        let trace = Trace { etmcr: CYCLES, manners, ..Trace::default() };
        let (machine, bytes) = record(trace, 3_000_000);
        let executed = follow(&image(), CYCLES, manners.original_branches, &bytes).cycles;
        let cycles = machine.cycle();
        // From the first instruction to the last one that was sent.
        assert!(executed <= cycles && executed + 10_000 > cycles, "{executed} of {cycles}");
    }
}

#[test]
fn after_an_overflow_it_goes_on() {
    for etmcr in [0, CYCLES | TIMESTAMPS] {
        for manners in [Manners::default(), ODD] {
            let trace = Trace { etmcr, bit_rate: 12_000_000, manners, ..Trace::default() };
            let (instructions, gaps, _) = check(trace, 20_000_000);
            let overflows = gaps.iter().filter(|(_, gap)| *gap == Gap::Overflow).count();
            assert!(overflows > 20 && instructions > 20_000, "{overflows}, {instructions}");
            assert_eq!(gaps.len(), overflows, "{:?}", &gaps[..5]);
        }
    }
}

#[test]
fn windows_and_ranges_are_unwatched_and_not_lost() {
    let image = image();
    let function = |name: &str| image.function(image.functions_named(name)[0]).range.clone();
    let (start, stop) = (function("spectrum_power").start, function("systick_handler").start);
    let range = comparator(0, start & !0x3ff, 10);
    let between = [
        &comparator(0, start, 0)[..],
        &comparator(1, stop, 0),
        &[(ETMTECR1, 1 << 25), (ETMTESSEICR, 0b10 << 16 | 0b01)],
    ]
    .concat();
    let inside = [&range[..], &[(ETMTEEVR, 0x20)]].concat();
    let outside = [&range[..], &[(ETMTEEVR, 1 << 14 | 0x20)]].concat();
    for more in [between, inside, outside] {
        let trace = Trace { more: more.leak(), ..Trace::default() };
        let (instructions, gaps, _) = check(trace, 20_000_000);
        assert!(instructions > 5_000 && gaps.len() > 3, "{instructions}, {}", gaps.len());
        assert!(gaps.iter().all(|(_, gap)| *gap == Gap::Unwatched), "{gaps:?}");
    }
}

#[test]
fn a_recording_may_start_and_end_anywhere() {
    let image = image();
    let (machine, bytes) = record(Trace::default(), 8_000_000);
    let truth = machine.truth().addresses.as_ref().unwrap();
    for cut in [1, 777, 1_500, 9_001] {
        let executed = follow(&image, 0, false, &bytes[cut..bytes.len() - cut]);
        assert_eq!(executed.segments.len(), 1, "{:?}", executed.gaps);
        assert!(stands_in(&executed.segments[0], truth, 0).is_some(), "{cut}");
        let damage = |(_, gap): &(u64, Gap)| matches!(gap, Gap::Damaged { .. });
        assert!(executed.gaps.iter().all(damage) && executed.gaps.len() <= 2);
    }
}

/// Damage costs instructions up to the next synchronisation, and is told unless the damaged packet is as
/// good as a real one; then what runs is wrong until image and packets contradict each other.
#[test]
fn a_damaged_byte_costs_up_to_the_next_synchronisation() {
    let image = image();
    let (_, bytes) = record(Trace::default(), 8_000_000);
    let sync = [0, 0, 0, 0, 0, 0x80, 0x08];
    let mut told = 0;
    for round in 1..60 {
        let mut damaged = bytes.clone();
        let place = round * bytes.len() / 61;
        damaged[place] ^= 1 << (round % 8) | 0x10;
        let next = place + bytes[place + 7..].windows(7).position(|w| w == sync).unwrap();
        let executed = follow(&image, 0, false, &damaged);
        // What was read before the byte and after the synchronisation is the same.
        let before = follow(&image, 0, false, &bytes[..place]).segments.concat();
        let after = follow(&image, 0, false, &bytes[next..]).segments.concat();
        let all = executed.segments.concat();
        // The last atom before it may have waited for what was damaged.
        assert!(all.starts_with(&before[..before.len() - 1]), "round {round}");
        assert!(all.ends_with(&after), "round {round}");
        told += usize::from(!executed.gaps.is_empty());
        assert!(executed.gaps.len() <= 4, "round {round}: {:?}", executed.gaps);
    }
    assert!(told > 50, "{told} of 59");
}

/// Which instructions of `it` blocks had no effect, one by one.
#[test]
fn conditions_are_told() {
    use weltblick_core::flow::Block;
    #[derive(Default)]
    struct Skipped(Vec<u64>);
    impl Sink for Skipped {
        fn ran(&mut self, _: &Block, _: bool) {}
        fn skipped(&mut self, address: u64) {
            self.0.push(address);
        }
    }
    let image = image();
    let (machine, bytes) = record(Trace::default(), 8_000_000);
    let mut skipped = Skipped::default();
    Told::etmv3(0).follow(&image, &[], (&bytes, 0), &mut skipped);
    let addresses = machine.truth().addresses.as_ref().unwrap();
    let truth = machine.truth().passed_over.iter();
    let truth: Vec<u64> = truth.map(|&number| addresses[number as usize].into()).collect();
    assert!(truth.len() > 100, "{}", truth.len());
    assert!(truth.starts_with(&skipped.0) && truth.len() <= skipped.0.len() + 1);
}

/// Tells a sink what ran, with the cycles of each instruction.
fn step_by_step(image: &Image, bytes: &[u8], sink: &mut impl Sink) {
    let settings = Settings { etmcr: CYCLES, ..Settings::default() };
    let mut flow = Etmv3Flow::new(image, &settings);
    flow.time_each_instruction();
    let mut decoder = Decoder::new(settings);
    decoder.push(bytes, &mut flow.feeding(sink));
    decoder.finish(&mut flow.feeding(sink));
    flow.finish(sink);
}

/// The address of the instruction that runs after so many ticks.
fn ran_at(ticks: u64, image: &Image, bytes: &[u8]) -> u32 {
    let mut then = AtTime::new(Clocking::Cycles, ticks);
    step_by_step(image, bytes, &mut then);
    let then = then.found().expect("within the recording");
    let place = Place::Byte(then.offset);
    let mut history = History::new(image, Clocking::Cycles, place, then.skip, [4, 4]);
    step_by_step(image, bytes, &mut history);
    let (steps, hit) = history.steps().unwrap();
    assert!(steps[hit].ticks <= Some(ticks) && then.instructions == 0);
    match steps[hit].what {
        What::Ran { start, .. } => start as u32,
        other => panic!("{other:?}"),
    }
}

/// Whoever asks what ran at a time gets the instruction that the machine was executing then, or waited in.
#[test]
fn what_ran_at_a_time_is_what_the_machine_executed_then() {
    const LENGTH: u64 = 3_000_000;
    let image = image();
    let (_, bytes) = record(Trace { etmcr: CYCLES, ..Trace::default() }, LENGTH);
    let unit = Fitted::Etmv3(Etm::new(Manners::default()));
    let mut machine = recording::traced(FIRMWARE, unit, FAST, &[(ETM, CYCLES)]);
    let executed = |machine: &Machine| *machine.truth().addresses.as_ref().unwrap().last().unwrap();
    machine.run(1);
    // The trace counts from the cycle before the first instruction was done.
    let origin = machine.cycle() - 1;
    let (mut during, mut between) = (0, 0);
    for ticks in (1000..LENGTH - 20_000).step_by(49_991) {
        machine.run(origin + ticks + 1);
        let told = ran_at(ticks, &image, &bytes);
        if executed(&machine) == told {
            during += 1;
        } else {
            // An exception is entered or left between two instructions: then it is the next one.
            machine.run(machine.cycle() + 1);
            assert_eq!(executed(&machine), told, "{ticks}");
            between += 1;
        }
    }
    assert!(during > 50 && between < 5, "{during} {between}");
}

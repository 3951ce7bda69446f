//! ETMv4, held against what the stand-in executed.

use crate::executed::{Executed, FIRMWARE, comparator, compare, image, stands_in};
use crate::recording::{self, ETM, FAST, Told};
use weltblick_core::flow::Gap;
use weltblick_core::image::Image;
use weltblick_standin::Machine;
use weltblick_standin::trace::Fitted;
use weltblick_standin::trace::etmv4::{Etm, Manners, TailChain};

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
            bit_rate: FAST,
            manners: Manners::default(),
            more: &[],
        }
    }
}

/// A machine that ran so many cycles from reset, and its instruction trace.
fn record(trace: Trace, cycles: u64) -> (Machine, Vec<u8>) {
    let registers = [
        (ETM + 0x010, trace.config),
        (ETM + 0x034, trace.sync),
        (ETM + 0x038, 4),
        (ETM + 0x040, 2),
        (ETM + 0x080, 1 | 1 << 9),
    ];
    let registers = [&registers, trace.more, &[(ETM + 0x004, 1)]].concat();
    let unit = Fitted::Etmv4(Etm::new(trace.manners));
    recording::record(unit, trace.bit_rate, &registers, cycles)
}

fn follow<'a>(image: &'a Image, config: u32, bytes: &[u8]) -> Executed<'a> {
    let mut executed = Executed::new(image);
    Told::Etmv4(config).follow(image, &[], (bytes, 0), &mut executed);
    executed
}

/// Records, follows and compares: how many instructions were told, and what was recorded.
fn check(trace: Trace, cycles: u64) -> (usize, Vec<(u64, Gap)>, Vec<u8>) {
    let image = image();
    let (machine, bytes) = record(trace, cycles);
    let executed = follow(&image, trace.config, &bytes);
    let instructions = compare(&machine, &executed, 0);
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
            assert_eq!(gaps.len(), overflows, "{:?}", &gaps[..5]);
        }
    }
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

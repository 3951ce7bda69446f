//! Exceptions, sleep and trace, on programs of a few instructions.

use weltblick_standin::core::cycles;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, record};
use weltblick_standin::{Machine, Program, Stop};

const BASE: u32 = 0x0800_0000;
const MAIN: u32 = 0x100;
const HANDLERS: u32 = 0x140;
const LITERAL: u32 = 0x1f8;
/// Requests interrupts by software.
const SET_PENDING: u32 = 0xe000_e200;
const ENABLE: u32 = 0xe000_e100;
const PRIORITY: u32 = 0xe000_e400;

const NOP: u16 = 0xbf00;
const WFI: u16 = 0xbf30;
const HALT: u16 = 0xbe00;
const RETURN: u16 = 0x4770;
const MASK: u16 = 0xb672; // cpsid i
const UNMASK: u16 = 0xb662; // cpsie i

/// `movs r1, #bits` and `str r1, [r0]`, where r0 holds the address of the pending register.
fn request(bits: u8) -> [u16; 2] {
    [0x2100 | u16::from(bits), 0x6001]
}

/// `ldr r0, [pc, #...]`: the literal, from an instruction at `at`.
fn load_literal(at: u32) -> u16 {
    0x4800 | ((LITERAL - ((at + 4) & !3)) / 4) as u16
}

/// A program with `main` and the handlers of interrupts 0, 1 and so on, 32 bytes each.
fn program(main: &[u16], handlers: &[&[u16]]) -> Program {
    let mut bytes = vec![0_u8; 0x200];
    let mut word = |at: u32, value: u32| {
        bytes[at as usize..at as usize + 4].copy_from_slice(&value.to_le_bytes());
    };
    word(0, 0x2000_4000);
    word(4, BASE + MAIN + 1);
    for number in 0..handlers.len() as u32 {
        word(4 * (16 + number), BASE + HANDLERS + 32 * number + 1);
    }
    word(LITERAL, SET_PENDING);
    let mut code = |at: u32, halves: &[u16]| {
        for (place, half) in (at as usize..).step_by(2).zip(halves) {
            bytes[place..place + 2].copy_from_slice(&half.to_le_bytes());
        }
    };
    code(MAIN, main);
    for (number, handler) in (0..).zip(handlers) {
        code(HANDLERS + 32 * number, handler);
    }
    Program::from_bytes(BASE, bytes)
}

/// A machine with all interrupts on, and these priorities.
fn machine(program: &Program, priorities: &[u8]) -> Machine {
    let mut machine = Machine::new(program, Setup::default()).unwrap();
    machine.poke(ENABLE, 4, 0xff).unwrap();
    for (line, &priority) in (0..).zip(priorities) {
        machine.poke(PRIORITY + line, 1, priority.into()).unwrap();
    }
    machine
}

fn numbers(machine: &Machine) -> Vec<u16> {
    machine.truth().exceptions.iter().map(|record| record.number).collect()
}

#[test]
fn the_more_urgent_goes_first_and_the_other_follows_at_once() {
    let [set, store] = request(0b11);
    let main = [load_literal(MAIN), set, store, NOP, HALT];
    let program = program(&main, &[&[NOP, RETURN], &[NOP, NOP, RETURN]]);
    let mut machine = machine(&program, &[0x40, 0x20]);
    assert!(matches!(machine.run(10_000), Stop::Breakpoint { .. }));
    assert_eq!(numbers(&machine), [17, 16], "interrupt 1 has the smaller number");
    let [first, second] = machine.truth().exceptions[..] else { panic!("two exceptions") };
    assert_eq!(second.entered - first.left.unwrap(), u64::from(cycles::TAIL_CHAIN));
    assert_eq!(first.requested, second.requested);
}

#[test]
fn equal_priorities_go_by_number_and_do_not_preempt() {
    let [set, store] = request(0b10);
    let main = [load_literal(MAIN), set, store, NOP, HALT];
    let [again, put] = request(0b01);
    let requester = [load_literal(HANDLERS + 32), again, put, NOP, NOP, RETURN];
    let program = program(&main, &[&[RETURN], &requester]);
    let mut machine = machine(&program, &[0x40, 0x40]);
    machine.run(10_000);
    let [outer, inner] = machine.truth().exceptions[..] else { panic!("two exceptions") };
    assert_eq!((outer.number, inner.number), (17, 16));
    assert!(inner.requested < outer.left.unwrap() && inner.entered > outer.left.unwrap());
}

#[test]
fn the_more_urgent_preempts_and_everything_is_restored() {
    let [set, store] = request(0b10);
    // movs r2, #42 before, so that its survival shows.
    let main = [0x222a, load_literal(MAIN + 2), set, store, NOP, HALT];
    let [again, put] = request(0b01);
    let requester = [load_literal(HANDLERS + 32), again, put, NOP, NOP, RETURN];
    // movs r2, #1; movs r1, #0: registers that the hardware saved.
    let program = program(&main, &[&[0x2201, 0x2100, RETURN], &requester]);
    let mut machine = machine(&program, &[0x20, 0x40]);
    machine.run(10_000);
    let [outer, inner] = machine.truth().exceptions[..] else { panic!("two exceptions") };
    assert_eq!((outer.number, inner.number), (17, 16));
    assert!(inner.left.unwrap() < outer.left.unwrap(), "nested");
    assert_eq!((machine.regs.r[2], machine.regs.r[1]), (42, 0b10));
    assert_eq!(machine.regs.r[13], 0x2000_4000);
}

#[test]
fn masked_interrupts_wait_but_wake_a_sleeping_core() {
    let [set, store] = request(0b01);
    let main = [MASK, load_literal(MAIN + 2), set, store, WFI, NOP, UNMASK, NOP, HALT];
    let program = program(&main, &[&[RETURN]]);
    let mut machine = machine(&program, &[0]);
    assert!(matches!(machine.run(10_000), Stop::Breakpoint { .. }));
    let [record] = machine.truth().exceptions[..] else { panic!("one exception") };
    assert!(record.entered - record.requested > u64::from(cycles::ENTRY) + 4, "{record:?}");
}

#[test]
fn what_cannot_go_on_says_why() {
    let run = |main: &[u16]| {
        let mut machine = Machine::new(&program(main, &[]), Setup::default()).unwrap();
        machine.run(1000).to_string()
    };
    assert_eq!(
        run(&[0xde00]),
        "0xde000000 at 0x08000100 is no instruction that the stand-in executes"
    );
    assert_eq!(run(&[WFI]), "asleep at 0x08000102 for ever");
    // ldr r0, [r1] with r1 = 0; bx r0 with r0 = 0.
    assert_eq!(run(&[0x6808]), "at 0x08000100: read of address 0x00000000, where there is nothing");
    assert_eq!(run(&[0x4700]), "at 0x08000100: branch to 0x00000000, which lacks the thumb bit");
}

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");

#[test]
fn runs_are_repeatable_and_the_truth_adds_up() {
    let program = Program::parse(FIRMWARE).unwrap();
    let run = || record(&program, Setup::default(), TraceSetup::default(), 5_000_000).unwrap();
    let ((first, bytes), (_, again)) = (run(), run());
    assert_eq!(bytes, again);
    let truth = first.truth();
    assert_eq!(truth.cycles_in(0x0800_0000, 0x0808_0000) + truth.asleep, truth.total);
    assert_eq!(truth.total, first.cycle());
    let other = Setup { seed: 2, ..Setup::default() };
    let (_, weather) = record(&program, other, TraceSetup::default(), 5_000_000).unwrap();
    assert_ne!(bytes, weather, "another seed is another sea");
}

#[test]
fn a_narrow_link_overflows_by_itself_and_a_wide_one_does_not() {
    let program = Program::parse(FIRMWARE).unwrap();
    let dropped = |link_bit_rate, link_buffer| {
        let setup = Setup { link_bit_rate, link_buffer, ..Setup::default() };
        let (machine, bytes) = record(&program, setup, TraceSetup::default(), 10_000_000).unwrap();
        // Nothing leaves faster than the link carries it, but for what the buffer still holds.
        let carried = 10_000_000 * link_bit_rate / setup.core_clock / 10;
        assert!(bytes.len() as u64 <= carried + link_buffer + 8);
        machine.trace().dropped
    };
    assert_eq!(dropped(20_000_000, 1024), 0);
    assert!(dropped(500_000, 64) > 100);
}

#[test]
fn a_debugger_stops_it_resets_it_and_leaves_no_trace() {
    use weltblick_standin::machine::Setup;
    use weltblick_standin::{Machine, Program, Stop};
    const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
    let program = Program::parse(FIRMWARE).unwrap();
    let (filter, _) = program.symbol("wave_filter").unwrap();
    let mut machine = Machine::new(&program, Setup::default()).unwrap();
    let start = machine.regs.pc;
    machine.set_break(filter, true);
    assert_eq!(machine.run(u64::MAX), Stop::Break { pc: filter });
    let reached = machine.cycle();
    // The register that tells the program counter, and memory as the debugger sees it.
    assert_eq!(machine.peek(0xe000_101c, 4), Ok(filter));
    assert!(machine.peek(0x9000_0000, 4).is_err());
    machine.set_break(filter, false);
    assert_eq!(machine.run(reached + 100_000), Stop::Limit);
    // Time goes on over a reset, the core does not.
    machine.reset();
    assert_eq!((machine.regs.pc, machine.truth().total), (start, 0));
    assert!(machine.cycle() >= reached + 100_000);
    // Cut into small pieces it does the same as in one.
    let mut pieces = Machine::new(&program, Setup::default()).unwrap();
    let mut whole = Machine::new(&program, Setup::default()).unwrap();
    for limit in (0..2_000_000).step_by(777) {
        assert_eq!(pieces.run(limit), Stop::Limit);
    }
    whole.run(2_000_000);
    pieces.run(2_000_000);
    assert_eq!(pieces.regs.r, whole.regs.r);
    assert_eq!(
        (pieces.truth().asleep, pieces.truth().instructions),
        (whole.truth().asleep, whole.truth().instructions)
    );
}

#[test]
fn the_firmware_may_ask_for_a_reset() {
    use weltblick_standin::machine::Setup;
    use weltblick_standin::{Machine, Program, Stop};
    const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
    let program = Program::parse(FIRMWARE).unwrap();
    let mut machine = Machine::new(&program, Setup::default()).unwrap();
    machine.run(10_000);
    machine.poke(0xe000_ed0c, 4, 0x0000_0004).unwrap();
    assert!(!machine.wants_reset(), "without its key nothing happens");
    machine.poke(0xe000_ed0c, 4, 0x05fa_0004).unwrap();
    assert!(machine.wants_reset());
    assert_eq!(machine.run(20_000), Stop::Reset);
}

//! The stand-in's instructions against an independent emulator, stepped side by side through its
//! debug stub: registers and flags are equal after every instruction.

mod stub;

use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::TestRunner;
use std::io::Write as _;
use stub::Emulator;
use weltblick_standin::core::{Instruction, Op, Registers, decode};
use weltblick_standin::machine::Setup;
use weltblick_standin::{Machine, Program};

const PROGRAM: &[u8] = include_bytes!("../isa/isa.elf");
/// Flags, IT state and exception number: what both sides define.
const STATUS: u32 = 0xfe00_fdff;

/// The emulator, or a loud word that the test was left out.
fn emulator(test: &str) -> Option<Emulator> {
    let elf = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/isa/isa.elf");
    let found = Emulator::start(elf);
    if found.is_none() {
        assert!(
            std::env::var_os("CI").is_none(),
            "{test}: qemu-system-arm is missing, and CI must not leave this test out"
        );
        // Past the test runner's capture: nobody shall overlook it.
        let text = format!("\n!!! {test} WAS LEFT OUT: qemu-system-arm is not installed !!!\n\n");
        let _ = std::io::stderr().write_all(text.as_bytes());
    }
    found
}

fn registers_of(regs: &Registers) -> [u32; 17] {
    let mut all = [0; 17];
    all[..15].copy_from_slice(&regs.r[..15]);
    all[15] = regs.pc;
    all[16] = regs.xpsr() & STATUS;
    all
}

#[test]
fn a_compiled_program_runs_alike_instruction_by_instruction() {
    let Some(mut emulator) = emulator("THE SIDE-BY-SIDE RUN") else { return };
    let program = Program::parse(PROGRAM).unwrap();
    let mut machine = Machine::new(&program, Setup::default()).unwrap();
    let (done, _) = program.symbol("isa_done").unwrap();
    let start = emulator.registers();
    machine.regs.r[..15].copy_from_slice(&start[..15]);
    machine.regs.set_xpsr(start[16]);
    let mut steps = 0_u32;
    while machine.regs.pc != done {
        let pc = machine.regs.pc;
        machine.step().unwrap_or_else(|stop| panic!("after {steps} steps: {stop}"));
        emulator.step();
        steps += 1;
        let (ours, theirs) = (registers_of(&machine.regs), masked(emulator.registers()));
        assert_eq!(ours, theirs, "after the instruction at {pc:#010x}, step {steps}");
        assert!(steps < 100_000, "it never ends");
    }
    assert!(steps > 5_000, "only {steps} steps");
    for address in (0x2000_0000_u32..0x2000_0400).step_by(4) {
        let ours = machine.peek(address, 4).unwrap();
        assert_eq!(ours, emulator.word(address), "memory at {address:#010x}");
    }
}

fn masked(mut registers: [u32; 17]) -> [u32; 17] {
    registers[16] &= STATUS;
    registers
}

/// Rare kinds of operation get their turn too.
const MOST_OF_A_KIND: u32 = 700;
/// Where random instructions are put: behind the program, in memory of both sides.
const PLACE: u32 = 0x0000_8000;

#[test]
fn random_instructions_on_random_registers_run_alike() {
    let Some(mut emulator) = emulator("THE TEST OF RANDOM INSTRUCTIONS") else { return };
    let program = Program::parse(PROGRAM).unwrap();
    let mut runner = TestRunner::deterministic();
    let instruction = proptest::prop_oneof![
        1 => (0_u16..0xe800, 0_u16..),
        2 => (0xea00_u16..0xec00, 0_u16..0x8000),
        2 => (0xf000_u16..0xf800, 0_u16..0x8000),
        2 => (0xfa00_u16..0xfb00, 0xf000_u16..),
        2 => (0xfb00_u16..0xfc00, 0_u16..),
    ];
    let values = proptest::array::uniform13(proptest::prop_oneof![
        2 => proptest::num::u32::ANY,
        1 => 0_u32..40,
        1 => (0_u32..3).prop_map(|offset| 0x8000_0000_u32.wrapping_sub(1).wrapping_add(offset)),
    ]);
    let mut compared = 0;
    let mut seen: std::collections::HashMap<_, u32> = std::collections::HashMap::new();
    while compared < 4_000 {
        let (first, second) = instruction.new_tree(&mut runner).unwrap().current();
        let Some(decoded) = decode(PLACE, first, second) else { continue };
        if !is_comparable(&decoded, first, second) {
            continue;
        }
        let kind = seen.entry(std::mem::discriminant(&decoded.op)).or_default();
        if *kind == MOST_OF_A_KIND {
            continue;
        }
        *kind += 1;
        let registers = values.new_tree(&mut runner).unwrap().current();
        let status = (first.rotate_left(7) as u32 & 0xf8) << 24;
        let mut machine = machine_at(&program, first, second);
        machine.regs.r[..13].copy_from_slice(&registers);
        machine.regs.set_apsr(status);
        emulator.write_code(PLACE, first, second);
        emulator.set(&registers, machine.regs.r[13], machine.regs.r[14], PLACE, status | 1 << 24);
        let before = machine.regs.clone();
        machine.step().unwrap_or_else(|stop| panic!("{first:#06x} {second:#06x}: {stop}"));
        emulator.step();
        let (ours, theirs) = (registers_of(&machine.regs), masked(emulator.registers()));
        assert_eq!(ours, theirs, "{first:#06x} {second:#06x} {decoded:?}\nfrom {before:x?}");
        compared += 1;
    }
    assert!(seen.len() >= 11, "only these kinds of operation were compared: {seen:?}");
}

/// A machine about to execute the given halfwords.
fn machine_at(program: &Program, first: u16, second: u16) -> Machine {
    let mut program = program.clone();
    let code = [first.to_le_bytes(), second.to_le_bytes()].concat();
    program.segments.push((PLACE, code));
    let mut machine = Machine::new(&program, Setup::default()).unwrap();
    machine.regs.pc = PLACE;
    machine
}

/// Operations on registers alone, in encodings that the manual does not call unpredictable: none
/// of them touches the stack pointer or the program counter, and reserved bits are as they should
/// be.
fn is_comparable(instruction: &Instruction, first: u16, second: u16) -> bool {
    let plain = |registers: &[u8]| registers.iter().all(|&register| register < 13);
    let fields = [first & 0xf, second >> 12 & 0xf, second >> 8 & 0xf, second & 0xf];
    // In 32-bit encodings every register field must be an ordinary one, used or not.
    let ordinary = |fields: &[u16]| fields.iter().all(|&field| field < 13);
    match instruction.op {
        Op::Alu { rd, rn, .. } if instruction.length == 2 => {
            plain(&[rd, rn]) && first >> 8 != 0x46 && first >> 10 != 0x11
        }
        Op::ShiftByRegister { .. } | Op::Multiply { .. } | Op::Unary { .. }
            if instruction.length == 2 =>
        {
            true
        }
        Op::Alu { rd, rn, .. } => {
            // Shifted registers need bit 15 clear; constants must not be zero patterns.
            plain(&[rd])
                && (rn < 13 || rn == 15)
                && second >> 15 == 0
                && fields[3] < 13
                && ordinary(&[fields[2]])
                && constant_is_defined(first, second)
        }
        Op::MoveTop { rd, .. } => plain(&[rd]),
        Op::SignedField { rd, rn, lsb, width } | Op::UnsignedField { rd, rn, lsb, width } => {
            plain(&[rd, rn]) && lsb + width <= 32 && field_bits_are_zero(first, second)
        }
        Op::InsertField { rd, rn, .. } => {
            plain(&[rd]) && (rn < 13 || rn == 15) && field_bits_are_zero(first, second)
        }
        Op::Saturate { rd, rn, bits, .. } => {
            plain(&[rd, rn]) && bits > 0 && saturation_is_defined(first, second)
        }
        Op::ShiftByRegister { .. } | Op::LongMultiply { .. } => {
            ordinary(&fields[..1]) && ordinary(&fields[2..]) && distinct(instruction)
        }
        Op::Multiply { .. } | Op::MultiplyAdd { .. } => {
            ordinary(&fields[..1]) && ordinary(&fields[2..]) && (fields[1] < 13 || fields[1] == 15)
        }
        Op::Divide { .. } => ordinary(&fields[..1]) && ordinary(&fields[2..]) && fields[1] == 15,
        Op::Unary { .. } => {
            ordinary(&fields[2..])
                && (fields[0] == fields[3] || fields[0] == 15)
                && unary_is_defined(first, second)
        }
        _ => false,
    }
}

/// Modified constants that replicate a zero byte are unpredictable; shifted registers have none.
fn constant_is_defined(first: u16, second: u16) -> bool {
    let is_modified = first >> 11 == 0b11110 && first >> 9 & 1 == 0;
    let replicated = first >> 10 & 1 == 0 && second >> 12 & 0b100 == 0;
    !(is_modified && replicated && second >> 12 & 0b11 != 0 && second & 0xff == 0)
}

fn field_bits_are_zero(first: u16, second: u16) -> bool {
    first >> 10 & 1 == 0 && second >> 5 & 1 == 0
}

/// A shift by ASR #0 encodes another instruction.
fn saturation_is_defined(first: u16, second: u16) -> bool {
    let amount = second >> 10 & 0b11100 | second >> 6 & 0b11;
    field_bits_are_zero(first, second) && !(first >> 5 & 1 == 1 && amount == 0)
}

/// Extensions rotate and name no second operand; byte reversals name their operand twice.
fn unary_is_defined(first: u16, second: u16) -> bool {
    let is_extension = first >> 7 & 1 == 0;
    if is_extension {
        first & 0xf == 15 && second >> 6 & 1 == 0
    } else {
        first & 0xf == second & 0xf
    }
}

/// A long multiply's two results are different registers.
fn distinct(instruction: &Instruction) -> bool {
    match instruction.op {
        Op::LongMultiply { low, high, .. } => low != high && low < 13,
        _ => true,
    }
}

//! Any firmware file is an answer, any code runs or stops with a reason, nothing panics.

use proptest::collection::vec;
use proptest::prelude::*;
use weltblick_standin::core::{Instruction, Op, decode};
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{RecordError, TraceSetup, record};
use weltblick_standin::{Machine, Program, ProgramError, Stop};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");

#[test]
fn lengths_follow_from_the_first_halfword() {
    for first in 0..=u16::MAX {
        let wide = first >> 11 >= 0b11101;
        for second in [0x0000, 0x8000, 0xf000, 0xffff] {
            if let Some(Instruction { length, .. }) = decode(0x100, first, second) {
                assert_eq!(length == 4, wide, "{first:#06x}");
            }
        }
    }
}

#[test]
fn branches_reach_as_far_as_the_manual_says() {
    let target = |first, second| match decode(0x0100_0000, first, second).unwrap().op {
        Op::Branch { target } | Op::BranchIf { target, .. } | Op::BranchLink { target } => {
            target.wrapping_sub(0x0100_0004) as i32
        }
        Op::CompareBranch { target, .. } => target.wrapping_sub(0x0100_0004) as i32,
        other => panic!("{other:?}"),
    };
    for (first, second, offset) in [
        (0xe3ff, 0, 2046),
        (0xe400, 0, -2048),
        (0xd07f, 0, 254),
        (0xd080, 0, -256),
        (0xb3f8, 0, 126),
        (0xf3ff, 0xd7ff, 0x00ff_fffe),
        (0xf7ff, 0xffff, -2),
        (0xf43f, 0xafff, -2),
    ] {
        assert_eq!(target(first, second), offset, "{first:#06x} {second:#06x}");
    }
}

#[test]
fn what_is_no_firmware_is_refused_with_a_reason() {
    assert!(matches!(Program::parse(b"not an ELF file"), Err(ProgramError::Unreadable(_))));
    let mut other = FIRMWARE.to_vec();
    other[18] = 243; // e_machine: RISC-V
    assert_eq!(Program::parse(&other).unwrap_err(), ProgramError::NotArm);
    let large = Program::from_bytes(0x0800_0000, vec![0; 600 * 1024]);
    let error = Machine::new(&large, Setup::default()).unwrap_err();
    assert!(error.to_string().contains("does not fit the flash"));
}

#[test]
fn a_recording_of_firmware_that_stops_says_why() {
    // Stack pointer, reset vector, and an undefined instruction.
    let code = [0x2000_1000_u32, 0x0800_0009, 0xde00_de00];
    let bytes = code.iter().flat_map(|word| word.to_le_bytes()).collect();
    let program = Program::from_bytes(0x0800_0000, bytes);
    let error = record(&program, Setup::default(), TraceSetup::default(), 1000).unwrap_err();
    assert!(matches!(error, RecordError::Stopped(Stop::Undefined { pc: 0x0800_0008, .. })));
    assert!(error.to_string().contains("no instruction that the stand-in executes"));
}

#[test]
fn a_field_beyond_its_register_is_no_instruction() {
    // SBFX and UBFX with lsb 14 and 19 bits.
    for first in [0xf340_u16, 0xf3c0] {
        let code = [0x2000_1000_u32, 0x0800_0009, u32::from(first) | 0x3092 << 16];
        let bytes = code.iter().flat_map(|word| word.to_le_bytes()).collect();
        let program = Program::from_bytes(0x0800_0000, bytes);
        let error = record(&program, Setup::default(), TraceSetup::default(), 1000).unwrap_err();
        assert!(matches!(error, RecordError::Stopped(Stop::Undefined { pc: 0x0800_0008, .. })));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn any_code_runs_or_stops(code in vec(any::<u16>(), 1..200), registers in any::<[u32; 8]>()) {
        let mut bytes: Vec<u8> =
            [0x2000_4000_u32, 0x0800_0041].iter().flat_map(|word| word.to_le_bytes()).collect();
        bytes.resize(0x40, 0);
        bytes.extend(code.iter().flat_map(|half| half.to_le_bytes()));
        let program = Program::from_bytes(0x0800_0000, bytes);
        let mut machine = Machine::new(&program, Setup::default()).unwrap();
        for (address, value) in TraceSetup::default().registers() {
            machine.poke(address, 4, value).unwrap();
        }
        machine.regs.r[..8].copy_from_slice(&registers);
        let stop = machine.run(20_000);
        prop_assert!(!stop.to_string().is_empty());
        let truth = machine.truth();
        prop_assert_eq!(truth.total, machine.cycle(), "every cycle is accounted for");
    }

    #[test]
    fn any_damage_to_firmware_is_an_answer(
        places in vec((any::<proptest::sample::Index>(), any::<u8>()), 1..30),
        keep in any::<proptest::sample::Index>(),
        cut in any::<bool>(),
    ) {
        let mut bytes = FIRMWARE.to_vec();
        for (place, value) in places {
            let at = place.index(bytes.len());
            bytes[at] = value;
        }
        if cut {
            bytes.truncate(keep.index(bytes.len()));
        }
        if let Ok(program) = Program::parse(&bytes)
            && let Ok(mut machine) = Machine::new(&program, Setup::default())
        {
            machine.run(20_000);
        }
    }
}

//! Held against an independent disassembler, and against listings made by hand.

use super::{IfThen, Indirect, Instruction, Kind, decode};
use capstone::arch::arm::{ArchExtraMode, ArchMode};
use capstone::prelude::*;

const HERE: u64 = 0x0800_1000;

fn disassembler() -> Capstone {
    let mut disassembler = Capstone::new()
        .arm()
        .mode(ArchMode::Thumb)
        .extra_mode([ArchExtraMode::MClass, ArchExtraMode::V8].into_iter())
        .build()
        .unwrap();
    disassembler.set_skipdata(false).unwrap();
    disassembler
}

/// What the disassembler's text says; `None` where it knows no such instruction.
fn said(disassembler: &Capstone, bytes: [u8; 4]) -> Option<(Instruction, String)> {
    let found = disassembler.disasm_count(&bytes, HERE, 1).ok()?;
    let one = found.iter().next()?;
    let (mnemonic, operands) = (one.mnemonic()?, one.op_str().unwrap_or(""));
    // With this destination the wide `add` is unpredictable (A7.7.4): no branch.
    let short = if mnemonic == "add.w" { mnemonic } else { mnemonic.trim_end_matches(".w") };
    let kind = meaning(short, operands);
    Some((Instruction { length: one.len() as u8, kind }, format!("{mnemonic} {operands}")))
}

fn meaning(mnemonic: &str, operands: &str) -> Kind {
    let target = || {
        let number = operands.rsplit('#').next().unwrap();
        u64::from_str_radix(number.trim_start_matches("0x"), 16).unwrap()
    };
    let first = operands.split(',').next().unwrap().trim();
    match mnemonic {
        "b" => Kind::Jump { target: target(), conditional: false },
        "cbz" | "cbnz" => Kind::Jump { target: target(), conditional: true },
        "bl" => Kind::Call { target: target() },
        "blx" | "blxns" => Kind::Indirect(Indirect::Call),
        "bx" | "bxns" if first == "lr" => Kind::Indirect(Indirect::Return),
        "bx" | "bxns" => Kind::Indirect(Indirect::Jump),
        "mov" if operands == "pc, lr" => Kind::Indirect(Indirect::Return),
        "mov" | "add" | "ldr" if first == "sp" && sets_stack(operands) => Kind::SetsStack,
        "msr" if matches!(first, "msp" | "psp" | "msp_ns" | "psp_ns" | "sp_ns") => Kind::SetsStack,
        "mov" | "add" if first == "pc" => Kind::Indirect(Indirect::Jump),
        "tbb" | "tbh" => Kind::Indirect(Indirect::Table),
        "pop" if operands.contains("pc") => Kind::Indirect(Indirect::Return),
        "ldm" | "ldmdb" if operands.contains("pc}") => {
            let stack = mnemonic == "ldm" && first.trim_end_matches('!') == "sp";
            Kind::Indirect(if stack { Indirect::Return } else { Indirect::Jump })
        }
        "ldr" if operands == "pc, [sp], #4" => Kind::Indirect(Indirect::Return),
        "ldr" if first == "pc" => Kind::Indirect(Indirect::Jump),
        "isb" => Kind::Barrier,
        "wfi" | "wfe" => Kind::Wait,
        "svc" => Kind::Supervisor,
        "bkpt" | "udf" | "trap" => Kind::Trap,
        it if it.starts_with("it")
            && it[2..].bytes().all(|letter| matches!(letter, b't' | b'e')) =>
        {
            Kind::IfThen(IfThen::NONE)
        }
        short if short.len() == 3 && short.starts_with('b') && operands.starts_with('#') => {
            Kind::Jump { target: target(), conditional: true }
        }
        _ => Kind::Plain,
    }
}

/// From a register or from memory, and not only by a constant.
fn sets_stack(operands: &str) -> bool {
    !operands.contains('#') || operands.contains('[')
}

/// IT states are held against each other elsewhere: here only that there is one.
fn without_state(instruction: Instruction) -> Instruction {
    match instruction.kind {
        Kind::IfThen(_) => Instruction { kind: Kind::IfThen(IfThen::NONE), ..instruction },
        _ => instruction,
    }
}

/// Whether the disassembler knows the instruction, and if so whether it says something else.
fn compare(disassembler: &Capstone, first: u16, second: u16) -> Option<Result<(), String>> {
    let [a, b] = first.to_le_bytes();
    let [c, d] = second.to_le_bytes();
    let bytes = [a, b, c, d];
    let ours = decode(HERE, &bytes).unwrap();
    let (theirs, text) = said(disassembler, bytes)?;
    let ours = without_state(ours);
    Some(if ours == theirs {
        Ok(())
    } else {
        Err(format!("{first:04x} {second:04x} `{text}`: {ours:?}, not {theirs:?}"))
    })
}

/// Compares all of them; at least so many must be known to the disassembler.
fn compare_all(encodings: impl Iterator<Item = (u16, u16)>, at_least: usize) {
    let disassembler = disassembler();
    let compared: Vec<_> =
        encodings.filter_map(|(first, second)| compare(&disassembler, first, second)).collect();
    let wrong: Vec<_> = compared.iter().filter_map(|result| result.as_ref().err()).collect();
    assert!(wrong.is_empty(), "{} differ: {:#?}", wrong.len(), &wrong[..wrong.len().min(40)]);
    assert!(compared.len() >= at_least, "only {} are known", compared.len());
}

#[test]
fn all_16_bit_encodings_agree_with_a_disassembler() {
    compare_all((0..0xe800).map(|half| (half, 0xbf00)), 57_000);
}

#[test]
fn many_32_bit_encodings_agree_with_a_disassembler() {
    let mut state = 0x2545_f491_4f6c_dd1d_u64;
    let random = move |round| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        let (first, second) = (state as u16 | 0xe800, (state >> 16) as u16);
        match round % 4 {
            // Branches and control, and loads to the program counter, come too seldom by chance.
            0 => (first & 0x07ff | 0xf000, second | 0x8000),
            1 => (first & 0x07ff | 0xf800, second | 0xf000),
            2 => (first & 0x01ff | 0xe800, second | 0x8000),
            _ => (first | 0xf000 * u16::from(first & 0x1800 == 0), second),
        }
    };
    compare_all((0..400_000).map(random), 150_000);
}

#[test]
fn knows_what_the_disassembler_does_not() {
    let kind = |first: u16, second: u16| {
        let [a, b] = first.to_le_bytes();
        let [c, d] = second.to_le_bytes();
        decode(HERE, &[a, b, c, d]).unwrap().kind
    };
    // `le lr, HERE - 8`: the distance from the program counter, which reads as HERE + 4, is 12.
    let back = |conditional| Kind::Jump { target: HERE - 8, conditional };
    assert_eq!(kind(0xf00f, 0xc007), back(true));
    assert_eq!(kind(0xf02f, 0xc007), back(false));
    // `wls lr, r3, HERE + 14`: an odd number of halfwords has its lowest bit apart.
    assert_eq!(kind(0xf043, 0xc805), Kind::Jump { target: HERE + 14, conditional: true });
    // `dls lr, r3` goes nowhere.
    assert_eq!(kind(0xf043, 0xe001), Kind::Plain);
    // `bxns r3`, `blxns r3`.
    assert_eq!(kind(0x471c, 0), Kind::Indirect(Indirect::Jump));
    assert_eq!(kind(0x479c, 0), Kind::Indirect(Indirect::Call));
}

#[test]
fn conditions_last_as_long_as_their_block() {
    // `ite eq` covers two, `itttt ne` four; `it al` makes nothing conditional.
    for (half, covered, conditional) in
        [(0xbf0c_u16, 2, true), (0xbf1f, 4, true), (0xbf08, 1, true), (0xbfe8, 1, false)]
    {
        let instruction = decode(HERE, &half.to_le_bytes()).unwrap();
        let Kind::IfThen(mut state) = instruction.kind else { panic!("{instruction:?}") };
        assert_eq!(state.left(), covered, "{half:#06x}");
        for _ in 0..covered {
            assert!(state.is_active());
            assert_eq!(state.is_conditional(), conditional);
            state = state.advance();
        }
        assert_eq!(state, IfThen::NONE);
    }
}

#[test]
fn what_is_cut_off_is_none() {
    for cut in [&[][..], &[0x00], &[0x00, 0xf0], &[0x00, 0xf0, 0x00]] {
        assert_eq!(decode(HERE, cut), None);
    }
}

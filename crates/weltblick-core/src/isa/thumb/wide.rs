//! 32-bit instructions (DDI 0403E, A5.3).

use super::{Indirect, Kind, offset, signed};

/// What the instruction of these two halfwords does to the program flow.
pub(super) fn kind(address: u64, first: u16, second: u16) -> Kind {
    match first >> 9 {
        // Load and store multiple, dual and exclusive, table branches.
        0b111_0100 => load_multiple_or_table(first, second),
        // Load word, and its neighbours.
        0b111_1100 => load(first, second),
        0b111_1000..=0b111_1011 if second & 0x8000 != 0 => control(address, first, second),
        // `mov.w sp, rm`: the only move to it of 32 bits (A7.7.77, encoding T3).
        0b111_0101 if first & 0xffef == 0xea4f && second & 0xfff0 == 0x0d00 => Kind::SetsStack,
        _ => Kind::Plain,
    }
}

const PC: u16 = 15;
const SP: u16 = 13;

/// `ldm`, `pop.w` (A5.3.5) and `tbb`, `tbh` (A5.3.6).
const fn load_multiple_or_table(first: u16, second: u16) -> Kind {
    let increments = first & 0xffd0 == 0xe890;
    let decrements = first & 0xffd0 == 0xe910;
    if (increments || decrements) && second & 0x8000 != 0 {
        let from_stack = increments && first & 0xf == SP;
        return Kind::Indirect(if from_stack { Indirect::Return } else { Indirect::Jump });
    }
    if first & 0xfff0 == 0xe8d0 && second & 0xffe0 == 0xf000 {
        return Kind::Indirect(Indirect::Table);
    }
    Kind::Plain
}

/// `ldr` to the program counter or the stack pointer (A5.3.7): immediate, literal or register.
const fn load(first: u16, second: u16) -> Kind {
    let to = second >> 12;
    if to != PC && to != SP {
        return Kind::Plain;
    }
    let literal = first & 0xff7f == 0xf85f;
    let long_offset = first & 0xfff0 == 0xf8d0;
    let short = first & 0xfff0 == 0xf850;
    // P, U and W say how: P and W both clear is no instruction, P and U without W is `ldrt`.
    let indexed =
        short && second & 0x0800 != 0 && second & 0x0500 != 0 && second & 0x0f00 != 0x0e00;
    let by_register = short && second & 0x0fc0 == 0;
    if !(literal || long_offset || indexed || by_register) {
        return Kind::Plain;
    }
    if to == SP {
        return Kind::SetsStack;
    }
    // `ldr pc, [sp], #4` is how a single register is popped.
    let popped = indexed && first & 0xf == SP && second & 0x0fff == 0xb04;
    Kind::Indirect(if popped { Indirect::Return } else { Indirect::Jump })
}

/// Branches and miscellaneous control (A5.3.4).
fn control(address: u64, first: u16, second: u16) -> Kind {
    match (second >> 14 & 1, second >> 12 & 1) {
        (0, 0) if first >> 6 & 0xe != 0xe => {
            Kind::Jump { target: conditional_target(address, first, second), conditional: true }
        }
        (0, 0) => miscellaneous(first, second),
        (0, _) => Kind::Jump { target: target(address, first, second), conditional: false },
        (_, 1) => Kind::Call { target: target(address, first, second) },
        _ => low_overhead_loop(address, first, second),
    }
}

/// `b<cond>.w`: 21 bits of distance.
const fn conditional_target(address: u64, first: u16, second: u16) -> u64 {
    let (first, second) = (first as u32, second as u32);
    let distance = (first >> 10 & 1) << 19
        | (second >> 11 & 1) << 18
        | (second >> 13 & 1) << 17
        | (first & 0x3f) << 11
        | second & 0x7ff;
    offset(address, signed(distance, 20) * 2)
}

/// `b.w`, `bl`: 25 bits of distance; two of them are inverted unless the sign is set.
const fn target(address: u64, first: u16, second: u16) -> u64 {
    let (first, second) = (first as u32, second as u32);
    let sign = first >> 10 & 1;
    let distance = sign << 23
        | (second >> 13 & 1 ^ sign ^ 1) << 22
        | (second >> 11 & 1 ^ sign ^ 1) << 21
        | (first & 0x3ff) << 11
        | second & 0x7ff;
    offset(address, signed(distance, 24) * 2)
}

/// Hints, barriers, special registers (A5.3.4, table A5-13).
const fn miscellaneous(first: u16, second: u16) -> Kind {
    match (first, second >> 4) {
        (0xf3bf, 0x8f6) => Kind::Barrier,
        (0xf3af, 0x800) if matches!(second & 0xf, 2 | 3) => Kind::Wait,
        // `udf.w`
        (0xf7f0..=0xf7ff, 0xa00..=0xaff) => Kind::Trap,
        // `msr` (B5.2.3): MSP, PSP, and those of the other security state.
        (0xf380..=0xf39f, _) if matches!(second & 0xff, 8 | 9 | 0x88 | 0x89 | 0x98) => {
            Kind::SetsStack
        }
        _ => Kind::Plain,
    }
}

/// Armv8.1-M: `le` and `letp` branch back, `wls` and `wlstp` forwards (DDI 0553, C2.4).
const fn low_overhead_loop(address: u64, first: u16, second: u16) -> Kind {
    if first & 0xff80 != 0xf000 || second & 0xf001 != 0xc001 {
        return Kind::Plain;
    }
    let distance = ((second >> 1 & 0x3ff) << 2 | (second >> 11 & 1) << 1) as i64;
    if first & 0xf == PC {
        let always = first == 0xf02f;
        return Kind::Jump { target: offset(address, -distance), conditional: !always };
    }
    Kind::Jump { target: offset(address, distance), conditional: true }
}

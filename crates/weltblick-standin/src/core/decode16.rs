//! 16-bit encodings (DDI 0403E, A5.2).

use super::instruction::{Address, Alu, Index, Op, Operand, Reg, SetFlags, Shift, Unary, Width};

use SetFlags::{No, OutsideIt, Yes};

const SP: Reg = 13;
const LR: Reg = 14;
const PC: Reg = 15;

const fn register(rm: Reg) -> Operand {
    Operand::Register { rm, shift: Shift::Lsl, amount: 0 }
}

const fn constant(value: u32) -> Operand {
    Operand::Constant { value, carry: None }
}

const fn at(rn: Reg, offset: u32) -> Address {
    Address::Offset { rn, offset: offset as i32, index: Index::Offset }
}

/// Decodes one halfword at `address`.
pub(super) fn decode(address: u32, code: u16) -> Option<Op> {
    let code = u32::from(code);
    match code >> 12 {
        0b0000 | 0b0001 => Some(shift_add(code)),
        0b0010 | 0b0011 => Some(immediate8(code)),
        0b0100 if code >> 10 & 0b11 == 0 => Some(data_processing(code)),
        0b0100 if code >> 10 & 0b11 == 1 => special_data(code),
        0b0100 => {
            // LDR (literal)
            let base = (address + 4) & !3;
            let address = Address::Literal(base + (code & 0xff) * 4);
            Some(Op::Load { rt: low(code >> 8), address, width: Width::Word, signed: false })
        }
        0b0101 => Some(register_offset(code)),
        0b0110..=0b1001 => Some(immediate_offset(code)),
        0b1010 => Some(address_of(address, code)),
        0b1011 => miscellaneous(address, code),
        0b1100 => Some(multiple(code)),
        0b1101 => conditional_branch(address, code),
        0b1110 if code >> 11 & 1 == 0 => {
            let offset = sign_extend((code & 0x7ff) << 1, 12);
            Some(Op::Branch { target: (address + 4).wrapping_add(offset) })
        }
        _ => None,
    }
}

const fn low(bits: u32) -> Reg {
    (bits & 0b111) as Reg
}

/// Sign-extends the low `bits` bits.
pub(super) const fn sign_extend(value: u32, bits: u32) -> u32 {
    ((value << (32 - bits)) as i32 >> (32 - bits)) as u32
}

fn shift_add(code: u32) -> Op {
    let (rd, rn) = (low(code), low(code >> 3));
    let amount = code >> 6 & 0x1f;
    match code >> 11 & 0b11 {
        // LSL #0 is MOV (register): it sets the flags only outside an IT block as well.
        kind @ 0..=2 => {
            let (shift, amount) = super::alu::constant_shift(kind, amount);
            let operand = Operand::Register { rm: rn, shift, amount };
            Op::Alu { alu: Alu::Mov, rd, rn: 0, operand, flags: OutsideIt }
        }
        _ => {
            let alu = if code >> 9 & 1 == 0 { Alu::Add } else { Alu::Sub };
            let field = code >> 6 & 0b111;
            let operand =
                if code >> 10 & 1 == 0 { register(field as Reg) } else { constant(field) };
            Op::Alu { alu, rd, rn, operand, flags: OutsideIt }
        }
    }
}

fn immediate8(code: u32) -> Op {
    let rd = low(code >> 8);
    let operand = constant(code & 0xff);
    let (alu, flags) = match code >> 11 & 0b11 {
        0 => (Alu::Mov, OutsideIt),
        1 => (Alu::Cmp, Yes),
        2 => (Alu::Add, OutsideIt),
        _ => (Alu::Sub, OutsideIt),
    };
    Op::Alu { alu, rd, rn: rd, operand, flags }
}

fn data_processing(code: u32) -> Op {
    let (rd, rm) = (low(code), low(code >> 3));
    let alu = |alu| Op::Alu { alu, rd, rn: rd, operand: register(rm), flags: OutsideIt };
    let compare = |alu| Op::Alu { alu, rd, rn: rd, operand: register(rm), flags: Yes };
    let shift = |shift| Op::ShiftByRegister { shift, rd, rn: rd, rm, flags: OutsideIt };
    match code >> 6 & 0xf {
        0b0000 => alu(Alu::And),
        0b0001 => alu(Alu::Eor),
        0b0010 => shift(Shift::Lsl),
        0b0011 => shift(Shift::Lsr),
        0b0100 => shift(Shift::Asr),
        0b0101 => alu(Alu::Adc),
        0b0110 => alu(Alu::Sbc),
        0b0111 => shift(Shift::Ror),
        0b1000 => compare(Alu::Tst),
        0b1001 => Op::Alu { alu: Alu::Rsb, rd, rn: rm, operand: constant(0), flags: OutsideIt },
        0b1010 => compare(Alu::Cmp),
        0b1011 => compare(Alu::Cmn),
        0b1100 => alu(Alu::Orr),
        0b1101 => Op::Multiply { rd, rn: rd, rm, flags: OutsideIt },
        0b1110 => alu(Alu::Bic),
        _ => Op::Alu { alu: Alu::Mvn, rd, rn: 0, operand: register(rm), flags: OutsideIt },
    }
}

fn special_data(code: u32) -> Option<Op> {
    let rd = (code & 0b111 | code >> 4 & 0b1000) as Reg;
    let rm = (code >> 3 & 0xf) as Reg;
    let operand = register(rm);
    Some(match code >> 8 & 0b11 {
        0 => Op::Alu { alu: Alu::Add, rd, rn: rd, operand, flags: No },
        1 => Op::Alu { alu: Alu::Cmp, rd, rn: rd, operand, flags: Yes },
        2 => Op::Alu { alu: Alu::Mov, rd, rn: 0, operand, flags: No },
        _ if code & 0b111 != 0 => return None,
        _ => Op::BranchRegister { rm, link: code >> 7 & 1 == 1 },
    })
}

fn register_offset(code: u32) -> Op {
    let address = Address::Register { rn: low(code >> 3), rm: low(code >> 6), shift: 0 };
    let rt = low(code);
    let load = |width, signed| Op::Load { rt, address, width, signed };
    match code >> 9 & 0b111 {
        0b000 => Op::Store { rt, address, width: Width::Word },
        0b001 => Op::Store { rt, address, width: Width::Half },
        0b010 => Op::Store { rt, address, width: Width::Byte },
        0b011 => load(Width::Byte, true),
        0b100 => load(Width::Word, false),
        0b101 => load(Width::Half, false),
        0b110 => load(Width::Byte, false),
        _ => load(Width::Half, true),
    }
}

fn immediate_offset(code: u32) -> Op {
    let imm5 = code >> 6 & 0x1f;
    let (rt, rn) = (low(code), low(code >> 3));
    let (rt, address, width) = match code >> 12 {
        0b0110 => (rt, at(rn, imm5 * 4), Width::Word),
        0b0111 => (rt, at(rn, imm5), Width::Byte),
        0b1000 => (rt, at(rn, imm5 * 2), Width::Half),
        _ => (low(code >> 8), at(SP, (code & 0xff) * 4), Width::Word),
    };
    if code >> 11 & 1 == 0 {
        Op::Store { rt, address, width }
    } else {
        Op::Load { rt, address, width, signed: false }
    }
}

fn address_of(address: u32, code: u32) -> Op {
    let rd = low(code >> 8);
    let offset = (code & 0xff) * 4;
    if code >> 11 & 1 == 0 {
        let operand = constant(((address + 4) & !3) + offset);
        Op::Alu { alu: Alu::Mov, rd, rn: 0, operand, flags: No }
    } else {
        Op::Alu { alu: Alu::Add, rd, rn: SP, operand: constant(offset), flags: No }
    }
}

fn miscellaneous(address: u32, code: u32) -> Option<Op> {
    let (rd, rm) = (low(code), low(code >> 3));
    let unary = |unary| Some(Op::Unary { unary, rd, rm, rotation: 0 });
    match code >> 8 & 0xf {
        0b0000 => {
            let alu = if code >> 7 & 1 == 0 { Alu::Add } else { Alu::Sub };
            let operand = constant((code & 0x7f) * 4);
            Some(Op::Alu { alu, rd: SP, rn: SP, operand, flags: No })
        }
        0b0001 | 0b0011 | 0b1001 | 0b1011 => {
            let offset = (code >> 9 & 1) << 6 | (code >> 3 & 0x1f) << 1;
            let nonzero = code >> 11 & 1 == 1;
            Some(Op::CompareBranch { rn: rd, nonzero, target: address + 4 + offset })
        }
        0b0010 => match code >> 6 & 0b11 {
            0 => unary(Unary::Sxth),
            1 => unary(Unary::Sxtb),
            2 => unary(Unary::Uxth),
            _ => unary(Unary::Uxtb),
        },
        0b0100 | 0b0101 => {
            let list = (code & 0xff | (code >> 8 & 1) << LR) as u16;
            Some(Op::StoreMany { rn: SP, list, writeback: true, before: true })
        }
        0b0110 if code & 0xffec == 0xb660 => Some(Op::ChangeInterrupts {
            disable: code >> 4 & 1 == 1,
            primask: code >> 1 & 1 == 1,
            faultmask: code & 1 == 1,
        }),
        0b1010 => match code >> 6 & 0b11 {
            0 => unary(Unary::Rev),
            1 => unary(Unary::Rev16),
            3 => unary(Unary::Revsh),
            _ => None,
        },
        0b1100 | 0b1101 => {
            let list = (code & 0xff | (code >> 8 & 1) << PC) as u16;
            Some(Op::LoadMany { rn: SP, list, writeback: true, before: false })
        }
        0b1110 => Some(Op::Breakpoint { code: code as u8 }),
        0b1111 => Some(hint(code)),
        _ => None,
    }
}

fn hint(code: u32) -> Op {
    match (code >> 4 & 0xf, code & 0xf) {
        (_, mask) if mask != 0 => Op::IfThen { state: code as u8 },
        (2, _) => Op::WaitForEvent,
        (3, _) => Op::WaitForInterrupt,
        (4, _) => Op::SendEvent,
        _ => Op::Nop,
    }
}

fn multiple(code: u32) -> Op {
    let rn = low(code >> 8);
    let list = (code & 0xff) as u16;
    if code >> 11 & 1 == 0 {
        Op::StoreMany { rn, list, writeback: true, before: false }
    } else {
        Op::LoadMany { rn, list, writeback: list >> rn & 1 == 0, before: false }
    }
}

fn conditional_branch(address: u32, code: u32) -> Option<Op> {
    match code >> 8 & 0xf {
        0b1110 => None,
        0b1111 => Some(Op::Supervisor),
        condition => {
            let offset = sign_extend((code & 0xff) << 1, 9);
            let target = (address + 4).wrapping_add(offset);
            Some(Op::BranchIf { condition: condition as u8, target })
        }
    }
}

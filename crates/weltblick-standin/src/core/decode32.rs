//! 32-bit encodings (DDI 0403E, A5.3).

use super::alu::{constant_shift, expand_constant};
use super::decode16::sign_extend;
use super::instruction::{Address, Alu, Index, Op, Operand, Reg, SetFlags, Shift, Unary, Width};

const PC: Reg = 15;

/// Decodes two halfwords at `address`.
pub(super) fn decode(address: u32, first: u16, second: u16) -> Option<Op> {
    let (hi, lo) = (u32::from(first), u32::from(second));
    match (hi >> 11 & 0b11, hi >> 4 & 0x7f) {
        (0b01, op) if op & 0b110_0100 == 0 => load_store_multiple(hi, lo),
        (0b01, op) if op & 0b110_0100 == 0b000_0100 => dual_exclusive_table(address, hi, lo),
        (0b01, op) if op & 0b110_0000 == 0b010_0000 => shifted_register(hi, lo),
        (0b10, _) if lo >> 15 == 1 => branch_control(address, hi, lo),
        (0b10, op) if op & 0b010_0000 == 0 => modified_constant(hi, lo),
        (0b10, _) => plain_constant(address, hi, lo),
        (0b11, op) if op & 0b111_0001 == 0 => store_single(hi, lo),
        (0b11, op) if op & 0b110_0111 == 0b000_0001 => load_single(address, hi, lo, Width::Byte),
        (0b11, op) if op & 0b110_0111 == 0b000_0011 => load_single(address, hi, lo, Width::Half),
        (0b11, op) if op & 0b110_0111 == 0b000_0101 => load_single(address, hi, lo, Width::Word),
        (0b11, op) if op & 0b111_0000 == 0b010_0000 => register_operation(hi, lo),
        (0b11, op) if op & 0b111_1000 == 0b011_0000 => multiply(hi, lo),
        (0b11, op) if op & 0b111_1000 == 0b011_1000 => long_multiply(hi, lo),
        _ => None,
    }
}

const fn reg(bits: u32) -> Reg {
    (bits & 0xf) as Reg
}

const fn flags(bit: u32) -> SetFlags {
    if bit & 1 == 1 { SetFlags::Yes } else { SetFlags::No }
}

fn load_store_multiple(hi: u32, lo: u32) -> Option<Op> {
    let rn = reg(hi);
    let list = lo as u16;
    let writeback = hi >> 5 & 1 == 1;
    let before = match hi >> 7 & 0b11 {
        0b01 => false,
        0b10 => true,
        _ => return None,
    };
    Some(if hi >> 4 & 1 == 1 {
        Op::LoadMany { rn, list, writeback, before }
    } else {
        Op::StoreMany { rn, list, writeback, before }
    })
}

fn dual_exclusive_table(address: u32, hi: u32, lo: u32) -> Option<Op> {
    let (rn, rt, rt2) = (reg(hi), reg(lo >> 12), reg(lo >> 8));
    let load = hi >> 4 & 1 == 1;
    let (pre, up, writeback) = (hi >> 8 & 1 == 1, hi >> 7 & 1 == 1, hi >> 5 & 1 == 1);
    let offset = (lo & 0xff) * 4;
    if pre || writeback {
        let signed = if up { offset as i32 } else { -(offset as i32) };
        let index = match (pre, writeback) {
            (true, false) => Index::Offset,
            (true, true) => Index::Pre,
            (false, _) => Index::Post,
        };
        let place = match rn {
            PC => Address::Literal(((address + 4) & !3).wrapping_add_signed(signed)),
            _ => Address::Offset { rn, offset: signed, index },
        };
        return Some(if load {
            Op::LoadPair { rt, rt2, address: place }
        } else {
            Op::StorePair { rt, rt2, address: place }
        });
    }
    exclusive_or_table(hi, lo)
}

fn exclusive_or_table(hi: u32, lo: u32) -> Option<Op> {
    let (rn, rt, rd) = (reg(hi), reg(lo >> 12), reg(lo));
    match (hi >> 4 & 0x1f, lo >> 4 & 0xf) {
        (0b0_0100, _) => {
            let offset = ((lo & 0xff) * 4) as u16;
            Some(Op::StoreExclusive { rd: reg(lo >> 8), rt, rn, offset, width: Width::Word })
        }
        (0b0_0101, _) => {
            let offset = ((lo & 0xff) * 4) as u16;
            Some(Op::LoadExclusive { rt, rn, offset, width: Width::Word })
        }
        (0b0_1100, 0b0100) => {
            Some(Op::StoreExclusive { rd, rt, rn, offset: 0, width: Width::Byte })
        }
        (0b0_1100, 0b0101) => {
            Some(Op::StoreExclusive { rd, rt, rn, offset: 0, width: Width::Half })
        }
        (0b0_1101, 0b0000) => Some(Op::TableBranch { rn, rm: rd, half: false }),
        (0b0_1101, 0b0001) => Some(Op::TableBranch { rn, rm: rd, half: true }),
        (0b0_1101, 0b0100) => Some(Op::LoadExclusive { rt, rn, offset: 0, width: Width::Byte }),
        (0b0_1101, 0b0101) => Some(Op::LoadExclusive { rt, rn, offset: 0, width: Width::Half }),
        _ => None,
    }
}

/// The operation of both data-processing groups: number, and whether `rd` and `rn` exist.
fn data_operation(op: u32, rd: Reg, rn: Reg, set: bool) -> Option<Alu> {
    let compare = rd == PC && set;
    Some(match op {
        0b0000 if compare => Alu::Tst,
        0b0000 => Alu::And,
        0b0001 => Alu::Bic,
        0b0010 if rn == PC => Alu::Mov,
        0b0010 => Alu::Orr,
        0b0011 if rn == PC => Alu::Mvn,
        0b0011 => Alu::Orn,
        0b0100 if compare => Alu::Teq,
        0b0100 => Alu::Eor,
        0b1000 if compare => Alu::Cmn,
        0b1000 => Alu::Add,
        0b1010 => Alu::Adc,
        0b1011 => Alu::Sbc,
        0b1101 if compare => Alu::Cmp,
        0b1101 => Alu::Sub,
        0b1110 => Alu::Rsb,
        _ => return None,
    })
}

fn shifted_register(hi: u32, lo: u32) -> Option<Op> {
    let (rn, rd, rm) = (reg(hi), reg(lo >> 8), reg(lo));
    let set = hi >> 4 & 1 == 1;
    let alu = data_operation(hi >> 5 & 0xf, rd, rn, set)?;
    let (shift, amount) = constant_shift(lo >> 4, (lo >> 12 & 0b111) << 2 | lo >> 6 & 0b11);
    let operand = Operand::Register { rm, shift, amount };
    Some(Op::Alu { alu, rd, rn, operand, flags: flags(hi >> 4) })
}

fn imm12(hi: u32, lo: u32) -> u32 {
    (hi >> 10 & 1) << 11 | (lo >> 12 & 0b111) << 8 | lo & 0xff
}

fn modified_constant(hi: u32, lo: u32) -> Option<Op> {
    let (rn, rd) = (reg(hi), reg(lo >> 8));
    let alu = data_operation(hi >> 5 & 0xf, rd, rn, hi >> 4 & 1 == 1)?;
    let (value, carry) = expand_constant(imm12(hi, lo));
    Some(Op::Alu {
        alu,
        rd,
        rn,
        operand: Operand::Constant { value, carry },
        flags: flags(hi >> 4),
    })
}

fn plain_constant(address: u32, hi: u32, lo: u32) -> Option<Op> {
    let (rn, rd) = (reg(hi), reg(lo >> 8));
    let value = imm12(hi, lo);
    let wide = ((hi & 0xf) << 12 | value) as u16;
    let constant = |value| Operand::Constant { value, carry: None };
    let mov =
        |value| Op::Alu { alu: Alu::Mov, rd, rn: 0, operand: constant(value), flags: SetFlags::No };
    let add = |alu| Op::Alu { alu, rd, rn, operand: constant(value), flags: SetFlags::No };
    let lsb = (lo >> 12 & 0b111) << 2 | lo >> 6 & 0b11;
    let last = lo & 0x1f;
    let here = (address + 4) & !3;
    Some(match hi >> 4 & 0x1f {
        0b0_0000 if rn == PC => mov(here.wrapping_add(value)),
        0b0_0000 => add(Alu::Add),
        0b0_0100 => mov(u32::from(wide)),
        0b0_1010 if rn == PC => mov(here.wrapping_sub(value)),
        0b0_1010 => add(Alu::Sub),
        0b0_1100 => Op::MoveTop { rd, value: wide },
        op @ (0b1_0000 | 0b1_0010 | 0b1_1000 | 0b1_1010) => {
            let (shift, amount) = constant_shift((hi >> 5 & 1) << 1, lsb);
            let signed = op & 0b0_1000 == 0;
            let bits = if signed { last + 1 } else { last } as u8;
            Op::Saturate { signed, rd, rn, bits, shift, amount }
        }
        // Fields that end beyond the register are unpredictable (A7.7, SBFX and UBFX).
        0b1_0100 | 0b1_1100 if lsb + last >= 32 => return None,
        0b1_0100 => Op::SignedField { rd, rn, lsb: lsb as u8, width: last as u8 + 1 },
        0b1_0110 => {
            let width = (last + 1).checked_sub(lsb).filter(|&width| width > 0)?;
            Op::InsertField { rd, rn, lsb: lsb as u8, width: width as u8 }
        }
        0b1_1100 => Op::UnsignedField { rd, rn, lsb: lsb as u8, width: last as u8 + 1 },
        _ => return None,
    })
}

fn branch_control(address: u32, hi: u32, lo: u32) -> Option<Op> {
    let sign = hi >> 10 & 1;
    let (j1, j2) = (lo >> 13 & 1, lo >> 11 & 1);
    match lo >> 12 & 0b101 {
        0b000 if hi >> 7 & 0b111 != 0b111 => {
            let bits = sign << 20 | j2 << 19 | j1 << 18 | (hi & 0x3f) << 12 | (lo & 0x7ff) << 1;
            let target = (address + 4).wrapping_add(sign_extend(bits, 21));
            Some(Op::BranchIf { condition: (hi >> 6 & 0xf) as u8, target })
        }
        0b000 => system(hi, lo),
        kind => {
            let (i1, i2) = (!(j1 ^ sign) & 1, !(j2 ^ sign) & 1);
            let bits = sign << 24 | i1 << 23 | i2 << 22 | (hi & 0x3ff) << 12 | (lo & 0x7ff) << 1;
            let target = (address + 4).wrapping_add(sign_extend(bits, 25));
            match kind {
                0b001 => Some(Op::Branch { target }),
                0b101 => Some(Op::BranchLink { target }),
                // BLX (immediate) would leave Thumb state.
                _ => None,
            }
        }
    }
}

fn system(hi: u32, lo: u32) -> Option<Op> {
    match hi >> 4 & 0x7f {
        0b011_1000 | 0b011_1001 => Some(Op::MoveToSpecial { rn: reg(hi), special: lo as u8 }),
        0b011_1010 => Some(match lo & 0xff {
            2 => Op::WaitForEvent,
            3 => Op::WaitForInterrupt,
            4 => Op::SendEvent,
            _ => Op::Nop,
        }),
        0b011_1011 => match lo >> 4 & 0xf {
            0b0010 => Some(Op::ClearExclusive),
            0b0100..=0b0110 => Some(Op::Barrier),
            _ => None,
        },
        0b011_1110 | 0b011_1111 => {
            Some(Op::MoveFromSpecial { rd: reg(lo >> 8), special: lo as u8 })
        }
        _ => None,
    }
}

/// `[rn, #imm12]`, `[rn, #-imm8]`, pre- and post-indexed, and `[rn, rm, lsl #n]`.
fn single_address(address: u32, hi: u32, lo: u32) -> Option<Address> {
    let rn = reg(hi);
    let imm12 = lo & 0xfff;
    if rn == PC {
        let base = (address + 4) & !3;
        let up = hi >> 7 & 1 == 1;
        return Some(Address::Literal(if up { base + imm12 } else { base.wrapping_sub(imm12) }));
    }
    if hi >> 7 & 1 == 1 {
        return Some(Address::Offset { rn, offset: imm12 as i32, index: Index::Offset });
    }
    if lo >> 11 & 1 == 0 {
        let shift = (lo >> 4 & 0b11) as u8;
        return (lo >> 6 & 0x3f == 0).then_some(Address::Register { rn, rm: reg(lo), shift });
    }
    let imm8 = (lo & 0xff) as i32;
    let offset = if lo >> 9 & 1 == 1 { imm8 } else { -imm8 };
    let index = match (lo >> 10 & 1, lo >> 8 & 1) {
        (1, 0) => Index::Offset,
        (1, _) => Index::Pre,
        (0, 1) => Index::Post,
        _ => return None,
    };
    Some(Address::Offset { rn, offset, index })
}

fn store_single(hi: u32, lo: u32) -> Option<Op> {
    let width = match hi >> 5 & 0b11 {
        0 => Width::Byte,
        1 => Width::Half,
        2 => Width::Word,
        _ => return None,
    };
    if reg(hi) == PC {
        return None;
    }
    Some(Op::Store { rt: reg(lo >> 12), address: single_address(0, hi, lo)?, width })
}

fn load_single(address: u32, hi: u32, lo: u32, width: Width) -> Option<Op> {
    let rt = reg(lo >> 12);
    let address = single_address(address, hi, lo)?;
    let signed = hi >> 8 & 1 == 1;
    // Loads of bytes and halfwords to the PC are preload hints.
    if rt == PC && width != Width::Word {
        return Some(Op::Nop);
    }
    if signed && width == Width::Word {
        return None;
    }
    Some(Op::Load { rt, address, width, signed })
}

fn register_operation(hi: u32, lo: u32) -> Option<Op> {
    let (rn, rd, rm) = (reg(hi), reg(lo >> 8), reg(lo));
    if lo >> 12 != 0xf {
        return None;
    }
    if hi >> 7 & 1 == 0 && lo >> 7 & 1 == 0 {
        let shift = [Shift::Lsl, Shift::Lsr, Shift::Asr, Shift::Ror][(hi >> 5 & 0b11) as usize];
        return (lo >> 4 & 0xf == 0).then_some(Op::ShiftByRegister {
            shift,
            rd,
            rn,
            rm,
            flags: flags(hi >> 4),
        });
    }
    let rotation = (lo >> 4 & 0b11) as u8 * 8;
    let extend = |unary| (rn == PC).then_some(Op::Unary { unary, rd, rm, rotation });
    match (hi >> 4 & 0xf, lo >> 4 & 0xf) {
        (0b0000, 0b1000..=0b1011) => extend(Unary::Sxth),
        (0b0001, 0b1000..=0b1011) => extend(Unary::Uxth),
        (0b0100, 0b1000..=0b1011) => extend(Unary::Sxtb),
        (0b0101, 0b1000..=0b1011) => extend(Unary::Uxtb),
        (0b1001, 0b1000) => Some(Op::Unary { unary: Unary::Rev, rd, rm, rotation: 0 }),
        (0b1001, 0b1001) => Some(Op::Unary { unary: Unary::Rev16, rd, rm, rotation: 0 }),
        (0b1001, 0b1010) => Some(Op::Unary { unary: Unary::Rbit, rd, rm, rotation: 0 }),
        (0b1001, 0b1011) => Some(Op::Unary { unary: Unary::Revsh, rd, rm, rotation: 0 }),
        (0b1011, 0b1000) => Some(Op::Unary { unary: Unary::Clz, rd, rm, rotation: 0 }),
        _ => None,
    }
}

fn multiply(hi: u32, lo: u32) -> Option<Op> {
    let (rn, ra, rd, rm) = (reg(hi), reg(lo >> 12), reg(lo >> 8), reg(lo));
    match (hi >> 4 & 0b111, lo >> 4 & 0xf) {
        (0, 0) if ra == PC => Some(Op::Multiply { rd, rn, rm, flags: SetFlags::No }),
        (0, 0) => Some(Op::MultiplyAdd { rd, rn, rm, ra, subtract: false }),
        (0, 1) => Some(Op::MultiplyAdd { rd, rn, rm, ra, subtract: true }),
        _ => None,
    }
}

fn long_multiply(hi: u32, lo: u32) -> Option<Op> {
    let (rn, low, high, rm) = (reg(hi), reg(lo >> 12), reg(lo >> 8), reg(lo));
    let long = |signed, accumulate| Op::LongMultiply { low, high, rn, rm, signed, accumulate };
    match (hi >> 4 & 0b111, lo >> 4 & 0xf) {
        (0b000, 0) => Some(long(true, false)),
        (0b010, 0) => Some(long(false, false)),
        (0b100, 0) => Some(long(true, true)),
        (0b110, 0) => Some(long(false, true)),
        (0b001, 0xf) => Some(Op::Divide { rd: high, rn, rm, signed: true }),
        (0b011, 0xf) => Some(Op::Divide { rd: high, rn, rm, signed: false }),
        _ => None,
    }
}

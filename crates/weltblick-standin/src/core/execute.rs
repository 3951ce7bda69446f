//! One instruction's work (DDI 0403E, A7.7).

use super::alu::{add_with_carry, shift_with_carry};
use super::cycles;
use super::instruction::{
    Address, Alu, Index, Instruction, Op, Operand, Reg, SetFlags, Shift, Unary, Width,
};
use super::registers::{Mode, Registers};
use crate::memory::{Bus, BusFault};

/// What an instruction asks of the rest of the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// Nothing.
    None,
    /// A branch to an exception return value.
    ExceptionReturn(u32),
    /// A supervisor call.
    Supervisor,
    /// Sleep until an interrupt (or event) comes.
    Sleep,
    /// A breakpoint.
    Breakpoint(u8),
    /// A branch to an address without the thumb bit.
    NotThumb(u32),
}

/// Executes one instruction. Returns its cycles and what it asks for.
///
/// # Errors
///
/// If a memory access finds nothing.
#[inline]
pub fn execute(
    regs: &mut Registers,
    instruction: Instruction,
    bus: &mut impl Bus,
) -> Result<(u32, Effect), BusFault> {
    let here = regs.pc;
    regs.r[15] = here.wrapping_add(4);
    regs.pc = here.wrapping_add(u32::from(instruction.length));
    let in_it = regs.it != 0;
    if in_it {
        let condition = regs.it >> 4;
        regs.advance_it();
        if !regs.holds(condition) {
            return Ok((1, Effect::None));
        }
    }
    Core { regs, bus, in_it }.run(instruction.op)
}

struct Core<'a, B> {
    regs: &'a mut Registers,
    bus: &'a mut B,
    in_it: bool,
}

type Done = Result<(u32, Effect), BusFault>;

const fn done(cycles: u32) -> Done {
    Ok((cycles, Effect::None))
}

impl<B: Bus> Core<'_, B> {
    #[inline]
    fn run(&mut self, op: Op) -> Done {
        match op {
            Op::Alu { alu, rd, rn, operand, flags } => self.alu(alu, rd, rn, operand, flags),
            Op::Load { rt, address, width, signed } => self.load(rt, address, width, signed),
            Op::Store { rt, address, width } => self.store(rt, address, width),
            Op::BranchIf { condition, target } => {
                let taken = self.regs.holds(condition);
                self.branch_if(taken, target)
            }
            Op::Branch { target } => self.branch_if(true, target),
            Op::CompareBranch { rn, nonzero, target } => {
                let taken = (self.get(rn) != 0) == nonzero;
                self.branch_if(taken, target)
            }
            Op::BranchLink { target } => {
                self.regs.r[14] = self.regs.pc | 1;
                self.branch_if(true, target)
            }
            Op::BranchRegister { rm, link } => {
                let target = self.get(rm);
                if link {
                    self.regs.r[14] = self.regs.pc | 1;
                }
                let effect = self.write_pc(target);
                Ok((1 + cycles::REFILL, effect))
            }
            Op::TableBranch { rn, rm, half } => self.table_branch(rn, rm, half),
            Op::LoadMany { rn, list, writeback, before } => {
                self.load_many(rn, list, writeback, before)
            }
            Op::StoreMany { rn, list, writeback, before } => {
                self.store_many(rn, list, writeback, before)
            }
            Op::LoadPair { rt, rt2, address } => self.load_pair(rt, rt2, address),
            Op::StorePair { rt, rt2, address } => self.store_pair(rt, rt2, address),
            Op::LoadExclusive { rt, rn, offset, width } => {
                let address = self.get(rn).wrapping_add(u32::from(offset));
                let value = self.bus.read(address, width.bytes())?;
                self.regs.exclusive = Some(address);
                self.set(rt, value);
                done(2)
            }
            Op::StoreExclusive { rd, rt, rn, offset, width } => {
                self.store_exclusive(rd, rt, rn, offset, width)
            }
            Op::ClearExclusive => {
                self.regs.exclusive = None;
                done(1)
            }
            Op::IfThen { state } => {
                self.regs.it = state;
                done(1)
            }
            Op::Nop | Op::SendEvent => done(1),
            Op::Barrier => done(4),
            Op::WaitForInterrupt | Op::WaitForEvent => Ok((1, Effect::Sleep)),
            Op::Supervisor => Ok((1, Effect::Supervisor)),
            Op::Breakpoint { code } => Ok((1, Effect::Breakpoint(code))),
            other => self.run_rare(other),
        }
    }

    /// Operations on registers alone, beyond two-operand arithmetic.
    fn run_rare(&mut self, op: Op) -> Done {
        match op {
            Op::ShiftByRegister { shift, rd, rn, rm, flags } => {
                let amount = self.get(rm) & 0xff;
                let (value, carry) = shift_with_carry(self.get(rn), shift, amount, self.regs.c);
                self.set(rd, value);
                self.set_nzc(flags, value, Some(carry));
            }
            Op::MoveTop { rd, value } => {
                let kept = self.get(rd) & 0xffff;
                self.set(rd, u32::from(value) << 16 | kept);
            }
            Op::Unary { unary, rd, rm, rotation } => {
                let value = unary_value(unary, self.get(rm).rotate_right(u32::from(rotation)));
                self.set(rd, value);
            }
            Op::SignedField { rd, rn, lsb, width } => {
                let up = 32 - u32::from(lsb) - u32::from(width);
                let value = (self.get(rn) << up) as i32 >> (32 - u32::from(width));
                self.set(rd, value as u32);
            }
            Op::UnsignedField { rd, rn, lsb, width } => {
                self.set(rd, self.get(rn) >> lsb & mask(width));
            }
            Op::InsertField { rd, rn, lsb, width } => {
                let field = if rn == 15 { 0 } else { self.get(rn) & mask(width) };
                let kept = self.get(rd) & !(mask(width) << lsb);
                self.set(rd, kept | field << lsb);
            }
            Op::Saturate { signed, rd, rn, bits, shift, amount } => {
                self.saturate(signed, rd, rn, bits, shift, amount);
            }
            Op::Multiply { rd, rn, rm, flags } => {
                let value = self.get(rn).wrapping_mul(self.get(rm));
                self.set(rd, value);
                self.set_nzc(flags, value, None);
            }
            Op::MultiplyAdd { rd, rn, rm, ra, subtract } => {
                let product = self.get(rn).wrapping_mul(self.get(rm));
                let addend = self.get(ra);
                let value = if subtract {
                    addend.wrapping_sub(product)
                } else {
                    addend.wrapping_add(product)
                };
                self.set(rd, value);
                return done(2);
            }
            Op::LongMultiply { low, high, rn, rm, signed, accumulate } => {
                return self.long_multiply(low, high, rn, rm, signed, accumulate);
            }
            Op::Divide { rd, rn, rm, signed } => return self.divide(rd, rn, rm, signed),
            Op::ChangeInterrupts { disable, primask, faultmask } => {
                if primask {
                    self.regs.primask = disable;
                }
                if faultmask {
                    self.regs.faultmask = disable;
                }
                return done(2);
            }
            Op::MoveFromSpecial { rd, special } => {
                let value = self.special(special);
                self.set(rd, value);
                return done(2);
            }
            Op::MoveToSpecial { rn, special } => {
                let value = self.get(rn);
                self.set_special(special, value);
                return done(2);
            }
            _ => {}
        }
        done(1)
    }

    #[inline]
    const fn get(&self, register: Reg) -> u32 {
        self.regs.r[(register & 15) as usize]
    }

    #[inline]
    const fn set(&mut self, register: Reg, value: u32) {
        let value = if register == 13 { value & !3 } else { value };
        self.regs.r[(register & 15) as usize] = value;
    }

    const fn sets(&self, flags: SetFlags) -> bool {
        match flags {
            SetFlags::Yes => true,
            SetFlags::No => false,
            SetFlags::OutsideIt => !self.in_it,
        }
    }

    #[inline]
    const fn set_nzc(&mut self, flags: SetFlags, value: u32, carry: Option<bool>) {
        if self.sets(flags) {
            self.regs.n = value >> 31 == 1;
            self.regs.z = value == 0;
            if let Some(carry) = carry {
                self.regs.c = carry;
            }
        }
    }

    #[inline]
    fn operand(&self, operand: Operand) -> (u32, bool) {
        match operand {
            Operand::Constant { value, carry } => (value, carry.unwrap_or(self.regs.c)),
            Operand::Register { rm, shift, amount } => {
                shift_with_carry(self.get(rm), shift, u32::from(amount), self.regs.c)
            }
        }
    }

    #[inline]
    fn alu(&mut self, alu: Alu, rd: Reg, rn: Reg, operand: Operand, flags: SetFlags) -> Done {
        let (b, shifted) = self.operand(operand);
        let a = self.get(rn);
        let logic = |value| (value, shifted, self.regs.v);
        let (value, carry, overflow) = match alu {
            Alu::And | Alu::Tst => logic(a & b),
            Alu::Bic => logic(a & !b),
            Alu::Orr => logic(a | b),
            Alu::Orn => logic(a | !b),
            Alu::Eor | Alu::Teq => logic(a ^ b),
            Alu::Mov => logic(b),
            Alu::Mvn => logic(!b),
            Alu::Add | Alu::Cmn => add_with_carry(a, b, false),
            Alu::Adc => add_with_carry(a, b, self.regs.c),
            Alu::Sub | Alu::Cmp => add_with_carry(a, !b, true),
            Alu::Sbc => add_with_carry(a, !b, self.regs.c),
            Alu::Rsb => add_with_carry(!a, b, true),
        };
        if self.sets(flags) {
            self.regs.n = value >> 31 == 1;
            self.regs.z = value == 0;
            self.regs.c = carry;
            self.regs.v = overflow;
        }
        match (alu, rd) {
            (Alu::Tst | Alu::Teq | Alu::Cmp | Alu::Cmn, _) => done(1),
            // ADD and MOV to the PC are simple branches: the lowest bit is ignored.
            (_, 15) => self.branch_if(true, value & !1),
            _ => {
                self.set(rd, value);
                done(1)
            }
        }
    }

    #[inline]
    const fn branch_if(&mut self, taken: bool, target: u32) -> Done {
        if taken {
            self.regs.pc = target;
            done(1 + cycles::REFILL)
        } else {
            done(1)
        }
    }

    /// `BXWritePC`: an exception return in handler mode, else a branch that needs the thumb bit.
    fn write_pc(&mut self, value: u32) -> Effect {
        if self.regs.mode() == Mode::Handler && value >> 28 == 0xf {
            Effect::ExceptionReturn(value)
        } else if value & 1 == 0 {
            Effect::NotThumb(value)
        } else {
            self.regs.pc = value & !1;
            Effect::None
        }
    }

    /// The address of an access, with its effect on the base register.
    #[inline]
    fn address(&mut self, address: Address) -> u32 {
        match address {
            Address::Literal(address) => address,
            Address::Offset { rn, offset, index } => {
                let base = self.get(rn);
                let moved = base.wrapping_add_signed(offset);
                match index {
                    Index::Offset => moved,
                    Index::Pre => {
                        self.set(rn, moved);
                        moved
                    }
                    Index::Post => {
                        self.set(rn, moved);
                        base
                    }
                }
            }
            Address::Register { rn, rm, shift } => self.get(rn).wrapping_add(self.get(rm) << shift),
        }
    }

    #[inline]
    fn load(&mut self, rt: Reg, address: Address, width: Width, signed: bool) -> Done {
        let address = self.address(address);
        let value = self.bus.read(address, width.bytes())?;
        let value = match (signed, width) {
            (true, Width::Byte) => value as u8 as i8 as u32,
            (true, Width::Half) => value as u16 as i16 as u32,
            _ => value,
        };
        if rt == 15 {
            let effect = self.write_pc(value);
            return Ok((2 + cycles::REFILL, effect));
        }
        self.set(rt, value);
        done(2)
    }

    #[inline]
    fn store(&mut self, rt: Reg, address: Address, width: Width) -> Done {
        let value = self.get(rt);
        let address = self.address(address);
        self.bus.write(address, width.bytes(), value)?;
        done(1)
    }

    fn load_pair(&mut self, rt: Reg, rt2: Reg, address: Address) -> Done {
        let address = self.address(address);
        let first = self.bus.read(address, 4)?;
        let second = self.bus.read(address.wrapping_add(4), 4)?;
        self.set(rt, first);
        self.set(rt2, second);
        done(3)
    }

    fn store_pair(&mut self, rt: Reg, rt2: Reg, address: Address) -> Done {
        let (first, second) = (self.get(rt), self.get(rt2));
        let address = self.address(address);
        self.bus.write(address, 4, first)?;
        self.bus.write(address.wrapping_add(4), 4, second)?;
        done(3)
    }

    fn load_many(&mut self, rn: Reg, list: u16, writeback: bool, before: bool) -> Done {
        let count = list.count_ones();
        let base = self.get(rn);
        let (start, end) = span(base, count, before);
        let mut address = start;
        let mut effect = Effect::None;
        if writeback && list >> rn & 1 == 0 {
            self.set(rn, end);
        }
        for register in (0..16).filter(|&register| list >> register & 1 == 1) {
            let value = self.bus.read(address, 4)?;
            address = address.wrapping_add(4);
            if register == 15 {
                effect = self.write_pc(value);
            } else {
                self.set(register, value);
            }
        }
        let refill = if list >> 15 == 1 { cycles::REFILL } else { 0 };
        Ok((1 + count + refill, effect))
    }

    fn store_many(&mut self, rn: Reg, list: u16, writeback: bool, before: bool) -> Done {
        let count = list.count_ones();
        let (start, end) = span(self.get(rn), count, before);
        let mut address = start;
        for register in (0..16).filter(|&register| list >> register & 1 == 1) {
            self.bus.write(address, 4, self.get(register))?;
            address = address.wrapping_add(4);
        }
        if writeback {
            self.set(rn, end);
        }
        done(1 + count)
    }

    fn store_exclusive(&mut self, rd: Reg, rt: Reg, rn: Reg, offset: u16, width: Width) -> Done {
        let address = self.get(rn).wrapping_add(u32::from(offset));
        let marked = self.regs.exclusive.take() == Some(address);
        if marked {
            self.bus.write(address, width.bytes(), self.get(rt))?;
        }
        self.set(rd, u32::from(!marked));
        done(2)
    }

    fn table_branch(&mut self, rn: Reg, rm: Reg, half: bool) -> Done {
        let (scale, bytes) = if half { (2, 2) } else { (1, 1) };
        let entry = self.get(rn).wrapping_add(self.get(rm).wrapping_mul(scale));
        let offset = self.bus.read(entry, bytes)? * 2;
        self.regs.pc = self.regs.r[15].wrapping_add(offset);
        done(2 + cycles::REFILL)
    }

    fn saturate(&mut self, signed: bool, rd: Reg, rn: Reg, bits: u8, shift: Shift, amount: u8) {
        let (value, _) = shift_with_carry(self.get(rn), shift, u32::from(amount), self.regs.c);
        let value = i64::from(value as i32);
        let (low, high) = if signed {
            (-(1_i64 << (bits - 1)), (1_i64 << (bits - 1)) - 1)
        } else {
            (0, (1_i64 << bits) - 1)
        };
        let limited = value.clamp(low, high);
        self.regs.q |= limited != value;
        self.set(rd, limited as u32);
    }

    fn long_multiply(
        &mut self,
        low: Reg,
        high: Reg,
        rn: Reg,
        rm: Reg,
        signed: bool,
        accumulate: bool,
    ) -> Done {
        let (a, b) = (self.get(rn), self.get(rm));
        let product = if signed {
            (i64::from(a as i32) * i64::from(b as i32)) as u64
        } else {
            u64::from(a) * u64::from(b)
        };
        let before =
            if accumulate { u64::from(self.get(high)) << 32 | u64::from(self.get(low)) } else { 0 };
        let value = product.wrapping_add(before);
        self.set(low, value as u32);
        self.set(high, (value >> 32) as u32);
        done(if accumulate { 5 } else { 4 })
    }

    /// Division by zero gives zero: the trap (CCR.DIV_0_TRP) is off after reset.
    fn divide(&mut self, rd: Reg, rn: Reg, rm: Reg, signed: bool) -> Done {
        let (a, b) = (self.get(rn), self.get(rm));
        let (value, size) = match (b, signed) {
            (0, _) => (0, 0),
            (_, true) => {
                let quotient = (a as i32).wrapping_div(b as i32);
                (quotient as u32, quotient.unsigned_abs())
            }
            (_, false) => (a / b, a / b),
        };
        self.set(rd, value);
        done(cycles::divide(size))
    }

    /// Special registers by number (B5.1.1).
    fn special(&self, special: u8) -> u32 {
        let regs = &self.regs;
        match special {
            0..=3 => (regs.apsr()) | if special & 1 == 1 { u32::from(regs.ipsr) } else { 0 },
            5 => u32::from(regs.ipsr),
            8 => regs.main_sp(),
            9 => regs.process_sp(),
            16 => u32::from(regs.primask),
            17 | 18 => u32::from(regs.basepri),
            19 => u32::from(regs.faultmask),
            20 => u32::from(regs.process_stack) << 1 | u32::from(regs.unprivileged),
            _ => 0,
        }
    }

    fn set_special(&mut self, special: u8, value: u32) {
        let regs = &mut *self.regs;
        match special {
            0..=3 => regs.set_apsr(value),
            8 => regs.set_sp(false, value),
            9 => regs.set_sp(true, value),
            16 => regs.primask = value & 1 == 1,
            17 => regs.basepri = value as u8,
            // BASEPRI_MAX only raises the mask.
            18 if value as u8 != 0 && (regs.basepri == 0 || (value as u8) < regs.basepri) => {
                regs.basepri = value as u8;
            }
            19 => regs.faultmask = value & 1 == 1,
            20 => {
                regs.unprivileged = value & 1 == 1;
                if regs.mode() == Mode::Thread {
                    regs.use_process_stack(value & 2 != 0);
                }
            }
            _ => {}
        }
    }
}

const fn mask(width: u8) -> u32 {
    if width >= 32 { u32::MAX } else { (1 << width) - 1 }
}

/// First address of a multiple access, and the base register's value after it.
const fn span(base: u32, count: u32, before: bool) -> (u32, u32) {
    if before {
        let start = base.wrapping_sub(4 * count);
        (start, start)
    } else {
        (base, base.wrapping_add(4 * count))
    }
}

fn unary_value(unary: Unary, value: u32) -> u32 {
    match unary {
        Unary::Sxtb => value as u8 as i8 as u32,
        Unary::Sxth => value as u16 as i16 as u32,
        Unary::Uxtb => value & 0xff,
        Unary::Uxth => value & 0xffff,
        Unary::Rev => value.swap_bytes(),
        Unary::Rev16 => value.swap_bytes().rotate_right(16),
        Unary::Revsh => (value as u16).swap_bytes() as i16 as u32,
        Unary::Rbit => value.reverse_bits(),
        Unary::Clz => value.leading_zeros(),
    }
}

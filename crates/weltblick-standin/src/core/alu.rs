//! Arithmetic of the manual's pseudo-code (DDI 0403E, A2.2.1 and A7.4.2).

use super::instruction::Shift;

/// `AddWithCarry`: the sum, carry out and overflow.
pub(super) const fn add_with_carry(a: u32, b: u32, carry: bool) -> (u32, bool, bool) {
    let wide = a as u64 + b as u64 + carry as u64;
    let sum = wide as u32;
    let overflow = (!(a ^ b) & (a ^ sum)) >> 31 == 1;
    (sum, wide >> 32 != 0, overflow)
}

/// `Shift_C`: the shifted value and the carry out. Amounts from 0 to 255.
pub(super) fn shift_with_carry(value: u32, shift: Shift, amount: u32, carry: bool) -> (u32, bool) {
    if shift == Shift::Rrx {
        return (u32::from(carry) << 31 | value >> 1, value & 1 == 1);
    }
    if amount == 0 {
        return (value, carry);
    }
    let bit = |number: u32| number < 32 && value >> number & 1 == 1;
    match shift {
        Shift::Lsl if amount > 32 => (0, false),
        Shift::Lsl => (value.checked_shl(amount).unwrap_or(0), bit(32 - amount)),
        Shift::Lsr => (value.checked_shr(amount).unwrap_or(0), bit(amount - 1)),
        Shift::Asr if amount >= 32 => (((value as i32) >> 31) as u32, bit(31)),
        Shift::Asr => (((value as i32) >> amount) as u32, bit(amount - 1)),
        Shift::Ror | Shift::Rrx => {
            let rotated = value.rotate_right(amount % 32);
            (rotated, rotated >> 31 == 1)
        }
    }
}

/// `ThumbExpandImm_C`: a modified constant (A5.3.2), and its carry out if it changes the flag.
pub(super) const fn expand_constant(imm12: u32) -> (u32, Option<bool>) {
    let byte = imm12 & 0xff;
    if imm12 >> 10 == 0 {
        let value = match imm12 >> 8 & 0b11 {
            0 => byte,
            1 => byte << 16 | byte,
            2 => byte << 24 | byte << 8,
            _ => byte << 24 | byte << 16 | byte << 8 | byte,
        };
        return (value, None);
    }
    let value = (0x80 | imm12 & 0x7f).rotate_right(imm12 >> 7);
    (value, Some(value >> 31 == 1))
}

/// `DecodeImmShift`: type and amount of a shift by a constant.
pub(super) const fn constant_shift(kind: u32, amount: u32) -> (Shift, u8) {
    match (kind & 0b11, amount) {
        (0, _) => (Shift::Lsl, amount as u8),
        (1, 0) => (Shift::Lsr, 32),
        (1, _) => (Shift::Lsr, amount as u8),
        (2, 0) => (Shift::Asr, 32),
        (2, _) => (Shift::Asr, amount as u8),
        (_, 0) => (Shift::Rrx, 1),
        (_, _) => (Shift::Ror, amount as u8),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn adds_with_carry_and_overflow() {
        assert_eq!(add_with_carry(0xffff_ffff, 1, false), (0, true, false));
        assert_eq!(add_with_carry(0x7fff_ffff, 0, true), (0x8000_0000, false, true));
        assert_eq!(add_with_carry(5, !7, true), ((-2_i32) as u32, false, false));
        assert_eq!(add_with_carry(0x8000_0000, 0x8000_0000, false), (0, true, true));
    }

    #[test]
    fn shifts_leave_the_last_bit_in_the_carry() {
        for (value, shift, amount, expected) in [
            (1, Shift::Lsl, 31, (0x8000_0000, false)),
            (3, Shift::Lsl, 31, (0x8000_0000, true)),
            (1, Shift::Lsl, 32, (0, true)),
            (1, Shift::Lsl, 33, (0, false)),
            (0x8000_0000, Shift::Lsr, 32, (0, true)),
            (0x8000_0000, Shift::Lsr, 33, (0, false)),
            (0x8000_0000, Shift::Asr, 40, (0xffff_ffff, true)),
            (0x11, Shift::Ror, 4, (0x1000_0001, false)),
            (0x8000_0000, Shift::Ror, 32, (0x8000_0000, true)),
            (1, Shift::Rrx, 1, (0, true)),
        ] {
            assert_eq!(
                shift_with_carry(value, shift, amount, false),
                expected,
                "{value:#x} {shift:?} {amount}"
            );
        }
        assert_eq!(shift_with_carry(1, Shift::Lsl, 0, true), (1, true), "by zero keeps the carry");
    }

    #[test]
    fn expands_modified_constants() {
        assert_eq!(expand_constant(0x0ab), (0xab, None));
        assert_eq!(expand_constant(0x1ab), (0x00ab_00ab, None));
        assert_eq!(expand_constant(0x2ab), (0xab00_ab00, None));
        assert_eq!(expand_constant(0x3ab), (0xabab_abab, None));
        assert_eq!(expand_constant(0x4ff), (0x7f80_0000, Some(false)));
        assert_eq!(expand_constant(0x47f), (0xff00_0000, Some(true)));
    }
}

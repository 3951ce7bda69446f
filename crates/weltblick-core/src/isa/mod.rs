//! Instruction sets: what an instruction is, as far as figures need it: its length, and how it
//! changes the program flow.

pub mod thumb;

/// The instruction sets that figures can be computed for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Isa {
    /// Arm Thumb-2, as all M-profile cores execute it.
    Thumb,
    /// RISC-V, 32 bits.
    Riscv32,
    /// RISC-V, 64 bits.
    Riscv64,
}

impl Isa {
    /// The name in manifests.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Thumb => "thumb",
            Self::Riscv32 => "riscv32",
            Self::Riscv64 => "riscv64",
        }
    }
}

/// How many bytes the instruction at the start of `code` takes; `None` if `code` is too short.
///
/// Thumb: a first halfword whose top five bits are `11101`, `11110` or `11111` begins a 32-bit
/// instruction (DDI 0403E, A5.1). RISC-V: lowest two bits `11` mean 32 bits, and longer encodings
/// follow *The RISC-V Instruction Set Manual*, volume I, section 1.5.
#[must_use]
pub fn instruction_length(isa: Isa, code: &[u8]) -> Option<u64> {
    let first = u16::from_le_bytes(*code.first_chunk::<2>()?);
    Some(match isa {
        Isa::Thumb => match first >> 11 {
            0b11101..=0b11111 => 4,
            _ => 2,
        },
        Isa::Riscv32 | Isa::Riscv64 => match first {
            low if low & 0b11 != 0b11 => 2,
            low if low & 0b1_1100 != 0b1_1100 => 4,
            low if low & 0b10_0000 == 0 => 6,
            _ => 8,
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn knows_lengths() {
        for (isa, half, length) in [
            (Isa::Thumb, 0xbf30_u16, 2), // wfi
            (Isa::Thumb, 0xe7fe, 2),     // b .
            (Isa::Thumb, 0xf000, 4),     // bl
            (Isa::Thumb, 0xe92d, 4),     // push.w
            (Isa::Riscv32, 0x0001, 2),   // c.nop
            (Isa::Riscv32, 0x0013, 4),   // nop
            (Isa::Riscv64, 0x001f, 6),
            (Isa::Riscv64, 0x003f, 8),
        ] {
            assert_eq!(instruction_length(isa, &half.to_le_bytes()), Some(length), "{half:#06x}");
        }
        assert_eq!(instruction_length(Isa::Thumb, &[0]), None);
    }
}

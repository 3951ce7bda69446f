//! Thumb-2 as M-profile cores execute it: length, branch class and target of every instruction.
//!
//! Encodings follow the *Armv7-M Architecture Reference Manual* (DDI 0403E), chapters A5 and A7, and
//! for security states and low-overhead loops the *Armv8-M Architecture Reference Manual* (DDI 0553).
//! Only what moves the program counter, waits, or puts another stack in place is told apart; everything else is
//! [`Kind::Plain`].

#[cfg(test)]
mod tests;
mod wide;

/// One instruction, as far as the program flow is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Instruction {
    /// Its length in bytes: 2 or 4.
    pub length: u8,
    /// What it does to the program flow.
    pub kind: Kind,
}

/// What an instruction does to the program flow. Targets are addresses, thumb bit clear.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Goes on with the next instruction. So do instructions that may cause an exception.
    Plain,
    /// Makes the next one to four instructions conditional (`it`).
    IfThen(IfThen),
    /// Branches to a fixed address.
    Jump {
        /// Where to.
        target: u64,
        /// It may not branch: `b<cond>`, `cbz`, `cbnz`, and the ends of low-overhead loops.
        conditional: bool,
    },
    /// Calls a fixed address (`bl`).
    Call {
        /// Whom.
        target: u64,
    },
    /// Branches to where a register or memory says.
    Indirect(Indirect),
    /// An instruction barrier (`isb`): fetches anew what follows.
    Barrier,
    /// Waits (`wfi`, `wfe`).
    Wait,
    /// Asks the supervisor (`svc`).
    Supervisor,
    /// A breakpoint (`bkpt`), or permanently undefined (`udf`): an exception follows.
    Trap,
    /// Writes a stack pointer from a register or from memory (`msr psp`, `mov sp`): a kernel may put another thread in
    /// place so, and no other way.
    SetsStack,
}

/// How an indirect branch is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Indirect {
    /// It leaves a return address in the link register (`blx`).
    Call,
    /// In the way in which functions return: `bx lr`, `mov pc, lr`, or the program counter from the
    /// stack. In a handler it may return from the exception.
    Return,
    /// Through a table (`tbb`, `tbh`).
    Table,
    /// Any other: a computed jump, a tail call through a pointer.
    Jump,
}

/// The state of an IT block: the condition of the next instruction in the top four bits, and a mask
/// that says how many are left (DDI 0403E, A7.3.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct IfThen(u8);

impl IfThen {
    /// Outside any block.
    pub const NONE: Self = Self(0);

    /// Whether the next instruction is in a block.
    #[must_use]
    pub const fn is_active(self) -> bool {
        self.0 & 0xf != 0
    }

    /// Whether the next instruction may not be executed: it is in a block, and its condition is not
    /// *always*.
    #[must_use]
    pub const fn is_conditional(self) -> bool {
        self.is_active() && self.0 >> 5 != 0b111
    }

    /// How many instructions are left.
    #[must_use]
    pub const fn left(self) -> u32 {
        if self.is_active() { 4 - (self.0 & 0xf).trailing_zeros() } else { 0 }
    }

    /// The state after one more instruction (`ITAdvance`).
    #[must_use]
    pub const fn advance(self) -> Self {
        if self.0 & 0b111 == 0 { Self::NONE } else { Self(self.0 & 0xe0 | self.0 << 1 & 0x1f) }
    }
}

impl Kind {
    /// Whether it may move the program counter elsewhere, by itself.
    #[must_use]
    pub const fn branches(self) -> bool {
        matches!(self, Self::Jump { .. } | Self::Call { .. } | Self::Indirect(_))
    }

    /// Where it goes, if that is fixed.
    #[must_use]
    pub const fn target(self) -> Option<u64> {
        match self {
            Self::Jump { target, .. } | Self::Call { target } => Some(target),
            _ => None,
        }
    }

    /// Whether it leaves a return address.
    #[must_use]
    pub const fn links(self) -> bool {
        matches!(self, Self::Call { .. } | Self::Indirect(Indirect::Call))
    }
}

/// The instruction at `address`, whose bytes `code` starts with; `None` if `code` is too short.
#[inline]
#[must_use]
pub fn decode(address: u64, code: &[u8]) -> Option<Instruction> {
    let first = u16::from_le_bytes(*code.first_chunk::<2>()?);
    if first >> 11 < 0b11101 {
        return Some(Instruction { length: 2, kind: narrow(address, first) });
    }
    let [_, _, low, high] = *code.first_chunk::<4>()?;
    let second = u16::from_le_bytes([low, high]);
    Some(Instruction { length: 4, kind: wide::kind(address, first, second) })
}

/// A 16-bit instruction (A5.2).
fn narrow(address: u64, half: u16) -> Kind {
    match half >> 8 {
        // Special data instructions with a high destination: `add pc`, `mov pc`.
        0x44 if half & 0x87 == 0x87 => Kind::Indirect(Indirect::Jump),
        0x44 | 0x46 if half & 0x87 == 0x85 => Kind::SetsStack,
        0x46 if half & 0x87 == 0x87 => by_register(half),
        // `bx`, `blx`, and their forms that leave the secure state.
        0x47 if half & 0x80 != 0 => Kind::Indirect(Indirect::Call),
        0x47 => by_register(half),
        // `cbz`, `cbnz`: forwards only.
        0xb1 | 0xb3 | 0xb9 | 0xbb => {
            let distance = u64::from(half >> 9 & 1) << 6 | u64::from(half >> 3 & 0x1f) << 1;
            Kind::Jump { target: offset(address, distance as i64), conditional: true }
        }
        0xbd => Kind::Indirect(Indirect::Return),
        0xbe | 0xde => Kind::Trap,
        0xbf if half & 0xf != 0 => Kind::IfThen(IfThen(half as u8)),
        0xbf if matches!(half >> 4 & 0xf, 2 | 3) => Kind::Wait,
        0xd0..=0xdd => {
            let target = offset(address, i64::from(half as u8 as i8) * 2);
            Kind::Jump { target, conditional: true }
        }
        0xdf => Kind::Supervisor,
        0xe0..=0xe7 => {
            let target = offset(address, signed(u32::from(half & 0x7ff), 11) * 2);
            Kind::Jump { target, conditional: false }
        }
        _ => Kind::Plain,
    }
}

/// `bx` and `mov pc`: a return if it is the link register's.
const fn by_register(half: u16) -> Kind {
    let indirect = if half >> 3 & 0xf == 14 { Indirect::Return } else { Indirect::Jump };
    Kind::Indirect(indirect)
}

/// A target relative to the program counter, which reads as the instruction's address and 4. Code
/// addresses have 32 bits.
const fn offset(address: u64, distance: i64) -> u64 {
    address.wrapping_add(4).wrapping_add_signed(distance) & 0xffff_ffff
}

/// The low `bits` of `value` as a signed number.
const fn signed(value: u32, bits: u32) -> i64 {
    ((value << (32 - bits)) as i32 >> (32 - bits)) as i64
}

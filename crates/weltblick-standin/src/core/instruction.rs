//! Decoded instructions: what to do, with every operand already unpacked.

/// A decoded instruction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Instruction {
    /// What to do.
    pub op: Op,
    /// Its length in bytes: 2 or 4.
    pub length: u8,
}

/// A register number, 0 to 15.
pub(super) type Reg = u8;

/// When an instruction changes the flags.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SetFlags {
    /// Always.
    Yes,
    /// Never.
    No,
    /// Only outside an IT block, as most 16-bit instructions do.
    OutsideIt,
}

/// Two-operand arithmetic and logic.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names are the manual's mnemonics")]
pub enum Alu {
    And,
    Bic,
    Orr,
    Orn,
    Eor,
    Add,
    Adc,
    Sbc,
    Sub,
    Rsb,
    Mov,
    Mvn,
    Tst,
    Teq,
    Cmp,
    Cmn,
}

/// How a register is shifted (A7.4.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shift {
    /// Logically left.
    Lsl,
    /// Logically right.
    Lsr,
    /// Arithmetically right.
    Asr,
    /// Rotated right.
    Ror,
    /// Rotated right by one through the carry flag.
    Rrx,
}

/// The second operand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operand {
    /// A constant; `carry` is what its expansion leaves in the carry flag, if anything.
    Constant {
        /// The value.
        value: u32,
        /// The carry out.
        carry: Option<bool>,
    },
    /// A register shifted by a constant.
    Register {
        /// Which.
        rm: Reg,
        /// How.
        shift: Shift,
        /// How far, 0 to 32.
        amount: u8,
    },
}

/// The width of a memory access.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Width {
    /// One byte.
    Byte,
    /// Two bytes.
    Half,
    /// Four bytes.
    Word,
}

impl Width {
    /// Bytes.
    #[must_use]
    pub const fn bytes(self) -> u32 {
        match self {
            Self::Byte => 1,
            Self::Half => 2,
            Self::Word => 4,
        }
    }
}

/// Where a load or store goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Address {
    /// A constant address (PC-relative).
    Literal(u32),
    /// `[rn, #offset]`, and what happens to `rn`.
    Offset {
        /// The base register.
        rn: Reg,
        /// Added to it.
        offset: i32,
        /// Before, after or not at all.
        index: Index,
    },
    /// `[rn, rm, lsl #shift]`.
    Register {
        /// The base register.
        rn: Reg,
        /// The index register.
        rm: Reg,
        /// Its shift, 0 to 3.
        shift: u8,
    },
}

/// What an access does to its base register.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Index {
    /// Leaves it.
    Offset,
    /// The access uses the new value, and so does the base.
    Pre,
    /// The access uses the old value, the base gets the new one.
    Post,
}

/// Operations on one register.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names are the manual's mnemonics")]
pub enum Unary {
    Sxtb,
    Sxth,
    Uxtb,
    Uxth,
    Rev,
    Rev16,
    Revsh,
    Rbit,
    Clz,
}

/// What to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "field names are the manual's operand names")]
pub enum Op {
    Alu {
        alu: Alu,
        rd: Reg,
        rn: Reg,
        operand: Operand,
        flags: SetFlags,
    },
    ShiftByRegister {
        shift: Shift,
        rd: Reg,
        rn: Reg,
        rm: Reg,
        flags: SetFlags,
    },
    MoveTop {
        rd: Reg,
        value: u16,
    },
    Unary {
        unary: Unary,
        rd: Reg,
        rm: Reg,
        rotation: u8,
    },
    SignedField {
        rd: Reg,
        rn: Reg,
        lsb: u8,
        width: u8,
    },
    UnsignedField {
        rd: Reg,
        rn: Reg,
        lsb: u8,
        width: u8,
    },
    /// `rn == 15` clears the field.
    InsertField {
        rd: Reg,
        rn: Reg,
        lsb: u8,
        width: u8,
    },
    Saturate {
        signed: bool,
        rd: Reg,
        rn: Reg,
        bits: u8,
        shift: Shift,
        amount: u8,
    },
    Multiply {
        rd: Reg,
        rn: Reg,
        rm: Reg,
        flags: SetFlags,
    },
    MultiplyAdd {
        rd: Reg,
        rn: Reg,
        rm: Reg,
        ra: Reg,
        subtract: bool,
    },
    LongMultiply {
        low: Reg,
        high: Reg,
        rn: Reg,
        rm: Reg,
        signed: bool,
        accumulate: bool,
    },
    Divide {
        rd: Reg,
        rn: Reg,
        rm: Reg,
        signed: bool,
    },
    Load {
        rt: Reg,
        address: Address,
        width: Width,
        signed: bool,
    },
    Store {
        rt: Reg,
        address: Address,
        width: Width,
    },
    LoadPair {
        rt: Reg,
        rt2: Reg,
        address: Address,
    },
    StorePair {
        rt: Reg,
        rt2: Reg,
        address: Address,
    },
    LoadMany {
        rn: Reg,
        list: u16,
        writeback: bool,
        before: bool,
    },
    StoreMany {
        rn: Reg,
        list: u16,
        writeback: bool,
        before: bool,
    },
    LoadExclusive {
        rt: Reg,
        rn: Reg,
        offset: u16,
        width: Width,
    },
    StoreExclusive {
        rd: Reg,
        rt: Reg,
        rn: Reg,
        offset: u16,
        width: Width,
    },
    ClearExclusive,
    Branch {
        target: u32,
    },
    BranchIf {
        condition: u8,
        target: u32,
    },
    BranchLink {
        target: u32,
    },
    BranchRegister {
        rm: Reg,
        link: bool,
    },
    CompareBranch {
        rn: Reg,
        nonzero: bool,
        target: u32,
    },
    TableBranch {
        rn: Reg,
        rm: Reg,
        half: bool,
    },
    IfThen {
        state: u8,
    },
    ChangeInterrupts {
        disable: bool,
        primask: bool,
        faultmask: bool,
    },
    MoveFromSpecial {
        rd: Reg,
        special: u8,
    },
    MoveToSpecial {
        rn: Reg,
        special: u8,
    },
    Supervisor,
    Breakpoint {
        code: u8,
    },
    WaitForInterrupt,
    WaitForEvent,
    SendEvent,
    Barrier,
    Nop,
}

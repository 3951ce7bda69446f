//! What an instruction stream can say, one variant per packet type.

/// One packet. Section names are those of IHI 0064, chapter "Descriptions of trace packets".
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packet {
    /// Alignment synchronisation: the next byte is a header.
    Async,
    /// Discard: trace was switched off before everything could be sent.
    Discard,
    /// Overflow: the trace unit's buffer was full, packets are missing here.
    Overflow,
    /// Trace info: from here on a decoder knows everything that it needs.
    TraceInfo(TraceInfo),
    /// Trace on: what ran before was not traced, by choice or because of an overflow.
    TraceOn,
    /// Timestamp.
    Timestamp {
        /// The global timestamp; 0: it was not known.
        value: u64,
        /// Cycles since the last cycle count, where cycle counts are on.
        cycles: Option<u32>,
    },
    /// Cycle count, formats 1 to 3.
    CycleCount {
        /// How many of the oldest elements it makes certain; 0 where commits are packets of their
        /// own (`TRCIDR0.COMMOPT` 1).
        commit: u32,
        /// Cycles since the count before, up to the last committed element; `None`: not known.
        cycles: Option<u32>,
    },
    /// Atoms, formats 1 to 6.
    Atoms(Atoms),
    /// Address, short or long, with or without a context; also an exact match.
    Address(Address),
    /// Context.
    Context(Context),
    /// Exception. An address packet follows.
    Exception(Exception),
    /// Exception return.
    ExceptionReturn,
    /// Function return: from non-secure to secure code (Armv8-M).
    FunctionReturn,
    /// Commit: so many elements are certain.
    Commit(u32),
    /// Cancel, formats 1 to 3; the format's atoms come first.
    Cancel {
        /// Atoms before it.
        atoms: Atoms,
        /// How many elements did not happen after all.
        elements: u32,
        /// The last atom that is left was mispredicted: it is the opposite.
        mispredict: bool,
    },
    /// Mispredict: the last atom is the opposite of what it said.
    Mispredict {
        /// Atoms before it.
        atoms: Atoms,
    },
    /// Q: so many instructions ran, and nobody says which.
    Q {
        /// How many instructions, where it says so.
        count: Option<u32>,
        /// Where execution goes on, where it says so; otherwise an address packet follows.
        address: Option<Address>,
    },
    /// Event: trace unit events, one bit each.
    Event(u8),
    /// Data synchronisation marker, numbered or not.
    DataSync(DataSync),
    /// Conditional instruction or result. Recognised; only trace units that trace conditional
    /// instructions send it, and none on an M-profile core does.
    Conditional(Conditional),
    /// Ignore.
    Ignore,
}

/// Atoms: one per branch, the oldest in bit 0; 1 is an E atom (taken), 0 an N atom (not taken).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Atoms {
    /// One bit each.
    pub bits: u32,
    /// How many: 0 to 24.
    pub count: u8,
}

/// Which instructions an address is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum InstructionSet {
    /// IS0: A32 or A64, four bytes each.
    #[default]
    Is0,
    /// IS1: T32.
    Is1,
}

/// An address, and the context if the packet carries one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Address {
    /// The whole address.
    pub value: u64,
    /// For which instructions.
    pub set: InstructionSet,
    /// The context that holds from there on, if the packet says.
    pub context: Option<Context>,
}

/// A context: who executes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Context {
    /// The exception level.
    pub level: u8,
    /// A64.
    pub wide: bool,
    /// Non-secure state.
    pub non_secure: bool,
    /// The virtual machine, 0 if none was sent.
    pub vmid: u32,
    /// The context ID, 0 if none was sent.
    pub id: u32,
}

/// What an exception packet says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exception {
    /// Its type, 10 bits.
    pub kind: u16,
    /// How the address that follows is meant.
    pub returns: Returns,
    /// M-profile: a fault is pending (the P bit).
    pub fault_pending: bool,
}

/// How the address after an exception is meant (the E bits).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Returns {
    /// E is 1: the preferred return address. Everything up to it ran.
    After,
    /// E is 2: the preferred return address, which is also the target of the last branch: nothing
    /// ran since.
    AtTarget,
}

impl Exception {
    /// The exception number of an M-profile core: its types 1 to 23 are system exceptions and the
    /// first eight interrupts, from 0x208 on there are more of these (table "Exception types for
    /// Armv7-M and Armv8-M"). `None` for what is no exception there.
    #[must_use]
    pub const fn m_profile_number(self) -> Option<u16> {
        match self.kind {
            0x001..=0x017 => Some(self.kind),
            0x208..=0x3ef => Some(self.kind - 0x200 + 16),
            _ => None,
        }
    }
}

/// What a trace info packet says; absent sections are 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct TraceInfo {
    /// Cycle counts are on.
    pub cycle_counts: bool,
    /// Which conditional instructions are traced.
    pub conditional: u8,
    /// Loads are traced as elements.
    pub loads: bool,
    /// Stores are.
    pub stores: bool,
    /// The next key of a load or store.
    pub key: u32,
    /// How many elements are not committed.
    pub speculation: u32,
    /// The threshold of cycle counts.
    pub threshold: u32,
}

/// A marker that ties the instruction stream to a data stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DataSync {
    /// Numbered, 0 to 7.
    Numbered(u8),
    /// Unnumbered, 0 to 4.
    Unnumbered(u8),
}

/// A conditional instruction, or the result of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Conditional {
    /// Instruction, formats 1 to 3.
    Instruction {
        /// Which format.
        format: u8,
        /// Its key, or the format's bits.
        bits: u32,
    },
    /// Result, formats 1 to 4; format 1 may carry two.
    Result {
        /// Which format.
        format: u8,
        /// Key and result, or the format's bits.
        bits: [u32; 2],
    },
    /// Flush: keys start again.
    Flush,
}

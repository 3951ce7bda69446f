//! What an instruction stream can say, one variant per packet type.

/// One packet. Names are those of IHI 0014, chapter "Trace port protocol".
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packet {
    /// A-sync: the next byte is a header.
    Async,
    /// I-sync: where execution is, whatever was said before.
    Start(Start),
    /// A P-header: atoms, and cycles where those are traced.
    Atoms(Atoms),
    /// A branch packet: where the last instruction led, or where an exception did.
    Branch(Branch),
    /// So many cycles passed while nothing was traced; 0: more than can be counted.
    CycleCount(u32),
    /// Context ID.
    Context(u32),
    /// ID of the virtual machine.
    Vmid(u8),
    /// Timestamp.
    Timestamp {
        /// The global timestamp.
        value: u64,
        /// The core's clock changed its speed since the last one.
        clock_changed: bool,
    },
    /// An exception's registers are about to be stacked: sent beside data trace only.
    ExceptionEntry,
    /// The instruction before was a return from an exception.
    ExceptionReturn,
    /// The trigger event.
    Trigger,
    /// A packet of data trace: recognised, not used.
    Data(Data),
    /// Ignore.
    Ignore,
}

/// An I-sync packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Start {
    /// Why it was sent.
    pub reason: Reason,
    /// The address of the next instruction; `None` where only data is traced.
    pub address: Option<u64>,
    /// The instruction set of that.
    pub set: InstructionSet,
    /// A load or store of several registers that goes on meanwhile.
    pub in_progress: Option<u64>,
    /// Cycles since the last one that was counted; 0: more than can be counted.
    pub cycles: Option<u32>,
    /// The context ID, if there is one.
    pub context: u32,
    /// In non-secure state.
    pub non_secure: bool,
    /// In hypervisor mode.
    pub hypervisor: bool,
}

/// Why an I-sync packet was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reason {
    /// For whoever joins.
    Periodic,
    /// Trace was switched on.
    TraceOn,
    /// The trace unit's buffer was full, packets are missing before it.
    Overflow,
    /// The core left debug state.
    LeftDebug,
}

/// The atoms of a P-header: one per instruction, the oldest in bit 0; 1 is an E atom (executed), 0 an N
/// atom (its condition failed; of a conditional branch: not taken).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Atoms {
    /// One bit each.
    pub bits: u16,
    /// How many.
    pub count: u8,
    /// Cycles that began before the first of them (W atoms).
    pub cycles: u8,
    /// One more cycle began before each further one.
    pub cycle_each: bool,
}

/// A branch packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Branch {
    /// Where execution goes on.
    pub address: u64,
    /// The instruction set there.
    pub set: InstructionSet,
    /// What it says about an exception, if it does.
    pub exception: Option<Exception>,
}

/// Exception information.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Exception {
    /// The type, by the table of the core's architecture; 0: none was taken; `None`: not told.
    pub kind: Option<u16>,
    /// The last instruction was traced and did not happen.
    pub cancels: bool,
    /// A load or store of several registers goes on after the return with this one (Armv7-M).
    pub resume: u8,
    /// In non-secure state.
    pub non_secure: bool,
    /// In hypervisor mode.
    pub hypervisor: bool,
}

impl Exception {
    /// The exception number of an M-profile core (IHI 0014, "Exception encodings, ARMv7-M"): the first
    /// eight interrupts stand before and among the system exceptions.
    #[must_use]
    pub const fn m_profile_number(&self) -> Option<u16> {
        match self.kind {
            Some(kind @ 1..=7) => Some(16 + kind),
            Some(8) => Some(16),
            Some(9) => Some(6),
            Some(10) => Some(2),
            Some(11) => Some(11),
            Some(12) => Some(12),
            Some(13) => Some(4),
            Some(14) => Some(14),
            Some(15) => Some(15),
            Some(17) => Some(1),
            Some(19) => Some(3),
            Some(21) => Some(5),
            Some(kind @ 24..=0x1ff) => Some(kind),
            _ => None,
        }
    }

    /// Whether an exception was taken, and not only a state told.
    #[must_use]
    pub fn is_taken(&self) -> bool {
        self.kind != Some(0)
    }
}

/// An instruction set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum InstructionSet {
    /// A32.
    Arm,
    /// T32.
    #[default]
    Thumb,
    /// Jazelle bytecodes.
    Jazelle,
}

/// A packet of data trace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Data {
    /// A value, in order.
    Normal(u32),
    /// A value that was announced, by its tag.
    OutOfOrder(u8, u32),
    /// A value that is to come, by its tag.
    Placeholder(u8),
    /// A value that is not traced.
    NotTraced,
    /// A store that failed.
    StoreFailed,
    /// Values are missing here.
    Suppressed,
}

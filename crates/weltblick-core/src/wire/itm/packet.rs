//! What an ITM stream can say, one variant per packet type.

/// One ITM or DWT packet. Section numbers are those of DDI 0403E, appendix D4.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packet {
    /// D4.2.1: a synchronisation; the next byte is a header.
    Sync,
    /// D4.2.3: the ITM had to drop packets here.
    Overflow,
    /// D4.2.4: ticks of the timestamp clock since the previous local timestamp.
    LocalTime {
        /// Ticks of the timestamp clock (after its prescaler); 28 bits.
        ticks: u32,
        /// How the value relates to the packets before it.
        relation: Relation,
    },
    /// D4.2.5: the low bits of the global timestamp. Bits above `width` are as they were before.
    GlobalTimeLow {
        /// Bits 25:0 of the global timestamp, as far as sent.
        bits: u32,
        /// How many bits were sent: 7, 14, 21 or 26.
        width: u8,
        /// The clock ratio of the global timestamp changed since the last packet of this type.
        clock_changed: bool,
        /// Bits above 25 changed: a high packet follows.
        wrapped: bool,
    },
    /// D4.2.5: bits 47:26 or 63:26 of the global timestamp.
    GlobalTimeHigh {
        /// The value of these bits, shifted down to bit 0.
        bits: u64,
        /// How many bits were sent: 22 or 38.
        width: u8,
    },
    /// D4.2.6: more information about later packets; for `hardware == false` the stimulus page.
    Extension {
        /// The packet speaks of hardware sources instead of stimulus ports.
        hardware: bool,
        /// The extension's bits: 3 for a packet without payload, up to 32 with.
        value: u32,
    },
    /// D4.2.7: a write to a stimulus port.
    Stimulus {
        /// The port within its page of 32; the page comes from the last extension packet.
        port: u8,
        /// How many bytes were written.
        size: Size,
        /// The value written, zero-extended.
        value: u32,
    },
    /// D4.3.1: event counters that wrapped.
    EventCounters(Counters),
    /// D4.3.2: the processor entered, left or returned to an exception (0 is thread mode).
    Exception {
        /// The exception number, 9 bits.
        number: u16,
        /// What happened.
        action: Action,
    },
    /// D4.3.3: the program counter at a sampling tick.
    PcSample {
        /// The address of an instruction about to execute.
        pc: u32,
    },
    /// D4.3.3, short form: the core slept at a sampling tick.
    Asleep,
    /// Armv8-M, short form: sampling was prohibited at this tick (secure state).
    Prohibited,
    /// D4.3.4: the program counter of an instruction that a comparator matched.
    DataPc {
        /// Comparator 0 to 3.
        comparator: u8,
        /// The address of the accessing instruction.
        pc: u32,
    },
    /// D4.3.4: bits 15:0 of a data address that a comparator matched.
    DataAddress {
        /// Comparator 0 to 3.
        comparator: u8,
        /// The low half of the address.
        offset: u16,
    },
    /// D4.3.4: the value that a matched access read or wrote.
    DataValue {
        /// Comparator 0 to 3.
        comparator: u8,
        /// The access was a write.
        write: bool,
        /// How many bytes were accessed.
        size: Size,
        /// The value, zero-extended.
        value: u32,
    },
    /// Armv8-M: a comparator matched, nothing more is said.
    DataMatch {
        /// Comparator 0 to 3.
        comparator: u8,
    },
    /// Armv8.1-M: performance counters 0 to 7 that overflowed, one bit each.
    PmuOverflow {
        /// Bit n: counter n.
        counters: u8,
    },
}

/// How a local timestamp relates to the packets that it dates (D4.2.4, field TC).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Relation {
    /// TC 0: the value is the time of the packets.
    Synchronous,
    /// TC 1: the timestamp was delayed; the packets are earlier than the value says.
    TimestampDelayed,
    /// TC 2: the packets were delayed; their events are earlier than the value says.
    PacketDelayed,
    /// TC 3: both were delayed.
    BothDelayed,
}

/// The width of an access or a stimulus write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Size {
    /// One byte.
    Byte,
    /// Two bytes.
    Half,
    /// Four bytes.
    Word,
}

impl Size {
    /// How many bytes.
    #[must_use]
    pub const fn bytes(self) -> usize {
        match self {
            Self::Byte => 1,
            Self::Half => 2,
            Self::Word => 4,
        }
    }
}

/// What an exception trace packet says (D4.3.2, field FN).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// FN 1: the exception was entered.
    Enter,
    /// FN 2: the exception was left.
    Exit,
    /// FN 3: the processor returned to the exception, or to thread mode (number 0).
    Return,
}

/// Event counters that wrapped (D4.3.1), one bit each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counters(pub u8);

impl Counters {
    /// The manual's names of bits 0 to 5.
    pub const NAMES: [&'static str; 6] = ["CPI", "Exc", "Sleep", "LSU", "Fold", "Cyc"];

    /// The names of the counters that wrapped.
    pub fn names(self) -> impl Iterator<Item = &'static str> {
        (0..6).filter(move |bit| self.0 >> bit & 1 == 1).map(|bit| Self::NAMES[bit])
    }
}

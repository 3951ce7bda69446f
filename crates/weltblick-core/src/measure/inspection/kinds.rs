//! Packets and bytes by kind.

use crate::wire::itm::Packet;
use crate::wire::mtb;

/// What a packet is, without its values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
#[allow(missing_docs, reason = "the names are those of the packets")]
pub enum Kind {
    Sync,
    Overflow,
    LocalTime,
    GlobalTime,
    Extension,
    Stimulus,
    EventCounters,
    Exception,
    PcSample,
    Asleep,
    Prohibited,
    DataTrace,
    PmuOverflow,
    Branch,
    ExceptionalBranch,
}

impl Kind {
    /// How many kinds there are.
    pub const COUNT: usize = 15;

    const ALL: [Self; Self::COUNT] = [
        Self::Sync,
        Self::Overflow,
        Self::LocalTime,
        Self::GlobalTime,
        Self::Extension,
        Self::Stimulus,
        Self::EventCounters,
        Self::Exception,
        Self::PcSample,
        Self::Asleep,
        Self::Prohibited,
        Self::DataTrace,
        Self::PmuOverflow,
        Self::Branch,
        Self::ExceptionalBranch,
    ];

    /// All kinds, by number.
    pub fn all() -> impl Iterator<Item = Self> {
        Self::ALL.into_iter()
    }

    /// The kind of a packet.
    #[must_use]
    pub const fn of(packet: &Packet) -> Self {
        match packet {
            Packet::Sync => Self::Sync,
            Packet::Overflow => Self::Overflow,
            Packet::LocalTime { .. } => Self::LocalTime,
            Packet::GlobalTimeLow { .. } | Packet::GlobalTimeHigh { .. } => Self::GlobalTime,
            Packet::Extension { .. } => Self::Extension,
            Packet::Stimulus { .. } => Self::Stimulus,
            Packet::EventCounters(_) => Self::EventCounters,
            Packet::Exception { .. } => Self::Exception,
            Packet::PcSample { .. } => Self::PcSample,
            Packet::Asleep => Self::Asleep,
            Packet::Prohibited => Self::Prohibited,
            Packet::DataPc { .. }
            | Packet::DataAddress { .. }
            | Packet::DataValue { .. }
            | Packet::DataMatch { .. } => Self::DataTrace,
            Packet::PmuOverflow { .. } => Self::PmuOverflow,
        }
    }

    /// The kind of a micro trace buffer's packet.
    #[must_use]
    pub const fn of_branch(packet: &mtb::Packet) -> Self {
        if packet.exceptional { Self::ExceptionalBranch } else { Self::Branch }
    }

    /// The name for people and programs.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Sync => "synchronisation",
            Self::Overflow => "overflow",
            Self::LocalTime => "local timestamp",
            Self::GlobalTime => "global timestamp",
            Self::Extension => "extension",
            Self::Stimulus => "stimulus write",
            Self::EventCounters => "event counters",
            Self::Exception => "exception trace",
            Self::PcSample => "PC sample",
            Self::Asleep => "PC sample, asleep",
            Self::Prohibited => "PC sample, prohibited",
            Self::DataTrace => "data trace",
            Self::PmuOverflow => "PMU overflow",
            Self::Branch => "branch",
            Self::ExceptionalBranch => "branch by an exception",
        }
    }
}

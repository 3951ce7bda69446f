//! Packets and bytes by kind.

use crate::capture::Instructions;
use crate::wire::itm::Packet;
use crate::wire::{etmv3, etmv4, mtb};

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
    Atoms,
    Address,
    Context,
    ExceptionReturn,
    TraceInfo,
    TraceOn,
    CycleCount,
    Speculation,
    OtherInstruction,
}

impl Kind {
    /// How many kinds there are.
    pub const COUNT: usize = 24;

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
        Self::Atoms,
        Self::Address,
        Self::Context,
        Self::ExceptionReturn,
        Self::TraceInfo,
        Self::TraceOn,
        Self::CycleCount,
        Self::Speculation,
        Self::OtherInstruction,
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

    /// The kind of a packet of an instruction trace.
    #[must_use]
    pub const fn of_instructions(packet: &Instructions) -> Self {
        match packet {
            Instructions::Etmv3(packet) => Self::of_etmv3(packet),
            Instructions::Etmv4(packet) => Self::of_etmv4(packet),
        }
    }

    const fn of_etmv3(packet: &etmv3::Packet) -> Self {
        match packet {
            etmv3::Packet::Async => Self::Sync,
            etmv3::Packet::Start(start) => match start.reason {
                etmv3::Reason::Overflow => Self::Overflow,
                etmv3::Reason::Periodic => Self::TraceInfo,
                etmv3::Reason::TraceOn | etmv3::Reason::LeftDebug => Self::TraceOn,
            },
            etmv3::Packet::Atoms(_) => Self::Atoms,
            etmv3::Packet::Branch(branch) => match branch.exception {
                Some(_) => Self::Exception,
                None => Self::Address,
            },
            etmv3::Packet::CycleCount(_) => Self::CycleCount,
            etmv3::Packet::Context(_) | etmv3::Packet::Vmid(_) => Self::Context,
            etmv3::Packet::Timestamp { .. } => Self::GlobalTime,
            etmv3::Packet::ExceptionReturn => Self::ExceptionReturn,
            etmv3::Packet::Data(_) => Self::DataTrace,
            etmv3::Packet::ExceptionEntry | etmv3::Packet::Trigger | etmv3::Packet::Ignore => {
                Self::OtherInstruction
            }
        }
    }

    const fn of_etmv4(packet: &etmv4::Packet) -> Self {
        match packet {
            etmv4::Packet::Async => Self::Sync,
            etmv4::Packet::Overflow | etmv4::Packet::Discard => Self::Overflow,
            etmv4::Packet::Timestamp { .. } => Self::GlobalTime,
            etmv4::Packet::Exception(_) => Self::Exception,
            etmv4::Packet::ExceptionReturn => Self::ExceptionReturn,
            etmv4::Packet::Atoms(_) => Self::Atoms,
            etmv4::Packet::Address(_) => Self::Address,
            etmv4::Packet::Context(_) => Self::Context,
            etmv4::Packet::TraceInfo(_) => Self::TraceInfo,
            etmv4::Packet::TraceOn => Self::TraceOn,
            etmv4::Packet::CycleCount { .. } => Self::CycleCount,
            etmv4::Packet::Commit(_)
            | etmv4::Packet::Cancel { .. }
            | etmv4::Packet::Mispredict { .. } => Self::Speculation,
            etmv4::Packet::FunctionReturn
            | etmv4::Packet::Q { .. }
            | etmv4::Packet::Event(_)
            | etmv4::Packet::DataSync(_)
            | etmv4::Packet::Conditional(_)
            | etmv4::Packet::Ignore => Self::OtherInstruction,
        }
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
            Self::Atoms => "atoms",
            Self::Address => "address",
            Self::Context => "context",
            Self::ExceptionReturn => "exception return",
            Self::TraceInfo => "trace info",
            Self::TraceOn => "trace on",
            Self::CycleCount => "cycle count",
            Self::Speculation => "commit, cancel, mispredict",
            Self::OtherInstruction => "other instruction trace",
        }
    }
}

//! What can happen on a target, whatever protocol told of it.

use super::statement::Statement;
use crate::time::Window;
use crate::wire::ctf;
use crate::wire::itm::{Counters, Malformed};
use crate::wire::tpiu::Damage;
use std::ops::Range;

/// One decoder's output: a stream, or one source inside a framed stream. It has one clock and a
/// total order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Origin(pub u16);

/// Where in the recording, and when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Position {
    /// Whose event it is.
    pub origin: Origin,
    /// The core on which it happened, by the number that the trace gives it; 0 where it gives none.
    pub core: u8,
    /// The byte in the origin's own bytes (after deframing) at which the event's packet starts.
    pub offset: u64,
    /// Cycles of the origin's clock; absent where the stream carries no timestamps.
    pub time: Option<Window>,
}

impl Position {
    /// On core 0.
    #[must_use]
    pub const fn new(origin: Origin, offset: u64, time: Option<Window>) -> Self {
        Self { origin, core: 0, offset, time }
    }
}

/// Something that happened.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A sampling tick found the core about to execute `pc`.
    Sample {
        /// An instruction's address, thumb bit clear.
        pc: u64,
    },
    /// A sampling tick found the core asleep.
    Asleep,
    /// A sampling tick found the core where it may not be observed.
    Unobservable,
    /// A sampling tick found the core in code that nobody asked for.
    Elsewhere,
    /// An exception was entered.
    Entered {
        /// Its number.
        exception: u16,
    },
    /// An exception was left.
    Left {
        /// Its number.
        exception: u16,
    },
    /// The core went on with an exception, or with thread mode (0).
    Resumed {
        /// Its number.
        exception: u16,
    },
    /// A watched access.
    Accessed {
        /// Which watch (comparator) saw it.
        watch: u8,
        /// The instruction that accessed, if traced.
        code: Option<u64>,
        /// The low 16 bits of the data address, if traced.
        address: Option<u16>,
        /// What was read or written, if traced.
        value: Option<Value>,
        /// Which way, if known.
        access: Option<Access>,
    },
    /// The firmware wrote to a stimulus port.
    Said {
        /// The port, its page included.
        port: u32,
        /// What it wrote.
        bytes: Bytes,
    },
    /// The firmware, or the kernel in it, stated something.
    Stated(Statement),
    /// Event counters wrapped.
    Counted(Counters),
    /// Performance counters overflowed, one bit each.
    CountedPmu(u8),
    /// A lap point was reached: the core was stopped there.
    Lap {
        /// Which point.
        lap: u8,
        /// The cycle counter, which wraps; absent where the core has none.
        cycles: Option<u32>,
    },
    /// From here on nothing is recorded, by choice; the next event comes after that.
    Unwatched,
    /// What follows was recorded and is left out, for nobody asked for it; time goes on.
    LeftOut,
    /// Ticks are not of one length around here. Nothing is missing.
    ClockFault(ClockFault),
    /// What only the core itself can say comes from several files by turns: they may be those of several cores.
    SeveralCores,
    /// Something is missing between the event before this one and the one after it.
    Lost {
        /// The bytes that could not be read; empty where the target itself dropped packets.
        bytes: Range<u64>,
        /// Why.
        why: LossReason,
    },
}

impl Event {
    /// Whether a tick of the sampler made it.
    #[must_use]
    pub const fn is_sample(&self) -> bool {
        matches!(self, Self::Sample { .. } | Self::Asleep | Self::Unobservable | Self::Elsewhere)
    }
}

/// Why events are missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum LossReason {
    /// The target made packets faster than the link carried them away.
    Overflow,
    /// Packets were dropped, or the timestamp counter itself has overflowed: nothing says how much time passed.
    OverflowUntimed,
    /// Bytes that are no packet.
    Malformed(Malformed),
    /// Bytes that are no frame.
    Framing(Damage),
    /// The connection broke; what was sent until it stood again is lost.
    Disconnected,
    /// A buffer wrapped before it was read out.
    Overwritten,
    /// A line of a poll stream that says nothing.
    NoRecord,
    /// Bytes of an event trace that cannot be read.
    EventTrace(ctf::Damage),
    /// This is missing from an event trace, and its clock may have wrapped meanwhile.
    EventTraceSlip(Lacking),
    /// Events that a tracer dropped, as it counts them.
    Dropped,
    /// Packets of an event trace that never came.
    PacketsMissing,
    /// What is missing was counted already: of another core, or in another file, and it concerns this core, too.
    Shared,
    /// A stretch of an instruction trace, and with it an unknown time.
    FlowGap,
    /// The trace unit did not know how many cycles passed: nothing is missing but the time.
    CountUnknown,
    /// What ran before an instruction trace's first timestamp, or after its last: it has no time.
    Untimed,
    /// A mark without its arguments, or of no known kind: writes before it are missing.
    NoMark,
}

/// What an event trace lacks somewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Lacking {
    /// Events that a tracer dropped, or that an export left out.
    Events,
    /// Whole packets.
    Packets,
    /// What bytes that cannot be read would have said.
    Bytes(ctf::Damage),
}

/// Why ticks do not say how much time passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ClockFault {
    /// The core clock became another one: ticks before and behind are not of one length.
    Changed,
    /// Local timestamps fell behind global ones: their clock stood still, or changed.
    Stopped,
    /// A packet of an event trace ends long after its events: their short timestamps may have wrapped unseen.
    StampsWrapped,
    /// Packets share a timestamp that is said to be the tick of all of them, and cannot be.
    NotOneTick,
}

impl ClockFault {
    /// All of them.
    pub const ALL: [Self; 4] =
        [Self::Changed, Self::Stopped, Self::StampsWrapped, Self::NotOneTick];
}

impl LossReason {
    /// What happened, without what it may have hidden.
    const fn cause(self) -> Self {
        match self {
            Self::EventTraceSlip(Lacking::Events) => Self::Dropped,
            Self::EventTraceSlip(Lacking::Packets) => Self::PacketsMissing,
            Self::EventTraceSlip(Lacking::Bytes(why)) => Self::EventTrace(why),
            _ => self,
        }
    }

    /// One line for people.
    #[must_use]
    pub const fn describe(self) -> &'static str {
        match self.cause() {
            Self::Overflow => "overflow: the target dropped packets",
            Self::OverflowUntimed => {
                "overflow: the target dropped packets, or its timestamp counter wrapped"
            }
            Self::Malformed(why) => why.describe(),
            Self::Framing(why) => why.describe(),
            Self::Disconnected => "the connection broke: what was sent meanwhile is lost",
            Self::Overwritten => "a buffer was overwritten before it was read out",
            Self::NoRecord => "a line that is no record",
            Self::EventTrace(why) => why.describe(),
            // That its clock may have wrapped is a consequence, and said by itself.
            Self::EventTraceSlip(_) => "something is missing from the event trace",
            Self::Dropped => "the tracer dropped events",
            Self::FlowGap => "instructions are missing, and nothing says for how long",
            Self::Untimed => {
                "what ran before the first timestamp, or after the last: it has no time"
            }
            Self::CountUnknown => "a cycle count that is unknown: times across it are, too",
            Self::Shared => "another file of the same core lacks something",
            Self::PacketsMissing => "packets of the event trace are missing",
            Self::NoMark => "a firmware mark lacks its arguments: writes are missing",
        }
    }

    /// Whether bytes are missing, and with them an unknown time.
    #[must_use]
    pub const fn loses_bytes(self) -> bool {
        match self {
            Self::Overflow | Self::NoMark | Self::Dropped | Self::PacketsMissing | Self::Shared => {
                false
            }
            // A target that began anew: nobody knows how long it was off.
            Self::EventTrace(why) => matches!(why, ctf::Damage::TimeWentBack),
            _ => true,
        }
    }

    /// Whether it lies behind everything that was recorded: the recording ends inside a packet.
    #[must_use]
    pub const fn is_end(self) -> bool {
        matches!(self, Self::Malformed(Malformed::CutOff) | Self::Framing(Damage::CutOff))
    }

    /// Whether events of any kind are missing, and time without them is all that tells.
    #[must_use]
    pub const fn drops_events(self) -> bool {
        matches!(
            self,
            Self::Overflow
                | Self::OverflowUntimed
                | Self::Dropped
                | Self::PacketsMissing
                | Self::EventTrace(_)
        )
    }

    /// Whether an unknown number of bytes never arrived.
    #[must_use]
    pub const fn is_unbounded(self) -> bool {
        matches!(
            self,
            Self::Disconnected | Self::Overwritten | Self::EventTraceSlip(_) | Self::FlowGap
        )
    }
}

/// Which way a watched access went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// The core read.
    Read,
    /// The core wrote.
    Write,
}

/// A value of one, two, four or eight bytes, zero-extended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Value {
    /// The bits.
    pub bits: u64,
    /// How many bytes were accessed.
    pub size: u8,
}

/// Up to four bytes, as one stimulus write carries them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bytes {
    bytes: [u8; 4],
    len: u8,
}

impl Bytes {
    /// The `len` low bytes of a little-endian word; `len` at most 4.
    #[must_use]
    pub const fn from_word(word: u32, len: u8) -> Self {
        Self { bytes: word.to_le_bytes(), len: if len > 4 { 4 } else { len } }
    }

    /// The bytes, in the order in which they were written.
    #[must_use]
    pub fn as_slice(&self) -> &[u8] {
        &self.bytes[..usize::from(self.len)]
    }
}

/// Receives events in the order of their origin.
pub trait Sink {
    /// One event, and where it stands. Its time is settled: nothing later will correct it.
    fn event(&mut self, position: Position, event: &Event);
}

impl Sink for () {
    fn event(&mut self, _: Position, _: &Event) {}
}

impl<S: Sink + ?Sized> Sink for &mut S {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        (**self).event(position, event);
    }
}

impl<S: Sink> Sink for Option<S> {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        if let Some(sink) = self {
            sink.event(position, event);
        }
    }
}

/// All receive every event.
impl<S: Sink> Sink for Vec<S> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        for sink in self {
            sink.event(position, event);
        }
    }
}

/// Both receive every event.
impl<A: Sink, B: Sink> Sink for (A, B) {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.0.event(position, event);
        self.1.event(position, event);
    }
}

/// All three receive every event.
impl<A: Sink, B: Sink, C: Sink> Sink for (A, B, C) {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        self.0.event(position, event);
        self.1.event(position, event);
        self.2.event(position, event);
    }
}

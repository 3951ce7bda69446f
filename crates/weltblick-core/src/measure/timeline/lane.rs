//! Lanes, and what happens on them.

use crate::event::{Stop, Thing};
use crate::time::Window;

/// Whose lane it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum LaneKey {
    /// An exception's handler on a core.
    Interrupt(u8, u16),
    /// Thread mode of a core, where nothing tells tasks apart.
    Thread(u8),
    /// A task.
    Task(u32),
    /// The kernel on a core, between tasks.
    Kernel(u8),
    /// What is on the stack, so many calls deep.
    Call(usize),
    /// A span of the firmware's own.
    Span(u32),
    /// A queue, a semaphore, a mutex.
    Object(u32),
    /// Text of a stimulus port; `None`: marks.
    Text(Option<u32>),
    /// A value.
    Value(usize),
    /// Accesses of a comparator that have no values.
    Accessed(usize),
    /// How much of the time the core was awake, by samples.
    Load,
    /// The recording itself: what is missing.
    Recording,
}

impl LaneKey {
    /// Whether single moments are all that it shows; others show stretches, or a course.
    #[must_use]
    pub const fn has_moments(self) -> bool {
        !matches!(self, Self::Interrupt(..) | Self::Task(_) | Self::Call(_) | Self::Value(_))
    }

    /// The core of which it shows what that alone can do.
    #[must_use]
    pub const fn core(self) -> Option<u8> {
        match self {
            Self::Interrupt(core, _) | Self::Thread(core) | Self::Kernel(core) => Some(core),
            _ => None,
        }
    }

    /// The thing that the firmware may name.
    #[must_use]
    pub const fn thing(self) -> Option<Thing> {
        match self {
            Self::Interrupt(_, number) => Some(Thing::Interrupt(number)),
            Self::Task(number) => Some(Thing::Task(number)),
            Self::Span(number) => Some(Thing::Span(number)),
            Self::Object(number) => Some(Thing::Object(number)),
            _ => None,
        }
    }
}

/// What a lane does for a while, or at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Doing {
    /// It has the core, or is there.
    Runs,
    /// It has begun and not ended, whoever has the core.
    Open,
    /// It wants to run: pending, or ready.
    Wants,
    /// It waits for something else.
    Waits,
    /// A moment.
    Mark,
}

/// A stretch on a lane.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Piece {
    /// Whose.
    pub lane: LaneKey,
    /// What.
    pub doing: Doing,
    /// Since when.
    pub from: Window,
    /// Until when.
    pub until: Window,
}

/// What happened at a moment.
#[derive(Debug, Clone, PartialEq)]
pub enum What {
    /// A handler starts.
    Entered,
    /// It ends: it ran from start to end for so many ticks.
    Left(Option<crate::stats::Ticks>),
    /// A task could run.
    Ready,
    /// A task has the core from here on.
    Runs,
    /// A task was pre-empted.
    Preempted,
    /// A task stops by its own will.
    Stops(Stop),
    /// What runs takes the object.
    Takes,
    /// What runs gives the object.
    Gives,
    /// A span begins.
    Begins,
    /// A span ends.
    Ends,
    /// The firmware printed this.
    Said(Box<str>),
    /// A value was there.
    Value(f64),
    /// A comparator's variable, or its instruction.
    Accessed,
    /// Something is missing before this.
    Lost,
}

/// Something that happened on a lane at a moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// When.
    pub time: Window,
    /// Where.
    pub lane: LaneKey,
    /// What.
    pub what: What,
}

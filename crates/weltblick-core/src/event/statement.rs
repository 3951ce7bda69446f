//! What firmware and kernels state about themselves: marks, and event traces.

use crate::wire::poll::Kind;

/// Something that the firmware numbers: a task, an object to wait for, a span, a quantity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Thing {
    /// A task.
    Task(u32),
    /// What tasks wait for: a queue, a semaphore, a mutex.
    Object(u32),
    /// A span of the firmware's own.
    Span(u32),
    /// A number that the firmware tells.
    Quantity(u32),
    /// An interrupt, by its exception number.
    Interrupt(u16),
}

/// A name, or where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Name {
    /// A text in the image that ends with a zero byte.
    InImage(u64),
    /// The text itself.
    Told(Box<str>),
}

impl Name {
    /// The name itself, unless it is empty; `text_at` finds texts in the image.
    #[must_use]
    pub fn told(&self, text_at: impl FnOnce(u64) -> Option<String>) -> Option<String> {
        let told = match self {
            Self::Told(text) => Some(text.to_string()),
            Self::InImage(address) => text_at(*address),
        };
        told.filter(|name| !name.is_empty())
    }
}

/// Why a task no longer runs by its own will.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Stop {
    /// It waits for a time.
    Sleeps,
    /// It waits for an object.
    Waits(u32),
    /// It waits, and nothing says for what.
    WaitsForSomething,
    /// It has ended.
    Ended,
    /// It has the core no more, and nothing says why: it may have been pre-empted.
    Untold,
}

/// A number as the firmware tells it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Number {
    /// A whole number.
    Integer(i64),
    /// A number of any kind.
    Float(f64),
}

impl Number {
    /// The number.
    #[must_use]
    pub const fn value(self) -> f64 {
        match self {
            Self::Integer(value) => value as f64,
            Self::Float(value) => value,
        }
    }
}

/// Arguments of a text at most.
pub const MOST_ARGUMENTS: usize = 8;

/// Words that go with a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct Arguments {
    words: [u32; MOST_ARGUMENTS],
    len: u8,
}

impl Arguments {
    /// The first [`MOST_ARGUMENTS`] of these words.
    #[must_use]
    pub fn new(words: &[u32]) -> Self {
        let mut arguments = Self::default();
        for (slot, &word) in arguments.words.iter_mut().zip(words) {
            *slot = word;
            arguments.len += 1;
        }
        arguments
    }

    /// The words.
    #[must_use]
    pub fn as_slice(&self) -> &[u32] {
        &self.words[..usize::from(self.len)]
    }
}

/// One statement.
#[derive(Debug, Clone, PartialEq)]
pub enum Statement {
    /// A thing has a name.
    Named(Thing, Name),
    /// What later accesses call a number is this variable.
    Watches {
        /// The number.
        watch: u8,
        /// Where it lies.
        address: u64,
        /// Bytes of one element.
        size: u64,
        /// How to read them.
        kind: Kind,
        /// Its name.
        name: Box<str>,
    },
    /// A task exists.
    Created {
        /// Which.
        task: u32,
        /// Its priority, as the kernel counts.
        priority: Option<u8>,
        /// The lowest address of its stack, and how many bytes it has.
        stack: Option<(u64, u32)>,
    },
    /// Nothing tells more of tasks than who has the core.
    OnlyTurns {
        /// The one that has it when nothing else wants it, if that is known.
        idle: Option<u32>,
    },
    /// A task could run.
    Ready {
        /// Which.
        task: u32,
    },
    /// A task runs from here on.
    Runs {
        /// Which.
        task: u32,
        /// Its stack pointer.
        stack_pointer: Option<u64>,
    },
    /// A task runs no longer, and has not stopped: another takes the core.
    Preempted {
        /// Which.
        task: u32,
    },
    /// A task stops by its own will.
    Stops {
        /// Which.
        task: u32,
        /// Why.
        why: Stop,
    },
    /// So much of a task's stack was used at most.
    StackUsed {
        /// Which.
        task: u32,
        /// How much, ever since it was created.
        bytes: u32,
    },
    /// What runs takes an object.
    Takes {
        /// Which.
        object: u32,
    },
    /// What runs gives an object.
    Gives {
        /// Which.
        object: u32,
    },
    /// A span begins.
    SpanBegan {
        /// Which.
        span: u32,
    },
    /// A span ends.
    SpanEnded {
        /// Which.
        span: u32,
    },
    /// A quantity has this value now.
    Quantity {
        /// Which.
        quantity: u32,
        /// How much.
        number: Number,
    },
    /// The hardware had asked for the exception that runs.
    Requested {
        /// How many core cycles ago.
        cycles_ago: u32,
    },
    /// A text whose format stands in the image.
    Text {
        /// Where the format stands.
        format: u64,
        /// Its arguments.
        arguments: Arguments,
    },
}

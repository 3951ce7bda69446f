//! What events of an event trace mean: which kind of event is which statement, and which of its
//! fields say what. Names of events and fields belong to whoever made the trace.

use crate::document::At;

/// One kind of event, and what it means.
#[derive(Debug, Clone, PartialEq)]
pub struct Meaning {
    /// What the trace calls the event.
    pub event: At<String>,
    /// What it means.
    pub means: Means,
    /// Which fields say what.
    pub parts: Vec<(Part, At<String>)>,
    /// What the task, object, span or quantity is called, where no field says which one it is.
    pub called: Option<String>,
    /// It means so only where these fields have these values: a number, a label, or a text; all of them, and of each
    /// any of its values.
    pub only: Vec<Only>,
}

/// A field, and the values with which an event means something.
#[derive(Debug, Clone, PartialEq)]
pub struct Only {
    /// The field.
    pub field: At<String>,
    /// Any of these: numbers, labels, texts.
    pub values: Vec<String>,
}

/// What an event can mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names are those of the statements")]
pub enum Means {
    TaskCreated,
    TaskNamed,
    ObjectNamed,
    SpanNamed,
    QuantityNamed,
    InterruptNamed,
    TaskReady,
    TaskRuns,
    TaskPreempted,
    TaskSleeps,
    /// When it waits next, it is for this object.
    TaskWillWait,
    TaskWaits,
    TaskEnds,
    TaskAway,
    StackUsed,
    ObjectTaken,
    ObjectGiven,
    SpanBegins,
    SpanEnds,
    Quantity,
    InterruptEntered,
    InterruptLeft,
    InterruptResumed,
    Request,
    Text,
    /// Some bytes of a text, as they were written.
    TextPiece,
    /// A text whose format stands in the image.
    FormattedText,
    /// A watched access.
    Access,
    Sample,
    Asleep,
    /// A sample of a core that tells nobody where it is.
    Unobservable,
    /// A sample of code that nobody asked for.
    Elsewhere,
    Lost,
    /// What is missing was counted elsewhere, and concerns this core, too.
    LostBeside,
    /// Something is missing, and an unknown time with it.
    TimeLost,
    /// From here on nothing was recorded, by choice.
    Unwatched,
}

/// What a field of an event says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[allow(missing_docs, reason = "the names are those of the statements' fields")]
pub enum Part {
    Task,
    Name,
    Priority,
    StackBase,
    StackSize,
    StackPointer,
    Bytes,
    Object,
    Span,
    Quantity,
    Value,
    /// An exception, as the core numbers them.
    Exception,
    /// An interrupt, as its controller numbers them: 16 less.
    Interrupt,
    CyclesAgo,
    Text,
    /// The port of a text.
    Port,
    Address,
    /// Where a format stands in the image.
    FormatAddress,
    /// The numbers that go into it: an array.
    Arguments,
    Watch,
    /// Bytes of a value; none if there is no value.
    Size,
    /// The instruction that accessed; 0 if it is not known.
    Code,
    /// The low 16 bits of where the data stand; anything else if they are not known.
    DataAddress,
    /// `read` or `write`, as a label or a text; anything else if it is not known.
    Way,
}

impl Part {
    /// How many there are.
    pub const COUNT: usize = 24;

    /// All of them, by number.
    pub const ALL: [Self; Self::COUNT] = [
        Self::Task,
        Self::Name,
        Self::Priority,
        Self::StackBase,
        Self::StackSize,
        Self::StackPointer,
        Self::Bytes,
        Self::Object,
        Self::Span,
        Self::Quantity,
        Self::Value,
        Self::Exception,
        Self::Interrupt,
        Self::CyclesAgo,
        Self::Text,
        Self::Port,
        Self::Address,
        Self::FormatAddress,
        Self::Arguments,
        Self::Watch,
        Self::Size,
        Self::Code,
        Self::DataAddress,
        Self::Way,
    ];

    /// The key in a manifest.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::Task => "task",
            Self::Name => "name",
            Self::Priority => "priority",
            Self::StackBase => "stack_base",
            Self::StackSize => "stack_size",
            Self::StackPointer => "stack_pointer",
            Self::Bytes => "bytes",
            Self::Object => "object",
            Self::Span => "span",
            Self::Quantity => "quantity",
            Self::Value => "value",
            Self::Exception => "exception",
            Self::Interrupt => "interrupt",
            Self::CyclesAgo => "cycles_ago",
            Self::Text => "text",
            Self::Port => "port",
            Self::Address => "address",
            Self::FormatAddress => "format_address",
            Self::Arguments => "arguments",
            Self::Watch => "watch",
            Self::Size => "size",
            Self::Code => "code",
            Self::DataAddress => "data_address",
            Self::Way => "way",
        }
    }
}

impl Means {
    /// Whether each core has it of its own: of two cores together it says nothing.
    #[must_use]
    pub const fn is_of_a_core(self) -> bool {
        matches!(
            self,
            Self::TaskRuns
                | Self::TaskAway
                | Self::InterruptEntered
                | Self::InterruptLeft
                | Self::InterruptResumed
                | Self::Request
                | Self::Sample
                | Self::Asleep
                | Self::Unobservable
                | Self::Elsewhere
        )
    }

    /// All meanings.
    pub const ALL: [Self; 36] = [
        Self::TaskCreated,
        Self::TaskNamed,
        Self::ObjectNamed,
        Self::SpanNamed,
        Self::QuantityNamed,
        Self::InterruptNamed,
        Self::TaskReady,
        Self::TaskRuns,
        Self::TaskPreempted,
        Self::TaskSleeps,
        Self::TaskWillWait,
        Self::TaskWaits,
        Self::TaskEnds,
        Self::TaskAway,
        Self::StackUsed,
        Self::ObjectTaken,
        Self::ObjectGiven,
        Self::SpanBegins,
        Self::SpanEnds,
        Self::Quantity,
        Self::InterruptEntered,
        Self::InterruptLeft,
        Self::InterruptResumed,
        Self::Request,
        Self::Text,
        Self::TextPiece,
        Self::FormattedText,
        Self::Access,
        Self::Sample,
        Self::Asleep,
        Self::Unobservable,
        Self::Elsewhere,
        Self::Lost,
        Self::LostBeside,
        Self::TimeLost,
        Self::Unwatched,
    ];

    /// What a manifest calls it.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::TaskCreated => "task created",
            Self::TaskNamed => "task named",
            Self::ObjectNamed => "object named",
            Self::SpanNamed => "span named",
            Self::QuantityNamed => "quantity named",
            Self::InterruptNamed => "interrupt named",
            Self::TaskReady => "task ready",
            Self::TaskRuns => "task runs",
            Self::TaskPreempted => "task pre-empted",
            Self::TaskSleeps => "task sleeps",
            Self::TaskWillWait => "task will wait",
            Self::TaskWaits => "task waits",
            Self::TaskEnds => "task ends",
            Self::TaskAway => "task away",
            Self::StackUsed => "stack used",
            Self::ObjectTaken => "object taken",
            Self::ObjectGiven => "object given",
            Self::SpanBegins => "span begins",
            Self::SpanEnds => "span ends",
            Self::Quantity => "quantity",
            Self::InterruptEntered => "interrupt entered",
            Self::InterruptLeft => "interrupt left",
            Self::InterruptResumed => "interrupt resumed",
            Self::Request => "request",
            Self::Text => "text",
            Self::TextPiece => "text piece",
            Self::FormattedText => "formatted text",
            Self::Access => "access",
            Self::Sample => "sample",
            Self::Asleep => "asleep",
            Self::Unobservable => "unobservable",
            Self::Elsewhere => "elsewhere",
            Self::Lost => "lost",
            Self::LostBeside => "lost elsewhere",
            Self::TimeLost => "time lost",
            Self::Unwatched => "unwatched",
        }
    }

    /// What says which thing is meant; `called` may stand in its place.
    #[must_use]
    pub const fn subject(self) -> Option<Part> {
        Some(match self {
            Self::TaskCreated
            | Self::TaskNamed
            | Self::TaskReady
            | Self::TaskRuns
            | Self::TaskPreempted
            | Self::TaskSleeps
            | Self::TaskWillWait
            | Self::TaskWaits
            | Self::TaskEnds
            | Self::TaskAway
            | Self::StackUsed => Part::Task,
            Self::ObjectTaken | Self::ObjectGiven | Self::ObjectNamed => Part::Object,
            Self::SpanBegins | Self::SpanEnds | Self::SpanNamed => Part::Span,
            Self::Quantity | Self::QuantityNamed => Part::Quantity,
            _ => return None,
        })
    }

    /// What must be said beside that.
    #[must_use]
    pub const fn needed(self) -> &'static [Part] {
        match self {
            Self::TaskNamed
            | Self::ObjectNamed
            | Self::SpanNamed
            | Self::QuantityNamed
            | Self::InterruptNamed => &[Part::Name],
            Self::TaskWillWait => &[Part::Object],
            Self::StackUsed => &[Part::Bytes],
            Self::Quantity => &[Part::Value],
            Self::Request => &[Part::CyclesAgo],
            Self::Text | Self::TextPiece => &[Part::Text],
            Self::Sample => &[Part::Address],
            Self::FormattedText => &[Part::FormatAddress],
            Self::Access => &[Part::Watch],
            _ => &[],
        }
    }

    /// What may be said.
    #[must_use]
    pub const fn possible(self) -> &'static [Part] {
        match self {
            Self::TaskCreated => &[Part::Name, Part::Priority, Part::StackBase, Part::StackSize],
            Self::TaskRuns => &[Part::Name, Part::StackPointer],
            Self::TaskWaits => &[Part::Name, Part::Object],
            Self::TaskReady
            | Self::TaskPreempted
            | Self::TaskSleeps
            | Self::TaskEnds
            | Self::TaskAway => &[Part::Name],
            Self::ObjectTaken | Self::ObjectGiven | Self::SpanBegins | Self::SpanEnds => {
                &[Part::Name]
            }
            Self::Quantity => &[Part::Name],
            Self::Text | Self::TextPiece => &[Part::Port],
            Self::FormattedText => &[Part::Arguments],
            Self::Access => &[Part::Value, Part::Size, Part::Code, Part::DataAddress, Part::Way],
            Self::InterruptEntered
            | Self::InterruptLeft
            | Self::InterruptResumed
            | Self::InterruptNamed => &[Part::Exception, Part::Interrupt],
            _ => &[],
        }
    }

    /// Whether it is about an exception: then one of two parts says which.
    #[must_use]
    pub const fn is_of_exception(self) -> bool {
        matches!(
            self,
            Self::InterruptEntered
                | Self::InterruptLeft
                | Self::InterruptResumed
                | Self::InterruptNamed
        )
    }
}

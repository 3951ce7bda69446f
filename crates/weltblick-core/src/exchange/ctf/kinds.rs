//! The kinds of events that are written: their fields, and what they mean.

use crate::event::{Means, Part};

/// What is said of one kind.
pub(super) struct Said {
    pub(super) name: &'static str,
    /// Declarations of its fields.
    pub(super) fields: &'static [&'static str],
    /// What it means, and which fields say what.
    pub(super) means: (Means, &'static [(Part, &'static str)]),
}

/// The number of a kind in [`KINDS`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    TaskNamed,
    ObjectNamed,
    SpanNamed,
    QuantityNamed,
    InterruptNamed,
    TaskCreated,
    TaskReady,
    TaskRuns,
    TaskRunsAt,
    TaskPreempted,
    TaskSleeps,
    TaskWaitsFor,
    TaskWaits,
    TaskEnds,
    TaskAway,
    StackUsed,
    ObjectTaken,
    ObjectGiven,
    SpanBegins,
    SpanEnds,
    QuantityInteger,
    QuantityFloat,
    InterruptEntered,
    InterruptLeft,
    InterruptResumed,
    Request,
    FormattedText,
    Said,
    Sample,
    Asleep,
    Unobservable,
    Elsewhere,
    Accessed,
    TimeLost,
    LostBeside,
    Unwatched,
}

/// All kinds, in the order of their numbers.
pub(super) const KINDS: [Said; 36] = [
    Said {
        name: "task_named",
        fields: &["uint32_t task", "string name"],
        means: (Means::TaskNamed, &[(Part::Task, "task"), (Part::Name, "name")]),
    },
    Said {
        name: "object_named",
        fields: &["uint32_t object", "string name"],
        means: (Means::ObjectNamed, &[(Part::Object, "object"), (Part::Name, "name")]),
    },
    Said {
        name: "span_named",
        fields: &["uint32_t span", "string name"],
        means: (Means::SpanNamed, &[(Part::Span, "span"), (Part::Name, "name")]),
    },
    Said {
        name: "quantity_named",
        fields: &["uint32_t quantity", "string name"],
        means: (Means::QuantityNamed, &[(Part::Quantity, "quantity"), (Part::Name, "name")]),
    },
    Said {
        name: "interrupt_named",
        fields: &["uint32_t exception", "string name"],
        means: (Means::InterruptNamed, &[(Part::Exception, "exception"), (Part::Name, "name")]),
    },
    Said {
        name: "task_created",
        fields: &[
            "uint32_t task",
            "int16_t priority",
            "address_t stack_base",
            "uint32_t stack_size",
        ],
        means: (
            Means::TaskCreated,
            &[
                (Part::Task, "task"),
                (Part::Priority, "priority"),
                (Part::StackBase, "stack_base"),
                (Part::StackSize, "stack_size"),
            ],
        ),
    },
    Said {
        name: "task_ready",
        fields: &["uint32_t task"],
        means: (Means::TaskReady, &[(Part::Task, "task")]),
    },
    Said {
        name: "task_runs",
        fields: &["uint32_t task"],
        means: (Means::TaskRuns, &[(Part::Task, "task")]),
    },
    Said {
        name: "task_runs_at",
        fields: &["uint32_t task", "address_t stack_pointer"],
        means: (Means::TaskRuns, &[(Part::Task, "task"), (Part::StackPointer, "stack_pointer")]),
    },
    Said {
        name: "task_preempted",
        fields: &["uint32_t task"],
        means: (Means::TaskPreempted, &[(Part::Task, "task")]),
    },
    Said {
        name: "task_sleeps",
        fields: &["uint32_t task"],
        means: (Means::TaskSleeps, &[(Part::Task, "task")]),
    },
    Said {
        name: "task_waits_for",
        fields: &["uint32_t task", "uint32_t object"],
        means: (Means::TaskWaits, &[(Part::Task, "task"), (Part::Object, "object")]),
    },
    Said {
        name: "task_waits",
        fields: &["uint32_t task"],
        means: (Means::TaskWaits, &[(Part::Task, "task")]),
    },
    Said {
        name: "task_ends",
        fields: &["uint32_t task"],
        means: (Means::TaskEnds, &[(Part::Task, "task")]),
    },
    Said {
        name: "task_away",
        fields: &["uint32_t task"],
        means: (Means::TaskAway, &[(Part::Task, "task")]),
    },
    Said {
        name: "stack_used",
        fields: &["uint32_t task", "uint32_t bytes"],
        means: (Means::StackUsed, &[(Part::Task, "task"), (Part::Bytes, "bytes")]),
    },
    Said {
        name: "object_taken",
        fields: &["uint32_t object"],
        means: (Means::ObjectTaken, &[(Part::Object, "object")]),
    },
    Said {
        name: "object_given",
        fields: &["uint32_t object"],
        means: (Means::ObjectGiven, &[(Part::Object, "object")]),
    },
    Said {
        name: "span_begins",
        fields: &["uint32_t span"],
        means: (Means::SpanBegins, &[(Part::Span, "span")]),
    },
    Said {
        name: "span_ends",
        fields: &["uint32_t span"],
        means: (Means::SpanEnds, &[(Part::Span, "span")]),
    },
    Said {
        name: "quantity_integer",
        fields: &["uint32_t quantity", "int64_t value"],
        means: (Means::Quantity, &[(Part::Quantity, "quantity"), (Part::Value, "value")]),
    },
    Said {
        name: "quantity_float",
        fields: &["uint32_t quantity", "double value"],
        means: (Means::Quantity, &[(Part::Quantity, "quantity"), (Part::Value, "value")]),
    },
    Said {
        name: "interrupt_entered",
        fields: &["uint16_t exception"],
        means: (Means::InterruptEntered, &[(Part::Exception, "exception")]),
    },
    Said {
        name: "interrupt_left",
        fields: &["uint16_t exception"],
        means: (Means::InterruptLeft, &[(Part::Exception, "exception")]),
    },
    Said {
        name: "interrupt_resumed",
        fields: &["uint16_t exception"],
        means: (Means::InterruptResumed, &[(Part::Exception, "exception")]),
    },
    Said {
        name: "request",
        fields: &["uint32_t cycles_ago"],
        means: (Means::Request, &[(Part::CyclesAgo, "cycles_ago")]),
    },
    Said {
        name: "formatted_text",
        fields: &["address_t format", "uint8_t count", "uint32_t arguments[count]", "string text"],
        means: (
            Means::FormattedText,
            &[(Part::FormatAddress, "format"), (Part::Arguments, "arguments")],
        ),
    },
    Said {
        name: "said",
        fields: &["uint32_t port", "uint16_t length", "character_t text[length]"],
        means: (Means::TextPiece, &[(Part::Text, "text"), (Part::Port, "port")]),
    },
    Said {
        name: "sample",
        fields: &["address_t address"],
        means: (Means::Sample, &[(Part::Address, "address")]),
    },
    Said { name: "asleep", fields: &[], means: (Means::Asleep, &[]) },
    Said { name: "unobservable", fields: &[], means: (Means::Unobservable, &[]) },
    Said { name: "elsewhere", fields: &[], means: (Means::Elsewhere, &[]) },
    Said {
        name: "accessed",
        fields: &[
            "uint8_t watch",
            "enum : uint8_t { unknown, read, write } access",
            "uint8_t size",
            "uint64_t value",
            "address_t code",
            "int32_t address",
        ],
        means: (
            Means::Access,
            &[
                (Part::Watch, "watch"),
                (Part::Value, "value"),
                (Part::Size, "size"),
                (Part::Code, "code"),
                (Part::DataAddress, "address"),
                (Part::Way, "access"),
            ],
        ),
    },
    Said { name: "time_lost", fields: &[], means: (Means::TimeLost, &[]) },
    Said { name: "lost_elsewhere", fields: &[], means: (Means::LostBeside, &[]) },
    Said { name: "unwatched", fields: &[], means: (Means::Unwatched, &[]) },
];

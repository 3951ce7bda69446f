//! The Common Trace Format, versions 1.8.3 and 2: an event trace is a folder with a text that describes it,
//! `metadata`, and files of packets of events.
//!
//! *Document*: "Common Trace Format (CTF) Specification, v1.8.3". Section numbers in this folder are
//! its own. [`Schema::parse`] reads the description (TSDL, sections 7 and appendix C); a [`Decoder`]
//! then reads one file of packets (sections 4 to 6). Version 2 describes the same packets by JSON fragments (`fragments`).
//!
//! Assumed where the document leaves room:
//!
//! * An identifier's leading underscore may be left out when somebody asks for the field: tracers put
//!   it there so that names never collide with keywords.
//! * A sequence without elements still moves to its elements' alignment (4.2.4 speaks of arrays only).
//! * `events_discarded` grows between the packet before and this one: whoever drops events does so
//!   because no packet has room.
//! * Only integers of the packet header, the packet context and the event header move a clock, and
//!   `timestamp_end` does not: it dates the packet's end, not what comes next.

mod bits;
mod bound;
mod decoder;
mod fragments;
mod metadata;
mod parser;
mod schema;
mod token;
mod types;
mod walk;

#[cfg(test)]
mod tests;

pub use decoder::{Decoder, Missing, Record, Sink, Value};
pub use metadata::{MOST_METADATA, metadata_text};
pub use schema::{Clock, EventClass, Field, Schema};

/// Why bytes of an event trace could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Damage {
    /// A packet does not begin with the magic number.
    NoMagic,
    /// A packet belongs to another trace: its UUID is not the description's.
    Foreign,
    /// A packet belongs to a stream that the description does not know.
    UnknownStream,
    /// A packet states a size that cannot be.
    PacketSize,
    /// An event's number is not in the description.
    UnknownEvent,
    /// A variant's tag selects nothing.
    NoChoice,
    /// Neighbouring bits in different byte orders.
    ByteOrder,
    /// An event goes on where its packet has ended.
    Overrun,
    /// An event is longer than any that is read, or takes no room at all.
    EventSize,
    /// The file ends inside a packet.
    CutOff,
    /// An event is dated before the one before it.
    TimeWentBack,
}

impl Damage {
    /// One line for people.
    #[must_use]
    pub const fn describe(self) -> &'static str {
        match self {
            Self::NoMagic => "a packet of the event trace does not begin with its magic number",
            Self::Foreign => "a packet of another event trace: its UUID differs",
            Self::UnknownStream => "a packet of a stream that the metadata does not describe",
            Self::PacketSize => "a packet of the event trace states a size that cannot be",
            Self::UnknownEvent => "an event of a number that the metadata does not describe",
            Self::NoChoice => "the tag of a variant selects nothing",
            Self::ByteOrder => "bits of different byte orders share a byte",
            Self::Overrun => "an event goes on behind the end of its packet",
            Self::EventSize => "an event of no size, or of more than a megabyte",
            Self::CutOff => "the event trace ends inside a packet",
            Self::TimeWentBack => "an event is dated before the one before it",
        }
    }
}

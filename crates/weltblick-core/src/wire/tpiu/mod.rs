//! The CoreSight formatter, with which a trace port carries several sources on one link.
//!
//! Follows the *CoreSight Architecture Specification*, IHI 0029, chapter D4 ("Formatter"): frames
//! of 16 bytes whose even bytes are data or a change of trace ID, and whose last byte holds what
//! the even bytes had no room for; full synchronisations between frames, half synchronisations
//! inside them.
//!
//! A full synchronisation (`FF FF FF 7F`) cannot occur inside a frame, because ID `7F` is
//! reserved: wherever it appears, a frame starts after it.

mod deframer;
#[cfg(test)]
mod tests;

pub use deframer::{Damage, Deframer, Sink, Start, TraceId};

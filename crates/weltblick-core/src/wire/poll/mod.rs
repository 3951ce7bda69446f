//! What a debug stub was asked, line by line: our own form (`docs/formats/poll.md`).
//!
//! A line is a letter and fields, separated by single blanks. Times are nanoseconds after the
//! capture's start, when a request was sent and when its answer came.
//!
//! | line | meaning |
//! |---|---|
//! | `p SENT RECEIVED PC` | the program counter, read while the core ran |
//! | `h SENT RECEIVED PC` | the program counter, of a core that was stopped for it |
//! | `z SENT RECEIVED` | the core told no program counter |
//! | `n WATCH SIZE KIND ADDRESS NAME` | what later lines call WATCH: elements of SIZE bytes |
//! | `v SENT RECEIVED WATCH BYTES` | a variable's bytes, as they lie in memory |
//! | `l SENT RECEIVED LAP CYCLES` | a lap point was reached at this cycle count (`-`: it is not counted) |

mod decoder;
#[cfg(test)]
mod tests;

pub use decoder::{Decoder, Kind, LONGEST_LINE, LONGEST_VALUE, Record, Sink};

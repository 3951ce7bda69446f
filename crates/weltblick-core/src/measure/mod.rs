//! Events to figures, one file per question.
//!
//! Figures read only the vocabulary of [`crate::event`], or the blocks of [`crate::flow`]. They count
//! addresses; names come last, once per distinct address.

pub mod alignment;
pub mod bridges;
pub mod cadence;
pub mod console;
pub mod counters;
pub mod coverage;
pub mod dissection;
pub mod duration;
pub mod earlier;
pub mod execution;
pub mod gap;
pub mod inspection;
pub mod interrupts;
pub mod known;
pub mod losses;
pub mod phases;
pub mod profile;
pub mod recording;
pub mod signals;
pub mod span;
pub mod statistic;
pub mod tasks;
#[cfg(test)]
mod tests;
pub mod timeline;
pub mod timing;
pub mod windowed;
pub mod within;
pub mod worst;

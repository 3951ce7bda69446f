//! What was executed, how often: exact, from instruction flow.

mod counts;

pub use counts::{BlockCounts, Gaps, Run, Tally};

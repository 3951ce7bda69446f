//! Which code ran, and which branch went only one way.
//!
//! What could have run is what the image holds: code that the compiler removed is in no figure. What
//! did run comes from instruction flow, exactly, or from samples, as a lower bound.

mod choice;
mod evidence;
mod report;
mod rows;
#[cfg(test)]
mod tests;

pub use choice::{Choice, left_out};
pub use report::{SCHEMA, report};
pub use rows::{
    CoverageReport, Evidence, FileRow, FunctionRow, LineRow, Measures, NeverRow, OneWayRow, Part,
};

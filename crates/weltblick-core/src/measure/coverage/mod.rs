//! Which code ran, and which branch went only one way.
//!
//! What could have run is what the image holds: code that the compiler removed is in no figure. What
//! did run comes from instruction flow, exactly, or from samples, as a lower bound.

mod choice;
mod evidence;
mod pieces;
mod report;
mod rows;
#[cfg(test)]
mod tests;
mod union;

pub use choice::{Choice, Covered, left_out};
pub use pieces::Build;
pub use report::{SCHEMA, report, report_of_builds};
pub use rows::{
    CoverageReport, Evidence, FileRow, FunctionRow, LineRow, Measures, NeverRow, OneWayRow, Part,
};
pub use union::OtherSource;

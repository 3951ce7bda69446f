//! Points, limits, the budget file, and verdicts.

mod file;
mod limit;
mod place;
mod point;
#[cfg(test)]
mod tests;
mod timing;
mod timing_file;
mod verdict;

pub use file::{Budget, BudgetFile, Figure};
pub use limit::{Comparison, Condition, Limit};
pub use place::{NoPlace, address_of, ranges_of};
pub use point::{End, Occurrence, Point, PointError, PointRange, Subject, Which};
pub use timing::{Timings, USUAL_WINDOW};
pub use timing_file::{Measure, Of, TimingFigure, TimingSubject};
pub use verdict::{CheckReport, Judgement, SCHEMA, Verdict, judge};

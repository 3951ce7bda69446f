//! Points, limits, the budget file, and verdicts.

mod draft;
mod entry;
mod file;
mod judgement;
mod limit;
mod looks;
mod place;
mod relation;
#[cfg(test)]
mod tests;
mod timing;
mod timing_file;
mod verdict;

pub use crate::figure::Objection;
pub use crate::point::{End, Occurrence, Point, PointError, PointRange, Subject, Which};
pub use draft::{Draft, EVERYTHING};
pub use entry::{About, Budget, TimingFigure, TimingSubject};
pub use file::BudgetFile;
pub use judgement::{Judgement, Verdict};
pub use limit::{Comparison, Condition, Limit};
pub use looks::confidence_at_look;
pub use place::{NoPlace, address_of, ranges_of};
pub use relation::{Relation, Side, Sign};
pub use timing::{Timings, USUAL_WINDOW};
pub use verdict::{CheckReport, SCHEMA, judge};

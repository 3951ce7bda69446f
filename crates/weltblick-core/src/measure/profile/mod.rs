//! Where the time goes, from program-counter samples.
//!
//! Counting ([`SampleCounts`]) knows addresses only and ignores order beyond the batches that its
//! intervals need. Naming ([`rows`]) happens once per distinct address, afterwards.

mod attribution;
mod conduct;
mod context;
mod counts;
mod grouping;
mod known;
mod report;
mod series;
#[cfg(test)]
mod tests;

pub use attribution::{Attributed, Whose};
pub use conduct::{Basis, Conduct};
pub use context::{Context, InStep};
pub use counts::SampleCounts;
pub use grouping::{By, Row, RowKind, rows};
pub use known::Shares;
pub(crate) use known::with_clones;
pub use report::{Evidence, Head, ProfileReport, ReportRow, SCHEMA, head, report};
pub use series::{MOST_WINDOWS, Series, TooManyWindows, Window};

//! Statistics behind the figures. Every formula names its source.

mod batches;
mod durations;
mod share;
mod t_table;

pub use batches::Batches;
pub use durations::{Bounds, Durations};
pub use share::{ShareEstimate, estimate_share};
pub use t_table::{normal_critical, student_critical};

//! Statistics behind the figures. Every formula names its source.

mod batches;
mod bounds;
mod durations;
mod grid;
mod histogram;
mod share;
mod spread;
mod t_table;

pub use batches::Batches;
pub use bounds::Bounds;
pub use durations::Durations;
pub use grid::{Grid, Line};
pub use share::{ShareEstimate, estimate_share, estimate_share_with};
pub use spread::{Spread, Ticks};
pub use t_table::{normal_critical, student_critical};

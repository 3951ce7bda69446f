//! Exceptions: who interrupted whom and for how long, how late, how regular.

mod figures;
mod grid;
mod known;
mod names;
mod nesting;
mod report;
#[cfg(test)]
mod tests;

pub use figures::{Figures, InterruptFigures, MOST_EACH, Preemption};
pub use grid::{GridFit, Late};
pub use names::InterruptNames;
pub use nesting::{Chained, Cut, Nesting, Open, Run, Runner, THREAD, Watcher, between};
pub(crate) use report::longest_hidden;
pub use report::{
    Case, Cause, CausePart, Context, FigureName, InterruptReport, InterruptRow, PreemptionRow,
    RunRow, each, report,
};

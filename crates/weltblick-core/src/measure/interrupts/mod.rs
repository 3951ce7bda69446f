//! Exceptions: who interrupted whom and for how long, how late, how regular.

mod dissect;
mod figures;
mod grid;
mod nesting;
mod report;
#[cfg(test)]
mod tests;
mod worst;

pub use dissect::{Dissection, Part, Phase, Stretch};
pub use figures::{Figures, InterruptFigures, MOST_EACH, Preemption};
pub use grid::{GridFit, Late};
pub use nesting::{Chained, Cut, Nesting, Run, Runner, THREAD, Watcher, between};
pub use report::{
    Basis, Case, Cause, CausePart, Context, FigureName, InterruptReport, InterruptRow,
    PreemptionRow, RunRow, each, report,
};
pub use worst::{Bad, Worst};

//! Tasks: who ran when and for how long, how late, how much stack, and what it waited for.

#[cfg(test)]
mod core_tests;
mod figures;
mod known;
mod loads;
mod order;
mod report;
#[cfg(test)]
mod tests;
mod tracking;

pub use figures::{Figures, Settings, Stack, TaskFigures, Waiting};
pub use loads::{LoadFigures, Loads};
pub use order::{MOST_TURNS, Order, Turn};
pub use report::{
    ActivationRow, ActorPart, Context, LoadRow, StackRow, StateRow, TaskReport, TaskRow, Totals,
    TurnRow, WaitRow, each, report, turns,
};
pub use tracking::{Activation, Holder, Spell, State, Tracking, Watcher};

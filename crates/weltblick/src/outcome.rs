//! How a command ends, as the shell sees it.

use std::process::ExitCode;

/// The four ways to end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// Done, and every budget is met.
    Done,
    /// A budget is broken, or a strict inspection found that figures are wrong.
    Broken,
    /// The command line or a file could not be understood.
    NotUnderstood,
    /// No budget is broken, but one is undecided; or a strict inspection found that figures are weak.
    Undecided,
}

impl From<Outcome> for ExitCode {
    fn from(outcome: Outcome) -> Self {
        Self::from(match outcome {
            Outcome::Done => 0,
            Outcome::Broken => 1,
            Outcome::NotUnderstood => 2,
            Outcome::Undecided => 3,
        })
    }
}

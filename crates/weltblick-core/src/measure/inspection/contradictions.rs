//! Entries, exits and returns of handlers that do not fit each other.

use super::diagnosis::{Finding, doubt};
use crate::document::times;
use crate::measure::interrupts::{Cut, Watcher};

/// Counts how often what a core does contradicts what it did before: packets were lost, and nothing says where.
#[derive(Debug, Default)]
pub struct Contradictions {
    /// How often.
    pub count: u64,
}

impl Watcher for Contradictions {
    fn cut(&mut self, why: Cut) {
        self.count += u64::from(why == Cut::Contradiction);
    }
}

impl Contradictions {
    /// What to say of it, if there was one.
    #[must_use]
    pub fn finding(&self) -> Option<Finding> {
        (self.count > 0).then(|| {
            doubt(
                "contradictions",
                format!(
                    "Entries, exits and returns of handlers contradict each other {}: packets are missing, and nothing says where. No figure of interrupts, tasks or spans is certain.",
                    times(self.count)
                ),
                "A target that drops packets says so: these were lost or changed on the way to the file. Check what receives the trace, and the line.",
            )
        })
    }
}

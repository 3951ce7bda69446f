//! How many runs came before those of a window of time: the n-th of a window is not the n-th of the recording.

use crate::measure::interrupts::{self, Run};
use crate::measure::tasks::{self, Activation};
use crate::time::Window;
use rustc_hash::FxHashMap;

/// Runs of one handler, or of one task: of which core, and its number.
pub type Subject = (u8, u32);

/// Counts, in a reading of the whole recording, what ended before the first run that was seen in a window.
///
/// Runs end in the order of their numbers; when one ended is the same in both readings.
#[derive(Debug, Default)]
pub struct Earlier {
    core: u8,
    subjects: FxHashMap<Subject, Before>,
}

#[derive(Debug, Clone, Copy)]
struct Before {
    /// When the first one ended that the window has.
    first: Window,
    count: u64,
    found: bool,
}

impl Earlier {
    /// By when the first run of each subject ended that the window has.
    pub fn than(firsts: impl IntoIterator<Item = (Subject, Window)>) -> Self {
        let before = |first| Before { first, count: 0, found: false };
        let subjects = firsts.into_iter().map(|(subject, first)| (subject, before(first)));
        Self { core: 0, subjects: subjects.collect() }
    }

    /// How many there were; `None` if the whole recording does not have the first one.
    #[must_use]
    pub fn count(&self, subject: Subject) -> Option<u64> {
        self.subjects.get(&subject).filter(|before| before.found).map(|before| before.count)
    }

    fn ended(&mut self, subject: Subject, ended: Option<Window>) {
        let Some(before) = self.subjects.get_mut(&subject).filter(|before| !before.found) else {
            return;
        };
        before.found = ended == Some(before.first);
        before.count += u64::from(!before.found);
    }
}

impl interrupts::Watcher for Earlier {
    fn turns_to(&mut self, core: u8) {
        self.core = core;
    }

    fn ran(&mut self, run: &Run) {
        self.ended((self.core, run.exception.into()), run.ended);
    }
}

/// Tasks are those of all cores.
impl tasks::Watcher for Earlier {
    fn activated(&mut self, activation: &Activation) {
        self.ended((0, activation.task), activation.ended);
    }
}

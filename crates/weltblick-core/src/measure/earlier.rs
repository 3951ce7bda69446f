//! How many runs came before those of a window of time: the n-th of a window is not the n-th of the recording.

use crate::measure::interrupts::{self, Run};
use crate::measure::tasks::{self, Activation};
use crate::time::Window;
use rustc_hash::FxHashMap;

/// Runs of one handler, or of one task: of which core, and its number.
pub type Subject = (u8, u32);

/// Counts, in a reading of the whole recording, what ended before the first run that was seen in a window.
///
/// Runs begin and end in the order of their numbers. At an edge of the window times are cut to it, so that the first run
/// is found by being the first that is no earlier, not by having the same times.
#[derive(Debug, Default)]
pub struct Earlier {
    core: u8,
    subjects: FxHashMap<Subject, Before>,
}

#[derive(Debug, Clone, Copy)]
struct Before {
    /// When the first one that the window has began at the latest, and ended.
    first: [u64; 2],
    count: u64,
    found: bool,
}

impl Earlier {
    /// By when the first run of each subject began and ended that the window has.
    pub fn than(firsts: impl IntoIterator<Item = (Subject, [Window; 2])>) -> Self {
        let before = |first: [Window; 2]| {
            let first = first.map(|window| window.latest);
            Before { first, count: 0, found: false }
        };
        let subjects = firsts.into_iter().map(|(subject, first)| (subject, before(first)));
        Self { core: 0, subjects: subjects.collect() }
    }

    /// How many there were.
    #[must_use]
    pub fn count(&self, subject: Subject) -> u64 {
        self.subjects.get(&subject).map_or(0, |before| before.count)
    }

    fn ran(&mut self, subject: Subject, began: Option<Window>, ended: Option<Window>) {
        let Some(before) = self.subjects.get_mut(&subject).filter(|before| !before.found) else {
            return;
        };
        let [first_began, first_ended] = before.first;
        before.found = began.is_some_and(|began| began.latest >= first_began)
            && ended.is_some_and(|ended| ended.latest >= first_ended);
        before.count += u64::from(!before.found);
    }
}

impl interrupts::Watcher for Earlier {
    fn turns_to(&mut self, core: u8) {
        self.core = core;
    }

    fn ran(&mut self, run: &Run) {
        Self::ran(self, (self.core, run.exception.into()), run.began, run.ended);
    }
}

/// Tasks are those of all cores.
impl tasks::Watcher for Earlier {
    fn activated(&mut self, activation: &Activation) {
        Self::ran(self, (0, activation.task), activation.began, activation.ended);
    }
}

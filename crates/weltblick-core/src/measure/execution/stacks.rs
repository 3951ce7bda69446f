//! What was on the stack when: for whoever draws it.

use super::tree::Named;
use crate::time::Window;

/// A function that was on the stack for a while, with or without having the core.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OnStack {
    /// How many calls lie below it: handlers stand on what they interrupted.
    pub depth: usize,
    /// The function.
    pub function: Named,
    /// Since when, in ticks since the trace began. Another thread's turn ends its stay.
    pub from: Window,
    /// Until when.
    pub until: Window,
}

/// A frame, told apart from others that had the same number before.
type Shown = (usize, u64, Named);

/// Follows the stack of what runs.
#[derive(Debug, Default)]
pub(super) struct Stacks {
    /// As it is now, before what changed has its time.
    shown: Vec<Shown>,
    /// What changed in this stretch, behind which of its items.
    changes: Vec<(usize, Change)>,
    /// As it was when the stretch began, and since when.
    timed: Vec<(Named, Window)>,
    /// What left it.
    pub(super) left: Vec<OnStack>,
}

#[derive(Debug, Clone, Copy)]
enum Change {
    Pushed(Named),
    Popped,
}

impl Stacks {
    /// The stack is this now, from the item with this number on.
    pub(super) fn changed(&mut self, stack: impl Iterator<Item = Shown>, place: usize) {
        let mut depth = 0;
        for frame in stack {
            if self.shown.get(depth) != Some(&frame) {
                self.pop_to(depth, place);
                self.shown.push(frame);
                self.changes.push((place, Change::Pushed(frame.2)));
            }
            depth += 1;
        }
        self.pop_to(depth, place);
    }

    fn pop_to(&mut self, depth: usize, place: usize) {
        for _ in depth..self.shown.len() {
            self.changes.push((place, Change::Popped));
        }
        self.shown.truncate(depth);
    }

    /// The stretch from the one tick to the other is over; its first `at_once` items took no time.
    pub(super) fn settle(&mut self, [before, after]: [u64; 2], at_once: usize) {
        for (place, change) in self.changes.drain(..) {
            let latest = if place < at_once { before } else { after };
            let time = Window { earliest: before, latest };
            match change {
                Change::Pushed(function) => self.timed.push((function, time)),
                Change::Popped => {
                    let Some((function, from)) = self.timed.pop() else { continue };
                    let depth = self.timed.len();
                    self.left.push(OnStack { depth, function, from, until: time });
                }
            }
        }
    }
}

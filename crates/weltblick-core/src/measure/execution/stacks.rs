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
#[derive(Debug, Clone, Default)]
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::FunctionId;

    fn frame(number: usize, function: u32) -> Shown {
        (number, 1, Named(Some(FunctionId(function))))
    }

    #[test]
    fn what_leaves_the_stack_is_told_with_both_windows() {
        let mut stacks = Stacks::default();
        // Two calls, the second after something ran; a handler on top, and another thread after it.
        stacks.changed([frame(0, 7)].into_iter(), 0);
        stacks.changed([frame(0, 7), frame(1, 8)].into_iter(), 3);
        stacks.settle([100, 120], 2);
        assert!(stacks.left.is_empty());
        stacks.changed([frame(0, 7), frame(1, 8), frame(2, 9)].into_iter(), 0);
        stacks.changed([frame(0, 7), frame(1, 8)].into_iter(), 4);
        stacks.settle([120, 150], 1);
        let window = |earliest, latest| Window { earliest, latest };
        let stay = |depth, function, from, until| OnStack {
            depth,
            function: Named(Some(FunctionId(function))),
            from,
            until,
        };
        assert_eq!(stacks.left, [stay(2, 9, window(120, 120), window(120, 150))]);
        stacks.left.clear();
        // The same number, but another call.
        stacks.changed([frame(0, 7), (1, 5, Named(None))].into_iter(), 0);
        stacks.settle([150, 160], 1);
        assert_eq!(stacks.left, [stay(1, 8, window(100, 120), window(150, 150))]);
        stacks.left.clear();
        stacks.changed([frame(4, 6)].into_iter(), 0);
        stacks.settle([160, 170], 0);
        let left: Vec<usize> = stacks.left.iter().map(|stay| stay.depth).collect();
        assert_eq!(left, [1, 0]);
    }
}

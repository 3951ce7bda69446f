//! Whose turn it is: which thread of execution has the core, as far as calls tell.

use super::super::roster::Roster;
use super::super::tree::{Named, Root};
use super::Calls;

/// Who has the core.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Whose {
    /// A handler, or a handler has just ended.
    Handler,
    /// This task.
    Task(Named),
    /// It is not known which thread; it may be the one that was asked for.
    Perhaps,
    /// It is not known which thread, but it is another one.
    Another,
}

impl Calls<'_> {
    /// Who has the core; `last` had it before.
    pub(crate) fn whose(&self, roster: &Roster, last: Option<Named>) -> Whose {
        let Some(current) = self.following.contexts.running() else { return Whose::Handler };
        if matches!(self.following.contexts.root(current), Root::Exception(_)) {
            return Whose::Handler;
        }
        if self.following.contexts.stands_in(current) {
            let candidates = self.following.contexts.candidates(current).iter();
            let mut tasks = candidates.map(|&context| self.task_of(context, roster));
            return if tasks.any(|task| task.is_some() && task == last) {
                Whose::Perhaps
            } else {
                Whose::Another
            };
        }
        self.task_of(current, roster).map_or(Whose::Another, Whose::Task)
    }

    /// Whether it has just shown that what runs was taken for another thread.
    #[inline(always)]
    pub(crate) const fn take_mistaken(&mut self) -> bool {
        self.following.contexts.take_mistaken()
    }

    fn task_of(&self, context: usize, roster: &Roster) -> Option<Named> {
        let frames = self.following.contexts.frames(context).iter();
        roster.task_of(frames.map(|&frame| self.following.frames[frame].function))
    }
}

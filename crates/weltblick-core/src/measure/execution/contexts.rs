//! Threads of execution: handlers on top of each other, and threads that wait for their turn.
//!
//! An exception's entry puts a handler on top, its return goes on with what is below. In thread mode
//! that need not be the thread that was interrupted: a kernel changes threads there. Which one goes on
//! is told by the address at which it was interrupted. Where no handler wrote a stack pointer, it is the thread
//! that was interrupted, for all that a kernel can do. Where several wait at one address (all threads
//! that gave way in the same function do), a stand-in runs until a return shows whose it is: only one
//! of them was called from there.

use super::calls::Edge;
use super::interval::{Clock, Item, Mix};
use super::tree::Root;

/// Threads that are told apart at most.
const MOST_THREADS: usize = 64;

/// A thread of execution.
#[derive(Debug, Clone)]
struct Context {
    root: Root,
    /// Numbers of frames, the innermost last.
    frames: Vec<usize>,
    /// Time and instructions while it ran.
    clock: Clock,
    /// Where it was interrupted.
    address: u64,
    /// How the instruction before that led on.
    edge: Edge,
    /// It stands in for one of these.
    candidates: Vec<usize>,
    /// So often one of them returned while it did.
    popped: usize,
    /// Calls above its frames that are not followed.
    too_deep: u32,
    /// The last stretch in which it ran.
    stretch: u64,
    /// It was taken to go on because of the address alone; it had so many frames then.
    presumed: Option<usize>,
}

/// All of them.
#[derive(Debug, Clone, Default)]
pub(super) struct Contexts {
    all: Vec<Option<Context>>,
    /// Numbers that may be used again.
    free: Vec<usize>,
    /// Numbers that become free when the stretch ends.
    dead: Vec<usize>,
    /// Threads that wait, the one that waits longest first.
    threads: Vec<usize>,
    /// Handlers that were interrupted, the innermost last.
    handlers: Vec<usize>,
    current: Option<usize>,
    /// Something ran and it is known what: no gap since.
    known: bool,
    /// What runs was taken for another thread until now.
    mistaken: bool,
    /// The thread that handlers interrupted, as long as none of them wrote a stack pointer.
    interrupted: Option<usize>,
}

/// How something goes on.
#[derive(Debug, Clone, Copy)]
pub(super) struct Resumed {
    /// How the instruction before led on.
    pub(super) edge: Edge,
    /// It is not known which thread it is.
    pub(super) stands_in: bool,
}

impl Contexts {
    fn get(&self, number: usize) -> Option<&Context> {
        self.all.get(number).and_then(Option::as_ref)
    }

    fn get_mut(&mut self, number: usize) -> Option<&mut Context> {
        self.all.get_mut(number).and_then(Option::as_mut)
    }

    fn add(&mut self, root: Root) -> usize {
        let context = Context {
            root,
            frames: Vec::new(),
            clock: Clock::default(),
            address: 0,
            edge: Edge::None,
            candidates: Vec::new(),
            popped: 0,
            too_deep: 0,
            stretch: 0,
            presumed: None,
        };
        match self.free.pop() {
            Some(number) => {
                self.all[number] = Some(context);
                number
            }
            None => {
                self.all.push(Some(context));
                self.all.len() - 1
            }
        }
    }

    /// Whether it is open who runs.
    pub(super) const fn is_nobody(&self) -> bool {
        self.current.is_none()
    }

    /// Who runs, if that is known.
    pub(super) const fn running(&self) -> Option<usize> {
        self.current
    }

    /// Whether it has just shown that what runs was taken for another thread.
    pub(super) const fn take_mistaken(&mut self) -> bool {
        std::mem::replace(&mut self.mistaken, false)
    }

    /// For whom a stand-in may run.
    pub(super) fn candidates(&self, number: usize) -> &[usize] {
        self.get(number).map_or(&[], |context| &context.candidates)
    }

    /// Who runs; somebody unknown, if nothing is known.
    pub(super) fn current(&mut self) -> usize {
        match self.current {
            Some(current) => current,
            None => {
                let current = self.add(Root::Unknown);
                self.current = Some(current);
                current
            }
        }
    }

    pub(super) fn frames(&self, number: usize) -> &[usize] {
        self.get(number).map_or(&[], |context| &context.frames)
    }

    /// What runs, on top of what was interrupted: the outermost first. Between the end of a handler and
    /// what goes on then, that is taken to be what was interrupted last.
    pub(super) fn stack(&self) -> impl Iterator<Item = usize> {
        let in_handler =
            self.current.is_none_or(|current| matches!(self.root(current), Root::Exception(_)));
        let thread = self.threads.last().copied().filter(|_| in_handler);
        thread.into_iter().chain(self.handlers.iter().copied()).chain(self.current)
    }

    /// Whether it is open which thread it is.
    pub(super) fn stands_in(&self, number: usize) -> bool {
        self.get(number).is_some_and(|context| !context.candidates.is_empty())
    }

    /// A frame is put on top.
    pub(super) fn push(&mut self, number: usize, frame: usize) {
        if let Some(context) = self.get_mut(number) {
            context.frames.push(frame);
        }
    }

    /// The innermost frame is taken off.
    pub(super) fn pop(&mut self, number: usize) -> Option<usize> {
        let context = self.get_mut(number)?;
        let frame = context.frames.pop();
        // What was called from it is gone, too.
        context.too_deep = 0;
        // Returning as it should, it is who it was taken for.
        context.presumed = context.presumed.filter(|&frames| context.frames.len() >= frames);
        frame
    }

    /// A call that is too deep to be followed.
    pub(super) fn dive(&mut self, number: usize) {
        if let Some(context) = self.get_mut(number) {
            context.too_deep += 1;
        }
    }

    /// A return: whether from a call that was too deep to be followed.
    pub(super) fn surface(&mut self, number: usize) -> bool {
        let Some(context) = self.get_mut(number).filter(|context| context.too_deep > 0) else {
            return false;
        };
        context.too_deep -= 1;
        true
    }

    pub(super) fn root(&self, number: usize) -> Root {
        self.get(number).map_or(Root::Unknown, |context| context.root)
    }

    pub(super) fn clock(&self, number: usize) -> Clock {
        self.get(number).map_or(Clock::default(), |context| context.clock)
    }

    pub(super) fn count(&mut self, number: usize, instructions: u64) {
        if let Some(context) = self.get_mut(number) {
            context.clock.instructions += instructions;
        }
    }

    /// A context ran, and no other beside it.
    pub(super) fn ran_alone(&mut self, number: usize, by: Clock) {
        if let Some(Context { clock, .. }) = self.get_mut(number) {
            clock.add(by);
        }
    }

    /// Own clocks go on by `ticks`: for certain only where no other ran in this stretch.
    pub(super) fn advance(&mut self, items: &[Item], mix: &Mix, ticks: u64, stretch: u64) {
        if let Some(number) = mix.only_context() {
            if let Some(context) = self.get_mut(number) {
                context.stretch = stretch;
                context.clock.low += ticks;
                context.clock.high += ticks;
            }
            return;
        }
        for (_, number, _) in items.iter().filter_map(Item::ran) {
            if let Some(context) = self.get_mut(number)
                && context.stretch != stretch
            {
                context.stretch = stretch;
                context.clock.high += ticks;
            }
        }
    }

    /// A handler is entered. Returns a thread that is not kept any more, if there are too many.
    pub(super) fn enter(&mut self, exception: u16, address: u64, edge: Edge) -> Option<usize> {
        if let Some(current) = self.current.take()
            && let Some(context) = self.get_mut(current)
        {
            (context.address, context.edge) = (address, edge);
            match context.root {
                Root::Exception(_) => self.handlers.push(current),
                Root::Thread | Root::Unknown => {
                    self.threads.push(current);
                    self.interrupted = Some(current);
                }
            }
        }
        self.current = Some(self.add(Root::Exception(exception)));
        if self.threads.len() <= MOST_THREADS && self.handlers.len() <= MOST_THREADS {
            return None;
        }
        let list =
            if self.threads.len() > MOST_THREADS { &mut self.threads } else { &mut self.handlers };
        let oldest = list.remove(0);
        self.dead.push(oldest);
        Some(oldest)
    }

    /// What runs returns from an exception: its frames end.
    pub(super) fn leave(&mut self) -> Option<usize> {
        let current = self.current.take()?;
        self.dead.push(current);
        Some(current)
    }

    /// A thread that waited has the core again.
    fn go_on(&mut self, thread: usize) -> Resumed {
        self.threads.retain(|&number| number != thread);
        self.current = Some(thread);
        let edge = self.get(thread).map_or(Edge::None, |context| context.edge);
        Resumed { edge, stands_in: false }
    }

    /// Something goes on at `address` after a handler ended.
    pub(super) fn resume(&mut self, address: u64) -> Resumed {
        if let Some(handler) = self.handlers.pop() {
            self.current = Some(handler);
            let edge = self.get(handler).map_or(Edge::None, |context| context.edge);
            return Resumed { edge, stands_in: false };
        }
        let interrupted = self.interrupted.take();
        let waits = |&number: &usize| self.get(number).is_some_and(|c| c.address == address);
        let still_waits = |same: &usize| self.threads.contains(same) && waits(same);
        if let Some(same) = interrupted.filter(still_waits) {
            return self.go_on(same);
        }
        let candidates: Vec<usize> = self.threads.iter().copied().filter(waits).collect();
        match *candidates.as_slice() {
            [] => {
                let root = if self.known { Root::Thread } else { Root::Unknown };
                self.known = true;
                self.current = Some(self.add(root));
                Resumed { edge: Edge::None, stands_in: false }
            }
            [only] => {
                if let Some(context) = self.get_mut(only) {
                    context.presumed = Some(context.frames.len());
                }
                self.go_on(only)
            }
            _ => {
                let stand_in = self.add(Root::Thread);
                if let Some(context) = self.get_mut(stand_in) {
                    context.candidates = candidates;
                }
                self.current = Some(stand_in);
                Resumed { edge: Edge::None, stands_in: true }
            }
        }
    }

    /// What runs returned to where none of its frames was called from. If it was only by its address that it
    /// was taken to be this thread, it is another one, which was not seen before, and this one still waits.
    /// Returns whether it is.
    pub(super) fn replace_mistaken(&mut self) -> bool {
        let Some(current) = self.current else { return false };
        let Some(context) = self.get_mut(current) else { return false };
        let presumed = context.presumed.take();
        if presumed != Some(context.frames.len()) {
            return false;
        }
        self.threads.push(current);
        self.current = Some(self.add(Root::Thread));
        self.mistaken = true;
        true
    }

    /// A return to `address` may show for whom a stand-in runs: then that one runs from now on.
    /// Returns the stand-in, and how often the other returned meanwhile. `in_place`: the frame was called in
    /// the place of the one below, and returns with it.
    pub(super) fn decide(
        &mut self,
        address: u64,
        returns_to: impl Fn(usize) -> Option<u64>,
        in_place: impl Fn(usize) -> bool,
    ) -> Option<(usize, usize)> {
        let stand_in = self.current?;
        let context = self.get(stand_in)?;
        // It returns from what it called itself, or nobody is looked for.
        let called = context.frames.iter().skip(1).any(|&frame| !in_place(frame));
        if context.candidates.is_empty() || called {
            return None;
        }
        let popped = context.popped;
        let fits = |&number: &usize| {
            let waits = self.threads.contains(&number);
            let top = after_returns(self.frames(number), popped, &in_place);
            waits && top.and_then(&returns_to) == Some(address)
        };
        let candidates: Vec<usize> = context.candidates.iter().copied().filter(fits).collect();
        if let [only] = *candidates.as_slice() {
            self.threads.retain(|&number| number != only);
            self.current = Some(only);
            return Some((stand_in, popped));
        }
        if let Some(context) = self.get_mut(stand_in) {
            context.candidates = candidates;
            context.popped += 1;
        }
        None
    }

    /// Whether something that waits stands in for this thread.
    pub(super) fn may_have_run_as_another(&self, number: usize) -> bool {
        let stands_in = |&other: &usize| self.candidates(other).contains(&number);
        self.threads.iter().any(stands_in)
    }

    /// What a stand-in ran belongs to the context that it stood in for: instructions.
    pub(super) fn join_instructions(&mut self, stand_in: usize, context: usize) {
        let Clock { instructions, .. } = self.clock(stand_in);
        self.count(context, instructions);
    }

    /// The same for time; the stand-in is not needed any more.
    pub(super) fn join_time(&mut self, stand_in: usize, context: usize) {
        let Clock { low, high, .. } = self.clock(stand_in);
        if let Some(context) = self.get_mut(context) {
            context.clock.low += low;
            context.clock.high += high;
        }
        self.dead.push(stand_in);
    }

    /// A handler wrote a stack pointer: another thread may go on. A thread that does is still the same.
    pub(super) const fn set_stack(&mut self) {
        self.interrupted = None;
    }

    /// Every frame that is open.
    pub(super) fn open_frames(&self) -> Vec<usize> {
        let numbers = self.current.iter().chain(&self.threads).chain(&self.handlers);
        numbers.flat_map(|&number| self.frames(number)).copied().collect()
    }

    /// Nothing is known any more: all whose frames are cut.
    pub(super) fn forget_all(&mut self) -> Vec<usize> {
        self.known = false;
        self.interrupted = None;
        let mut numbers: Vec<usize> = self.current.take().into_iter().collect();
        numbers.append(&mut self.threads);
        numbers.append(&mut self.handlers);
        self.dead.extend_from_slice(&numbers);
        numbers
    }

    /// The stretch ends: numbers of those that are gone may be used again.
    pub(super) fn bury(&mut self) {
        if self.dead.is_empty() {
            return;
        }
        let Self { all, dead, free, .. } = self;
        dead.retain(|&number| {
            let busy = all[number].as_ref().is_some_and(|context| !context.frames.is_empty());
            if !busy && all[number].take().is_some() {
                free.push(number);
            }
            busy
        });
    }
}

/// The innermost frame after so many returns.
fn after_returns(
    frames: &[usize],
    returns: usize,
    in_place: impl Fn(usize) -> bool,
) -> Option<usize> {
    let mut left = frames;
    for _ in 0..returns {
        let ended = left.iter().rev().take_while(|&&frame| in_place(frame)).count() + 1;
        left = &left[..left.len().checked_sub(ended)?];
    }
    left.last().copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A thread with these frames waits at 0x100 and goes on there, by its address alone.
    fn resumed() -> (Contexts, usize) {
        let mut contexts = Contexts::default();
        let thread = contexts.current();
        [10, 11].into_iter().for_each(|frame| contexts.push(thread, frame));
        contexts.enter(14, 0x100, Edge::None);
        contexts.set_stack();
        contexts.leave();
        assert!(!contexts.resume(0x100).stands_in);
        assert_eq!(contexts.running(), Some(thread));
        (contexts, thread)
    }

    #[test]
    fn where_no_stack_was_set_the_interrupted_thread_goes_on_whoever_waits_there() {
        let (mut contexts, first) = resumed();
        // It waits at 0x100, and another thread is interrupted there, too.
        contexts.enter(14, 0x100, Edge::None);
        contexts.set_stack();
        contexts.leave();
        contexts.resume(0x200);
        let second = contexts.running();
        contexts.enter(15, 0x100, Edge::None);
        contexts.enter(16, 0x40, Edge::None);
        contexts.leave();
        assert!(!contexts.resume(0x40).stands_in, "the handler below");
        contexts.leave();
        assert!(!contexts.resume(0x100).stands_in);
        assert_eq!(contexts.running(), second);
        assert_ne!(second, Some(first));
        // Returning elsewhere changes nothing about that.
        assert!(!contexts.replace_mistaken());
        // Behind a kernel it may be either.
        contexts.enter(15, 0x100, Edge::None);
        contexts.set_stack();
        contexts.leave();
        assert!(contexts.resume(0x100).stands_in);
    }

    #[test]
    fn who_returns_elsewhere_is_another_thread_and_the_first_one_still_waits() {
        let (mut contexts, thread) = resumed();
        assert!(contexts.replace_mistaken() && contexts.take_mistaken());
        assert!(!contexts.take_mistaken());
        assert_ne!(contexts.running(), Some(thread));
        assert_eq!(
            (contexts.frames(thread), contexts.threads.as_slice()),
            (&[10, 11][..], &[thread][..])
        );
    }

    #[test]
    fn who_returned_as_it_should_stays_who_it_is() {
        let (mut contexts, thread) = resumed();
        // What it calls meanwhile says nothing; its own return does.
        contexts.push(thread, 12);
        contexts.pop(thread);
        contexts.pop(thread);
        contexts.push(thread, 13);
        assert!(!contexts.replace_mistaken());
        assert_eq!(contexts.running(), Some(thread));
    }
}

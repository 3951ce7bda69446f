//! What steps mean: calls that begin and end, on the stacks of the threads that make them.

use super::super::contexts::{Contexts, Resumed};
use super::super::crossings::{Crossings, Passing};
use super::super::figures::FiguresOf;
use super::super::interval::{Clock, Item, Itself, Pace};
use super::super::stacks::Stacks;
use super::super::tree::{Named, NodeId, Root, Tree};
use super::strides::{Step, Steps, What};
use crate::flow::{Clocking, EXCEPTION, Ran, Slowest};
use crate::image::Image;

/// Calls deeper than this are not followed: they count for the innermost one that is.
const DEEPEST: usize = 1024;
/// Items between two times at most; where time is told so seldom, it is not known.
const MOST_ITEMS: usize = 1 << 16;
/// The same where nothing tells time.
const MOST_UNTIMED: usize = 1 << 10;

/// How the last instruction led on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(in super::super) enum Edge {
    /// In the same function, as far as anybody knows.
    #[default]
    None,
    /// It called; it is to be returned to this address.
    Call(u64),
    /// It returned.
    Return,
    /// It branched to where a register or memory said.
    Jump,
}

/// One call that has not ended.
#[derive(Debug, Clone, Copy)]
pub(super) struct Frame {
    pub(super) function: Named,
    pub(super) node: NodeId,
    /// Where it returns to; `None` for the first frame of a context.
    pub(super) returns_to: Option<u64>,
    pub(super) context: usize,
    /// It was called in the place of the frame below (a tail call), and returns with it.
    pub(super) in_place: bool,
    /// It was seen to begin.
    pub(super) whole: bool,
    /// The stretch in which it began.
    pub(super) stretch: u64,
    /// The clock at its beginning: as it was before the stretch in which that lies, and after it.
    pub(super) began: [Clock; 2],
    /// The same of its context's own clock.
    pub(super) began_own: [Clock; 2],
    /// Its context's own clock at the start of the stretch in which it ended.
    pub(super) ended_own: Clock,
    /// Where its beginning is told.
    pub(super) offset: u64,
    /// What ran before it began and before it ended, each in its stretch.
    pub(super) before: [Ran; 2],
    /// Its beginning is told apart from sleep by the pace of instructions only.
    pub(super) by_pace: bool,
    pub(super) itself: Itself,
}

/// Follows calls.
#[derive(Debug, Clone)]
pub(super) struct Following<'a> {
    pub(super) image: &'a Image,
    pub(super) clocking: Clocking,
    pub(super) figures: FiguresOf,
    pub(super) tree: Tree,
    /// Frames by number, and numbers that are free.
    pub(super) frames: Vec<Frame>,
    pub(super) free: Vec<usize>,
    pub(super) contexts: Contexts,
    /// What runs now, for the fast path.
    pub(super) function: Option<Named>,
    pub(super) node: NodeId,
    pub(super) frame: Option<usize>,
    pub(super) edge: Edge,
    /// Instructions that ran since the last item.
    pub(super) run: u64,
    /// What ran since the last time.
    pub(super) ran: Ran,
    pub(super) slowest: Slowest,
    pub(super) items: Vec<Item>,
    pub(super) clock: Clock,
    pub(super) pace: Pace,
    /// Stretches so far, and the last one of which nobody knows how long it was.
    pub(super) stretch: u64,
    pub(super) unknown: u64,
    /// There was one between two times.
    pub(super) untimed: bool,
    pub(super) offset: u64,
    /// Ways that are followed between points.
    pub(super) crossings: Option<Box<Crossings>>,
    /// Points that were passed in this stretch.
    pub(super) passed: Vec<Passing>,
    /// Own clocks of contexts whose stand-ins ended in it, as they were when those began.
    pub(super) joined: Vec<Clock>,
    /// What was on the stack when, if that is wanted.
    pub(super) stacks: Option<Box<Stacks>>,
    /// How all of this was before what no synchronisation confirms.
    pub(super) confirmed: Option<Box<Self>>,
}

impl<'a> Following<'a> {
    /// Nothing ran yet.
    #[must_use]
    pub(super) fn new(image: &'a Image, clocking: Clocking) -> Self {
        let mut tree = Tree::default();
        let node = tree.root(Root::Unknown);
        Self {
            image,
            clocking,
            figures: FiguresOf::default(),
            tree,
            frames: Vec::new(),
            free: Vec::new(),
            contexts: Contexts::default(),
            function: None,
            node,
            frame: None,
            edge: Edge::None,
            run: 0,
            ran: Ran::default(),
            slowest: Slowest::default(),
            items: Vec::new(),
            clock: Clock::default(),
            pace: Pace::default(),
            stretch: 0,
            unknown: 0,
            untimed: false,
            offset: 0,
            crossings: None,
            passed: Vec::new(),
            joined: Vec::new(),
            stacks: None,
            confirmed: None,
        }
    }

    /// Ends the recording: open calls are cut.
    pub(super) fn finish(&mut self) {
        // What ran after the last time lies between no two.
        let untimed = self.untimed;
        self.flush();
        for number in self.contexts.open_frames() {
            let Frame { function, whole, began, stretch, .. } = self.frames[number];
            if whole {
                let figures = self.figures.of_mut(function);
                figures.open += 1;
                // One that began after the last time has no beginning yet.
                let since = if stretch > self.stretch { self.clock } else { began[1] };
                figures.open_for = figures.open_for.max(self.clock.low.saturating_sub(since.high));
            }
        }
        if self.crossings.is_some() {
            // What was passed last may be open, too.
            self.settle(None);
        }
        if let Some(crossings) = &mut self.crossings {
            crossings.note_open(self.clock);
        }
        self.forget_all();
        self.settle(None);
        self.untimed = untimed;
    }

    /// How many calls deep what runs is, handlers on top of what they interrupted.
    pub(super) fn depth(&self) -> u32 {
        self.contexts.stack().map(|context| self.contexts.frames(context).len() as u32).sum()
    }

    /// Who called what runs, outermost first: beginnings of paths, and functions.
    pub(super) fn path(&self) -> Vec<(Root, Option<Named>)> {
        let mut path = Vec::new();
        for context in self.contexts.stack() {
            let root = self.contexts.root(context);
            path.push((root, None));
            let frames = self.contexts.frames(context).iter();
            path.extend(frames.map(|&frame| (root, Some(self.frames[frame].function))));
        }
        path
    }

    /// Points at this address are passed.
    #[inline(never)]
    fn pass(&mut self, address: u64) {
        let points = self.crossings.as_ref().map_or(0, |crossings| crossings.points_at(address));
        if points == 0 {
            return;
        }
        self.flush();
        let context = self.contexts.current();
        let (contexts, frames) = (&self.contexts, &self.frames);
        let numbers = contexts.frames(context);
        let callers = numbers.iter().map(|&frame| frames[frame].function);
        // Whoever was not seen to begin may have been called by others.
        let more = || {
            let whole = numbers.first().is_some_and(|&frame| frames[frame].whole);
            !whole || contexts.stands_in(context)
        };
        let crossings = self.crossings.as_mut();
        let counts = crossings.is_none_or(|crossings| crossings.counts(points, callers, more));
        let (depth, offset) = (numbers.len(), self.offset);
        let before = self.ran;
        self.item(Item::Passed { points, context, depth, counts, offset, before });
    }

    /// Another function, or the same one again.
    #[inline(never)]
    fn change(&mut self, address: u64, function: Named) {
        self.flush();
        let edge = std::mem::take(&mut self.edge);
        let context = self.contexts.current();
        match edge {
            Edge::Call(returns_to) => self.open(context, function, Some(returns_to), false, true),
            Edge::Return => self.return_to(address, function),
            Edge::Jump if self.unwind(context, address) => {}
            Edge::Jump | Edge::None => self.move_on(context, address, function),
        }
        self.show_top();
    }

    /// Notes what runs, for the fast path.
    fn show_top(&mut self) {
        self.note_stack();
        let context = self.contexts.current();
        let top = self.contexts.frames(context).last().copied();
        self.frame = top;
        self.function = top.map(|frame| self.frames[frame].function);
        self.node = match top {
            Some(frame) => self.frames[frame].node,
            None => self.tree.root(self.contexts.root(context)),
        };
    }

    /// Notes what is on the stack, if anybody wants to know.
    fn note_stack(&mut self) {
        let Some(stacks) = &mut self.stacks else { return };
        let frames = self.contexts.stack().flat_map(|context| self.contexts.frames(context));
        let shown = frames.map(|&number| {
            let Frame { function, stretch, .. } = self.frames[number];
            (number, stretch, function)
        });
        stacks.changed(shown, self.items.len().saturating_sub(1));
    }

    /// A call begins.
    fn open(
        &mut self,
        context: usize,
        function: Named,
        returns_to: Option<u64>,
        in_place: bool,
        whole: bool,
    ) {
        if whole {
            self.figures.of_mut(function).calls += 1;
        }
        let frames = self.contexts.frames(context);
        if self.is_deepest(context) {
            if let Some(&deepest) = frames.last() {
                self.frames[deepest].itself.unsure = true;
            }
            return self.contexts.dive(context);
        }
        let parent = match frames.last() {
            Some(&frame) => self.frames[frame].node,
            None => self.tree.root(self.contexts.root(context)),
        };
        let node = self.tree.child(parent, function);
        self.tree.node_mut(node).calls += u64::from(whole);
        let frame = Frame {
            function,
            node,
            returns_to,
            context,
            in_place,
            whole,
            stretch: self.stretch + 1,
            began: [Clock::default(); 2],
            began_own: [Clock::default(); 2],
            ended_own: Clock::default(),
            offset: self.offset,
            before: [self.ran; 2],
            by_pace: false,
            itself: Itself::default(),
        };
        let number = match self.free.pop() {
            Some(number) => {
                self.frames[number] = frame;
                number
            }
            None => {
                self.frames.push(frame);
                self.frames.len() - 1
            }
        };
        self.contexts.push(context, number);
        self.item(Item::Open(number));
    }

    /// The innermost call ends.
    fn close(&mut self, context: usize) {
        self.take_off(context, Item::Close);
    }

    /// The innermost call is not followed any more.
    fn cut(&mut self, context: usize) {
        self.take_off(context, Item::Cut);
    }

    /// The innermost call ends or is not followed any more, and with it those in whose place it was called.
    fn take_off_returning(&mut self, context: usize, item: fn(usize) -> Item) {
        let mut again = true;
        while std::mem::take(&mut again) {
            let top = self.contexts.frames(context).last();
            again = top.is_some_and(|&frame| self.frames[frame].in_place);
            self.take_off(context, item);
        }
    }

    fn take_off(&mut self, context: usize, item: impl FnOnce(usize) -> Item) {
        let Some(number) = self.contexts.pop(context) else { return };
        let Frame { whole, before, .. } = &mut self.frames[number];
        before[1] = self.ran;
        let whole = *whole;
        self.item(if whole { item(number) } else { Item::Drop(number) });
    }

    /// A return.
    fn return_to(&mut self, address: u64, function: Named) {
        // Which thread it is may show only now.
        let frames = &self.frames;
        let returns_to = |frame: usize| frames[frame].returns_to;
        let replaced =
            self.contexts.decide(address, returns_to, |frame: usize| frames[frame].in_place);
        let context = self.contexts.current();
        if let Some((stand_in, popped)) = replaced {
            self.adopt(stand_in, context, popped);
        }
        if self.contexts.surface(context) || self.unwind(context, address) {
            return;
        }
        // Beyond what was seen to be called: by somebody else, who waited at the same place? Nobody knows where a call
        // returns that began before the recording did.
        let top = self.contexts.frames(context).last().copied();
        if let Some(frame) = top.filter(|&frame| self.frames[frame].whole)
            && self.contexts.replace_mistaken()
        {
            self.frames[frame].itself.unsure = true;
        }
        let context = self.contexts.current();
        while !self.contexts.frames(context).is_empty() {
            self.cut(context);
        }
        self.open(context, function, None, false, false);
    }

    /// Frames of a stand-in were those of `context`, and so was what it ran.
    fn adopt(&mut self, stand_in: usize, context: usize, popped: usize) {
        while !self.contexts.frames(stand_in).is_empty() {
            self.take_off(stand_in, Item::Drop);
        }
        self.item(Item::Join(stand_in, context));
        // These ended while nobody knew whose they were.
        for _ in 0..popped {
            self.take_off_returning(context, Item::Cut);
        }
        // Another stand-in that still waits may have run for it, too: nobody knows how long.
        if self.contexts.may_have_run_as_another(context) {
            for &frame in self.contexts.frames(context) {
                self.frames[frame].whole = false;
            }
        }
        // Some of what the stand-in ran was this call's own.
        if let Some(&top) = self.contexts.frames(context).last() {
            self.frames[top].itself.unsure = true;
        }
    }

    /// An indirect branch to `address`: whether that is where an open call returns to, or the middle
    /// of a function that is open.
    fn unwind(&mut self, context: usize, address: u64) -> bool {
        let frames = self.contexts.frames(context);
        let returns = |&frame: &usize| self.frames[frame].returns_to == Some(address);
        if let Some(above) = frames.iter().rev().position(returns) {
            for _ in 0..above {
                self.close(context);
            }
            self.take_off_returning(context, Item::Close);
            return true;
        }
        let function = Named(self.image.function_at(address));
        let is_open = |&frame: &usize| self.frames[frame].function == function;
        match frames.iter().rev().position(is_open) {
            Some(above) if !self.is_start_of(function, address) => {
                for _ in 0..above {
                    self.close(context);
                }
                true
            }
            _ => false,
        }
    }

    /// Whether calls from here on are not followed.
    fn is_deepest(&self, context: usize) -> bool {
        self.contexts.frames(context).len() >= DEEPEST
    }

    fn is_start_of(&self, function: Named, address: u64) -> bool {
        function.0.is_some_and(|id| self.image.function(id).range.start == address)
    }

    /// Arrives in another function without a call, or in the first one of a context.
    fn move_on(&mut self, context: usize, address: u64, function: Named) {
        let Some(&top) = self.contexts.frames(context).last() else {
            // A handler, or a thread, that begins.
            let handler = matches!(self.contexts.root(context), Root::Exception(_));
            let begins = handler || self.is_start_of(function, address);
            return self.open(context, function, None, false, begins);
        };
        if self.frames[top].function == function {
            return; // a computed jump inside of it
        }
        let at_start = self.is_start_of(function, address);
        if self.is_deepest(context) {
            // It returns together with what called it.
            self.frames[top].itself.unsure = true;
            self.figures.of_mut(function).calls += u64::from(at_start);
            return;
        }
        let Frame { returns_to, .. } = self.frames[top];
        match self.place_in_chain(context, function) {
            None => self.open(context, function, returns_to, true, at_start),
            Some(above) => {
                for _ in 0..above {
                    self.close(context);
                }
                if at_start {
                    // Tail calls in a circle: it begins anew, or the stack would grow without end.
                    let top = self.contexts.frames(context).last();
                    let in_place = top.is_some_and(|&frame| self.frames[frame].in_place);
                    self.close(context);
                    self.open(context, function, returns_to, in_place, true);
                }
            }
        }
    }

    /// How many frames lie above that of a function among those that return together, if it is one of
    /// them.
    fn place_in_chain(&self, context: usize, function: Named) -> Option<usize> {
        let frames = self.contexts.frames(context);
        let returns_further = frames.iter().rev().take_while(|&&f| self.frames[f].in_place).count();
        let chain = frames.iter().rev().take(returns_further + 1);
        chain.into_iter().position(|&frame| self.frames[frame].function == function)
    }

    /// Instructions that ran become an item.
    pub(super) fn flush(&mut self) {
        if self.run > 0 {
            let instructions = std::mem::take(&mut self.run);
            self.ran.instructions += instructions;
            let context = self.contexts.current();
            self.item(Item::Ran { node: self.node, frame: self.frame, context, instructions });
        }
    }

    fn item(&mut self, item: Item) {
        self.items.push(item);
        let most = if self.clocking == Clocking::Nothing { MOST_UNTIMED } else { MOST_ITEMS };
        if self.items.len() >= most {
            self.settle(None);
            // When the rest of this stretch began is not known.
            self.ran.waits = 1;
        }
    }

    /// Nothing that is open is followed any more.
    fn forget_all(&mut self) {
        self.flush();
        for context in self.contexts.forget_all() {
            while !self.contexts.frames(context).is_empty() {
                self.cut(context);
            }
        }
        if self.crossings.is_some() {
            self.item(Item::Lost);
        }
        self.note_stack();
        self.function = None;
        self.frame = None;
        self.edge = Edge::None;
    }

    fn entered(&mut self, exception: Option<u16>, returns_to: u64) {
        // A debugger's halt, and the like: no handler, and it lasts as long as somebody likes.
        let Some(exception) = exception else {
            self.ran.waits += 1;
            return;
        };
        self.flush();
        // A core that sleeps on exit does so before the next handler.
        self.ran.waits += u64::from(self.contexts.is_nobody());
        self.ran.instructions += EXCEPTION;
        if let Some(forgotten) = self.contexts.enter(exception, returns_to, self.edge) {
            while !self.contexts.frames(forgotten).is_empty() {
                self.cut(forgotten);
            }
            if self.crossings.is_some() {
                self.item(Item::Forgotten(forgotten));
            }
        }
        self.function = None;
        self.frame = None;
        self.edge = Edge::None;
    }

    fn left(&mut self) {
        self.flush();
        self.ran.instructions += EXCEPTION;
        if let Some(handler) = self.contexts.leave() {
            while !self.contexts.frames(handler).is_empty() {
                self.close(handler);
            }
            if self.crossings.is_some() {
                self.item(Item::Gone(handler));
            }
            self.note_stack();
        }
        self.function = None;
        self.frame = None;
        self.edge = Edge::None;
    }

    fn resume(&mut self, start: u64, function: Named) {
        self.item(Item::Back);
        let Resumed { edge, stands_in } = self.contexts.resume(start);
        self.edge = edge;
        if stands_in {
            let context = self.contexts.current();
            self.open(context, function, None, false, false);
        }
        self.show_top();
    }

    /// Execution is at `start`, in this function: led there by a branch, or since it did not branch.
    fn came(&mut self, start: u64, function: Named) {
        if self.edge != Edge::None || self.function != Some(function) {
            self.change(start, function);
            let context = self.contexts.current();
            if self.function != Some(function) && !self.is_deepest(context) {
                // Back in a call, but in another function than it was in.
                self.change(start, function);
            }
        }
        if self.crossings.is_some() {
            self.pass(start);
        }
    }

    /// It goes on at `start`, after something else happened than a branch.
    fn arrived(&mut self, start: u64, function: Named) {
        if self.contexts.is_nobody() {
            self.resume(start, function);
        } else if self.function.is_none() {
            // A handler begins before its first instruction: it may be interrupted there.
            self.change(start, function);
        }
    }
}

impl Steps for Following<'_> {
    #[inline]
    fn step(&mut self, step: &Step) {
        let Step { alone, run, edge, offset, what } = *step;
        if alone.is_any() {
            self.add_alone(alone);
        }
        self.run += run;
        if edge != Edge::None {
            self.edge = edge;
        }
        self.offset = offset;
        match what {
            What::Came { start, function } => self.came(start, function),
            What::Ticked(Some(ticks)) => self.tick(ticks),
            What::Ticked(None) => self.settle(None),
            What::Waited => {
                self.tree.node_mut(self.node).waits += 1;
                self.ran.waits += 1;
                self.item(Item::Waits(self.node));
            }
            What::SetStack => self.contexts.set_stack(),
            What::Unconfirmed => self.confirmed = Some(Box::new(self.clone())),
            What::Arrived { start, function } => self.arrived(start, function),
            What::Entered { exception, returns_to } => self.entered(exception, returns_to),
            What::Left => self.left(),
            What::Lost => {
                self.forget_all();
                self.settle(None);
            }
            What::Learnt { instructions, ticks } => {
                self.slowest.learn(instructions, ticks);
            }
            What::Nothing => {}
        }
    }
}

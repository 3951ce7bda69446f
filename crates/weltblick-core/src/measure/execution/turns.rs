//! Threads of an instruction trace as tasks: exceptions, and which task has its turn, as events.

use super::calls::{Calls, Whose};
use super::roster::Roster;
use super::tree::Named;
use crate::event::{self, FlowEvents};
use crate::flow::{Block, Edge, Moment, Only, Sink};
use crate::image::Image;

/// Blocks in which it does not show which thread runs, until the one before is taken to have stopped.
const PATIENCE: u32 = 4096;

/// A sink of instruction flow that hands on events of exceptions, and of tasks if its threads are known.
///
/// A turn ends when a handler interrupts it from which another task goes on, and begins when thread mode
/// goes on. Which thread that is may show only some instructions later. Nothing tells why a task stopped; the idle one never does by its own will.
#[derive(Debug)]
pub struct TaskEvents<'a, S> {
    threads: Option<Threads<'a>>,
    events: FlowEvents<S>,
    /// What is asked for.
    part: Only<()>,
}

/// Follows whose turn it is.
#[derive(Debug)]
pub struct Threads<'a> {
    image: &'a Image,
    roster: &'a Roster,
    calls: Calls<'a>,
    /// Whose turn it is when that was last known.
    task: Option<Named>,
    /// Tasks whose names were told, by number.
    named: Vec<bool>,
    /// A handler ended, and what goes on is not known yet.
    back: bool,
    /// It does not show whose turn it is: since so many blocks.
    open: Option<u32>,
}

impl<'a> Threads<'a> {
    /// Nobody runs yet.
    #[must_use]
    pub const fn new(image: &'a Image, roster: &'a Roster, calls: Calls<'a>) -> Self {
        Self { image, roster, calls, task: None, named: Vec::new(), back: false, open: Some(0) }
    }

    /// Looks whose turn it is now.
    fn look<S: event::Sink>(&mut self, events: &mut FlowEvents<S>) {
        match self.calls.whose(self.roster, self.task) {
            Whose::Handler => {}
            Whose::Task(task) => {
                self.open = None;
                events.hold(false);
                if self.task != Some(task) {
                    self.stop(events);
                    self.begin(task, events);
                }
            }
            Whose::Perhaps if self.open.is_none_or(|blocks| blocks < PATIENCE) => self.wait(events),
            Whose::Perhaps | Whose::Another => {
                self.stop(events);
                self.wait(events);
            }
        }
    }

    fn wait<S: event::Sink>(&mut self, events: &mut FlowEvents<S>) {
        self.open = Some(self.open.map_or(0, |blocks| blocks.saturating_add(1)));
        events.hold(true);
    }

    fn stop<S: event::Sink>(&mut self, events: &mut FlowEvents<S>) {
        if let Some(task) = self.task.take().filter(|&task| !self.roster.is_idle(task)) {
            events.turn_ends(self.roster.number(task));
        }
    }

    /// It was not this task that went on: what it got so far was another's.
    #[cold]
    fn correct<S: event::Sink>(&mut self, events: &mut FlowEvents<S>) {
        if let Some(task) = self.task.take() {
            events.turn_was_none(self.roster.number(task));
        }
        self.wait(events);
    }

    fn begin<S: event::Sink>(&mut self, task: Named, events: &mut FlowEvents<S>) {
        self.introduce(task, events);
        events.turn_begins(self.roster.number(task));
        self.task = Some(task);
    }

    /// Says what a task is called, once it is asked for.
    fn introduce<S: event::Sink>(&mut self, task: Named, events: &mut FlowEvents<S>) {
        let number = self.roster.number(task);
        let place = number as usize;
        if self.named.len() <= place {
            self.named.resize(place + 1, false);
        }
        if events.is_telling() && !std::mem::replace(&mut self.named[place], true) {
            events.task_is_called(number, task.name(self.image), self.roster.idle());
        }
    }

    fn forget<S: event::Sink>(&mut self, events: &mut FlowEvents<S>) {
        (self.task, self.open) = (None, Some(0));
        events.hold(true);
    }
}

impl<'a, S: event::Sink> TaskEvents<'a, S> {
    /// Events of tasks beside those of exceptions, where it is known who the `threads` are.
    #[must_use]
    pub fn new(threads: Option<Threads<'a>>, events: FlowEvents<S>) -> Self {
        Self { threads, events, part: Only::new(None, None, ()) }
    }

    /// Only those between two edges, again and again. Blocks must begin at these: see
    /// [`Code::cut_at`](crate::flow::Code::cut_at).
    #[must_use]
    pub fn only(mut self, from: Option<Edge>, until: Option<Edge>) -> Self {
        self.part = Only::new(from, until, ()).timed_by(self.events.clocking());
        self.events.tell(self.part.is_inside());
        self
    }

    /// Lets `part` see what comes, and looks whether that is asked for.
    #[inline(always)]
    fn pass(&mut self, see: impl FnOnce(&mut Only<()>)) {
        let was = self.part.is_inside();
        see(&mut self.part);
        let is = self.part.is_inside();
        if is != was {
            self.cross(is);
        }
    }

    /// What is asked for begins or ends here.
    #[cold]
    fn cross(&mut self, is: bool) {
        self.events.tell(is);
        if let Some(threads) = self.threads.as_mut().filter(|_| is)
            && let Some(task) = threads.task
        {
            threads.introduce(task, &mut self.events);
            self.events.turn_goes_on(threads.roster.number(task));
        }
    }

    /// Who the threads are, as far as what ran up to now tells.
    #[must_use]
    pub fn roster(&self) -> Option<Roster> {
        self.threads.as_ref().map(|threads| Roster::of(&threads.calls, threads.image))
    }

    /// The recording ends.
    pub fn finish(&mut self) {
        self.events.finish();
    }
}

impl<S: event::Sink> Sink for TaskEvents<'_, S> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.pass(|part| part.ran(block, taken));
        self.events.ran(block, taken);
        if let Some(threads) = &mut self.threads {
            threads.calls.ran(block, taken);
            if threads.calls.take_mistaken() {
                threads.correct(&mut self.events);
            }
            if threads.open.is_some() {
                threads.look(&mut self.events);
            }
        }
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.pass(|part| part.ran_part(block, until, instructions));
        self.events.ran_part(block, until, instructions);
        if let Some(threads) = &mut self.threads {
            threads.calls.ran_part(block, until, instructions);
        }
    }

    fn arrived(&mut self, block: &Block) {
        self.events.arrived(block);
        if let Some(threads) = &mut self.threads {
            threads.calls.arrived(block);
            if std::mem::take(&mut threads.back) {
                threads.look(&mut self.events);
            }
        }
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.events.at(offset);
        self.part.at(offset);
        if let Some(threads) = &mut self.threads {
            threads.calls.at(offset);
        }
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.pass(|part| part.moment(offset, moment));
        self.events.moment(offset, moment);
        if let Some(threads) = &mut self.threads {
            threads.calls.moment(offset, moment);
            match moment {
                Moment::Left => threads.back = true,
                Moment::Gap(_) => threads.forget(&mut self.events),
                _ => {}
            }
            if self.events.take_lost_time() {
                threads.forget(&mut self.events);
            }
        }
    }

    fn has_enough(&self) -> bool {
        self.events.has_enough() || self.part.has_enough()
    }
}

//! Where a point lies: the n-th run of a handler, an event by its number, a byte.

use crate::event::{Event, Name, Origin, Position, Sink, Statement, Thing};
use crate::measure::interrupts::{Nesting, Run, Watcher as InterruptWatcher};
use crate::measure::tasks::{Activation, Tracking, Watcher as TaskWatcher};
use crate::point::{End, Occurrence, Subject, Which};
use crate::time::Window;
use rustc_hash::FxHashMap;

/// What is looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target {
    /// An event by its number, from 0; `None`: the last.
    Event(Option<u64>),
    /// The first event at or after a byte.
    Byte(Origin, u64),
    /// A run of an exception's handler.
    Interrupt(u16),
    /// An activation of a task.
    Task(u32),
    /// A span.
    Span(u32),
}

/// Begin and end of an occurrence.
type Ends = (Option<Window>, Option<Window>);

/// The occurrence that is meant, among those that come.
#[derive(Debug, Clone, Copy)]
struct Choice {
    which: Which,
    seen: u64,
    found: Option<Ends>,
    first: Option<Ends>,
    /// Nothing counts before anything has a time.
    waits: bool,
}

impl Choice {
    fn offer(&mut self, ends: Ends) {
        if self.waits {
            return;
        }
        self.first.get_or_insert(ends);
        let wanted = match self.which {
            Which::Number(number) => self.seen == number,
            Which::First => self.seen == 0,
            Which::Last => true,
            Which::Every => false,
        };
        if wanted {
            self.found = Some(ends);
        }
        self.seen += 1;
    }
}

/// Looks for one point in a recording.
#[derive(Debug)]
pub struct Seek {
    target: Target,
    end: End,
    interrupts: Nesting<Runs>,
    tasks: Tracking<Activations>,
    span: Option<Window>,
    choice: Choice,
}

#[derive(Debug)]
struct Runs {
    exception: Option<u16>,
    choice: Choice,
}

impl InterruptWatcher for Runs {
    fn ran(&mut self, run: &Run) {
        if self.exception == Some(run.exception) {
            self.choice.offer((run.began, run.ended));
        }
    }
}

#[derive(Debug)]
struct Activations {
    task: Option<u32>,
    choice: Choice,
}

impl TaskWatcher for Activations {
    fn activated(&mut self, activation: &Activation) {
        if self.task == Some(activation.task) {
            self.choice.offer((activation.began, activation.ended));
        }
    }
}

impl Seek {
    /// Looks for an event, or a byte.
    #[must_use]
    pub fn new(target: Target) -> Self {
        Self::occurrence(target, Which::First, End::Begin)
    }

    /// Looks for one of several occurrences.
    #[must_use]
    pub fn occurrence(target: Target, which: Which, end: End) -> Self {
        let choice = Choice { which, seen: 0, found: None, first: None, waits: false };
        let exception = match target {
            Target::Interrupt(number) => Some(number),
            _ => None,
        };
        let task = match target {
            Target::Task(number) => Some(number),
            _ => None,
        };
        Self {
            target,
            end,
            interrupts: Nesting::new(1.0, Runs { exception, choice }),
            tasks: Tracking::new(Activations { task, choice }),
            span: None,
            choice,
        }
    }

    /// The same for runs of handlers in a reading that begins in the middle: those that ended before anything
    /// has a time do not count.
    #[must_use]
    pub const fn from_first_time(mut self) -> Self {
        self.interrupts.watcher.choice.waits = true;
        self
    }

    /// When the first one ended.
    #[must_use]
    pub fn first_ended(&self) -> Option<Window> {
        self.choice().first?.1
    }

    fn choice(&self) -> Choice {
        match self.target {
            Target::Interrupt(_) => self.interrupts.watcher.choice,
            Target::Task(_) => self.tasks.watcher().choice,
            _ => self.choice,
        }
    }

    /// When it was, if it is there and has a time.
    #[must_use]
    pub fn found(&self) -> Option<Window> {
        let (begin, end) = self.choice().found?;
        if self.end == End::End { end } else { begin }
    }

    /// How many occurrences there were.
    #[must_use]
    pub fn seen(&self) -> u64 {
        self.choice().seen
    }
}

impl Sink for Seek {
    fn event(&mut self, position: Position, event: &Event) {
        let now = position.time;
        match self.target {
            Target::Event(number) => {
                if number.is_none_or(|number| number == self.choice.seen) {
                    self.choice.found = now.map(|_| (now, now)).or(self.choice.found);
                }
                self.choice.seen += 1;
            }
            Target::Byte(origin, offset) => {
                let reached = position.origin == origin && position.offset >= offset;
                if reached && self.choice.found.is_none() && now.is_some() {
                    self.choice.found = Some((now, now));
                }
            }
            Target::Interrupt(_) => {
                self.interrupts.watcher.choice.waits &= now.is_none();
                self.interrupts.event(position, event);
            }
            Target::Task(_) => self.tasks.event(position, event),
            Target::Span(wanted) => match event {
                Event::Stated(Statement::SpanBegan { span }) if *span == wanted => self.span = now,
                Event::Stated(Statement::SpanEnded { span }) if *span == wanted => {
                    if let Some(began) = self.span.take() {
                        self.choice.offer((Some(began), now));
                    }
                }
                Event::Lost { .. } | Event::Unwatched => self.span = None,
                _ => {}
            },
        }
    }
}

/// What things are called.
#[derive(Debug, Default)]
pub struct Names {
    /// Things that the firmware named.
    pub list: FxHashMap<Thing, Name>,
}

impl Sink for Names {
    fn event(&mut self, _: Position, event: &Event) {
        if let Event::Stated(Statement::Named(thing, name)) = event
            && self.list.len() < 4096
        {
            self.list.insert(*thing, name.clone());
        }
    }
}

impl Names {
    /// The thing of a kind that is called so, or has this number.
    #[must_use]
    pub fn find(
        &self,
        occurrence: &Occurrence,
        text_at: impl Fn(u64) -> Option<String>,
    ) -> Option<u32> {
        let number_of = |thing: Thing| match (occurrence.subject, thing) {
            (Subject::Task, Thing::Task(number)) | (Subject::Span, Thing::Span(number)) => {
                Some(number)
            }
            _ => None,
        };
        let is_it = |name: &Name| name.told(&text_at).as_ref() == Some(&occurrence.name);
        let mut named = self.list.iter().filter(|(_, name)| is_it(name));
        let found = named.find_map(|(thing, _)| number_of(*thing));
        found.or_else(|| occurrence.name.parse().ok())
    }
}

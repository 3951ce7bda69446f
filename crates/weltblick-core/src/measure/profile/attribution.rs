//! Samples by the context that they fell in, instead of by their address.

use crate::event::{Event, Position, Sink};
use crate::measure::interrupts::THREAD;
use crate::measure::tasks::{Holder, Tracking, Watcher};

/// Whose a sample is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Whose {
    /// An exception's handler.
    Handler(u16),
    /// A task.
    Task(u32),
    /// The kernel, between tasks.
    Kernel,
    /// Thread mode, where nothing tells of tasks.
    Thread,
    /// Nothing tells.
    Unknown,
}

/// The upper half of the address that stands for a context.
const TASK: u64 = 1;
const KERNEL: u64 = 2;
const THREAD_MODE: u64 = 3;
const UNKNOWN: u64 = 4;

impl Whose {
    /// A number that counting figures take for an address.
    const fn code(self) -> u64 {
        match self {
            Self::Handler(number) => number as u64,
            Self::Task(task) => TASK << 32 | task as u64,
            Self::Kernel => KERNEL << 32,
            Self::Thread => THREAD_MODE << 32,
            Self::Unknown => UNKNOWN << 32,
        }
    }

    /// Whose samples have this number.
    pub(super) const fn of(code: u64) -> Self {
        match code >> 32 {
            0 => Self::Handler(code as u16),
            TASK => Self::Task(code as u32),
            KERNEL => Self::Kernel,
            THREAD_MODE => Self::Thread,
            _ => Self::Unknown,
        }
    }
}

/// Nobody looks on.
#[derive(Debug)]
struct Nobody;

impl Watcher for Nobody {}

/// Follows handlers and tasks; passes every event on, with samples that say whose they are.
#[derive(Debug)]
pub struct Attributed<S> {
    tracking: Tracking<Nobody>,
    /// Where events go.
    pub sink: S,
}

impl<S: Sink> Attributed<S> {
    /// Nothing is known yet.
    pub fn new(sink: S) -> Self {
        Self { tracking: Tracking::new(Nobody), sink }
    }

    fn whose(&self) -> Whose {
        match self.tracking.holder() {
            Holder::Handler(THREAD) => Whose::Thread,
            Holder::Handler(number) => Whose::Handler(number),
            Holder::Task(task) => Whose::Task(task),
            Holder::Kernel => Whose::Kernel,
            Holder::Unknown => Whose::Unknown,
        }
    }
}

impl<S: Sink> Sink for Attributed<S> {
    fn event(&mut self, position: Position, event: &Event) {
        if let Event::Sample { .. } = event {
            self.tracking.turn_to(position.core);
            let pc = self.whose().code();
            return self.sink.event(position, &Event::Sample { pc });
        }
        self.tracking.event(position, event);
        self.sink.event(position, event);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin, Statement};

    #[test]
    fn samples_belong_to_whom_has_the_core() {
        struct Codes(Vec<Whose>);
        impl Sink for Codes {
            fn event(&mut self, _: Position, event: &Event) {
                if let Event::Sample { pc } = event {
                    self.0.push(Whose::of(*pc));
                }
            }
        }
        let mut attributed = Attributed::new(Codes(Vec::new()));
        let runs = Event::Stated(Statement::Runs { task: 7, stack_pointer: None });
        let sample = Event::Sample { pc: 0x800_0100 };
        let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
        let entered = Event::Entered { exception: 16 };
        let (left, resumed) = (Event::Left { exception: 16 }, Event::Resumed { exception: 0 });
        let story = [&sample, &entered, &sample, &left, &resumed, &sample, &runs, &sample];
        let rest = [&entered, &sample, &left, &resumed, &sample, &lost, &sample];
        for event in story.into_iter().chain(rest) {
            let position = Position::new(Origin(0), 0, None);
            attributed.event(position, event);
        }
        let (handler, task) = (Whose::Handler(16), Whose::Task(7));
        let expected =
            [Whose::Unknown, handler, Whose::Thread, task, handler, task, Whose::Unknown];
        assert_eq!(attributed.sink.0, expected);
        // Another core has another task.
        let at = |core| Position { core, ..Position::new(Origin(0), 0, None) };
        let mut attributed = Attributed::new(Codes(Vec::new()));
        for core in 0..2 {
            let runs = Statement::Runs { task: 7 + u32::from(core), stack_pointer: None };
            attributed.event(at(core), &Event::Stated(runs));
        }
        [0, 1].into_iter().for_each(|core| attributed.event(at(core), &sample));
        assert_eq!(attributed.sink.0, [Whose::Task(7), Whose::Task(8)]);
    }
}

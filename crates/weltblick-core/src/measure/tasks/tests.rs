//! Small stories of tasks, each with its answer.

use super::tracking::{Activation, Tracking, Watcher};
use crate::event::{Event, LossReason, Origin, Position, Sink as _, Statement, Stop};
use crate::measure::dissection::Actor;
use crate::stats::Ticks;
use crate::time::Window;

#[derive(Default)]
struct Seen {
    activations: Vec<Activation>,
    cut: usize,
    gaps: usize,
    task: u64,
    kernel: u64,
}

impl Watcher for Seen {
    fn activated(&mut self, activation: &Activation) {
        self.activations.push(*activation);
    }
    fn cut(&mut self, _: u32) {
        self.cut += 1;
    }
    fn did(&mut self, actor: Actor, from: Window, until: Window) {
        match actor {
            Actor::Task(_) => self.task += until.latest - from.latest,
            Actor::Kernel => self.kernel += until.latest - from.latest,
            _ => {}
        }
    }
    fn gap(&mut self, _: bool) {
        self.gaps += 1;
    }
}

const fn enter(exception: u16) -> Event {
    Event::Entered { exception }
}

const fn leave(exception: u16) -> Event {
    Event::Left { exception }
}

const THREAD: Event = Event::Resumed { exception: 0 };

fn ready(task: u32) -> Event {
    Event::Stated(Statement::Ready { task })
}

fn runs(task: u32) -> Event {
    Event::Stated(Statement::Runs { task, stack_pointer: None })
}

fn sleeps(task: u32) -> Event {
    Event::Stated(Statement::Stops { task, why: Stop::Sleeps })
}

fn seen(events: &[(u64, Event)]) -> Seen {
    let mut tracking = Tracking::new(Seen::default());
    for (cycle, event) in events {
        let time = Some(Window::exact(*cycle));
        tracking.event(Position { origin: Origin(0), offset: 0, time }, event);
    }
    tracking.finish()
}

#[test]
fn own_time_is_without_handlers_and_other_tasks() {
    let seen = seen(&[
        (0, THREAD),
        (90, ready(1)),
        (100, runs(1)),
        (200, enter(16)),
        (240, leave(16)),
        (250, THREAD),
        (260, ready(2)),
        (300, runs(2)), // takes the core
        (400, sleeps(2)),
        (420, runs(1)),
        (500, sleeps(1)),
        (510, runs(3)),
    ]);
    let [second, first] = seen.activations.as_slice() else { panic!("{:?}", seen.activations) };
    assert_eq!((second.task, second.own), (2, Some(Ticks::exact(100))));
    assert_eq!((first.task, first.own), (1, Some(Ticks::exact(100 + 50 + 80))));
    assert_eq!((first.ready, first.began), (Some(Window::exact(90)), Some(Window::exact(100))));
    assert_eq!((seen.task, seen.kernel, seen.cut), (330, 30, 0));
}

#[test]
fn without_exceptions_all_time_is_the_task_s() {
    let seen = seen(&[(90, ready(1)), (100, runs(1)), (500, sleeps(1))]);
    assert_eq!(seen.activations[0].own, Some(Ticks::exact(400)));
}

#[test]
fn before_the_first_exception_nothing_tells_where_marks_stand() {
    let seen = seen(&[
        (90, ready(1)),
        (100, runs(1)), // in thread mode, or in a handler that was entered long ago
        (200, enter(16)),
        (240, leave(16)),
        (250, THREAD),
        (300, sleeps(1)),
    ]);
    let [only] = seen.activations.as_slice() else { panic!("{:?}", seen.activations) };
    assert_eq!(only.own, None);
    assert_eq!(seen.task, 50, "what is known is known");
}

#[test]
fn after_a_gap_own_time_waits_until_the_core_says_what_runs() {
    let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
    let seen = seen(&[
        (0, THREAD),
        (10, lost),
        (90, ready(1)),
        (100, runs(1)),
        (200, enter(16)),
        (240, leave(16)),
        (250, THREAD),
        (300, sleeps(1)),
        (400, ready(1)),
        (410, runs(1)),
        (500, sleeps(1)),
    ]);
    let owns: Vec<_> = seen.activations.iter().map(|activation| activation.own).collect();
    assert_eq!(owns, [None, Some(Ticks::exact(90))]);
    assert_eq!(seen.gaps, 1);
}

#[test]
fn exceptions_that_contradict_each_other_are_a_gap_for_tasks_too() {
    let seen = seen(&[
        (0, THREAD),
        (90, ready(1)),
        (100, runs(1)),
        (200, enter(16)),
        (300, THREAD), // its exit is missing, and marks may be
        (500, sleeps(1)),
    ]);
    assert!(seen.activations.is_empty());
    assert_eq!((seen.gaps, seen.cut), (1, 2));
}

//! Small stories of tasks, each with its answer.

use super::figures::{Settings, TaskFigures};
use super::tracking::{Activation, Tracking, Watcher};
use crate::event::{Event, LossReason, Origin, Position, Sink as _, Statement, Stop};
use crate::measure::dissection::Actor;
use crate::measure::interrupts::Cut;
use crate::stats::Ticks;
use crate::time::Window;
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::ops::Range;

#[derive(Default)]
struct Seen {
    activations: Vec<Activation>,
    cut: usize,
    gaps: usize,
    again: u64,
    task: u64,
    kernel: u64,
}

impl Watcher for Seen {
    fn activated(&mut self, activation: &Activation) {
        self.activations.push(*activation);
    }
    fn ready_again(&mut self, _: u32) {
        self.again += 1;
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
    fn gap(&mut self, _: Cut) {
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

pub(super) fn ready(task: u32) -> Event {
    Event::Stated(Statement::Ready { task })
}

pub(super) fn runs(task: u32) -> Event {
    Event::Stated(Statement::Runs { task, stack_pointer: None })
}

pub(super) fn sleeps(task: u32) -> Event {
    Event::Stated(Statement::Stops { task, why: Stop::Sleeps })
}

fn seen(events: &[(u64, Event)]) -> Seen {
    let mut tracking = Tracking::new(Seen::default());
    for (cycle, event) in events {
        let time = Some(Window::exact(*cycle));
        tracking.event(Position::new(Origin(0), 0, time), event);
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
fn ready_while_running_is_noticed_and_told_twice_is_not() {
    let twice = seen(&[(80, ready(1)), (90, ready(1)), (100, runs(1)), (500, sleeps(1))]);
    assert_eq!((twice.again, twice.activations.len()), (0, 1));
    let while_running = seen(&[
        (90, ready(1)),
        (100, runs(1)),
        (200, ready(1)),
        (500, sleeps(1)),
        (510, runs(1)),
        (600, sleeps(1)),
    ]);
    assert_eq!((while_running.again, while_running.activations.len()), (1, 2));
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

#[test]
fn what_vanished_in_silence_bounds_nothing() {
    let round =
        |at: u64| [(at, ready(1)), (at + 10, runs(1)), (at + 50, sleeps(1)), (at + 60, runs(2))];
    let silent = [(250, enter(16)), (260, THREAD)]; // its exit is missing
    let events: Vec<_> =
        [&[(0, THREAD)][..], &round(90), &silent, &round(390), &round(690)].concat();
    let figures = with_gaps(&events, &[]);
    let row = figures.rows().find(|row| row.task == 1).unwrap();
    assert_eq!((row.hidden, row.bridges.longest()), (u64::MAX, u64::MAX));
}

/// A kernel with three tasks, the first of them the most urgent.
#[derive(Default)]
struct Kernel {
    now: u64,
    running: Option<u32>,
    ready: BTreeSet<u32>,
    events: Vec<(u64, Event)>,
    /// Open activations: since when each task is ready.
    open: [Option<u64>; 3],
    /// Of these, those that have begun to run, and when.
    began: [Option<u64>; 3],
    /// Of each task: from when to when.
    activations: [Vec<(u64, u64)>; 3],
}

impl Kernel {
    fn tell(&mut self, event: Event) {
        self.events.push((self.now, event));
        self.now += 1;
    }

    fn wake(&mut self, task: u32) {
        let open = &mut self.open[task as usize];
        if open.is_none() {
            *open = Some(self.now);
            self.ready.insert(task);
            self.tell(ready(task));
            self.dispatch();
        }
    }

    fn sleep(&mut self) {
        let Some(task) = self.running.take() else { return };
        let since = self.open[task as usize].take().unwrap();
        self.began[task as usize] = None;
        self.activations[task as usize].push((since, self.now));
        self.tell(sleeps(task));
        self.dispatch();
    }

    fn dispatch(&mut self) {
        let Some(&next) = self.ready.first() else { return };
        if self.running.is_none_or(|running| next < running) {
            self.ready.remove(&next);
            self.ready.extend(self.running.replace(next));
            self.began[next as usize].get_or_insert(self.now);
            self.tell(runs(next));
        }
    }

    /// How long an activation waited that has begun, and not ended.
    fn begun(&self, task: u32) -> Option<u64> {
        self.began[task as usize].zip(self.open[task as usize]).map(|(began, ready)| began - ready)
    }
}

/// Feeds the events without those in the gaps.
fn with_gaps(events: &[(u64, Event)], gaps: &[Range<usize>]) -> TaskFigures {
    let settings = Settings { keep: 1, window: 1000, each: false };
    let mut tracking = Tracking::new(TaskFigures::new(settings));
    for (at, (now, event)) in events.iter().enumerate() {
        let time = Some(Window::exact(*now));
        let position = Position::new(Origin(0), 0, time);
        if gaps.iter().any(|gap| gap.start == at) {
            let why = LossReason::Overflow;
            tracking.event(position, &Event::Lost { bytes: 0..0, why });
        }
        if !gaps.iter().any(|gap| gap.contains(&at)) {
            tracking.event(position, event);
        }
    }
    tracking.finish()
}

proptest! {
    #[test]
    fn figures_are_those_of_a_list_of_activations(
        acts in prop::collection::vec((0_u32..5, 0_u64..300), 20..200),
    ) {
        let mut kernel = Kernel::default();
        for (act, pause) in acts {
            kernel.now += pause;
            if act < 3 { kernel.wake(act) } else { kernel.sleep() }
        }
        let figures = with_gaps(&kernel.events, &[]);
        let turns = kernel.events.iter().filter_map(|(now, event)| match event {
            Event::Stated(Statement::Runs { task, .. }) => Some((*now, Some(*task))),
            Event::Stated(Statement::Stops { .. }) => Some((*now, None)),
            _ => None,
        });
        // Who had the core from when to when; nobody after a stop.
        let turns: Vec<(u64, Option<u32>)> = turns.collect();
        let busy = |task| -> u64 {
            let turns = turns.windows(2).filter(|pair| pair[0].1 == Some(task));
            turns.map(|pair| pair[1].0 - pair[0].0).sum()
        };
        for (task, activations) in (0..).zip(&kernel.activations) {
            let Some(row) = figures.rows().find(|row| row.task == task) else {
                prop_assert!(activations.is_empty());
                continue;
            };
            prop_assert_eq!(row.activations, activations.len() as u64);
            prop_assert_eq!(row.busy, busy(task), "task {}", task);
            let first_run = |ready: u64| {
                let runs = |&&(now, who): &&(u64, Option<u32>)| now >= ready && who == Some(task);
                turns.iter().find(runs).unwrap().0
            };
            let mut pending: Vec<u64> =
                activations.iter().map(|(ready, _)| first_run(*ready) - ready).collect();
            let response: Vec<u64> = activations.iter().map(|(ready, end)| end - ready).collect();
            let elapsed: Vec<u64> =
                response.iter().zip(&pending).map(|(response, pending)| response - pending).collect();
            // One that has begun to run waits no longer, whether it ended or not.
            pending.extend(kernel.begun(task));
            let period: Vec<u64> =
                activations.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
            for (spread, list) in [
                (&row.pending, pending),
                (&row.response, response),
                (&row.elapsed, elapsed),
                (&row.period, period),
            ] {
                prop_assert_eq!(spread.count(), list.len() as u64);
                let exact = |ticks: Option<&u64>| ticks.map(|ticks| Ticks::exact(*ticks));
                prop_assert_eq!(spread.min(), exact(list.iter().min()));
                prop_assert_eq!(spread.max(), exact(list.iter().max()));
            }
            // Own time of all activations is what the task had of the core, but for one that goes on.
            let own = row.own.mean().map_or(0.0, |mean| mean.middle() * row.own.count() as f64);
            prop_assert!(own <= busy(task) as f64 + 1e-6);
            if kernel.open[task as usize].is_none() {
                prop_assert!((own - busy(task) as f64).abs() < 1e-6, "{own} of {}", busy(task));
            }
        }
    }

    #[test]
    fn what_hides_in_gaps_is_not_longer_than_what_is_told(
        acts in prop::collection::vec((0_u32..5, 0_u64..300), 20..200),
        gaps in prop::collection::vec((any::<prop::sample::Index>(), 1_usize..12), 1..4),
    ) {
        let mut kernel = Kernel::default();
        for (act, pause) in acts {
            kernel.now += pause;
            if act < 3 { kernel.wake(act) } else { kernel.sleep() }
        }
        let events = &kernel.events;
        prop_assume!(!events.is_empty());
        let gap = |(at, length): &(prop::sample::Index, usize)| {
            let at = at.index(events.len());
            at..at + length
        };
        let gaps: Vec<Range<usize>> = gaps.iter().map(gap).collect();
        let figures = with_gaps(events, &gaps);
        for (task, activations) in (0..).zip(&kernel.activations) {
            // What goes on when the recording ends is told as that.
            let Some(row) = figures.rows().find(|row| row.task == task) else { continue };
            let (seen, apart) = (row.response.max(), row.period.max());
            let longest = activations.iter().map(|(ready, end)| end - ready).max().unwrap_or(0);
            let known = seen.map_or(0, |max| max.high).max(row.hidden);
            prop_assert!(longest <= known, "{task}: {longest} of {known}");
            let apart_truly = activations.windows(2).map(|pair| pair[1].0 - pair[0].0);
            let known = apart.map_or(0, |max| max.high).max(row.bridges.longest());
            let longest = apart_truly.clone().max().unwrap_or(0);
            prop_assert!(longest <= known, "{task}: {longest} apart, of {known}");
            // All of the time from the first start to the last is in one period or in a bridge.
            let all: u64 = apart_truly.sum();
            let seen = row.period.mean().map_or(0.0, |mean| mean.high * row.period.count() as f64);
            prop_assert!(all as f64 <= seen + row.bridges.sum().high as f64 + 1e-6);
        }
    }
}

//! Tasks of one kernel on two cores: stories made at random, whose truth is kept beside them.

use super::figures::{Settings, TaskFigures};
use super::tests::{ready, runs, sleeps};
use super::tracking::Tracking;
use crate::event::{Event, LossReason, Origin, Position, Sink as _, Statement};
use crate::stats::{Spread, Ticks};
use crate::time::Window;
use proptest::prelude::*;
use std::collections::BTreeSet;

/// Tasks of the story.
const TASKS: usize = 5;

/// A kernel with one queue for two cores: the most urgent tasks run, wherever there is room.
#[derive(Default)]
struct Kernel {
    now: u64,
    /// Tasks stay on the core where they ran first: the odd ones on core 1.
    bound: bool,
    running: [Option<u32>; 2],
    waiting: BTreeSet<u32>,
    /// When each task became ready, and began to run.
    open: [Option<(u64, Option<u64>)>; TASKS],
    events: Vec<(u8, u64, Event)>,
    /// Of each task: ready, began, ended.
    activations: [Vec<(u64, u64, u64)>; TASKS],
    /// Of each task: from ready to the first run.
    pending: [Vec<u64>; TASKS],
    busy: [u64; TASKS],
    since: [u64; 2],
}

impl Kernel {
    fn tell(&mut self, core: usize, event: Event) {
        self.events.push((core as u8, self.now, event));
        self.now += 1;
    }

    /// Core `by` wakes a task.
    fn wake(&mut self, by: usize, task: u32) {
        if self.open[task as usize].is_none() {
            self.open[task as usize] = Some((self.now, None));
            self.waiting.insert(task);
            self.tell(by, ready(task));
            self.dispatch();
        }
    }

    /// What runs on a core stops.
    fn stop(&mut self, core: usize) {
        let Some(task) = self.running[core].take() else { return };
        let number = task as usize;
        let (since, began) = self.open[number].take().unwrap();
        self.activations[number].push((since, began.unwrap(), self.now));
        self.busy[number] += self.now - self.since[core];
        self.tell(core, sleeps(task));
        self.dispatch();
    }

    fn may_run(&self, task: u32, core: usize) -> bool {
        !self.bound || task as usize % 2 == core
    }

    fn dispatch(&mut self) {
        loop {
            let better = |core: usize| {
                let wanted = self.waiting.iter().find(|&&task| self.may_run(task, core)).copied();
                wanted.filter(|&task| self.running[core].is_none_or(|running| task < running))
            };
            // An idle core is taken before anybody is pre-empted.
            let idle = (0..2).find(|&core| self.running[core].is_none() && better(core).is_some());
            let any = || (0..2).find(|&core| better(core).is_some());
            let Some(core) = idle.or_else(any) else { return };
            let task = better(core).unwrap();
            if let Some(before) = self.running[core].take() {
                self.busy[before as usize] += self.now - self.since[core];
                self.waiting.insert(before);
                self.tell(core, Event::Stated(Statement::Preempted { task: before }));
            }
            self.waiting.remove(&task);
            let now = self.now;
            if let Some((ready, began @ None)) = &mut self.open[task as usize] {
                *began = Some(now);
                self.pending[task as usize].push(now - *ready);
            }
            self.running[core] = Some(task);
            self.since[core] = now;
            self.tell(core, runs(task));
        }
    }

    fn live(&mut self, acts: Vec<(u32, u64)>) {
        for (act, pause) in acts {
            self.now += pause;
            let core = act as usize % 2;
            match act / 2 {
                task if (task as usize) < TASKS => self.wake(core, task),
                _ => self.stop(core),
            }
        }
    }

    /// Gaps among the events of a core, by number.
    fn gaps(&self, gaps: &[(usize, usize)], of: u8) -> Vec<(usize, usize)> {
        let mine = self.events.iter().filter(|(core, ..)| *core == of).count();
        gaps.iter().map(|(at, length)| (at % mine.max(1), *length)).collect()
    }

    /// Whether a task ran on core 0 in a gap, and was never seen there before: then nothing says that it may.
    fn goes_unseen(&self, task: u32, gaps: &[(usize, usize)]) -> bool {
        let gaps = self.gaps(gaps, 0);
        let mine = self.events.iter().filter(|(core, ..)| *core == 0).enumerate();
        let mut ran = mine.filter(|(_, (_, _, event))| *event == runs(task));
        ran.next()
            .is_some_and(|(at, _)| gaps.iter().any(|gap| (gap.0..gap.0 + gap.1).contains(&at)))
    }

    /// Figures of the events, those of one core without what lies in its gaps.
    fn figures(&self, gaps: &[(usize, usize)], of: u8) -> TaskFigures {
        let settings = Settings { keep: 1, window: 100, each: false };
        let mut tracking = Tracking::new(TaskFigures::new(settings));
        let gaps = self.gaps(gaps, of);
        let (mut number, mut end) = (0, 0);
        for (core, now, event) in &self.events {
            let time = Some(Window::exact(*now));
            let position = Position { core: *core, ..Position::new(Origin(0), 0, time) };
            end = *now;
            if *core == of {
                let at = number;
                number += 1;
                if gaps.iter().any(|gap| gap.0 == at) {
                    let lost = Event::Lost { bytes: 0..0, why: LossReason::Dropped };
                    tracking.event(position, &lost);
                }
                if gaps.iter().any(|gap| (gap.0..gap.0 + gap.1).contains(&at)) {
                    continue;
                }
            }
            tracking.event(position, event);
        }
        tracking.finish_both_at(Some(end)).0
    }
}

/// Acts of a story: who is woken, by which core, or which core's task stops; and how long before.
fn acts() -> impl Strategy<Value = Vec<(u32, u64)>> {
    prop::collection::vec((0_u32..2 * TASKS as u32 + 8, 0_u64..60), 20..200)
}

fn extremes(spread: &Spread) -> (u64, Option<Ticks>, Option<Ticks>) {
    (spread.count(), spread.min(), spread.max())
}

fn of_list(list: &[u64]) -> (u64, Option<Ticks>, Option<Ticks>) {
    let exact = |ticks: Option<&u64>| ticks.map(|ticks| Ticks::exact(*ticks));
    (list.len() as u64, exact(list.iter().min()), exact(list.iter().max()))
}

proptest! {
    #[test]
    fn tasks_of_two_cores_are_those_of_their_kernel(acts in acts(), bound in any::<bool>()) {
        let mut kernel = Kernel { bound, ..Kernel::default() };
        kernel.live(acts);
        let figures = kernel.figures(&[], 2);
        for task in 0..TASKS {
            let Some(row) = figures.rows().find(|row| row.task as usize == task) else {
                prop_assert!(kernel.activations[task].is_empty());
                continue;
            };
            let list = |of: fn(&(u64, u64, u64)) -> u64| -> Vec<u64> {
                kernel.activations[task].iter().map(of).collect()
            };
            prop_assert_eq!(extremes(&row.response), of_list(&list(|(ready, _, end)| end - ready)));
            prop_assert_eq!(extremes(&row.elapsed), of_list(&list(|(_, began, end)| end - began)));
            prop_assert_eq!(extremes(&row.pending), of_list(&kernel.pending[task]));
            let own = row.own.mean().map_or(0.0, |mean| mean.middle() * row.own.count() as f64);
            if kernel.open[task].is_none() {
                prop_assert_eq!(own.round() as u64, kernel.busy[task]);
                prop_assert_eq!(row.busy, kernel.busy[task]);
            }
        }
    }

    /// What one core lost is nobody else's: figures of tasks that run on the other one are the same, and their bounds
    /// are wider by what may have happened unseen.
    #[test]
    fn a_loss_on_one_core_leaves_the_tasks_of_the_other(
        acts in acts(),
        gaps in prop::collection::vec((0_usize..200, 1_usize..12), 1..4),
    ) {
        let mut kernel = Kernel { bound: true, ..Kernel::default() };
        kernel.live(acts);
        let (whole, lossy) = (kernel.figures(&[], 2), kernel.figures(&gaps, 0));
        // Of one of which nothing was stated before, nobody knows on which core it runs.
        let mine: Vec<u64> =
            kernel.events.iter().filter(|(core, ..)| *core == 0).map(|(_, now, _)| *now).collect();
        let first = gaps.iter().filter_map(|(at, _)| mine.get(at % mine.len().max(1))).min();
        let is_known = |task: u32| {
            let activations = &kernel.activations[task as usize];
            activations.first().is_some_and(|(.., end)| first.is_none_or(|first| end < first))
        };
        for row in whole.rows().filter(|row| row.cores.has(1) && is_known(row.task)) {
            let other = lossy.rows().find(|other| other.task == row.task).unwrap();
            prop_assert_eq!(extremes(&row.elapsed), extremes(&other.elapsed));
            prop_assert_eq!(extremes(&row.own), extremes(&other.own));
            prop_assert_eq!(row.busy, other.busy);
            // It may have become ready in what was lost.
            prop_assert!(other.pending.count() <= row.pending.count());
        }
    }

    /// Tasks go where there is room, and one core loses events.
    #[test]
    fn what_hides_on_one_core_is_not_longer_than_what_is_told(
        acts in acts(),
        bound in any::<bool>(),
        gaps in prop::collection::vec((0_usize..200, 1_usize..12), 1..4),
    ) {
        let mut kernel = Kernel { bound, ..Kernel::default() };
        kernel.live(acts);
        let end = kernel.events.last().map_or(0, |(_, now, _)| *now);
        let figures = kernel.figures(&gaps, 0);
        for (task, activations) in kernel.activations.iter().enumerate() {
            let Some(row) = figures.rows().find(|row| row.task as usize == task) else { continue };
            if !bound && kernel.goes_unseen(task as u32, &gaps) {
                continue;
            }
            let longest = activations.iter().map(|(ready, _, end)| end - ready).max().unwrap_or(0);
            let known = row.response.max().map_or(0, |max| max.high);
            let known = known.max(row.hidden).max(row.open_elapsed);
            prop_assert!(longest <= known, "{task}: {longest} of {known}");
            // Nothing that was seen is longer than it was, either.
            let open = kernel.open[task].map_or(0, |(ready, _)| end - ready);
            let seen = row.response.max().map_or(0, |max| max.low);
            prop_assert!(seen <= longest.max(open), "{task}: {seen} was {longest}");
            let longest = activations.iter().map(|(_, began, end)| end - began).max().unwrap_or(0);
            let known = row.elapsed.max().map_or(0, |max| max.high);
            let known = known.max(row.hidden).max(row.open_elapsed);
            prop_assert!(longest <= known, "{task}: {longest} elapsed, of {known}");
            let pending = kernel.pending[task].iter().max().copied().unwrap_or(0);
            let known = row.pending.max().map_or(0, |max| max.high);
            let known = known.max(row.hidden).max(row.waiting.1).max(row.open_at_start);
            prop_assert!(pending <= known, "{task}: {pending} pending, of {known}");
            let load = figures.loads(row, end);
            let truly = kernel.busy[task] as f64 / end.max(1) as f64;
            prop_assert!(load.bounds[1].high >= truly - 1e-9, "{task}: {truly} of {load:?}");
        }
    }
}

//! Whose turn it was, as an instruction trace alone tells, held against the kernel's own variable.

use crate::calls::By;
use crate::executed::{FIRMWARE, image};
use crate::recording::{FAST, Told, traced};
use std::collections::{BTreeMap, HashMap};
use weltblick_core::event::{self, Event, FlowEvents, Origin, Position, Thing};
use weltblick_core::flow::Clocking;
use weltblick_core::image::{Image, Variables};
use weltblick_core::measure::execution::{Calls, Roster, TaskEvents, Threads};
use weltblick_core::measure::tasks::{Order, Settings, TaskFigures, Tracking};
use weltblick_core::time::Window;
use weltblick_standin::Machine;

/// Cycles from a handler's end to the first instruction after it.
const RETURN: u64 = 10;
/// Cycles by which the trace may tell an exception's entry or return later or earlier than it was.
const NEAR: u64 = 14;

/// A stretch of thread mode after another, all of one thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Turn {
    pointer: u32,
    from: u64,
    until: u64,
    /// Cycles without handlers.
    own: u64,
}

/// The turns of all threads, as the kernel's variable says; the last one goes on.
fn run(mut machine: Machine, cycles: u64) -> (Vec<Turn>, Vec<u8>) {
    let current = Variables::parse(FIRMWARE).unwrap().find("kernel_current").unwrap().address;
    let mut switches = Vec::new();
    while machine.cycle() < cycles {
        machine.step().unwrap();
        let now = machine.peek(current as u32, 4).unwrap();
        if switches.last().is_none_or(|&(_, last)| last != now) {
            switches.push((machine.cycle(), now));
        }
    }
    let mut turns: Vec<Turn> = Vec::new();
    let mut left_last = 0;
    for record in &machine.truth().exceptions {
        if record.entered < left_last {
            continue; // inside another
        }
        if left_last > 0 && left_last + RETURN <= record.entered {
            let from = left_last + RETURN;
            let at = switches.partition_point(|(cycle, _)| *cycle <= from);
            let pointer = switches[at - 1].1;
            let (until, own) = (record.entered, record.entered - from);
            match turns.last_mut().filter(|turn| turn.pointer == pointer) {
                Some(turn) => (turn.until, turn.own) = (until, turn.own + own),
                None => turns.push(Turn { pointer, from, until, own }),
            }
        }
        let Some(left) = record.left else { break };
        left_last = left;
    }
    turns.retain(|turn| turn.pointer != 0);
    turns.pop();
    let bytes = machine.take_trace();
    (turns, bytes)
}

/// Reads these bytes for who the threads are, and again for their turns.
fn told(image: &Image, told: Told, bytes: (&[u8], u64)) -> (TaskFigures, Order) {
    let mut calls = Calls::new(image, Clocking::Cycles);
    told.follow(image, &[], bytes, &mut calls);
    let roster = Roster::of(&calls, image);
    let settings = Settings { keep: 0, window: 4_797_235, each: false };
    let mut sinks = (Tracking::new(TaskFigures::new(settings)), Tracking::new(Order::default()));
    let threads = Threads::new(image, &roster, Calls::new(image, Clocking::Cycles));
    let mut events =
        TaskEvents::new(Some(threads), FlowEvents::new(Origin(0), Clocking::Cycles, &mut sinks));
    told.follow(image, &[], bytes, &mut events);
    events.finish();
    let (figures, order) = (sinks.0.finish(), sinks.1.finish());
    (figures, order)
}

/// Exceptions that were entered and left, in order, with what is known of when.
#[derive(Default)]
struct Exceptions(Vec<(u16, Window, Option<Window>)>);

impl event::Sink for Exceptions {
    fn event(&mut self, position: Position, event: &Event) {
        match (event, position.time) {
            (&Event::Entered { exception }, Some(time)) => self.0.push((exception, time, None)),
            (&Event::Left { exception }, Some(time)) => {
                let open = self.0.iter_mut().rev();
                let mut open =
                    open.filter(|(number, _, left)| *number == exception && left.is_none());
                open.next().unwrap().2 = Some(time);
            }
            _ => {}
        }
    }
}

#[test]
fn exceptions_lie_in_their_windows_and_those_are_narrow() {
    let image = image();
    for (by, most) in
        [(By::Etmv4(4), 200), (By::Etmv4(32), 400), (By::Etmv4(256), 1200), (By::Etmv3, 200)]
    {
        let (unit, tells, registers) = by.set_up();
        let mut machine = traced(FIRMWARE, unit, FAST, &registers);
        machine.run(40_000_000);
        let bytes = machine.take_trace();
        let mut told = Exceptions::default();
        let mut events = FlowEvents::new(Origin(0), Clocking::Cycles, &mut told);
        tells.follow(&image, &[], (&bytes, 0), &mut events);
        events.finish();
        let real = &machine.truth().exceptions;
        assert!(real.len() > 4000 && real.len() - told.0.len() <= 1, "{}", told.0.len());
        let mut wide = 0;
        for ((number, entered, left), real) in told.0.iter().zip(real) {
            assert_eq!(*number, real.number);
            assert!(near(*entered, real.entered), "{by:?} {number} {entered:?} {real:?}");
            if let (Some(left), Some(real)) = (left, real.left) {
                assert!(near(*left, real), "{by:?} {number} {left:?} {real:?}");
            }
            wide += usize::from(entered.latest - entered.earliest > most);
        }
        // However long the core slept before: but for the first, of which no pace was known.
        assert!(wide < real.len() / 25, "{by:?}: {wide} of {}", real.len());
    }
}

fn near(window: Window, cycle: u64) -> bool {
    window.earliest <= cycle + NEAR && cycle <= window.latest + NEAR
}

#[test]
fn turns_are_those_of_the_kernel() {
    let image = image();
    for by in [By::Etmv4(4), By::Etmv4(32), By::Etmv3] {
        let (unit, tells, registers) = by.set_up();
        let (turns, bytes) = run(traced(FIRMWARE, unit, FAST, &registers), 30_000_000);
        let (figures, order) = told(&image, tells, (&bytes, 0));
        assert!(turns.len() > 100);
        assert!(order.turns.len().abs_diff(turns.len()) <= 1, "{}", order.turns.len());
        let mut tasks: BTreeMap<u32, u32> = BTreeMap::new();
        for (told, real) in order.turns.iter().zip(&turns) {
            assert_eq!(*tasks.entry(real.pointer).or_insert(told.task), told.task);
            assert!(near(told.spell.from, real.from), "{by:?} {told:?} {real:?}");
            // The idle one is pre-empted, and its turn ends when another begins.
            if figures.name(Thing::Task(told.task), None) != "idle" {
                assert!(near(told.spell.until, real.until), "{by:?} {told:?} {real:?}");
            }
        }
        let mut names: Vec<String> =
            tasks.values().map(|&task| figures.name(Thing::Task(task), None)).collect();
        names.sort();
        assert_eq!(names, ["housekeeping_task", "idle", "telemetry_task", "wave_estimator_task"]);
        // Nobody gets another's time.
        for row in figures.rows() {
            let mine = turns.iter().filter(|turn| tasks[&turn.pointer] == row.task);
            let (count, own) = mine.fold((0, 0), |(n, own), turn| (n + 1, own + turn.own));
            let handlers = 60 * count;
            assert!(row.busy.abs_diff(own) <= handlers + own / 100, "{by:?} {} {own}", row.busy);
        }
    }
}

#[test]
fn who_comes_in_the_middle_finds_out_whose_turn_it_is() {
    let image = image();
    let (unit, tells, registers) = By::Etmv4(4).set_up();
    let (turns, bytes) = run(traced(FIRMWARE, unit, FAST, &registers), 60_000_000);
    let (_, whole) = told(&image, tells, (&bytes, 0));
    for cut in [bytes.len() / 3, bytes.len() / 2] {
        let (figures, order) = told(&image, tells, (&bytes[cut..], cut as u64));
        // Every thread is named once it has returned to where it began.
        let tasks: HashMap<u32, String> = figures
            .rows()
            .map(|row| (row.task, figures.name(Thing::Task(row.task), None)))
            .collect();
        let mut names: Vec<&str> = tasks.values().map(String::as_str).collect();
        names.sort_unstable();
        assert_eq!(names, ["housekeeping_task", "idle", "telemetry_task", "wave_estimator_task"]);
        // The last turns are the same, and as long.
        let many = order.turns.len() - 6;
        assert!(many > 60, "{many}");
        let same = whole.turns.iter().rev().zip(order.turns.iter().rev()).take(many);
        for (whole, cut) in same {
            let lasted = |window: [Window; 2]| window[1].latest - window[0].latest;
            let [whole, cut] = [whole, cut].map(|turn| lasted([turn.spell.from, turn.spell.until]));
            assert_eq!(whole, cut);
        }
    }
    assert!(turns.len() > 200);
}

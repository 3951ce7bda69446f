//! What is said of tasks, held against what the stand-in did.

use std::collections::BTreeMap;
use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
use weltblick_core::event::{CurrentTask, Origin, Sink, Thing};
use weltblick_core::image::{Image, Variables};
use weltblick_core::measure::dissection::Actor;
use weltblick_core::measure::tasks::{Order, Settings, State, TaskFigures, Tracking};
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;
use weltblick_standin::{Machine, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
/// Cycles from a handler's end to the first instruction after it.
const RETURN: u64 = 10;

/// The cycle of each switch, and the task it led to, as the kernel's own variable says.
struct Truth {
    machine: Machine,
    switches: Vec<(u64, u32)>,
    bytes: Vec<u8>,
}

fn run(setup: Setup, seconds: f64) -> Truth {
    let current =
        Variables::parse(FIRMWARE).unwrap().find("kernel_current").unwrap().address as u32;
    let mut machine = Machine::new(&Program::parse(FIRMWARE).unwrap(), setup).unwrap();
    // A comparator tells what is written to the kernel's variable, by value.
    let watch = [(0xe000_1020, current), (0xe000_1024, 2), (0xe000_1028, 0b1101)];
    for (address, value) in TraceSetup::default().registers().into_iter().chain(watch) {
        machine.poke(address, 4, value).unwrap();
    }
    let mut switches = Vec::new();
    let end = (seconds * setup.core_clock as f64) as u64;
    let mut last = 0;
    while machine.cycle() < end {
        machine.step().unwrap();
        let now = machine.peek(current, 4).unwrap();
        if now != last {
            switches.push((machine.cycle(), now));
            last = now;
        }
    }
    let bytes = machine.take_trace();
    Truth { machine, switches, bytes }
}

/// A link that loses nothing.
fn wide_link(seed: u64) -> Setup {
    Setup { link_bit_rate: 40_000_000, link_buffer: 4096, seed, ..Setup::default() }
}

fn replay(bytes: &[u8], sink: &mut impl Sink) {
    let settings = ItmSettings { marks_port: Some(16), ..ItmSettings::default() };
    let mut line = Line::new(&StreamSpec::itm(Vec::new(), settings), Origin(0));
    line.push(bytes, &mut (), sink);
    line.finish(&mut (), sink);
}

fn measured(bytes: &[u8]) -> (TaskFigures, Order) {
    let settings = Settings { keep: 3, window: 4_797_235, each: true };
    let mut figures = Tracking::new(TaskFigures::new(settings));
    replay(bytes, &mut figures);
    let mut order = Tracking::new(Order::default());
    replay(bytes, &mut order);
    let mut figures = figures.finish();
    figures.finish();
    (figures, order.finish())
}

/// Stretches of thread mode: from the return out of the outermost handler to the next entry.
fn thread_mode(machine: &Machine) -> Vec<(u64, u64)> {
    let mut stretches = Vec::new();
    let mut since = None;
    let mut left_last = 0;
    for record in &machine.truth().exceptions {
        if record.entered < left_last {
            continue; // inside another
        }
        if let Some(since) = since
            && since <= record.entered
        {
            stretches.push((since, record.entered));
        }
        let Some(left) = record.left else { break };
        left_last = left;
        since = Some(left + RETURN);
    }
    stretches
}

#[test]
fn tasks_run_in_the_order_and_for_the_time_in_which_they_ran() {
    let truth = run(wide_link(1), 0.6);
    let (figures, order) = measured(&truth.bytes);
    assert_eq!(figures.gaps, 0);

    // The kernel's variable changes, then the mark follows within the same function.
    assert_eq!(order.turns.len() + 1, truth.switches.len(), "the last turn has no end");
    let mut by_pointer: BTreeMap<u32, u32> = BTreeMap::new();
    for (turn, (cycle, pointer)) in order.turns.iter().zip(&truth.switches) {
        assert_eq!(*by_pointer.entry(*pointer).or_insert(turn.task), turn.task);
        let after = turn.spell.from.latest - cycle;
        assert!(after < 40, "{after} cycles after the switch");
    }
    assert_eq!(by_pointer.len(), 4);

    // Every cycle of thread mode is somebody's.
    let mut real: BTreeMap<u32, u64> = BTreeMap::new();
    for (from, until) in thread_mode(&truth.machine) {
        let at = truth.switches.partition_point(|(cycle, _)| *cycle <= from);
        if at > 0 {
            *real.entry(by_pointer[&truth.switches[at - 1].1]).or_default() += until - from;
        }
    }
    let busy: BTreeMap<Actor, u64> = figures.busy().collect();
    let kernel = busy.get(&Actor::Kernel).copied().unwrap_or(0);
    let mut hidden = 0;
    for row in figures.rows() {
        let real = real[&row.task];
        assert!(row.busy <= real, "{} {real}", row.busy);
        // From the mark that it stops to the switch itself the kernel has the core.
        assert!(real - row.busy <= 40 * (row.yielded + 1), "{} {real}", row.busy);
        hidden += real - row.busy;
    }
    assert!(hidden.abs_diff(kernel) <= 100, "{hidden} {kernel}");
}

#[test]
fn the_task_whose_ready_delay_grows_with_load_is_found_and_explained() {
    let truth = run(wide_link(2), 0.5);
    let (figures, _) = measured(&truth.bytes);
    let image = Image::parse(FIRMWARE).unwrap();
    let late = figures.rows().max_by_key(|row| row.pending.max().map_or(0, |max| max.low)).unwrap();
    assert_eq!(figures.name(Thing::Task(late.task), Some(&image)), "housekeeping");
    let mut second = Tracking::new(figures.cases());
    replay(&truth.bytes, &mut second);
    let stretches = second.finish().into_stretches();
    let worst = late.worst_pending.list()[0];
    let stretch = stretches.iter().find(|s| s.bad == worst).unwrap();
    let (&(_, who), _) = stretch.parts.iter().max_by_key(|(_, part)| part.ticks).unwrap();
    let Actor::Task(who) = who else { panic!("{who:?}") };
    assert_eq!(figures.name(Thing::Task(who), Some(&image)), "wave_estimator");
    let total: u64 = stretch.parts.values().map(|part| part.ticks).sum();
    let all = worst.ended.latest - worst.requested.unwrap().latest;
    assert_eq!(total, all, "the parts are all of it");
}

#[test]
fn loss_makes_up_no_activation() {
    let setup = Setup { link_bit_rate: 3_000_000, link_buffer: 96, ..Setup::default() };
    let truth = run(setup, 0.9);
    let (figures, order) = measured(&truth.bytes);
    assert!(figures.gaps > 30, "{}", figures.gaps);
    // Which pointer is which task: as most turns say.
    let led_to = |task: u32| {
        let turn = order.turns.iter().find(|turn| turn.task == task).unwrap();
        let before = truth.switches.partition_point(|(at, _)| *at <= turn.spell.from.latest);
        truth.switches[before - 1].1
    };
    let mut found = 0;
    for row in figures.rows().filter(|row| row.activations > 0) {
        let pointer = led_to(row.task);
        for bad in row.each.iter().flatten() {
            // It began just after a switch to this task, and ended just before one away from it.
            let starts = truth.switches.iter().any(|&(at, to)| {
                to == pointer && at <= bad.began.latest && bad.began.earliest <= at + 40
            });
            let ends = truth.switches.windows(2).any(|pair| {
                let (at, from) = (pair[1].0, pair[0].1);
                from == pointer && bad.ended.earliest <= at && at <= bad.ended.latest + 400
            });
            assert!(starts && ends, "task {} was never active so: {bad:?}", row.task);
            found += 1;
        }
    }
    assert!(found > 50, "{found}");
}

#[test]
fn states_and_stacks_are_told() {
    let truth = run(wide_link(3), 0.9);
    let (figures, _) = measured(&truth.bytes);
    let image = Image::parse(FIRMWARE).unwrap();
    let named: BTreeMap<String, _> = figures
        .rows()
        .map(|row| (figures.name(Thing::Task(row.task), Some(&image)), row))
        .collect();
    let names: Vec<&str> = named.keys().map(String::as_str).collect();
    assert_eq!(names, ["housekeeping", "idle", "telemetry", "wave_estimator"]);
    let estimator = named["wave_estimator"];
    assert_eq!(estimator.stack.extent.unwrap().1, 1024);
    assert!((64..1024).contains(&estimator.stack.used.unwrap()), "{:?}", estimator.stack);
    assert!(estimator.states.contains_key(&State::Waits(Some(1))), "{:?}", estimator.states);
    assert_eq!(figures.name(Thing::Object(1), Some(&image)), "block_ready");
    assert!(named["housekeeping"].states[&State::Sleeps] > 20_000_000);
    assert!(named["idle"].yielded == 0 && named["idle"].preempted > 50);
    let period = named["housekeeping"].period.mean().unwrap();
    assert!((period.middle() / 47_972.352 - 40.0).abs() < 0.01, "{period:?}");
}

#[test]
fn the_kernels_variable_tells_whose_turn_it_is() {
    let truth = run(wide_link(3), 0.4);
    let variables = Variables::parse(FIRMWARE).unwrap();
    let name_of = |task| variables.name_at(u64::from(task)).unwrap();
    let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
    let settings = Settings { keep: 0, window: 4_797_235, each: false };
    let mut sinks = (Tracking::new(TaskFigures::new(settings)), Tracking::new(Order::default()));
    let mut line = Line::new(&stream, Origin(0));
    let mut current = CurrentTask::new(Some(0), name_of, &mut sinks);
    line.push(&truth.bytes, &mut (), &mut current);
    line.finish(&mut (), &mut current);
    let (figures, order) = (sinks.0.finish(), sinks.1.finish());
    assert!(figures.are_turns());
    assert_eq!(order.turns.len() + 1, truth.switches.len(), "the last turn has no end");
    for (turn, (cycle, pointer)) in order.turns.iter().zip(&truth.switches) {
        assert_eq!(turn.task, *pointer);
        let apart = turn.spell.from.latest.abs_diff(*cycle);
        assert!(apart < 40, "{apart} cycles from the switch");
    }
    let mut names: Vec<String> =
        figures.rows().map(|row| figures.name(Thing::Task(row.task), None)).collect();
    names.sort();
    assert_eq!(names, ["estimator", "housekeeping", "idle_task", "telemetry"]);
    // All of thread mode is somebody's, but for the way into the switch.
    let thread: u64 = thread_mode(&truth.machine).iter().map(|(from, until)| until - from).sum();
    let busy: u64 = figures.rows().map(|row| row.busy).sum();
    assert!(busy <= thread && thread - busy < thread / 50, "{busy} {thread}");
}

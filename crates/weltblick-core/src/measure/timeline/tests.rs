use super::*;
use crate::event::{Event, LossReason, Name, Origin, Position, Sink, Statement, Stop, Thing};
use crate::measure::statistic::Scale;
use crate::point::{End, Occurrence, Subject, Which};
use crate::time::{Frequency, Window};

fn at(time: u64) -> Position {
    Position::new(Origin(0), time, Some(Window::exact(time)))
}

/// An interrupt that is interrupted, two tasks, a span, an object, a loss.
fn story() -> Vec<(u64, Event)> {
    let stated = Event::Stated;
    let named = |thing, name: &str| stated(Statement::Named(thing, Name::Told(name.into())));
    let runs = |task| stated(Statement::Runs { task, stack_pointer: None });
    vec![
        (0, named(Thing::Task(1), "filter")),
        (0, named(Thing::Span(4), "frame")),
        (10, runs(2)),
        (20, stated(Statement::SpanBegan { span: 4 })),
        (100, Event::Entered { exception: 16 }),
        (110, stated(Statement::Ready { task: 1 })),
        (120, Event::Entered { exception: 17 }),
        (130, Event::Left { exception: 17 }),
        (132, Event::Resumed { exception: 16 }),
        (150, Event::Left { exception: 16 }),
        (152, Event::Resumed { exception: 0 }),
        (160, runs(1)),
        (170, stated(Statement::Takes { object: 3 })),
        (200, stated(Statement::Stops { task: 1, why: Stop::Waits(3) })),
        (210, runs(2)),
        (220, stated(Statement::SpanEnded { span: 4 })),
        (300, Event::Lost { bytes: 0..0, why: LossReason::Overflow }),
    ]
}

fn gathered(window: Option<(u64, u64)>) -> Gather<'static> {
    let mut gather = Gather::new(1.0, None, window);
    for (time, event) in story() {
        gather.event(at(time), &event);
    }
    gather.finish();
    gather
}

fn context() -> Context<'static> {
    Context {
        image: None,
        scale: Scale::of(Frequency::from_hertz(1e9).unwrap(), None),
        values: &[],
    }
}

fn told(gather: &Gather<'_>) -> Vec<(u64, String)> {
    let shown: Vec<&Entry> = gather.entries.iter().collect();
    let rows = entries(gather, &shown, &context());
    rows.iter().map(|row| (row.time_ns as u64, format!("{} {}", row.lane, row.what))).collect()
}

#[test]
fn what_happens_is_told_in_order() {
    let told = told(&gathered(None));
    let expected = [
        (10, "task 2 runs"),
        (20, "frame begins"),
        (100, "interrupt 0 starts"),
        (110, "filter ready"),
        (120, "interrupt 1 starts"),
        (130, "interrupt 1 ends"),
        (150, "interrupt 0 ends"),
        (160, "task 2 pre-empted"),
        (160, "filter runs"),
        (170, "object 3 taken"),
        (200, "filter waits for object 3"),
        (210, "task 2 runs"),
        (220, "frame ends"),
        (300, "[recording] something is missing before this"),
    ];
    let told: Vec<(u64, &str)> = told.iter().map(|(at, what)| (*at, what.as_str())).collect();
    assert_eq!(told, expected);
}

#[test]
fn lanes_say_how_much_of_the_time_they_ran() {
    let gather = gathered(None);
    let lanes =
        [LaneKey::Interrupt(0, 16), LaneKey::Interrupt(0, 17), LaneKey::Task(1), LaneKey::Span(4)];
    let report = report(&gather, &lanes, (0, 300), 30, &context());
    let ran = |lane: usize| -> f64 { report.lanes[lane].cells.iter().map(|cell| cell.runs).sum() };
    // 20 and 18 ticks of the first handler, 10 of the second, 40 of the task, 200 of the span.
    for (lane, ticks) in [(0, 38.0), (1, 10.0), (2, 40.0), (3, 200.0)] {
        assert!((ran(lane) * 10.0 - ticks).abs() < 1.0, "{lane}: {}", ran(lane));
    }
    let cells = &report.lanes[0].cells;
    assert!(cells[12].preempted > 0.9 && cells[12].runs == 0.0, "{:?}", cells[12]);
    // Ready from 110 to 160, and it waited for nothing before.
    assert!((11..16).all(|at| report.lanes[2].cells[at].wants == 1.0), "{:?}", report.lanes[2]);
    assert_eq!(report.gaps.len(), 1);
}

#[test]
fn a_window_clips_what_reaches_into_it() {
    let gather = gathered(Some((115, 165)));
    let times: Vec<u64> = gather.entries.iter().map(|entry| entry.time.latest).collect();
    assert_eq!(times, [120, 130, 150, 160, 160]);
    let inside = |piece: &Piece| piece.from.latest >= 115 && piece.until.latest <= 165;
    assert!(gather.pieces.iter().all(inside), "{:?}", gather.pieces);
    let span = gather.pieces.iter().find(|piece| piece.lane == LaneKey::Span(4)).unwrap();
    assert_eq!((span.from.latest, span.until.latest), (115, 165));
    assert!(gather.gaps.is_empty());
}

#[test]
fn points_are_found() {
    let find = |mut seek: Seek| {
        story().iter().for_each(|(time, event)| seek.event(at(*time), event));
        (seek.found().map(|window| window.latest), seek.seen())
    };
    let occurrence = |target, which, end| find(Seek::occurrence(target, which, end));
    assert_eq!(find(Seek::new(Target::Event(Some(4)))).0, Some(100));
    assert_eq!(find(Seek::new(Target::Event(None))).0, Some(300));
    assert_eq!(find(Seek::new(Target::Byte(Origin(0), 125))).0, Some(130));
    let handler = Target::Interrupt(16);
    assert_eq!(occurrence(handler, Which::Number(0), End::Begin), (Some(100), 1));
    assert_eq!(occurrence(handler, Which::Last, End::End), (Some(150), 1));
    assert_eq!(occurrence(handler, Which::Number(1), End::End), (None, 1));
    assert_eq!(occurrence(Target::Task(1), Which::First, End::Begin).0, Some(160));
    assert_eq!(occurrence(Target::Task(1), Which::First, End::End).0, Some(200));
    assert_eq!(occurrence(Target::Span(4), Which::First, End::End).0, Some(220));
    let mut names = Names::default();
    story().iter().for_each(|(time, event)| names.event(at(*time), event));
    let called = |subject, name: &str| {
        let name = name.to_owned();
        let wanted = Occurrence { subject, name, which: Which::First, end: End::Begin };
        names.find(&wanted, |_| None)
    };
    assert_eq!(called(Subject::Task, "filter"), Some(1));
    assert_eq!(called(Subject::Span, "filter"), None);
    assert_eq!(called(Subject::Span, "7"), Some(7));
}

/// Whoever begins in the middle does not count what ended before anything has a time.
#[test]
fn the_first_run_that_counts_is_the_first_with_a_time() {
    let handler = Target::Interrupt(16);
    let run = |number: u64, timed: bool| {
        [
            Event::Entered { exception: 16 },
            Event::Left { exception: 16 },
            Event::Resumed { exception: 0 },
        ]
        .into_iter()
        .zip([0, 30, 32])
        .map(move |(event, after)| {
            let position = at(1000 * number + after);
            let time = position.time.filter(|_| timed);
            (Position { time, ..position }, event)
        })
    };
    let find = |mut seek: Seek| {
        let untimed = (1..4).flat_map(|number| run(number, false));
        for (position, event) in untimed.chain((4..8).flat_map(|number| run(number, true))) {
            seek.event(position, &event);
        }
        let first = seek.first_ended().map(|window| window.latest);
        (seek.found().map(|window| window.latest), seek.seen(), first)
    };
    let second = Seek::occurrence(handler, Which::Number(1), End::Begin);
    assert_eq!(find(second), (None, 7, None));
    let second = Seek::occurrence(handler, Which::Number(1), End::Begin).from_first_time();
    assert_eq!(find(second), (Some(5000), 4, Some(4030)));
    let last = Seek::occurrence(handler, Which::Last, End::End).from_first_time();
    assert_eq!(find(last), (Some(7030), 4, Some(4030)));
}

#[test]
fn searching_lands_on_the_next_or_the_one_before() {
    let gather = gathered(None);
    let name = |lane| context().name(&gather, lane);
    let find = |wanted: &str, tick, forwards| {
        let wanted: Wanted = wanted.parse().unwrap();
        wanted.find(&gather.entries, tick, forwards, &name).map(|entry| entry.time.latest)
    };
    assert_eq!(find("task:filter", 0, true), Some(160));
    assert_eq!(find("task:filter", 160, true), None);
    assert_eq!(find("task", 160, true), Some(210));
    assert_eq!(find("irq", 300, false), Some(120));
    assert_eq!(find("object:object 3", 0, true), Some(170));
    assert_eq!(find("lost", 0, true), Some(300));
    assert!("interrupt:x".parse::<Wanted>().unwrap_err().contains("write irq, task"));
}

#[test]
fn by_events_each_takes_the_same_space() {
    let gather = gathered(None);
    let moments = gather.entries.iter().map(|entry| entry.time.latest).collect();
    let spacing = Spacing::new(moments);
    assert_eq!(spacing.steps(), 13);
    let places: Vec<u64> = [20, 100, 110, 300].map(|tick| spacing.place(tick)).to_vec();
    assert_eq!(places, [1024, 2048, 3072, 12 * 1024]);
    assert_eq!(spacing.place(105), 2560);
    assert_eq!((spacing.tick(0.0), spacing.tick(1.0)), (Some(10), Some(300)));
    let cells = spacing.cells(&gather.pieces, std::iter::empty(), 12);
    // From its start to its end are ten of twelve steps.
    let span: Vec<bool> = cells[&LaneKey::Span(4)].iter().map(|cell| cell.runs > 512).collect();
    assert_eq!(span.iter().filter(|ran| **ran).count(), 10, "{span:?}");
}

/// Runs of a handler that begin at these ticks.
fn handler(begins: impl Iterator<Item = u64>) -> Gather<'static> {
    let mut gather = Gather::new(1.0, None, None);
    for begin in begins {
        for (time, event) in [
            (begin, Event::Entered { exception: 16 }),
            (begin + 20, Event::Left { exception: 16 }),
            (begin + 22, Event::Resumed { exception: 0 }),
        ] {
            gather.event(at(time), &event);
        }
    }
    gather.finish();
    gather
}

#[test]
fn a_periodic_handler_that_starts_late_was_pending() {
    let late = |n: u64| if n == 50 { 300 } else { 0 };
    let gather = handler((1..100).map(|n| 1000 * n + late(n)));
    let wants = gather.pieces.iter().filter(|piece| piece.doing == Doing::Wants);
    let wants: Vec<(u64, u64)> = wants.map(|p| (p.from.latest, p.until.latest)).collect();
    assert_eq!(wants, [(50_000, 50_300)]);
    // Of what has no period nothing tells when it was due.
    let chaos = handler((1..100).map(|n| 1000 * n + n * n * 7919 % 900));
    assert!(chaos.pieces.iter().all(|piece| piece.doing != Doing::Wants));
}

#[test]
fn calls_are_kept_by_name_where_they_are_long_and_counted_all() {
    use crate::image::FunctionId;
    use crate::measure::execution::{Named, OnStack};
    let mut gather = gathered(Some((100, 300)));
    let window = |from, until| [from, until].map(Window::exact);
    // One that began before the window, one in it, a short one, and one outside.
    for (depth, [from, until]) in
        [(0, window(20, 180)), (1, window(120, 160)), (1, window(170, 172)), (0, window(310, 320))]
    {
        gather.called(OnStack { depth, function: Named(Some(FunctionId(3))), from, until }, 10);
    }
    let kept: Vec<_> =
        gather.calls.iter().map(|call| (call.depth, call.from.latest, call.until.latest)).collect();
    assert_eq!(kept, [(0, 100, 180), (1, 120, 160)]);
    let keys = [LaneKey::Call(0), LaneKey::Call(1)];
    let report = report(&gather, &keys, (100, 300), 20, &context());
    assert_eq!(report.lanes[1].name, "calls 2");
    assert_eq!((report.lanes[0].calls.len(), report.lanes[1].calls[0].from_ns), (1, 120.0));
    let there: f64 = report.lanes[1].cells.iter().map(|cell| cell.runs * 10.0).sum();
    assert!((there - 42.0).abs() < 2.0, "{there}");
}

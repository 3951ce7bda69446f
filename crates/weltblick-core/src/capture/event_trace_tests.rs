//! Several files to one stream of events.

use super::event_trace::EventTrace;
use super::manifest::CtfSettings;
use crate::document::{At, Source};
use crate::event::{Event, LossReason, Meaning, Means, Origin, Part, Position, Sink, Statement};
use crate::time::Window;
use crate::wire::ctf::Damage;
use proptest::prelude::*;

const METADATA: &str = "
    clock { name = a; freq = 1000000; };
    clock { name = b; freq = 2000000; offset = 2000; precision = 4; };
    typealias integer { size = 8; align = 8; } := u8;
    typealias integer { size = 32; align = 8; map = clock.a.value; } := a_t;
    typealias integer { size = 32; align = 8; map = clock.b.value; } := b_t;
    trace { major = 1; minor = 8; byte_order = le; packet.header := struct { u8 stream_id; }; };
    stream { id = 0; event.header := struct { u8 id; a_t timestamp; }; };
    stream { id = 1; event.header := struct { u8 id; b_t timestamp; }; };
    event { name = run; id = 0; stream_id = 0; fields := struct { u8 task; }; };
    event { name = in; id = 1; stream_id = 0; fields := struct { u8 line; }; };
    event { name = out; id = 2; stream_id = 0; fields := struct { u8 line; }; };
    event { name = run; id = 0; stream_id = 1; fields := struct { u8 task; }; };
";

fn trace() -> EventTrace {
    trace_of(METADATA)
}

fn trace_of(metadata: &str) -> EventTrace {
    let at = |text: &str| At { value: text.to_owned(), span: 0..0 };
    let meaning = |event: &str, means, part, field: &str| Meaning {
        event: at(event),
        means,
        parts: vec![(part, at(field))],
        called: None,
        only: None,
    };
    let meanings = vec![
        meaning("run", Means::TaskRuns, Part::Task, "task"),
        meaning("in", Means::InterruptEntered, Part::Interrupt, "line"),
        meaning("out", Means::InterruptLeft, Part::Interrupt, "line"),
    ];
    let settings = CtfSettings { meanings, ..CtfSettings::default() };
    EventTrace::new("metadata", metadata, &settings, Source::new("capture.toml", "")).unwrap()
}

/// A file of one stream: kinds, times, what they are about.
fn file(stream: u8, events: &[(u8, u32, u8)]) -> Vec<u8> {
    let mut bytes = vec![stream];
    for (id, at, field) in events {
        bytes.push(*id);
        bytes.extend(at.to_le_bytes());
        bytes.push(*field);
    }
    bytes
}

#[derive(Default)]
struct Heard(Vec<(Option<Window>, Event)>);

impl Sink for Heard {
    fn event(&mut self, position: Position, event: &Event) {
        self.0.push((position.time, event.clone()));
    }
}

/// Reads files side by side, `cut` bytes at a time.
fn read(files: &[Vec<u8>], cut: usize) -> Vec<(Option<Window>, Event)> {
    let trace = trace();
    let starts: Vec<u64> = files
        .iter()
        .scan(0, |end, file| Some(std::mem::replace(end, *end + file.len() as u64)))
        .collect();
    let mut reading = trace.reading(Origin(0), &starts, 0);
    let mut left: Vec<_> = files.iter().map(|file| file.chunks(cut)).collect();
    let mut heard = Heard::default();
    while let Some(wanted) = reading.wants() {
        match left[wanted].next() {
            Some(bytes) => reading.push(wanted, bytes, &mut heard),
            None => reading.finish_file(wanted, &mut heard),
        }
    }
    heard.0
}

fn runs(task: u32) -> Event {
    Event::Stated(Statement::Runs { task, stack_pointer: None })
}

/// The tasks that ran, with their times.
fn turns(heard: &[(Option<Window>, Event)]) -> Vec<(u64, u32)> {
    let turn = |(time, event): &(Option<Window>, Event)| match event {
        Event::Stated(Statement::Runs { task, .. }) => Some((time.unwrap().latest, *task)),
        _ => None,
    };
    heard.iter().filter_map(turn).collect()
}

proptest! {
    #[test]
    fn events_of_all_files_come_in_the_order_of_their_times(
        steps in prop::collection::vec(prop::collection::vec(0_u32..50, 0..60), 1..5),
        cut in 1_usize..40,
    ) {
        let mut expected = Vec::new();
        let mut files = Vec::new();
        for (task, steps) in steps.iter().enumerate() {
            let mut now = 10;
            let events: Vec<(u8, u32, u8)> = steps
                .iter()
                .map(|step| {
                    now += step;
                    (0, now, task as u8)
                })
                .collect();
            expected.extend(events.iter().map(|(_, at, task)| (u64::from(*at), u32::from(*task))));
            files.push(file(0, &events));
        }
        // At the same time files come in their order; within one its own order stays.
        expected.sort();
        prop_assert_eq!(turns(&read(&files, cut)), expected);
    }

    #[test]
    fn any_bytes_do_no_harm(
        files in prop::collection::vec(prop::collection::vec(0_u8..4, 0..200), 1..4),
        cut in 1_usize..40,
    ) {
        let heard = read(&files, cut);
        prop_assert_eq!(read(&files, usize::MAX).len(), heard.len(), "where it was cut");
    }
}

#[test]
fn what_handlers_resume_is_added() {
    let events =
        [(0, 5, 7), (1, 10, 3), (1, 20, 4), (2, 30, 4), (2, 40, 3), (1, 50, 3), (2, 60, 3)];
    let heard: Vec<Event> =
        read(&[file(0, &events)], 3).into_iter().map(|(_, event)| event).collect();
    let (entered, left) =
        (|exception| Event::Entered { exception }, |exception| Event::Left { exception });
    let resumed = |exception| Event::Resumed { exception };
    assert_eq!(
        heard,
        [
            resumed(0), // a task runs: that is thread mode
            runs(7),
            entered(19),
            entered(20),
            left(20),
            resumed(19),
            left(19),
            resumed(0),
            entered(19),
            left(19),
            resumed(0),
        ]
    );
}

#[test]
fn clocks_are_brought_to_the_first_one() {
    let heard = read(&[file(0, &[(0, 1040, 1), (0, 1060, 1)]), file(1, &[(0, 100, 2)])], 64);
    // 100 and 2000 ticks at 2 MHz are 1050 at 1 MHz, give or take 4 ticks of its own.
    let other = heard.iter().find(|(_, event)| *event == runs(2)).unwrap();
    let window = other.0.unwrap();
    assert!(window.earliest <= 1050 && window.latest >= 1050, "{window:?}");
    assert!(window.latest - window.earliest <= 8, "{window:?}");
    let order: Vec<u32> = turns(&heard).into_iter().map(|(_, task)| task).collect();
    assert_eq!(order, [1, 2, 1]);
}

#[test]
fn files_that_end_early_and_unknown_events_are_losses() {
    let why = |files: &[Vec<u8>]| -> Vec<LossReason> {
        let lost = |(_, event): (Option<Window>, Event)| match event {
            Event::Lost { why, .. } => Some(why),
            _ => None,
        };
        read(files, 5).into_iter().filter_map(lost).collect()
    };
    let whole = file(0, &[(0, 5, 1), (0, 9, 2)]);
    assert_eq!(why(std::slice::from_ref(&whole)), []);
    let cut = whole[..whole.len() - 2].to_vec();
    // The clock has 32 bits at 1 MHz: it may have wrapped meanwhile, unseen.
    assert_eq!(why(&[cut]), [LossReason::EventTraceSlip]);
    assert_eq!(why(&[file(9, &[])]), [LossReason::EventTraceSlip]);
    let unknown = file(0, &[(0, 5, 1), (7, 9, 2)]);
    assert_eq!(why(&[unknown]), [LossReason::EventTraceSlip]);
}

#[test]
fn while_one_file_lacks_something_nothing_has_a_duration() {
    let bad = file(0, &[(0, 5, 1), (7, 6, 0)]);
    let good = file(0, &[(0, 4, 2), (0, 10, 3), (0, 20, 4)]);
    let heard = read(&[bad, good], 64);
    assert_eq!(turns(&heard), [(4, 2), (5, 1), (10, 3), (20, 4)]);
    for task in [3, 4] {
        let at = heard.iter().position(|(_, event)| *event == runs(task)).unwrap();
        assert!(
            heard[..at]
                .iter()
                .rev()
                .take_while(|(_, e)| !matches!(e, Event::Stated(_)))
                .any(|(_, event)| matches!(event, Event::Lost { .. })),
            "{heard:?}"
        );
    }
}

#[test]
fn times_that_go_back_are_a_loss_where_a_clock_is_too_wide_to_wrap() {
    const WIDE: &str = "
        clock { name = a; freq = 1000000; };
        typealias integer { size = 8; align = 8; } := u8;
        typealias integer { size = 64; align = 8; map = clock.a.value; } := a_t;
        trace { major = 1; minor = 8; byte_order = le; packet.header := struct { u8 stream_id; }; };
        stream { id = 0; event.header := struct { a_t timestamp; }; };
        event { name = run; id = 0; stream_id = 0; fields := struct { u8 task; }; };
    ";
    let at = |text: &str| At { value: text.to_owned(), span: 0..0 };
    let meaning = Meaning {
        event: at("run"),
        means: Means::TaskRuns,
        parts: vec![(Part::Task, at("task"))],
        called: None,
        only: None,
    };
    let settings = CtfSettings { meanings: vec![meaning], ..CtfSettings::default() };
    let trace =
        EventTrace::new("metadata", WIDE, &settings, Source::new("capture.toml", "")).unwrap();
    let mut bytes = vec![0];
    for (time, task) in [(100_u64, 1), (200, 2), (150, 3), (300, 4)] {
        bytes.extend(time.to_le_bytes());
        bytes.push(task);
    }
    let mut heard = Heard::default();
    let mut reading = trace.reading(Origin(0), &[0], 0);
    while reading.wants().is_some() {
        reading.push(0, &std::mem::take(&mut bytes), &mut heard);
        reading.finish_file(0, &mut heard);
    }
    let lost: Vec<usize> = (0..)
        .zip(&heard.0)
        .filter(|(_, (_, event))| matches!(event, Event::Lost { .. }))
        .map(|(at, _)| at)
        .collect();
    // It is told between the two, and no event is left out for it.
    assert_eq!(turns(&heard.0), [(100, 1), (200, 2), (150, 3), (300, 4)]);
    let back = heard.0.iter().position(|(_, event)| *event == runs(3)).unwrap();
    assert_eq!(lost, [back - 1], "{:?}", heard.0);
    let Event::Lost { why, .. } = &heard.0[back - 1].1 else { unreachable!() };
    assert_eq!(*why, LossReason::EventTrace(Damage::TimeWentBack));
}

/// Events of two cores are no events of one, unless the meanings ask for one of them.
#[test]
fn two_cores_are_noticed_where_no_meaning_asks_for_one() {
    let metadata = METADATA
        .replace("stream { id = 0;", "stream { id = 0; packet.context := struct { u8 cpu_id; };");
    let at = |text: &str| At { value: text.to_owned(), span: 0..0 };
    let two_cores = |only: &[Option<&str>], cores: [u8; 2]| {
        let meaning = |only: &Option<&str>| Meaning {
            event: at("in"),
            means: Means::InterruptEntered,
            parts: vec![(Part::Interrupt, at("line"))],
            called: None,
            only: only.map(|core: &str| (at("cpu_id"), core.to_owned())),
        };
        let meanings = only.iter().map(meaning).collect();
        let settings = CtfSettings { meanings, ..CtfSettings::default() };
        let source = Source::new("capture.toml", "");
        let trace = EventTrace::new("metadata", &metadata, &settings, source).unwrap();
        let mut reading = trace.reading(Origin(0), &[0, 7], 0);
        let mut heard = Heard::default();
        for (number, core) in cores.into_iter().enumerate() {
            let mut bytes = file(0, &[(1, 5, 2)]);
            bytes.insert(1, core);
            reading.push(number, &bytes, &mut heard);
            reading.finish_file(number, &mut heard);
        }
        reading.two_cores().cloned()
    };
    let found = two_cores(&[None], [0, 1]).unwrap();
    assert_eq!((found.event.as_str(), found.cores), ("in", [0, 1]));
    assert!(found.field.ends_with("cpu_id"), "{}", found.field);
    assert_eq!(two_cores(&[None], [1, 1]), None);
    assert_eq!(two_cores(&[Some("0")], [0, 1]), None);
    // Each asks for one, and together they take both.
    assert!(two_cores(&[Some("0"), Some("1")], [0, 1]).is_some());
}

/// A target that began anew: nothing says how long it was off.
#[test]
fn times_that_go_back_take_an_unknown_time_with_them() {
    assert!(LossReason::EventTrace(Damage::TimeWentBack).loses_bytes());
    // With 64 bits it is no wrap.
    let metadata = METADATA
        .replace("size = 32; align = 8; map = clock.a", "size = 64; align = 8; map = clock.a");
    let trace = trace_of(&metadata);
    let mut reading = trace.reading(Origin(0), &[0], 0);
    let mut bytes = vec![0];
    for (at, task) in [(900_u64, 1), (5, 2)] {
        bytes.push(0);
        bytes.extend(at.to_le_bytes());
        bytes.push(task);
    }
    let mut heard = Heard::default();
    reading.push(0, &bytes, &mut heard);
    reading.finish_file(0, &mut heard);
    let lost = heard.0.iter().any(|(_, event)| {
        matches!(event, Event::Lost { why, .. } if why.loses_bytes() && why.drops_events())
    });
    assert!(lost, "{:?}", heard.0);
}

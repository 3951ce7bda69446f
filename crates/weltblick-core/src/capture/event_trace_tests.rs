//! Several files to one stream of events.

use super::event_trace::EventTrace;
use super::manifest::CtfSettings;
use crate::document::{At, Source};
use crate::event::{
    Event, Lacking, LossReason, Meaning, Means, Origin, Part, Position, Sink, Statement,
};
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
        only: Vec::new(),
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
    let slip = |damage| LossReason::EventTraceSlip(Lacking::Bytes(damage));
    assert_eq!(why(&[cut]), [slip(Damage::CutOff)]);
    assert_eq!(why(&[file(9, &[])]), [slip(Damage::UnknownStream)]);
    let unknown = file(0, &[(0, 5, 1), (7, 9, 2)]);
    assert_eq!(why(&[unknown]), [slip(Damage::UnknownEvent)]);
    // It is told as what it is.
    assert_eq!(slip(Damage::CutOff).describe(), Damage::CutOff.describe());
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
        only: Vec::new(),
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

/// Metadata whose packets say of which core they are.
fn with_cores() -> String {
    METADATA
        .replace("stream { id = 0;", "stream { id = 0; packet.context := struct { u8 cpu_id; };")
}

/// A file of one core.
fn of_core(core: u8, events: &[(u8, u32, u8)]) -> Vec<u8> {
    let mut bytes = file(0, events);
    bytes.insert(1, core);
    bytes
}

/// What is heard of these files, whole: on which core, when, and what.
fn heard_of(metadata: &str, files: &[Vec<u8>]) -> Vec<(u8, Option<u64>, Event)> {
    #[derive(Default)]
    struct Cores(Vec<(u8, Option<u64>, Event)>);
    impl Sink for Cores {
        fn event(&mut self, position: Position, event: &Event) {
            let time = position.time.map(|time| time.latest);
            self.0.push((position.core, time, event.clone()));
        }
    }
    let trace = trace_of(metadata);
    let mut reading = trace.reading(Origin(0), &vec![0; files.len()], 0);
    let mut heard = Cores::default();
    for (number, bytes) in files.iter().enumerate() {
        reading.push(number, bytes, &mut heard);
    }
    for number in 0..files.len() {
        reading.finish_file(number, &mut heard);
    }
    heard.0
}

#[test]
fn each_core_has_handlers_of_its_own() {
    // The handler of core 1 is inside none of core 0.
    let files = [
        of_core(0, &[(0, 5, 7), (1, 10, 3), (2, 40, 3)]),
        of_core(1, &[(0, 6, 8), (1, 20, 4), (2, 30, 4)]),
    ];
    let heard = heard_of(&with_cores(), &files);
    let resumed = |core| {
        let mine = heard.iter().filter(move |(of, ..)| *of == core);
        mine.filter_map(|(_, time, event)| match event {
            Event::Resumed { exception } => Some((time.unwrap(), *exception)),
            _ => None,
        })
        .collect::<Vec<_>>()
    };
    assert_eq!(resumed(0), [(5, 0), (40, 0)]);
    assert_eq!(resumed(1), [(6, 0), (30, 0)]);
    assert!(!heard.iter().any(|(_, _, event)| *event == Event::SeveralCores));
}

#[test]
fn a_loss_concerns_the_core_of_its_file() {
    // The first file has an event of no known kind, and nothing behind it is read.
    let bad = of_core(0, &[(0, 5, 1), (7, 6, 0)]);
    let good = of_core(1, &[(0, 4, 2), (0, 10, 3), (0, 20, 4)]);
    let heard = heard_of(&with_cores(), &[bad, good]);
    let lost: Vec<u8> = heard
        .iter()
        .filter(|(_, _, event)| matches!(event, Event::Lost { .. }))
        .map(|(core, ..)| *core)
        .collect();
    assert_eq!(lost, [0]);
    // Where two files tell of one core, each of its events comes beside something that is missing: it counts once.
    let good = of_core(0, &[(0, 4, 2), (0, 10, 3), (0, 20, 4)]);
    let heard = heard_of(&with_cores(), &[of_core(0, &[(0, 5, 1), (7, 6, 0)]), good]);
    let lost: Vec<&Event> = heard
        .iter()
        .map(|(_, _, event)| event)
        .filter(|event| matches!(event, Event::Lost { .. }))
        .collect();
    let shared = Event::Lost { bytes: 0..0, why: LossReason::Shared };
    assert!(
        matches!(lost[..], [first, second, third]
        if *first != shared && *second == shared && *third == shared),
        "{lost:?}"
    );
}

#[test]
fn a_file_that_tells_of_no_core_may_be_any_of_them() {
    let heard = heard_of(
        &with_cores(),
        &[of_core(2, &[(0, 5, 1)]), of_core(3, &[(0, 6, 1)]), of_core(9, &[(7, 6, 0)])],
    );
    let lost: Vec<(u8, bool)> = heard
        .iter()
        .filter_map(|(core, _, event)| match event {
            Event::Lost { why, .. } => Some((*core, *why == LossReason::Shared)),
            _ => None,
        })
        .collect();
    // Counted once, on the first.
    assert!(lost.contains(&(2, false)) && lost.contains(&(3, true)), "{lost:?}");
    assert_eq!(lost.iter().filter(|(_, shared)| !shared).count(), 1, "{lost:?}");
}

#[test]
fn a_number_that_no_core_has_is_refused() {
    let metadata = METADATA.replace(
        "stream { id = 0;",
        "typealias integer { size = 32; align = 8; } := u32; stream { id = 0; packet.context := struct { u32 core_id; };",
    );
    let trace = trace_of(&metadata);
    let mut reading = trace.reading(Origin(0), &[0], 0);
    let mut bytes = file(0, &[(1, 5, 2)]);
    bytes.splice(1..1, 70_000_u32.to_le_bytes());
    reading.push(0, &bytes, &mut Heard::default());
    let strange = reading.strange_core().unwrap();
    assert_eq!((strange.event.as_str(), strange.number), ("in", 70_000));
    assert!(strange.field.ends_with("core_id"), "{}", strange.field);
}

#[test]
fn times_are_those_since_the_recording_began() {
    let mut trace = trace();
    let bytes = file(0, &[(0, 1000, 1), (0, 1005, 2)]);
    let mut first = trace.first();
    assert!(!first.push(&bytes), "it is found");
    assert_eq!(first.found, Some(1000));
    trace.begin_at(1000);
    let mut heard = Heard::default();
    let mut reading = trace.reading(Origin(0), &[0], 0);
    reading.push(0, &bytes, &mut heard);
    reading.finish_file(0, &mut heard);
    assert_eq!(turns(&heard.0), [(0, 1), (5, 2)]);
    assert_eq!(trace.offset(), 1000);
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

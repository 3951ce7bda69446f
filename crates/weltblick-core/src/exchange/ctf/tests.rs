//! What is written, read again: writer and reader share no code.

use super::*;
use crate::capture::EventTrace;
use crate::document::Source;
use crate::event::{Arguments, Bytes, Lacking, LossReason, Origin, Value};
use proptest::prelude::*;
use proptest::{option, prop_oneof};

type Dated = (Option<Window>, Event);

#[derive(Default)]
struct Heard(Vec<Dated>);

impl Sink for Heard {
    fn event(&mut self, position: Position, event: &Event) {
        self.0.push((position.time, event.clone()));
    }
}

fn written(events: &[Dated]) -> (Vec<u8>, u64, LeftOut) {
    let mut bytes = Vec::new();
    let mut writer = Writer::new(|_| None, |_, packet: &[u8]| bytes.extend_from_slice(packet));
    for (time, event) in events {
        writer.event(Position::new(Origin(0), 0, *time), event);
    }
    writer.finish();
    let (count, left_out) = (writer.written, writer.left_out);
    drop(writer);
    (bytes, count, left_out)
}

fn read(bytes: &[u8], cut: usize) -> Vec<Dated> {
    let text = metadata(Frequency::from_hertz(1e6).unwrap(), 0, Some("a \"buoy\"\n\u{1b}"));
    let manifest = Source::new("capture.toml", "");
    let trace = EventTrace::new("metadata", &text, &settings("events"), manifest).unwrap();
    let mut reading = trace.reading(Origin(0), &[0], 0);
    let mut heard = Heard::default();
    for piece in bytes.chunks(cut) {
        reading.push(0, piece, &mut heard);
    }
    reading.finish_file(0, &mut heard);
    assert_eq!(reading.counts().unclear, 0);
    heard.0
}

fn statement() -> impl Strategy<Value = Statement> {
    let number = || 0_u32..40;
    prop_oneof![
        (number(), option::of(any::<u8>()), option::of((any::<u64>(), 1_u32..)))
            .prop_map(|(task, priority, stack)| Statement::Created { task, priority, stack }),
        number().prop_map(|task| Statement::Ready { task }),
        (number(), option::of(any::<u64>()))
            .prop_map(|(task, stack_pointer)| Statement::Runs { task, stack_pointer }),
        (
            number(),
            prop_oneof![
                Just(Stop::Sleeps),
                number().prop_map(Stop::Waits),
                Just(Stop::WaitsForSomething),
                Just(Stop::Ended)
            ]
        )
            .prop_map(|(task, why)| Statement::Stops { task, why }),
        (number(), any::<u32>()).prop_map(|(task, bytes)| Statement::StackUsed { task, bytes }),
        number().prop_map(|object| Statement::Takes { object }),
        number().prop_map(|object| Statement::Gives { object }),
        number().prop_map(|span| Statement::SpanBegan { span }),
        number().prop_map(|span| Statement::SpanEnded { span }),
        (
            number(),
            prop_oneof![
                any::<i64>().prop_map(Number::Integer),
                (-1e30_f64..1e30).prop_map(Number::Float)
            ]
        )
            .prop_map(|(quantity, number)| Statement::Quantity { quantity, number }),
        any::<u32>().prop_map(|cycles_ago| Statement::Requested { cycles_ago }),
        (any::<u64>(), prop::collection::vec(any::<u32>(), 0..5)).prop_map(|(format, words)| {
            Statement::Text { format, arguments: Arguments::new(&words) }
        }),
    ]
}

fn access() -> impl Strategy<Value = Event> {
    let value = (prop::sample::select(vec![1_u8, 2, 4]), any::<u32>()).prop_map(|(size, bits)| {
        Value { bits: u64::from(bits) >> (32 - 8 * u32::from(size)), size }
    });
    (
        0_u8..16,
        option::of(1_u64..),
        option::of(any::<u16>()),
        option::of(value),
        option::of(prop_oneof![Just(Access::Read), Just(Access::Write)]),
    )
        .prop_map(|(watch, code, address, value, access)| Event::Accessed {
            watch,
            code,
            address,
            value,
            access,
        })
}

fn event() -> impl Strategy<Value = Event> {
    let exception = || 0_u16..512;
    prop_oneof![
        4 => statement().prop_map(Event::Stated),
        2 => access(),
        1 => (any::<u64>()).prop_map(|pc| Event::Sample { pc: pc & !1 }),
        1 => Just(Event::Asleep),
        1 => Just(Event::Unobservable),
        1 => Just(Event::Elsewhere),
        1 => exception().prop_map(|exception| Event::Entered { exception }),
        1 => exception().prop_map(|exception| Event::Left { exception }),
        1 => exception().prop_map(|exception| Event::Resumed { exception }),
        1 => (0_u32..32, any::<u32>(), 1_u8..=4).prop_map(|(port, word, len)| Event::Said {
            port,
            bytes: Bytes::from_word(word >> (32 - 8 * u32::from(len)), len),
        }),
        1 => Just(Event::Lost { bytes: 0..0, why: LossReason::Overflow }),
    ]
}

/// Events with times that never go back.
fn story() -> impl Strategy<Value = Vec<Dated>> {
    let one = (event(), 0_u64..100_000, 0_u64..500);
    prop::collection::vec(one, 1..400).prop_map(|steps| {
        let mut now = 1000;
        let dated = |(event, after, width): (Event, u64, u64)| {
            now += after;
            (Some(Window { earliest: now - width, latest: now }), event)
        };
        steps.into_iter().map(dated).collect()
    })
}

/// What must come back: a loss says no more than that something is missing, several say it once.
fn essence(events: &[Dated]) -> Vec<Option<&Dated>> {
    let is_lost = |event: &Event| matches!(event, Event::Lost { .. });
    let told = events.iter().map(|dated| (!is_lost(&dated.1)).then_some(dated));
    let mut told: Vec<Option<&Dated>> = told.collect();
    told.dedup_by(|a, b| a.is_none() && b.is_none());
    told
}

proptest! {
    #[test]
    fn what_was_written_is_read(events in story(), cut in 1_usize..5000) {
        let (bytes, count, left_out) = written(&events);
        let heard = read(&bytes, usize::MAX);
        prop_assert_eq!(essence(&heard), essence(&events));
        prop_assert_eq!(&read(&bytes, cut), &heard, "cut in {}s", cut);
        prop_assert_eq!(left_out, LeftOut::default());
        let lost = events.iter().filter(|(_, e)| matches!(e, Event::Lost { .. })).count();
        // Texts that were written at once are one event.
        prop_assert!(count as usize <= events.len() - lost);
    }
}

#[test]
fn each_core_writes_a_file_of_its_own() {
    let runs = |task| Event::Stated(Statement::Runs { task, stack_pointer: None });
    let story = [
        (0, 10, runs(1)),
        (3, 11, runs(2)),
        (3, 12, Event::Lost { bytes: 0..0, why: LossReason::Dropped }),
        (0, 13, Event::Stated(Statement::Preempted { task: 1 })),
        (0, 13, Event::Lost { bytes: 0..0, why: LossReason::Shared }),
        (3, 14, Event::Entered { exception: 20 }),
    ];
    let mut files = std::collections::BTreeMap::<u8, Vec<u8>>::new();
    let packet = |core, bytes: &[u8]| files.entry(core).or_default().extend_from_slice(bytes);
    let mut writer = Writer::new(|_| None, packet);
    for (core, tick, event) in &story {
        let position = Position { core: *core, ..Position::new(Origin(0), 0, at(*tick)) };
        writer.event(position, event);
    }
    writer.finish();
    drop(writer);
    assert_eq!(files.keys().copied().collect::<Vec<_>>(), [0, 3]);
    struct Cores(Vec<(u8, u64, Event)>);
    impl Sink for Cores {
        fn event(&mut self, position: Position, event: &Event) {
            let time = position.time.map_or(0, |time| time.latest);
            self.0.push((position.core, time, event.clone()));
        }
    }
    let text = metadata(Frequency::from_hertz(1e6).unwrap(), 1_700_000_000_000_007, None);
    let manifest = Source::new("capture.toml", "");
    let trace = EventTrace::new("metadata", &text, &settings("events"), manifest).unwrap();
    assert_eq!(trace.offset(), 1_700_000_000_000_007, "the clock keeps its offset");
    let mut reading = trace.reading(Origin(0), &[0, 1 << 20], 0);
    let mut heard = Cores(Vec::new());
    for (file, bytes) in files.values().enumerate() {
        reading.push(file, bytes, &mut heard);
    }
    (0..2).for_each(|file| reading.finish_file(file, &mut heard));
    let essence = |heard: &[(u8, u64, Event)]| -> Vec<(u8, Option<(u64, Event)>)> {
        let is_counted =
            |event: &Event| matches!(event, Event::Lost { why, .. } if *why != LossReason::Shared);
        heard
            .iter()
            .map(|(core, time, event)| {
                (*core, (!is_counted(event)).then(|| (*time, event.clone())))
            })
            .map(|(core, told)| match told {
                Some((time, Event::Lost { .. })) => (core, Some((time, Event::LeftOut))),
                told => (core, told),
            })
            .collect()
    };
    let mut expected = essence(&story);
    let mut heard = essence(&heard.0);
    // A gap lies where the events before it end.
    expected.sort_by_key(|(core, told)| (*core, told.is_none()));
    heard.sort_by_key(|(core, told)| (*core, told.is_none()));
    assert_eq!(heard, expected);
}

#[test]
fn what_was_written_at_once_stays_whole() {
    let said = |text: &[u8]| {
        let mut word = [0; 4];
        word[..text.len()].copy_from_slice(text);
        let bytes = Bytes::from_word(u32::from_le_bytes(word), text.len() as u8);
        Event::Said { port: 2, bytes }
    };
    let text = "Hochwasser überschritten\n".as_bytes();
    let mut events: Vec<Dated> = text.chunks(4).map(|piece| (at(10), said(piece))).collect();
    events.push((at(20), said(b"next")));
    let (bytes, count, _) = written(&events);
    assert_eq!(count, 2);
    assert_eq!(read(&bytes, 5), events);
    assert!(bytes.windows(text.len()).any(|window| window == text));
}

fn at(tick: u64) -> Option<Window> {
    Some(Window::exact(tick))
}

#[test]
fn names_that_came_early_begin_with_the_first_time() {
    let named =
        |name: &str| Event::Stated(Statement::Named(Thing::Task(3), Name::Told(name.into())));
    let runs = Event::Stated(Statement::Runs { task: 3, stack_pointer: None });
    let events = [(None, named("filter")), (at(70_000), runs.clone()), (None, named("fir"))];
    let (bytes, ..) = written(&events);
    let expected = [(at(70_000), named("filter")), (at(70_000), runs), (at(70_000), named("fir"))];
    assert_eq!(read(&bytes, 7), expected);
}

#[test]
fn what_has_no_time_leaves_a_gap_and_lost_time_is_told() {
    let events = [
        (at(10), Event::Asleep),
        (None, Event::Entered { exception: 16 }),
        (None, Event::Left { exception: 16 }),
        (at(20), Event::Asleep),
        (at(30), Event::Lost { bytes: 0..9, why: LossReason::Disconnected }),
        (at(40), Event::Asleep),
    ];
    let (bytes, _, left_out) = written(&events);
    assert_eq!(left_out, LeftOut { undated: 2, others: 0 });
    let heard = read(&bytes, usize::MAX);
    let reasons: Vec<LossReason> = heard
        .iter()
        .filter_map(|(_, event)| match event {
            Event::Lost { why, .. } => Some(*why),
            _ => None,
        })
        .collect();
    assert_eq!(
        reasons,
        [LossReason::Dropped, LossReason::Dropped, LossReason::EventTraceSlip(Lacking::Events)],
        "{heard:?}"
    );
    assert_eq!(heard.iter().filter(|(_, event)| *event == Event::Asleep).count(), 3);
}

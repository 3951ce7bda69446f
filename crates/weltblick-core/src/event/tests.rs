//! Times, pages and joined accesses, packet by packet.

use super::*;
use crate::time::Window;
use crate::wire::itm::tests::noisy_stream;
use crate::wire::itm::{self, Action, Decoder, Malformed, Packet, Relation, Sink as _};
use proptest::prelude::*;
use std::ops::Range;

#[derive(Default)]
struct Recorder(Vec<(Option<Window>, Event)>);

impl Sink for Recorder {
    fn event(&mut self, position: Position, event: &Event) {
        self.0.push((position.time, event.clone()));
    }
}

fn read(prescaler: u32, packets: &[Packet]) -> Vec<(Option<Window>, Event)> {
    let clock = ItmClock { prescaler, is_own: false, marks_port: None, dates_group: false };
    read_by(clock, packets)
}

fn read_by(clock: ItmClock, packets: &[Packet]) -> Vec<(Option<Window>, Event)> {
    let mut recorder = Recorder::default();
    let mut reader = ItmReader::new(Origin(0), clock);
    for (at, packet) in (0..).zip(packets) {
        reader.feeding(&mut recorder).packet(at..at + 1, *packet);
    }
    reader.finish(&mut recorder);
    recorder.0
}

fn time(ticks: u32, relation: Relation) -> Packet {
    Packet::LocalTime { ticks, relation }
}

const SAMPLE: Packet = Packet::PcSample { pc: 0x0800_0001 };
const SAMPLED: Event = Event::Sample { pc: 0x0800_0000 };

fn window(earliest: u64, latest: u64) -> Option<Window> {
    Some(Window { earliest, latest })
}

#[test]
fn a_timestamp_dates_the_packets_before_it() {
    let sync = Relation::Synchronous;
    let seen = read(1, &[SAMPLE, time(100, sync), Packet::Asleep, SAMPLE, time(50, sync), SAMPLE]);
    assert_eq!(
        seen,
        [
            (window(100, 100), SAMPLED),
            // Only the last packet before a timestamp is dated exactly.
            (window(100, 150), Event::Asleep),
            (window(150, 150), SAMPLED),
            // Nothing dates what follows the last timestamp.
            (None, SAMPLED),
        ]
    );
}

#[test]
fn a_timestamp_dates_its_group_where_the_source_is_known_to_mean_that() {
    let clock = ItmClock { prescaler: 1, is_own: false, marks_port: None, dates_group: true };
    let (sync, late) = (Relation::Synchronous, Relation::TimestampDelayed);
    let entered = Packet::Exception { number: 16, action: Action::Enter };
    let left = Packet::Exception { number: 16, action: Action::Exit };
    let windows = |packets: &[Packet]| -> Vec<Option<Window>> {
        read_by(clock, packets).into_iter().map(|(window, _)| window).collect()
    };
    let seen = windows(&[SAMPLE, time(100, sync), left, SAMPLE, time(50, sync)]);
    assert_eq!(seen, [window(100, 100), window(150, 150), window(150, 150)]);
    let seen = windows(&[SAMPLE, time(100, sync), left, SAMPLE, time(50, late)]);
    assert_eq!(seen, [window(100, 100), window(100, 150), window(100, 150)]);
    // What lies before a loss may have lacked a timestamp of its own.
    let seen = windows(&[SAMPLE, time(100, sync), left, Packet::Overflow, SAMPLE, time(50, sync)]);
    assert_eq!(seen[1..], [window(100, 150), window(100, 150), window(150, 150)]);
    // A handler takes time: the source does not mean that.
    let seen = read_by(clock, &[SAMPLE, time(100, sync), entered, left, time(50, sync)]);
    let fault = (window(150, 150), Event::ClockFault(ClockFault::NotOneTick));
    assert_eq!(seen[1].0, window(100, 150));
    assert_eq!(seen[3], fault);
}

#[test]
fn a_delay_widens_the_window_back_to_the_timestamp_before() {
    for relation in [Relation::TimestampDelayed, Relation::PacketDelayed, Relation::BothDelayed] {
        let seen = read(1, &[SAMPLE, time(10, Relation::Synchronous), SAMPLE, time(5, relation)]);
        assert_eq!(seen[1], (window(10, 15), SAMPLED), "{relation:?}");
    }
}

#[test]
fn a_prescaler_leaves_its_cycles_open() {
    let seen = read(16, &[SAMPLE, time(3, Relation::Synchronous)]);
    assert_eq!(seen, [(window(48, 63), SAMPLED)]);
}

#[test]
fn pages_reach_ports_beyond_31() {
    let page = Packet::Extension { hardware: false, value: 2 };
    let write = Packet::Stimulus { port: 5, size: crate::wire::itm::Size::Half, value: 0x4142 };
    let seen = read(1, &[write, page, write]);
    let said = |port| Event::Said { port, bytes: Bytes::from_word(0x4142, 2) };
    assert_eq!(seen, [(None, said(5)), (None, said(69))]);
    assert_eq!(Bytes::from_word(0x4142, 2).as_slice(), b"BA");
}

#[test]
fn the_parts_of_an_access_become_one_event() {
    let code = Packet::DataPc { comparator: 1, pc: 0x0800_0101 };
    let address = Packet::DataAddress { comparator: 1, offset: 0x20 };
    let value = |comparator| Packet::DataValue {
        comparator,
        write: true,
        size: crate::wire::itm::Size::Byte,
        value: 7,
    };
    let seen = read(1, &[code, address, value(1), value(1), code, value(2), SAMPLE, value(1)]);
    let accessed = |watch, code, address, value: bool| Event::Accessed {
        watch,
        code,
        address,
        value: value.then_some(Value { bits: 7, size: 1 }),
        access: value.then_some(Access::Write),
    };
    let events: Vec<Event> = seen.into_iter().map(|(_, event)| event).collect();
    assert_eq!(
        events,
        [
            accessed(1, Some(0x0800_0100), Some(0x20), true),
            accessed(1, None, None, true),
            accessed(1, Some(0x0800_0100), None, false),
            accessed(2, None, None, true),
            SAMPLED,
            accessed(1, None, None, true),
        ]
    );
}

#[test]
fn global_timestamps_are_pieced_together() {
    let mut reader = ItmReader::new(
        Origin(0),
        ItmClock { prescaler: 1, is_own: false, marks_port: None, dates_group: false },
    );
    let low =
        |bits, width| Packet::GlobalTimeLow { bits, width, clock_changed: false, wrapped: false };
    let mut feed = |packet| {
        reader.feeding(&mut Recorder::default()).packet(0..1, packet);
        reader.global()
    };
    assert_eq!(feed(low(5, 7)), None, "a short one completes nothing");
    assert_eq!(feed(low(0x0200_0001, 26)), Some(0x0200_0001));
    assert_eq!(feed(Packet::GlobalTimeHigh { bits: 3, width: 22 }), Some(3 << 26 | 0x0200_0001));
    assert_eq!(feed(low(0x7f, 7)), Some(3 << 26 | 0x0200_007f));
}

#[test]
fn a_clock_that_changes_is_a_fault_once_there_was_one() {
    let mut recorder = Recorder::default();
    let mut reader = ItmReader::new(
        Origin(0),
        ItmClock { prescaler: 1, is_own: false, marks_port: None, dates_group: false },
    );
    let changed = Packet::GlobalTimeLow { bits: 9, width: 26, clock_changed: true, wrapped: false };
    for _ in 0..2 {
        reader.feeding(&mut recorder).packet(0..1, changed);
    }
    reader.finish(&mut recorder);
    let told: Vec<Event> = recorder.0.into_iter().map(|(_, event)| event).collect();
    assert_eq!(told, [Event::ClockFault(ClockFault::Changed)]);
}

#[test]
fn a_loss_leaves_what_waited_undated_and_slips_time() {
    let mut recorder = Recorder::default();
    let mut reader = ItmReader::new(
        Origin(0),
        ItmClock { prescaler: 1, is_own: false, marks_port: None, dates_group: false },
    );
    let mut decoder = Decoder::new();
    // A sample, a timestamp of 10, a sample, a reserved header.
    decoder.push(
        &[0x17, 0, 0, 0, 8, 0xc0, 10, 0x17, 0, 0, 0, 8, 0x80, 0, 0],
        &mut reader.feeding(&mut recorder),
    );
    assert!(!reader.slipped());
    decoder.finish(&mut reader.feeding(&mut recorder));
    assert!(reader.slipped());
    reader.finish(&mut recorder);
    let why = LossReason::Malformed(crate::wire::itm::Malformed::ReservedHeader);
    assert_eq!(
        recorder.0,
        [
            (window(10, 10), SAMPLED),
            (None, SAMPLED),
            (window(10, 10), Event::Lost { bytes: 12..15, why }),
        ]
    );
}

#[test]
fn a_stream_without_timestamps_holds_little() {
    let mut recorder = Recorder::default();
    let mut reader = ItmReader::new(
        Origin(0),
        ItmClock { prescaler: 1, is_own: false, marks_port: None, dates_group: false },
    );
    for at in 0..10_000 {
        reader.feeding(&mut recorder).packet(at..at + 1, SAMPLE);
    }
    assert!(recorder.0.len() > 8_000, "most have been handed on: {}", recorder.0.len());
    reader.finish(&mut recorder);
    assert_eq!(recorder.0.len(), 10_000);
}

#[test]
fn polls_happen_between_request_and_answer() {
    use super::PollReader;
    use crate::time::Window;
    use crate::wire::poll::Decoder;

    #[derive(Default)]
    struct Seen(Vec<(Option<Window>, Event)>);
    impl Sink for Seen {
        fn event(&mut self, position: Position, event: &Event) {
            self.0.push((position.time, event.clone()));
        }
    }

    let text = "n 3 2 s 20000000 pair\np 10 20 8000101\nz 30 35\nv 40 50 3 01000200\nl 60 70 2 999\nrubbish\n";
    let (mut reader, mut seen) = (PollReader::new(Origin(0)), Seen::default());
    let mut decoder = Decoder::new();
    decoder.push(text.as_bytes(), &mut reader.feeding(&mut seen));
    decoder.finish(&mut reader.feeding(&mut seen));
    let window = |earliest, latest| Some(Window { earliest, latest });
    let element = |index, bits| Event::Accessed {
        watch: 3,
        code: None,
        address: Some(index),
        value: Some(Value { bits, size: 2 }),
        access: None,
    };
    let lost = Event::Lost { bytes: 79..87, why: LossReason::NoRecord };
    let watches = Statement::Watches {
        watch: 3,
        address: 0x2000_0000,
        size: 2,
        kind: crate::wire::poll::Kind::Signed,
        name: "pair".into(),
    };
    assert_eq!(
        seen.0,
        [
            (None, Event::Stated(watches)),
            (window(10, 20), Event::Sample { pc: 0x0800_0100 }),
            (window(30, 35), Event::Unobservable),
            (window(40, 50), element(0, 1)),
            (window(40, 50), element(1, 2)),
            (window(60, 70), Event::Lap { lap: 2, cycles: Some(999) }),
            (window(70, 70), lost),
        ]
    );
}

/// Packets one by one, as a decoder would tell them that looks at no two at once.
struct OneByOne<'a, S>(ItmEvents<'a, S>);

impl<S: Sink> itm::Sink for OneByOne<'_, S> {
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        self.0.packet(at, packet);
    }
    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.0.loss(at, why);
    }
}

/// Everything that a reader makes of a stream, whole or packet by packet.
fn read_bytes(bytes: &[u8], marks_port: Option<u32>, one_by_one: bool) -> Vec<(Position, Event)> {
    #[derive(Default)]
    struct All(Vec<(Position, Event)>);
    impl Sink for All {
        fn event(&mut self, position: Position, event: &Event) {
            self.0.push((position, event.clone()));
        }
    }
    let mut all = All::default();
    let mut reader = ItmReader::new(
        Origin(0),
        ItmClock { prescaler: 4, is_own: false, marks_port, dates_group: false },
    );
    let mut decoder = Decoder::new();
    if one_by_one {
        decoder.push(bytes, &mut OneByOne(reader.feeding(&mut all)));
        decoder.finish(&mut OneByOne(reader.feeding(&mut all)));
    } else {
        decoder.push(bytes, &mut reader.feeding(&mut all));
        decoder.finish(&mut reader.feeding(&mut all));
    }
    reader.finish(&mut all);
    all.0
}

proptest! {
    /// A packet and its timestamp are handed on together where they come together: that is a matter
    /// of speed, and of nothing else.
    #[test]
    fn what_comes_with_its_timestamp_reads_like_any_other(
        stream in noisy_stream(),
        marks in any::<bool>(),
    ) {
        let marks_port = marks.then_some(1);
        prop_assert_eq!(
            read_bytes(&stream, marks_port, false),
            read_bytes(&stream, marks_port, true)
        );
    }

    /// The same with what streams mostly hold: samples and exceptions, with timestamps or without.
    #[test]
    fn so_do_samples_and_exceptions(
        pieces in prop::collection::vec((0_u8..6, 0_u8..4, any::<u8>(), any::<u8>()), 0..300),
    ) {
        let mut stream = Vec::new();
        for (kind, timed, a, b) in pieces {
            match kind {
                0 => stream.extend([0x17, a, b, 0, 8]),
                1 => stream.extend([0x15, 0]),
                2 => stream.extend([0x15, 0xff]),
                3..=5 => stream.extend([0x0e, a, 0x10 * (kind - 2) | b & 1]),
                _ => {}
            }
            match timed {
                0 => stream.extend([0xc0, a & 0x7f]),
                1 => stream.extend([0xd0, a | 0x80, b & 0x7f]),
                2 => stream.push(0x20),
                _ => {}
            }
        }
        let whole = read_bytes(&stream, None, false);
        prop_assert_eq!(&whole, &read_bytes(&stream, None, true));
        let told = |event: &Event| !matches!(event, Event::Lost { .. });
        prop_assert!(whole.iter().all(|(_, event)| told(event)), "every packet is one");
    }
}

#[test]
fn exceptions_with_their_timestamps_are_exact_and_those_that_share_one_are_not() {
    let exception = |number, action| Packet::Exception { number, action };
    let sync = |ticks| time(ticks, Relation::Synchronous);
    assert_eq!(
        read(
            1,
            &[
                exception(16, Action::Enter),
                sync(100),
                exception(16, Action::Exit),
                SAMPLE,
                sync(40),
                exception(0, Action::Return),
                time(10, Relation::PacketDelayed),
            ]
        ),
        [
            (window(100, 100), Event::Entered { exception: 16 }),
            (window(100, 140), Event::Left { exception: 16 }),
            (window(140, 140), SAMPLED),
            (window(100, 150), Event::Resumed { exception: 0 }),
        ]
    );
}

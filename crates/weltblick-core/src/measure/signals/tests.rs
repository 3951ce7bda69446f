use super::*;
use crate::capture::{Manifest, SignalSpec};
use crate::event::{
    Access, Bytes, Event, LossReason, Number, Origin, Position, Sink, Statement, Thing, Value,
};
use crate::event::{Name, PollReader};
use crate::measure::known::Facts;
use crate::measure::recording::Recording;
use crate::measure::statistic::Scale;
use crate::time::{Frequency, Window};
use crate::wire::poll;
use proptest::prelude::*;

fn at(time: u64) -> Position {
    Position::new(Origin(0), time, Some(Window::exact(time)))
}

fn quantity(quantity: u32, value: f64) -> Event {
    Event::Stated(Statement::Quantity { quantity, number: Number::Float(value) })
}

fn loss() -> Event {
    Event::Lost { bytes: 0..0, why: LossReason::Overflow }
}

fn told(signals: &Signals<'_>, dictionary: &Dictionary<'_>) -> SignalReport {
    let scale = Scale::of(Frequency::from_hertz(1e9).unwrap(), None);
    let recording = Recording::default();
    let context = Context {
        image: None,
        dictionary,
        scale: &|_| Some(scale),
        polled: &|origin| origin == Origin(1),
        recording: &recording,
        ticks_per_cycle: 1.0,
        intrusive: false,
        facts: &Facts::default(),
    };
    report(signals, &context)
}

/// A number that gets another name means something else from then on.
#[test]
fn numbers_that_are_used_again_are_known() {
    let dictionary = Dictionary::default();
    let mut signals = Signals::new(&dictionary);
    let named = |number, name: &str| {
        Event::Stated(Statement::Named(Thing::Quantity(number), Name::Told(name.into())))
    };
    for (time, event) in [
        (1, named(1, "level")),
        (2, quantity(1, 5.0)),
        (3, named(2, "depth")),
        (4, quantity(2, 6.0)),
        (5, named(1, "level")),
        (6, named(2, "height")),
        (7, quantity(2, 7.0)),
    ] {
        signals.event(at(time), &event);
    }
    let reused: Vec<bool> =
        signals.list().iter().map(|signal| signals.is_reused(signal.key)).collect();
    assert_eq!(reused, [false, true]);
    // So are numbers of a poll.
    let watches = |name: &str| {
        let (size, kind) = (4, poll::Kind::Unsigned);
        Event::Stated(Statement::Watches { watch: 3, address: 64, size, kind, name: name.into() })
    };
    for (name, is_reused) in [("a", false), ("a", false), ("b", true)] {
        signals.event(at(9), &watches(name));
        let key = Key { origin: Origin(0), subject: Subject::Watch(3), access: None };
        assert_eq!(signals.is_reused(key), is_reused, "{name}");
    }
}

/// What happens to one quantity.
#[derive(Debug, Clone, Copy)]
enum Step {
    Value(u64, i32),
    Lost(u64),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        8 => (0_u64..1000, -5_i32..6).prop_map(|(wait, value)| Step::Value(wait, value)),
        1 => (0_u64..1000).prop_map(Step::Lost),
    ];
    prop::collection::vec(step, 1..200)
}

proptest! {
    /// Against a plain list of runs without a gap.
    #[test]
    fn figures_are_those_of_the_runs_between_gaps(steps in steps(), level in -6_i32..6) {
        let level = f64::from(level) + 0.5;
        let levels = vec![Level { signal: None, value: level }];
        let dictionary = Dictionary { levels, ..Dictionary::default() };
        let mut signals = Signals::new(&dictionary);
        let (mut now, mut runs) = (0, vec![Vec::new()]);
        for step in steps {
            match step {
                Step::Value(wait, value) => {
                    now += wait;
                    runs.last_mut().unwrap().push((now, f64::from(value)));
                    signals.event(at(now), &quantity(7, f64::from(value)));
                }
                Step::Lost(wait) => {
                    now += wait;
                    runs.push(Vec::new());
                    signals.event(at(now), &loss());
                }
            }
        }
        signals.finish();
        let all: Vec<f64> = runs.iter().flatten().map(|(_, value)| *value).collect();
        prop_assume!(!all.is_empty());
        let pairs: Vec<[(u64, f64); 2]> =
            runs.iter().flat_map(|run| run.windows(2).map(|pair| [pair[0], pair[1]])).collect();
        let report = told(&signals, &dictionary);
        let row = &report.signals[0];
        let value = row.value.as_ref().unwrap();
        prop_assert_eq!(&row.name, "quantity 7");
        prop_assert_eq!((row.count, value.count), (all.len() as u64, all.len() as u64));
        prop_assert_eq!(value.min.value, all.iter().copied().fold(f64::INFINITY, f64::min));
        prop_assert_eq!(value.max.value, all.iter().copied().fold(f64::NEG_INFINITY, f64::max));
        prop_assert_eq!(row.interval.count, pairs.len() as u64);
        let longest = pairs.iter().map(|[a, b]| b.0 - a.0).max();
        prop_assert_eq!(row.interval.max.map(|max| max.ns as u64), longest);
        let rise = pairs.iter().map(|[a, b]| b.1 - a.1).fold(0.0, f64::max);
        prop_assert_eq!(value.rise.as_ref().map_or(0.0, |step| step.value), rise);
        for row in &row.levels {
            let held = pairs.iter().filter(|[a, _]| a.1 == row.value).map(|[a, b]| b.0 - a.0);
            prop_assert_eq!(row.held.unwrap().ns as u64, held.sum::<u64>());
        }
        let crossed = &row.thresholds[0];
        let ups = pairs.iter().filter(|[a, b]| a.1 < level && b.1 > level).count() as u64;
        let downs = pairs.iter().filter(|[a, b]| a.1 > level && b.1 < level).count() as u64;
        prop_assert_eq!((crossed.up, crossed.down), (ups, downs));
        let above: u64 = pairs.iter().filter(|[a, _]| a.1 > level).map(|[a, b]| b.0 - a.0).sum();
        prop_assert_eq!(crossed.above.unwrap().ns as u64, above);
        let column_count: u64 = row.course.iter().map(|column| column.count).sum();
        prop_assert_eq!(column_count, all.len() as u64);
    }

    #[test]
    fn whatever_is_accessed_does_no_harm(
        events in prop::collection::vec(
            (any::<u8>(), prop::option::of(any::<u64>()), prop::option::of(any::<u16>()),
             prop::option::of((any::<u64>(), 1_u8..9)), 0_u8..3, any::<u64>()), 0..100),
    ) {
        let specs = [SignalSpec::watched(1, "a"), SignalSpec::watched(2, "b")];
        let mut watched = Vec::new();
        for (number, size) in [(1, 4), (2, 0)] {
            watched.push((number, std::sync::Arc::new(crate::image::Field::plain("x".into(), 3, size))));
        }
        let dictionary = Dictionary { specs: &specs, watched, ..Dictionary::default() };
        let mut signals = Signals::new(&dictionary);
        for (watch, code, address, value, way, time) in events {
            let value = value.map(|(bits, size)| Value { bits, size });
            let access = [None, Some(Access::Read), Some(Access::Write)][usize::from(way)];
            signals.event(at(time), &Event::Accessed { watch, code, address, value, access });
        }
        signals.finish();
        let _ = told(&signals, &dictionary);
    }
}

/// A variable of eight bytes is written in two words.
#[test]
fn two_halves_are_one_access_and_one_value() {
    let mut field = crate::image::Field::plain("seconds".into(), 0x2000_0008, 8);
    field.element.kind = crate::image::Kind::Signed;
    let dictionary =
        Dictionary { watched: vec![(0, std::sync::Arc::new(field))], ..Dictionary::default() };
    let mut signals = Signals::new(&dictionary);
    let mut write = |time: u64, address: u16, bits: u32| {
        let value = Some(Value { bits: u64::from(bits), size: 4 });
        let (code, access) = (Some(0x0800_0100), Some(Access::Write));
        let event = Event::Accessed { watch: 0, code, address: Some(address), value, access };
        signals.event(at(time), &event);
    };
    for (time, number) in [(100, -5_000_000_000_i64), (200, -1), (400, 7)] {
        write(time, 8, number as u32);
        write(time + 1, 12, (number >> 32) as u32);
    }
    write(500, 8, 1);
    signals.event(at(600), &loss());
    signals.finish();
    let report = told(&signals, &dictionary);
    let [row] = report.signals.as_slice() else { panic!("{report:#?}") };
    let value = row.value.as_ref().unwrap();
    assert_eq!((value.count, value.min.value, value.max.value), (3, -5e9, 7.0));
    assert_eq!((row.count, row.interval.count), (4, 3), "an access each, and one cut in half");
    assert_eq!((row.partial, row.interval.max.unwrap().ns), (1, 200.0));
    assert!(report.evidence.doubts.iter().any(|doubt| doubt.contains("capture --read")));
}

#[test]
fn polled_variables_are_called_what_the_stream_says() {
    let text = "n 0 2 s 20000010 trim\nn 1 2 u 20000020 wave\n\
                v 100 200 0 feff\nv 300 400 0 0300\nv 500 600 1 010002000300\n";
    let dictionary = Dictionary::default();
    let mut signals = Signals::new(&dictionary);
    let mut reader = PollReader::new(Origin(1));
    let mut decoder = poll::Decoder::new();
    decoder.push(text.as_bytes(), &mut reader.feeding(&mut signals));
    decoder.finish(&mut reader.feeding(&mut signals));
    signals.finish();
    let report = told(&signals, &dictionary);
    let [trim, wave] = report.signals.as_slice() else { panic!("{report:#?}") };
    assert_eq!((trim.name.as_str(), trim.source.as_str()), ("trim", "polled"));
    let value = trim.value.as_ref().unwrap();
    assert_eq!((value.min.value, value.max.value, trim.host_times), (-2.0, 3.0, true));
    let interval = trim.interval.max.unwrap();
    assert_eq!((interval.ns_low, interval.ns_high), (100.0, Some(300.0)));
    // Nothing says how long it is, so its elements are one value after the other.
    assert_eq!((wave.count, wave.value.as_ref().unwrap().max.value), (1, 3.0));
}

#[test]
fn printed_lines_tell_numbers() {
    let patterns = ["battery {mv} mV".parse().unwrap(), "{a}/{b}".parse().unwrap()];
    let captured = ["mv", "a", "b"].map(str::to_owned).to_vec();
    let dictionary = Dictionary { captured, ..Dictionary::default() };
    let mut signals = Signals::new(&dictionary);
    let mut reader = FromText::new(&patterns, None, &mut signals);
    for (time, text) in [(10, "battery 3700 mV, 1/2\n"), (20, "battery low\nbattery 3650 mV")] {
        for part in text.as_bytes().chunks(4) {
            let mut word = [0; 4];
            word[..part.len()].copy_from_slice(part);
            let bytes = Bytes::from_word(u32::from_le_bytes(word), part.len() as u8);
            reader.event(at(time), &Event::Said { port: 0, bytes });
        }
    }
    // The last line may go on: it tells nothing.
    signals.finish();
    let report = told(&signals, &dictionary);
    let rows: Vec<(&str, &str, u64)> =
        report.signals.iter().map(|r| (r.name.as_str(), r.source.as_str(), r.count)).collect();
    assert_eq!(rows, [("a", "text", 1), ("b", "text", 1), ("mv", "text", 1)]);
    assert_eq!(report.signals[2].value.as_ref().unwrap().last.value, 3700.0);
}

#[test]
fn a_name_that_comes_late_is_the_name_of_all() {
    let specs =
        [SignalSpec { scale: 0.001, unit: Some("V".into()), ..SignalSpec::named("battery") }];
    let levels = vec![Level { signal: Some("battery".into()), value: 3.5 }];
    let dictionary = Dictionary { specs: &specs, levels, ..Dictionary::default() };
    let mut signals = Signals::new(&dictionary);
    for (time, value) in [(1, 3000.0), (2, 4000.0)] {
        signals.event(at(time), &quantity(2, value));
    }
    let name = Statement::Named(Thing::Quantity(2), Name::Told("battery".into()));
    signals.event(at(3), &Event::Stated(name));
    for (time, value) in [(4, 3000.0), (5, 4000.0)] {
        signals.event(at(time), &quantity(2, value));
    }
    signals.finish();
    let report = told(&signals, &dictionary);
    let row = &report.signals[0];
    assert_eq!((row.name.as_str(), row.unit.as_deref(), row.count), ("battery", Some("V"), 4));
    assert_eq!(row.value.as_ref().unwrap().max.value, 4.0);
    // Levels count from the name on.
    assert_eq!((row.thresholds[0].up, row.thresholds[0].level), (1, 3.5));
}

#[test]
fn manifests_say_what_signals_mean() {
    let head = "format = 1\n[[stream]]\nfile = 'a'\nprotocol = 'itm'\n";
    let text = "[signal.sea]\ncomparator = 0\nvariable = 'health.sea'\n\
                [signal.battery]\nquantity = 2\nscale = 0.001\noffset = -5\nunit = 'V'\n\
                [signal.mv]\ntext = 'battery {mv} mV'\n";
    let manifest = Manifest::parse("capture.toml", &format!("{head}{text}")).unwrap();
    assert_eq!(manifest.signals.len(), 3);
    let written = manifest.to_toml();
    let again = Manifest::parse("capture.toml", &written).unwrap();
    assert_eq!(again.signals, manifest.signals, "{written}");
    for (text, line, why) in [
        ("[signal.a]\ncomparator = 16\n", 6, "below 16"),
        ("[signal.a]\nscale = 0\n", 6, "must not be zero"),
        ("[signal.a]\nscale = 'x'\n", 6, "a number"),
        ("[signal.a]\ntext = 'b {b}'\n", 6, "must take out one number, {a}"),
        ("[signal.a]\ntext = 'b'\n", 6, "takes no number"),
        ("[signal.a]\ncomparator = 1\n[signal.b]\ncomparator = 1\n", 7, "already"),
        ("[signal.a]\nunti = 'V'\n", 6, "did you mean `unit`?"),
    ] {
        let fault = Manifest::parse("capture.toml", &format!("{head}{text}")).unwrap_err();
        assert!(fault.message.contains(why), "{text}: {fault}");
        assert_eq!(fault.line, line, "{text}: {fault}");
    }
}

#[test]
fn origins_that_take_turns_keep_their_intervals() {
    let dictionary = Dictionary::default();
    let mut signals = Signals::new(&dictionary);
    for round in 0..10 {
        for origin in [Origin(2), Origin(3)] {
            let position = Position { origin, ..at(100 * round + u64::from(origin.0)) };
            signals.event(position, &quantity(1, round as f64));
        }
    }
    signals.finish();
    let report = told(&signals, &dictionary);
    let intervals: Vec<u64> = report.signals.iter().map(|row| row.interval.count).collect();
    assert_eq!(intervals, [9, 9]);
}

#[test]
fn the_rest_of_a_line_is_no_line() {
    let patterns = ["{mv} mV".parse().unwrap()];
    let dictionary = Dictionary { captured: vec!["mv".into()], ..Dictionary::default() };
    let mut signals = Signals::new(&dictionary);
    let mut reader = FromText::new(&patterns, None, &mut signals);
    let said = |text: &[u8; 4]| Event::Said {
        port: 0,
        bytes: Bytes::from_word(u32::from_le_bytes(*text), 4),
    };
    for event in
        [said(b"is 3"), loss(), said(b"712 "), said(b"mV\n9"), said(b"9 mV"), said(b"\n\n\n\n")]
    {
        reader.event(at(1), &event);
    }
    let report = told(&signals, &dictionary);
    assert_eq!(report.signals[0].value.as_ref().unwrap().min.value, 99.0);
    assert_eq!(report.signals[0].count, 1);
}

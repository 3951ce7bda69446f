//! Values of watched variables, against what the firmware is known to write.

use weltblick_core::capture::{ItmSettings, Line, SignalSpec, StreamSpec};
use weltblick_core::event::Origin;
use weltblick_core::image::{Image, Variables};
use weltblick_core::measure::known::Facts;
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::signals::{
    Context, Dictionary, Level, SignalReport, SignalRow, Signals, report,
};
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timing::{Clocks, Timing};
use weltblick_core::time::Frequency;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;
use weltblick_standin::{Machine, Program};

const ELF: &[u8] = include_bytes!("firmware/values.elf");
const ROUNDS: i32 = 40;

/// `DWT_FUNCTION` (DDI 0403E, table C1-14): what a comparator sends.
const WRITES: u32 = 0b1101;
const READS: u32 = 0b1100;
const WRITES_WITH_CODE: u32 = 0b1111;
/// `EMITRANGE`: the data address too.
const ADDRESS: u32 = 1 << 5;

/// A comparator: what it watches, bytes, and its function.
type Watch<'a> = (&'a str, u32, u32);

/// Runs the firmware with these comparators, at most four.
fn record(watches: &[Watch<'_>]) -> Vec<u8> {
    let variables = Variables::parse(ELF).unwrap();
    let setup = Setup { link_bit_rate: 40_000_000, link_buffer: 4096, ..Setup::default() };
    let mut machine = Machine::new(&Program::parse(ELF).unwrap(), setup).unwrap();
    let trace = TraceSetup { samples: false, ..TraceSetup::default() };
    for (address, value) in trace.registers() {
        machine.poke(address, 4, value).unwrap();
    }
    for (number, (path, size, function)) in (0_u32..).zip(watches) {
        let address = variables.field(path).unwrap().address as u32;
        let registers = [address, size.trailing_zeros(), *function];
        for (at, value) in (0_u32..).zip(registers) {
            machine.poke(0xe000_1020 + 16 * number + 4 * at, 4, value).unwrap();
        }
    }
    let done = variables.find("done").unwrap().address as u32;
    while machine.peek(done, 4).unwrap() == 0 {
        machine.step().unwrap();
    }
    machine.take_trace()
}

/// What came of it, with levels to be told about.
fn figures(watches: &[Watch<'_>], specs: &[SignalSpec], levels: &[f64]) -> SignalReport {
    let bytes = record(watches);
    let (image, variables) = (Image::parse(ELF).unwrap(), Variables::parse(ELF).unwrap());
    let levels = levels.iter().map(|&value| Level { signal: None, value }).collect();
    let dictionary = Dictionary {
        image: Some(&image),
        variables: Some(&variables),
        specs,
        watched: Dictionary::look_up(specs, Some(&variables)).unwrap(),
        captured: Vec::new(),
        levels,
    };
    let mut signals = Signals::new(&dictionary);
    let mut recording = Recording::default();
    let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
    let mut line = Line::new(&stream, Origin(0));
    line.push(&bytes, &mut (), &mut (&mut signals, &mut recording));
    line.finish(&mut (), &mut (&mut signals, &mut recording));
    signals.finish();
    let clock = Frequency::from_hertz(48e6).unwrap();
    let context = Context {
        image: Some(&image),
        dictionary: &dictionary,
        scale: &|_| Some(Scale::of(clock, Some(clock))),
        polled: &|_| false,
        recording: &recording,
        ticks_per_cycle: 1.0,
        intrusive: false,
        facts: &Facts::of(&Timing { recording: &recording, clocks: Clocks::default() }),
    };
    report(&signals, &context)
}

fn specs(paths: &[&str]) -> Vec<SignalSpec> {
    (0..).zip(paths).map(|(number, path)| SignalSpec::watched(number, path)).collect()
}

fn row<'a>(report: &'a SignalReport, name: &str, access: &str) -> &'a SignalRow {
    let is_it = |row: &&SignalRow| row.name == name && row.access.as_deref() == Some(access);
    report.signals.iter().find(is_it).unwrap_or_else(|| panic!("{name} {access}"))
}

/// A row's values are those that the firmware wrote: count, extremes, mean, first and last.
fn holds(row: &SignalRow, truth: impl Fn(i32) -> f64) {
    let values: Vec<f64> = (0..ROUNDS).map(truth).collect();
    let told = row.value.as_ref().expect("values were traced");
    let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-6 * b.abs().max(1.0), "{a} {b}");
    assert_eq!(told.count, values.len() as u64, "{}", row.name);
    near(told.first.value, values[0]);
    near(told.last.value, values[values.len() - 1]);
    near(told.min.value, values.iter().copied().fold(f64::INFINITY, f64::min));
    near(told.max.value, values.iter().copied().fold(f64::NEG_INFINITY, f64::max));
    near(told.mean, values.iter().sum::<f64>() / values.len() as f64);
    let steps = values.windows(2).map(|pair| pair[1] - pair[0]);
    let rise = steps.clone().fold(0.0, f64::max);
    assert_eq!(told.rise.as_ref().map_or(0.0, |step| step.value), rise, "{}", row.name);
    let fall = steps.fold(0.0, |fall: f64, step| fall.max(-step));
    assert_eq!(told.fall.as_ref().map_or(0.0, |step| step.value), fall, "{}", row.name);
}

#[test]
fn numbers_of_every_kind_are_what_was_written() {
    let watches = [("depth", 1), ("level", 2), ("drift", 4), ("volts", 4)];
    let paths = watches.map(|(path, _)| path);
    let report = figures(&watches.map(|(path, size)| (path, size, WRITES)), &specs(&paths), &[]);
    assert!(report.evidence.losses.is_empty());
    holds(row(&report, "depth", "write"), |round| f64::from(round * 3 - 60));
    holds(row(&report, "level", "write"), |round| f64::from(round * 1000));
    holds(row(&report, "drift", "write"), |round| f64::from(5 - round * 100_000));
    holds(row(&report, "volts", "write"), |round| f64::from(round) * 0.25 - 2.0);
    let interval = &row(&report, "drift", "write").interval;
    assert_eq!(interval.count, ROUNDS as u64 - 1);
    // Each round takes the same time, but for the soft floats.
    let (min, max) = (interval.min.unwrap(), interval.max.unwrap());
    assert!(max.ns_low < 1.3 * min.ns_high.unwrap(), "{min:?} {max:?}");
}

#[test]
fn enumerations_bit_fields_and_members_are_read_by_their_type() {
    let watches = [
        ("sea", 1, WRITES),
        ("station.mode", 4, WRITES),
        ("station.trim", 4, WRITES),
        ("station.pair.high", 2, WRITES),
    ];
    let report = figures(&watches, &specs(&watches.map(|(path, ..)| path)), &[]);
    let sea = row(&report, "sea", "write");
    holds(sea, |round| [0.0, 4.0, -1.0][round as usize % 3]);
    let levels: Vec<(f64, Option<&str>, u64)> =
        sea.levels.iter().map(|level| (level.value, level.label.as_deref(), level.count)).collect();
    let expected =
        [(-1.0, Some("SEA_STORM"), 13), (0.0, Some("SEA_CALM"), 14), (4.0, Some("SEA_ROUGH"), 13)];
    assert_eq!(levels, expected);
    // A word with both fields is written twice a round, once for each.
    let mode = row(&report, "station.mode", "write").value.as_ref().unwrap();
    assert_eq!((mode.count, mode.min.value, mode.max.value), (80, 0.0, 7.0));
    let trim = row(&report, "station.trim", "write").value.as_ref().unwrap();
    assert_eq!((trim.count, trim.min.value, trim.max.value), (80, -16.0, 15.0));
    holds(row(&report, "station.pair.high", "write"), |round| f64::from(round * 7));
}

#[test]
fn reads_and_writes_are_apart_and_code_is_named() {
    let watches = [("level", 2, READS), ("drift", 4, WRITES_WITH_CODE)];
    let report = figures(&watches, &specs(&["level", "drift"]), &[]);
    holds(row(&report, "level", "read"), |round| f64::from(round * 1000));
    let places = &row(&report, "drift", "write").places;
    assert_eq!((places.len(), places[0].count), (1, ROUNDS as u64));
    assert_eq!(places[0].function.as_deref(), Some("observe"));
    assert!(places[0].file.as_deref().unwrap().ends_with("values.c"), "{places:?}");
    assert_eq!(report.signals.len(), 2);
}

#[test]
fn arrays_are_as_they_were_last_seen() {
    let watches = [("wave", 64, WRITES | ADDRESS), ("grid[2]", 4, WRITES | ADDRESS)];
    let report = figures(&watches, &specs(&["wave", "grid[2]"]), &[]);
    let told: Vec<(u64, f64)> =
        row(&report, "wave", "write").elements.iter().map(|e| (e.index, e.value)).collect();
    let last = |index: i32| if index < ROUNDS - 32 { index + 32 } else { index };
    let truth: Vec<(u64, f64)> =
        (0..32).map(|index| (index as u64, f64::from(last(index) * 100 - 1500))).collect();
    assert_eq!(told, truth);
    let grid: Vec<f64> =
        row(&report, "grid[2]", "write").elements.iter().map(|e| e.value).collect();
    assert_eq!(grid, [36.0, 37.0, 38.0, 39.0]);
}

#[test]
fn levels_are_crossed_as_often_as_they_are() {
    let plain = figures(&[("sea", 1, WRITES)], &specs(&["sea"]), &[0.5]);
    // 0, 4, -1, 0, 4, -1, ...: above in 13 of 40.
    let sea = row(&plain, "sea", "write");
    let crossed = &sea.thresholds[0];
    assert_eq!((crossed.level, crossed.up, crossed.down, crossed.unseen), (0.5, 13, 13, 0));
    let held = sea.levels.iter().find(|level| level.value == 4.0).unwrap().held.unwrap();
    assert!((crossed.above.unwrap().ns - held.ns).abs() < 1.0);
    // Upside down: 1, -1, 1.5, ...
    let scaled = SignalSpec { scale: -0.5, offset: 1.0, ..SignalSpec::watched(0, "sea") };
    let turned = figures(&[("sea", 1, WRITES)], &[scaled], &[0.5]);
    let sea = row(&turned, "sea", "write");
    let value = sea.value.as_ref().unwrap();
    assert_eq!((value.min.value, value.max.value), (-1.0, 1.5));
    assert_eq!((sea.thresholds[0].up, sea.thresholds[0].down), (13, 13));
}

#[test]
fn paths_lead_to_numbers_or_say_why_not() {
    let variables = Variables::parse(ELF).unwrap();
    let at = |path: &str| variables.field(path).unwrap().address;
    assert_eq!(at("grid[2][1]"), at("grid") + 9);
    assert_eq!(at("station.pair.high"), at("station.before") + 10);
    let trim = variables.field("station.trim").unwrap();
    assert_eq!(trim.bits.map(|bits| (bits.from, bits.count)), Some((3, 5)));
    assert_eq!(variables.field("precise").unwrap().number(0.125_f64.to_bits()), Some(0.125));
    for (path, why) in [
        ("station", "is a structure; write one of its members: station.before"),
        ("station.mood", "it has no member `mood`; did you mean `mode`?"),
        ("wave[32]", "[32] lies outside an array of 32"),
        ("wave[x]", "`x` is no index"),
        ("wave[3", "a `]` is missing"),
        ("wave.x", ".x follows what is no structure"),
        ("depth[0]", "[0] follows what is no array"),
        ("grid[3]", "[3] lies outside an array of 3"),
        ("nothing.x", "has no variable `nothing`"),
    ] {
        let error = variables.field(path).unwrap_err().to_string();
        assert!(error.contains(why), "{path}: {error}");
    }
}

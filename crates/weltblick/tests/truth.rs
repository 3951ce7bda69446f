//! What the tool says, held against what the stand-in knows.

use std::collections::BTreeMap;
use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
use weltblick_core::event::{Event, Origin, Position, Sink};
use weltblick_core::image::{Image, Variables};
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::profile::{By, Context, ProfileReport, SampleCounts, report};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::timing::{Clocks, Timing};
use weltblick_core::time::{Frequency, Window};
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, record};
use weltblick_standin::{Machine, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");

fn run(setup: Setup, trace: TraceSetup, seconds: f64) -> (Machine, Vec<u8>) {
    let program = Program::parse(FIRMWARE).unwrap();
    let cycles = (seconds * setup.core_clock as f64) as u64;
    record(&program, setup, trace, cycles).unwrap()
}

fn replay(bytes: &[u8], sink: &mut impl Sink) {
    let mut line = Line::new(&StreamSpec::itm(Vec::new(), ItmSettings::default()), Origin(0));
    line.push(bytes, &mut (), sink);
    line.finish(&mut (), sink);
}

fn profile(image: &Image, setup: Setup, trace: TraceSetup, bytes: &[u8]) -> ProfileReport {
    let mut counted = (SampleCounts::default(), Recording::default(), Cadences::default());
    replay(bytes, &mut counted);
    let clock = Frequency::from_hertz(setup.core_clock as f64);
    let context = Context {
        image,
        timing: Timing {
            recording: &counted.1,
            clocks: Clocks {
                stated_period: Some(trace.sample_period()),
                core_clock: clock,
                timestamp_clock: clock,
                tick_period: None,
            },
        },
        cadences: &counted.2,
        cut: 0,
        confidence: 0.95,
        conduct: weltblick_core::measure::profile::Conduct::default(),
    };
    report(&counted.0, By::Function { inlined: false }, &context)
}

/// A link that loses nothing.
fn wide_link(seed: u64) -> Setup {
    Setup { link_bit_rate: 40_000_000, link_buffer: 4096, seed, ..Setup::default() }
}

/// The true share of every function, and of sleep.
fn true_shares(image: &Image, machine: &Machine) -> BTreeMap<String, f64> {
    let truth = machine.truth();
    let total = truth.total as f64;
    let mut shares: BTreeMap<String, f64> = image
        .functions()
        .iter()
        .map(|function| {
            let cycles = truth.cycles_in(function.range.start as u32, function.range.end as u32);
            (function.name.clone(), cycles as f64 / total)
        })
        .collect();
    shares.insert("[asleep]".into(), truth.asleep as f64 / total);
    shares
}

#[test]
fn true_shares_lie_in_their_intervals_as_often_as_promised() {
    let image = Image::parse(FIRMWARE).unwrap();
    let (mut inside, mut all) = (0, 0);
    let mut outside = Vec::new();
    for seed in 0..6 {
        // Different weather and different periods: different phases to everything periodic.
        let trace = TraceSetup { sample_reload: (seed % 3) as u32, ..TraceSetup::default() };
        let setup = wide_link(seed);
        let (machine, bytes) = run(setup, trace, 1.5);
        assert_eq!(machine.trace().dropped, 0);
        let report = profile(&image, setup, trace, &bytes);
        let truth = true_shares(&image, &machine);
        for row in &report.rows {
            let name = row.function.clone().unwrap_or_else(|| "[asleep]".into());
            let share = truth[&name];
            all += 1;
            if row.share_low <= share && share <= row.share_high {
                inside += 1;
            } else {
                outside.push(format!(
                    "{name}: {share:.5} not in {:.5}..{:.5}",
                    row.share_low, row.share_high
                ));
            }
        }
    }
    let rate = f64::from(inside) / f64::from(all);
    println!("{inside} of {all} true shares inside");
    assert!(all > 150, "only {all} rows");
    assert!(rate > 0.92, "{rate:.3} of {all} inside:\n{}", outside.join("\n"));
}

#[test]
fn what_overflows_is_bounded_by_what_is_said_to_be_missing() {
    let image = Image::parse(FIRMWARE).unwrap();
    let setup = Setup { link_bit_rate: 900_000, link_buffer: 32, ..Setup::default() };
    let trace = TraceSetup::default();
    let (machine, bytes) = run(setup, trace, 1.0);
    let report = profile(&image, setup, trace, &bytes);
    let ticks = machine.truth().total / trace.sample_period();
    let really_missing = ticks - report.recording.samples;
    let stated = report.evidence.samples_missing_at_most.unwrap();
    assert!(really_missing > 500, "the link is narrow: {really_missing}");
    assert!(
        stated >= really_missing && stated <= really_missing + 2,
        "stated {stated}, really {really_missing}"
    );
    // With every missing sample counted for and against, the truth lies inside.
    let truth = true_shares(&image, &machine);
    let n = report.recording.samples as f64;
    let all = n + stated as f64;
    for row in report.rows.iter().filter(|row| row.share > 0.01) {
        let name = row.function.clone().unwrap_or_else(|| "[asleep]".into());
        let (low, high) = (row.share_low * n / all, (row.share_high * n + stated as f64) / all);
        assert!(low <= truth[&name] && truth[&name] <= high, "{name}");
    }
}

#[test]
fn every_exception_is_seen_at_its_time() {
    #[derive(Default)]
    struct Entries(Vec<(u16, u64, u64)>);
    impl Sink for Entries {
        fn event(&mut self, position: Position, event: &Event) {
            if let Event::Entered { exception } = *event {
                let window = position.time.expect("there are timestamps");
                self.0.push((exception, window.earliest, window.latest));
            }
        }
    }
    // A link that delays, and loses nothing, too.
    let slow_link = Setup { link_bit_rate: 4_000_000, link_buffer: 1 << 16, ..wide_link(3) };
    let cases = [(0, wide_link(3)), (1, wide_link(3)), (3, wide_link(3)), (3, slow_link)];
    for ((prescaler, setup), timestamp_dates_group) in
        cases.into_iter().flat_map(|case| [(case, false), (case, true)])
    {
        let trace = TraceSetup { timestamps: Some(prescaler), ..TraceSetup::default() };
        let (machine, bytes) = run(setup, trace, 0.2);
        let mut entries = Entries::default();
        let timestamp_prescaler = [1, 4, 16, 64][prescaler as usize];
        let settings =
            ItmSettings { timestamp_prescaler, timestamp_dates_group, ..ItmSettings::default() };
        let mut line = Line::new(&StreamSpec::itm(Vec::new(), settings), Origin(0));
        line.push(&bytes, &mut (), &mut entries);
        line.finish(&mut (), &mut entries);
        let truth = &machine.truth().exceptions;
        assert_eq!(entries.0.len(), truth.len());
        for (seen, real) in entries.0.iter().zip(truth) {
            assert_eq!(seen.0, real.number);
            assert!(seen.1 <= real.entered && real.entered <= seen.2, "{seen:?} {real:?}");
        }
    }
}

/// Two comparators watch one variable: what they send is of one cycle, and shares a timestamp.
#[test]
fn packets_of_one_cycle_have_one_time() {
    #[derive(Default)]
    struct Accesses([Vec<Window>; 2]);
    impl Sink for Accesses {
        fn event(&mut self, position: Position, event: &Event) {
            if let Event::Accessed { watch, .. } = *event {
                let window = position.time.expect("there are timestamps");
                self.0[usize::from(watch)].push(window);
            }
        }
    }
    let watched = Variables::parse(FIRMWARE).unwrap().find("kernel_current").unwrap().address;
    let setup = wide_link(5);
    let mut machine = Machine::new(&Program::parse(FIRMWARE).unwrap(), setup).unwrap();
    let watch = [0xe000_1020, 0xe000_1030]
        .into_iter()
        .flat_map(|base| [(base, watched as u32), (base + 4, 2), (base + 8, 0b1101)]);
    for (address, value) in TraceSetup::default().registers().into_iter().chain(watch) {
        machine.poke(address, 4, value).unwrap();
    }
    machine.run(setup.core_clock / 5);
    let bytes = machine.take_trace();
    let [shared, exact] = [false, true].map(|timestamp_dates_group| {
        let settings = ItmSettings { timestamp_dates_group, ..ItmSettings::default() };
        let mut line = Line::new(&StreamSpec::itm(Vec::new(), settings), Origin(0));
        let mut accesses = Accesses::default();
        line.push(&bytes, &mut (), &mut accesses);
        line.finish(&mut (), &mut accesses);
        accesses.0
    });
    assert!(exact[0].len() > 20 && exact[0].len() == exact[1].len(), "{}", exact[0].len());
    assert_eq!(exact[0], exact[1], "they are of one cycle");
    assert_eq!(exact[1], shared[1], "the last of a group always had its time");
    for (first, last) in shared[0].iter().zip(&shared[1]) {
        assert!(first.earliest < last.earliest && first.latest == last.latest);
    }
}

#[test]
fn a_sampling_period_that_beats_is_told() {
    let image = Image::parse(FIRMWARE).unwrap();
    let (setup, trace) = (wide_link(1), TraceSetup::default());
    let quiet = profile(&image, setup, trace, &run(setup, trace, 0.5).1);
    assert_eq!(quiet.evidence.doubts, Vec::<String>::new());

    // The same firmware with a tick of exactly ten sampling periods.
    const SYSTICK_RELOAD: u32 = 0xe000_e014;
    let mut machine = Machine::new(&Program::parse(FIRMWARE).unwrap(), setup).unwrap();
    machine.run(1_000_000);
    machine.poke(SYSTICK_RELOAD, 4, 10 * 4096 - 1).unwrap();
    for (address, value) in trace.registers() {
        machine.poke(address, 4, value).unwrap();
    }
    machine.run(40_000_000);
    let bytes = machine.take_trace();
    let doubts = profile(&image, setup, trace, &bytes).evidence.doubts;
    assert!(
        doubts
            .iter()
            .any(|doubt| doubt.contains("keep step with SysTick: into 10 % of its period")),
        "{doubts:?}"
    );
}

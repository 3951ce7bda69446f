//! What is said of interrupts, held against what the stand-in knows.

use weltblick_core::capture::{ItmSettings, Line, Priorities, StreamSpec};
use weltblick_core::event::{Origin, Sink};
use weltblick_core::measure::dissection::{Dissection, Stretch};
use weltblick_core::measure::interrupts::{
    Cause, Context, FigureName, InterruptFigures, InterruptReport, Nesting, report,
};
use weltblick_core::measure::known::{Facts, KnownBy};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::timing::{Clocks, Timing};
use weltblick_core::measure::worst::Bad;
use weltblick_core::time::Frequency;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, record};
use weltblick_standin::truth::ExceptionRecord;
use weltblick_standin::{Machine, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
const ADC_READY: u16 = 16;
const RADIO_SLOT: u16 = 17;
const GNSS_PULSE: u16 = 20;

fn run(setup: Setup, trace: TraceSetup, seconds: f64) -> (Machine, Vec<u8>) {
    let program = Program::parse(FIRMWARE).unwrap();
    record(&program, setup, trace, (seconds * setup.core_clock as f64) as u64).unwrap()
}

/// A link that loses nothing.
fn wide_link(seed: u64) -> Setup {
    Setup { link_bit_rate: 40_000_000, link_buffer: 4096, seed, ..Setup::default() }
}

fn replay(bytes: &[u8], prescaler: u32, sink: &mut impl Sink) {
    let settings = ItmSettings {
        timestamp_prescaler: prescaler,
        marks_port: Some(16),
        ..ItmSettings::default()
    };
    let mut line = Line::new(&StreamSpec::itm(Vec::new(), settings), Origin(0));
    line.push(bytes, &mut (), sink);
    line.finish(&mut (), sink);
}

/// Every run is kept; the worst three are explained.
fn measured(bytes: &[u8], prescaler: u32) -> (InterruptFigures, Recording, Vec<Stretch>) {
    let mut figures = InterruptFigures::new(3);
    figures.list_each(0..512);
    let mut sink = (Nesting::new(1.0, figures), Recording::default());
    replay(bytes, prescaler, &mut sink);
    let mut figures = sink.0.finish();
    figures.finish();
    let mut second: Nesting<Dissection> = Nesting::new(1.0, figures.cases());
    replay(bytes, prescaler, &mut second);
    let stretches = second.finish().into_stretches();
    (figures, sink.1, stretches)
}

fn stated(
    (figures, recording, stretches): &(InterruptFigures, Recording, Vec<Stretch>),
) -> InterruptReport {
    let clock = Frequency::from_hertz(47_972_352.0);
    let clocks = Clocks {
        stated_period: None,
        core_clock: clock,
        timestamp_clock: clock,
        tick_period: None,
    };
    let timing = Timing { recording, clocks };
    let context = Context {
        image: None,
        timing,
        scale: Scale::of(clock.unwrap(), clock),
        priorities: &Priorities::default(),
        intrusive: false,
        facts: &Facts { exceptions: true, ..Facts::of(&timing) },
        confirmed: None,
    };
    report(figures, stretches, &context)
}

fn ended(machine: &Machine, exception: u16) -> Vec<ExceptionRecord> {
    let all = machine.truth().exceptions.iter();
    all.filter(|record| record.number == exception && record.left.is_some()).copied().collect()
}

fn holds(window: weltblick_core::time::Window, cycle: u64) -> bool {
    window.earliest <= cycle && cycle <= window.latest
}

/// Own cycles by the truth: the cycle counter of every stretch in which nothing is nested inside.
fn true_own(machine: &Machine, of: &ExceptionRecord) -> u64 {
    const RETURN: u64 = 10;
    const TAIL_CHAIN: u64 = 6;
    let left = of.left.unwrap();
    let inside = machine
        .truth()
        .exceptions
        .iter()
        .filter(|other| other.entered > of.entered && other.left.is_some_and(|at| at < left));
    let mut own = left - of.entered;
    let mut busy_until = 0;
    let mut before: Option<u64> = None;
    for other in inside {
        let until = other.left.unwrap();
        if other.entered < busy_until {
            continue; // inside one that is counted already
        }
        let chained = before.is_some_and(|before| other.entered == before + TAIL_CHAIN);
        // It came without a return in between: what was taken for the return was not.
        own -= until + RETURN - other.entered;
        if chained {
            own += RETURN - TAIL_CHAIN;
        }
        busy_until = until;
        before = Some(until);
    }
    own
}

#[test]
fn every_run_of_every_interrupt_is_what_it_was() {
    for (seed, prescaler) in [(1, 1), (2, 4), (3, 16)] {
        let timestamps = Some([1, 4, 16].iter().position(|p| *p == prescaler).unwrap() as u32);
        let trace = TraceSetup { timestamps, ..TraceSetup::default() };
        let (machine, bytes) = run(wide_link(seed), trace, 1.0);
        assert_eq!(machine.trace().dropped, 0);
        let (figures, ..) = measured(&bytes, prescaler);
        assert_eq!((figures.gaps(), figures.contradictions()), (0, 0));
        let mut all = 0;
        for row in figures.rows() {
            let truth = ended(&machine, row.exception);
            let each = row.each.as_ref().unwrap();
            assert_eq!(each.len(), truth.len(), "exception {}", row.exception);
            let mut owns = (u64::MAX, 0);
            for (run, real) in each.iter().zip(&truth) {
                assert!(holds(run.began, real.entered), "{run:?} {real:?}");
                assert!(holds(run.ended, real.left.unwrap()), "{run:?} {real:?}");
                let own = true_own(&machine, real);
                owns = (owns.0.min(own), owns.1.max(own));
                all += 1;
            }
            let (min, max) = (row.own.min().unwrap(), row.own.max().unwrap());
            assert!(min.low <= owns.0 && owns.0 <= min.high, "{min:?} {owns:?} {}", row.exception);
            assert!(max.low <= owns.1 && owns.1 <= max.high, "{max:?} {owns:?} {}", row.exception);
        }
        assert!(all > 5000, "{all}");
    }
}

#[test]
fn three_ways_to_the_time_that_a_run_was_pending() {
    let (machine, bytes) = run(wide_link(4), TraceSetup::default(), 2.0);
    let (figures, ..) = measured(&bytes, 1);

    // Stated by the firmware: off by what it takes to read the register and to write the mark.
    let pulse = figures.of(GNSS_PULSE).next().unwrap();
    assert_eq!(pulse.basis(), Some(KnownBy::Stated));
    let truth = ended(&machine, GNSS_PULSE);
    let of = |run: &Bad, real: &ExceptionRecord| {
        let requested = run.requested.expect("each is stated").middle();
        requested.abs_diff(real.requested)
    };
    let runs = pulse.each.as_ref().unwrap();
    assert_eq!(runs.len(), truth.len());
    for (run, real) in runs.iter().zip(&truth) {
        assert!(of(run, real) <= 12, "{} cycles off", of(run, real));
    }

    // Against the grid: what every run waited beyond the earliest ones.
    for exception in [ADC_READY, RADIO_SLOT, 15] {
        let row = figures.of(exception).next().unwrap();
        assert_eq!(row.basis(), Some(KnownBy::Grid), "exception {exception}");
        let truth = ended(&machine, exception);
        let real = |record: &ExceptionRecord| record.entered - record.requested;
        let least = truth.iter().map(real).min().unwrap();
        for (run, record) in row.each.as_ref().unwrap().iter().zip(&truth) {
            let Some(due) = run.requested else { panic!("{run:?} has no grid") };
            let waited = real(record) - least;
            let found = run.began.latest - due.middle().min(run.began.latest);
            // A tail-chained entry is six cycles faster than any other: the line may rest on one.
            assert!(found.abs_diff(waited) <= 8, "{found} {waited} {run:?} {record:?}");
        }
        let longest = truth.iter().map(real).max().unwrap() - least;
        let max = row.grid.pending.max().unwrap();
        assert!(max.low <= longest + 8 && longest <= max.high + 8, "{max:?} {longest}");
    }

    // Tail-chained: between two bounds.
    let mut chained = 0;
    for row in figures.rows().filter(|row| row.chained_pending.count() > 0) {
        let truth = ended(&machine, row.exception);
        let longest = truth.iter().map(|record| record.entered - record.requested).max().unwrap();
        let (min, max) = (row.chained_pending.min().unwrap(), row.chained_pending.max().unwrap());
        assert!(min.low <= longest && max.low <= longest, "{min:?} {longest}");
        chained += row.chained_pending.count();
    }
    assert!(chained > 50, "{chained}");
}

#[test]
fn the_interrupt_that_waits_behind_another_is_found_and_explained() {
    let (_, bytes) = run(wide_link(5), TraceSetup::default(), 2.0);
    let report = stated(&measured(&bytes, 1));
    let adc = report.interrupts.iter().find(|row| row.exception == ADC_READY).unwrap();
    let worst = adc.worst.iter().find(|case| case.figure == FigureName::Pending).unwrap();
    assert!(worst.duration.ns > 80_000.0, "{worst:?}");
    let first = &worst.parts[0];
    assert_eq!(first.cause, Cause::Behind);
    assert_eq!(first.interrupt.as_deref(), Some("interrupt 1"), "the radio slot");
    assert!(first.duration.ns > 0.95 * worst.duration.ns, "{worst:?}");
    // The parts are all of it.
    for row in &report.interrupts {
        for case in &row.worst {
            let sum: f64 = case.parts.iter().map(|part| part.duration.ns).sum();
            assert!((sum - case.duration.ns).abs() <= 0.01 * case.duration.ns + 100.0, "{case:?}");
        }
    }
}

#[test]
fn the_load_is_the_time_that_handlers_really_took() {
    let (machine, bytes) = run(wide_link(6), TraceSetup::default(), 1.0);
    let report = stated(&measured(&bytes, 1));
    let total = machine.truth().total as f64;
    for row in &report.interrupts {
        let own: u64 =
            ended(&machine, row.exception).iter().map(|real| true_own(&machine, real)).sum();
        assert!(
            (row.load.share - own as f64 / total).abs() < 1e-4,
            "{} {}",
            row.name,
            row.load.share
        );
    }
}

/// On a link that is too narrow packets are dropped, and told: every run that has a duration has the
/// right one.
#[test]
fn overflow_makes_no_run_up() {
    let setup = Setup { link_bit_rate: 1_300_000, link_buffer: 32, ..Setup::default() };
    let (machine, bytes) = run(setup, TraceSetup::default(), 1.0);
    let (figures, ..) = measured(&bytes, 1);
    assert!(figures.gaps() > 200, "{}", figures.gaps());
    assert_eq!(figures.contradictions(), 0, "every loss was told");
    let (mut right, mut cut) = (0, 0);
    for row in figures.rows() {
        let truth = ended(&machine, row.exception);
        for run in row.each.as_ref().unwrap() {
            let found = truth
                .iter()
                .any(|real| holds(run.began, real.entered) && holds(run.ended, real.left.unwrap()));
            assert!(found, "exception {} never ran so: {run:?}", row.exception);
            right += 1;
        }
        cut += row.cut;
        // What was not seen was not longer than is told, and told with some use.
        let longest = truth.iter().map(|real| real.left.unwrap() - real.entered).max().unwrap();
        let seen = row.elapsed.max().map_or(0, |max| max.high);
        assert!(longest <= seen.max(figures.hidden()), "{longest} {seen} {}", figures.hidden());
        let apart = truth.windows(2).map(|pair| pair[1].entered - pair[0].entered).max().unwrap();
        let seen = row.period.max().map_or(0, |max| max.high);
        assert!(apart <= seen.max(row.bridges.longest()), "{apart} {seen}");
    }
    assert!(figures.hidden() < 4 * 48_000, "{} cycles", figures.hidden());
    assert!(right > 2000 && cut > 100, "{right} {cut}");
}

/// Exception packets vanish, and nothing tells: a wrong figure never comes without a warning.
#[test]
fn packets_that_vanish_in_silence_are_noticed() {
    let (machine, bytes) = run(wide_link(7), TraceSetup { ports: 1, ..TraceSetup::default() }, 1.0);
    let (mut wrong_runs, mut warned) = (0, 0);
    for first in 0..6 {
        let thinned = without_every(&bytes, first, 100);
        let (figures, recording, _) = measured(&thinned, 1);
        let wrong: usize = figures
            .rows()
            .map(|row| {
                let truth = ended(&machine, row.exception);
                let runs = row.each.as_ref().unwrap().iter();
                runs.filter(|run| {
                    !truth.iter().any(|real| {
                        holds(run.began, real.entered) && holds(run.ended, real.left.unwrap())
                    })
                })
                .count()
            })
            .sum();
        let says_so = figures.contradictions() > 0 || !recording.losses.is_empty();
        assert!(wrong == 0 || says_so, "{wrong} runs are wrong, and nothing says so");
        wrong_runs += wrong;
        warned += figures.contradictions();
    }
    assert!(warned > 100, "{warned} contradictions, {wrong_runs} wrong runs");
}

/// The stream without every n-th exception packet; its timestamps stay.
fn without_every(bytes: &[u8], first: usize, n: usize) -> Vec<u8> {
    use std::ops::Range;
    use weltblick_core::wire::itm::{Decoder, Malformed, Packet, Sink};
    #[derive(Default)]
    struct Exceptions(Vec<Range<u64>>);
    impl Sink for Exceptions {
        fn packet(&mut self, at: Range<u64>, packet: Packet) {
            if matches!(packet, Packet::Exception { .. }) {
                self.0.push(at);
            }
        }
        fn loss(&mut self, _: Range<u64>, _: Malformed) {}
    }
    let mut found = Exceptions::default();
    let mut decoder = Decoder::new();
    decoder.push(bytes, &mut found);
    decoder.finish(&mut found);
    let mut left = Vec::new();
    let mut from = 0;
    for at in found.0.iter().skip(100 + first).step_by(n) {
        left.extend_from_slice(&bytes[from..at.start as usize]);
        from = at.end as usize;
    }
    left.extend_from_slice(&bytes[from..]);
    left
}

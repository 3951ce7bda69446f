//! Verdicts over recordings made to deceive, whose truth is known another way: no budget is falsely called met, and none
//! falsely broken.
//!
//! `VERDICT_RECORDINGS=300 cargo test --release -p weltblick --test verdicts -- --nocapture` looks at more of them, and
//! prints what was decided for each fault.

mod chance;
mod life;
mod recording;
mod study;
mod traced;
mod truth;

use chance::Chance;
use life::{FIRST_TASK, Habit, Life, QUANTITY, What};
use recording::{Fault, Recording};
use std::ops::Range;
use std::time::Duration;
use traced::{TRACE_FAULTS, TraceFault, Traced};
use truth::{Asked, Of, WayBack};
use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
use weltblick_core::event::{Origin, Sink};
use weltblick_core::image::Image;
use weltblick_core::judge::{BudgetFile, Judgement, Timings, USUAL_WINDOW, Verdict, judge};
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::inspection::Unannounced;
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::known::{Facts, against_times};
use weltblick_core::measure::profile::{Conduct, Context, SampleCounts};
use weltblick_core::measure::recording::Recording as Recorded;
use weltblick_core::measure::signals::{Dictionary, Signals};
use weltblick_core::measure::span::StatedSpans;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};
use weltblick_core::measure::timing::{Clocks, Timing};
use weltblick_core::measure::windowed::Windowed;
use weltblick_core::time::Frequency;

const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");
const CLOCK: f64 = 48e6;

/// What `check` would say of a recording.
fn judged(recording: &Recording, sampling: u64, image: &Image, budgets: &str) -> Vec<Judgement> {
    let read = |sink: &mut dyn Sink| {
        let mut line = Line::new(&spec(recording, sampling), Origin(0));
        line.push(&recording.bytes, &mut (), sink);
        line.finish(&mut (), sink);
    };
    judged_by(read, recording.judged.clone(), (1, Some(sampling)), image, budgets)
}

/// What `check` would say of an event trace.
fn judged_traced(traced: &Traced, image: &Image, budgets: &str) -> Vec<Judgement> {
    judged_by(|sink| traced.read(sink), None, (traced.divider, None), image, budgets)
}

fn spec(recording: &Recording, sampling: u64) -> StreamSpec {
    let settings = ItmSettings {
        timestamp_prescaler: recording.prescaler,
        timestamp_dates_group: recording.dates_group,
        marks_port: Some(16),
        pc_sample_period: Some(sampling),
        ..ItmSettings::default()
    };
    StreamSpec::itm(Vec::new(), settings)
}

/// What `check` would say of what is read, or of a window of it; a tick has so many core cycles.
fn judged_by(
    read: impl FnOnce(&mut dyn Sink),
    window: Option<Range<u64>>,
    (divider, stated_period): (u64, Option<u64>),
    image: &Image,
    budgets: &str,
) -> Vec<Judgement> {
    let tick = Settings { keep: 0, window: 4_800_000 / divider, each: false };
    let tasks = TaskFigures::new(tick);
    let ratio = 1.0 / divider as f64;
    let tracking = Tracking::beside(ratio, tasks, InterruptFigures::new(0));
    let counted = (SampleCounts::default(), Recorded::default(), Cadences::default());
    let dictionary = Dictionary::default();
    let stated = (StatedSpans::new(0), Signals::new(&dictionary));
    let all = 0..u64::MAX;
    let Range { start, end } = window.clone().unwrap_or(all);
    let sink = (counted, (tracking, (stated, Unannounced::new(image))));
    let mut windowed = Windowed::new(start, end, sink);
    match window {
        Some(_) => {
            read(&mut windowed);
            windowed.finish();
        }
        None => read(&mut windowed.sink),
    }
    let sink = windowed.sink;
    let ((counts, facts, cadences), (tracking, ((mut spans, signals), unannounced))) = sink;
    spans.finish();
    let exceptions = tracking.exceptions;
    let (mut tasks, mut interrupts) = tracking.finish_both_at(facts.end());
    tasks.ended_at(facts.last_moment());
    interrupts.finish();
    interrupts.ended_at(facts.last_moment());
    let core_clock = Frequency::from_hertz(CLOCK);
    let timestamp_clock = Frequency::from_hertz(CLOCK * ratio);
    let clocks = Clocks { stated_period, core_clock, timestamp_clock, tick_period: None };
    let context = Context {
        image,
        timing: Timing { recording: &facts, clocks },
        cadences: &cadences,
        cut: 0,
        confidence: 0.95,
        conduct: Conduct::default(),
    };
    let tasks: [(Duration, TaskFigures); 1] = [(USUAL_WINDOW, tasks)];
    let timings = Timings {
        interrupts: &interrupts,
        tasks: &tasks,
        spans: &spans,
        signals: Some(&signals),
        image: Some(image),
        facts: Facts {
            exceptions,
            against: against_times(
                &context.timing,
                &cadences.ticks,
                interrupts.contradictions(),
                &unannounced,
                &Conduct::default(),
            ),
            ..Facts::of(&context.timing)
        },
        confirmed: None,
    };
    let file = BudgetFile::parse("budgets.toml", budgets).unwrap();
    judge(&file, &counts, Some(&timings), None, &context).unwrap().budgets
}

/// A budget of chance, and whether it is truly kept: `None` where the truth does not say.
fn budget(
    life: &Life,
    (window, last_packet): (&Range<u64>, u64),
    way_back: WayBack<'_>,
    chance: &mut Chance,
) -> Option<(String, Option<bool>)> {
    let of = chance.one_of(&Of::ALL);
    if chance.once_in(4) {
        let extremes = chance.one_of(&[Of::Min, Of::Mean, Of::Max]);
        let asked = chance.one_of(&[
            Asked::Value(extremes),
            Asked::Value(extremes),
            Asked::Deviation,
            Asked::Interval(of),
            Asked::Count,
            Asked::Rate,
        ]);
        let truth = truth::of_quantity(&life.values, asked, window, last_packet)?;
        return limited(&format!("signal.\"quantity {QUANTITY}\""), asked, truth, chance);
    }
    if chance.once_in(3) {
        let task = chance.within(0, life.tasks.len() as u64) as usize;
        let asked = chance.one_of(&[
            Asked::Own(of),
            Asked::Elapsed(of),
            Asked::Response(of),
            Asked::Pending(of),
            Asked::Period(of),
        ]);
        let truth = truth::of_task(&life.tasks[task], asked, window, way_back)?;
        return limited(&format!("task.\"{}\"", FIRST_TASK + task as u16), asked, truth, chance);
    }
    let is_span = chance.once_in(4);
    let (subject, runs) = if is_span {
        ("span.\"5\"".to_owned(), &life.spans)
    } else {
        let number = chance.within(0, life.runs.len() as u64) as usize;
        (format!("interrupt.\"{}\"", 16 + number), &life.runs[number])
    };
    let asked = match chance.within(0, 6) {
        0 if !is_span => Asked::Own(of),
        1 | 0 => Asked::Elapsed(of),
        2 => Asked::Period(of),
        3 => Asked::Count,
        4 => Asked::Rate,
        _ if is_span => Asked::Elapsed(of),
        _ => Asked::Load,
    };
    let truth = truth::truth(runs, asked, window, last_packet, way_back)?;
    limited(&subject, asked, truth, chance)
}

/// A limit near the truth, or far from it, and whether it is kept.
fn limited(
    subject: &str,
    asked: Asked,
    (low, high): (f64, f64),
    chance: &mut Chance,
) -> Option<(String, Option<bool>)> {
    let at_most = chance.once_in(2);
    // Half of the limits are within a cycle of the truth.
    let near = chance.one_of(&[-1.0, 0.0, 1.0]);
    let limit = match asked {
        _ if chance.once_in(2) => low * chance.one_of(&[0.5, 2.0]),
        Asked::Rate | Asked::Load => low * (1.0 + (near + 0.5) * 1e-3),
        // Percentiles are known to three digits.
        Asked::Own(of)
        | Asked::Elapsed(of)
        | Asked::Period(of)
        | Asked::Response(of)
        | Asked::Pending(of)
            if matches!(of, Of::P50 | Of::P95) =>
        {
            low * (1.0 + (near + 0.5) * 1e-2)
        }
        Asked::Value(Of::Mean) | Asked::Deviation => low + near * 1e-3 + 5e-4,
        Asked::Interval(Of::P50 | Of::P95) => low * (1.0 + (near + 0.5) * 1e-2),
        // As written, it is rounded: a limit that is just the truth is kept.
        _ => low + near + if at_most { 1e-6 } else { -1e-6 },
    };
    let kept = |value: f64| {
        let rounding = limit.abs() * 1e-9;
        if at_most { value <= limit + rounding } else { value >= limit - rounding }
    };
    let kept = (kept(low) == kept(high)).then(|| kept(low));
    let sign = if at_most { "<=" } else { ">=" };
    let (key, text) = match asked {
        Asked::Own(of) => (format!("own.{}", of.key()), time(limit)),
        Asked::Elapsed(of) => (format!("elapsed.{}", of.key()), time(limit)),
        Asked::Period(of) => (format!("period.{}", of.key()), time(limit)),
        Asked::Response(of) => (format!("response.{}", of.key()), time(limit)),
        Asked::Pending(of) => (format!("pending.{}", of.key()), time(limit)),
        Asked::Interval(of) => (format!("interval.{}", of.key()), time(limit)),
        Asked::Value(of) => (format!("value.{}", of.key()), format!("{limit:.9}")),
        Asked::Deviation => ("value.stddev".into(), format!("{limit:.9}")),
        Asked::Count => ("count".into(), format!("{limit}")),
        Asked::Rate => ("rate".into(), format!("{:.9} Hz", limit * CLOCK)),
        Asked::Load => ("load".into(), format!("{:.12} %", 100.0 * limit)),
    };
    Some((format!("[{subject}]\n{key} = '{sign} {text}'\n"), kept))
}

fn time(cycles: f64) -> String {
    format!("{:.9} ns", cycles * 1e9 / CLOCK)
}

/// What came of the verdicts of one kind.
#[derive(Debug, Default)]
struct Tally {
    verdicts: u64,
    undecided: u64,
    wrong: Vec<String>,
    /// Why nothing was decided, of the first few.
    reasons: Vec<String>,
}

impl Tally {
    fn add(&mut self, verdict: Verdict, kept: Option<bool>, told: impl Fn() -> String) {
        self.verdicts += 1;
        match (verdict, kept) {
            (Verdict::Undecided, _) => {
                self.undecided += 1;
                if self.reasons.len() < 8 {
                    self.reasons.push(told());
                }
            }
            (Verdict::Met, Some(false)) | (Verdict::Broken, Some(true)) => self.wrong.push(told()),
            _ => {}
        }
    }
}

fn recordings() -> u64 {
    std::env::var("VERDICT_RECORDINGS").ok().and_then(|text| text.parse().ok()).unwrap_or(12)
}

fn tally(fault: Fault, habit: Habit, image: &Image) -> Tally {
    let mut tally = Tally::default();
    for number in 0..recordings() {
        let mut chance = Chance::new(number * 64 + fault as u64 * 8 + habit as u64 + 1);
        let life = Life::new(&mut chance, habit);
        let recording = Recording::of(&life, fault, &mut chance);
        for _ in 0..18 {
            let told = (&recording.window, recording.last_packet);
            let Some((budget, kept)) = budget(&life, told, WayBack(&[]), &mut chance) else {
                continue;
            };
            for judgement in judged(&recording, life.sampling, image, &budget) {
                let told = || format!("{number} {fault:?} {habit:?}: {budget} {judgement:?}");
                tally.add(judgement.verdict, kept, told);
            }
        }
    }
    let part = 100.0 * tally.undecided as f64 / tally.verdicts.max(1) as f64;
    println!(
        "{fault:?}, {habit:?}: {} verdicts, {part:.1} % undecided, {} wrong",
        tally.verdicts,
        tally.wrong.len()
    );
    tally
}

/// What came of verdicts on event traces.
fn tally_traced(fault: TraceFault, habit: Habit, image: &Image) -> Tally {
    let mut tally = Tally::default();
    for number in 0..recordings() {
        let mut chance = Chance::new(number * 64 + fault as u64 * 8 + habit as u64 + 5);
        let life = Life::new(&mut chance, habit);
        let traced = Traced::of(&life, fault, &mut chance);
        let is_left = |(_, what): &&(u64, What)| matches!(what, What::Leave(_));
        let left: Vec<u64> = life.events.iter().filter(is_left).map(|(at, _)| *at).collect();
        for _ in 0..18 {
            let told = (&traced.window, traced.window.end);
            let Some((budget, kept)) = budget(&life, told, WayBack(&left), &mut chance) else {
                continue;
            };
            for judgement in judged_traced(&traced, image, &budget) {
                let told = || format!("{number} {fault:?} {habit:?}: {budget} {judgement:?}");
                tally.add(judgement.verdict, kept, told);
            }
        }
    }
    let part = 100.0 * tally.undecided as f64 / tally.verdicts.max(1) as f64;
    println!(
        "event trace {fault:?}, {habit:?}: {} verdicts, {part:.1} % undecided, {} wrong",
        tally.verdicts,
        tally.wrong.len()
    );
    tally
}

#[test]
fn nothing_is_falsely_met_or_broken_by_event_traces() {
    let image = Image::parse(FIRMWARE).unwrap();
    for fault in TRACE_FAULTS {
        for habit in [Habit::Usual, Habit::FallsSilent] {
            let tally = tally_traced(fault, habit, &image);
            assert!(tally.wrong.is_empty(), "{:#?}", &tally.wrong[..tally.wrong.len().min(4)]);
            // Whether silence is one more period may be said either way.
            let silent = if habit == Habit::FallsSilent { 0.3 } else { 0.0 };
            let is_clean = fault == TraceFault::Clean;
            let most = if is_clean { 0.02 + silent } else { 0.95 };
            assert!(tally.undecided as f64 <= most * tally.verdicts as f64, "{fault:?}");
        }
    }
}

/// Two files that have interrupts by turns may be those of two cores, and nothing says so: nothing is decided.
#[test]
fn several_cores_that_nothing_names_decide_nothing() {
    let image = Image::parse(FIRMWARE).unwrap();
    let tally = tally_traced(TraceFault::ByTurns, Habit::Usual, &image);
    assert!(tally.wrong.is_empty(), "{:#?}", tally.wrong);
    // What keeps any limit that can be set is no secret: no load is above one.
    assert!(tally.undecided as f64 >= 0.97 * tally.verdicts as f64, "{}", tally.undecided);
}

const HABITS: [Habit; 3] = [Habit::Usual, Habit::FallsSilent, Habit::Storms];

#[test]
fn nothing_is_falsely_met_or_broken() {
    let image = Image::parse(FIRMWARE).unwrap();
    let faults = [
        Fault::Clean,
        Fault::Cut,
        Fault::Head,
        Fault::Overflow,
        Fault::Undated,
        Fault::Delayed,
        Fault::DelayedPackets,
        Fault::Prescaled,
        Fault::Grouped,
        Fault::Sleeps,
        Fault::Slows,
        Fault::Windowed,
        Fault::Mixed,
    ];
    for fault in faults {
        assert!(!fault.is_silent());
        for habit in HABITS {
            let tally = tally(fault, habit, &image);
            assert!(tally.wrong.is_empty(), "{:#?}", &tally.wrong[..tally.wrong.len().min(4)]);
            // And not by being undecided.
            // Whether silence is one more period may be said either way.
            let silent = if habit == Habit::FallsSilent { 0.3 } else { 0.0 };
            let most = match fault {
                // Before the first exception of a recording nobody knows whether a handler runs.
                Fault::Clean => 0.02 + silent,
                // 11 % over many recordings; twelve of them scatter.
                Fault::Cut => 0.2 + silent,
                // Nothing says how long anything took.
                Fault::Sleeps | Fault::Slows | Fault::Head => 0.92,
                _ => 0.9,
            };
            assert!(
                tally.undecided as f64 <= most * tally.verdicts as f64,
                "{fault:?}: {:#?}",
                tally.reasons
            );
        }
    }
}

/// A gap bounds what it hides: limits that lie twice as far off as the bounds are decided.
#[test]
fn one_gap_leaves_what_is_far_off_decided() {
    let image = Image::parse(FIRMWARE).unwrap();
    let (mut limits, mut undecided) = (0, Vec::new());
    for number in 0..recordings() * 2 {
        let mut chance = Chance::new(number * 64 + 11);
        let life = Life::new(&mut chance, Habit::Usual);
        let recording = Recording::of(&life, Fault::Overflow, &mut chance);
        let judged = |budget: &str| judged(&recording, life.sampling, &image, budget).remove(0);
        for _ in 0..9 {
            let told = (&recording.window, recording.last_packet);
            let drawn = budget(&life, told, WayBack(&[]), &mut chance);
            // Nothing bounds what a value is while nobody looks.
            let Some((budget, _)) = drawn.filter(|(budget, _)| !budget.contains("value.")) else {
                continue;
            };
            let seen = judged(&budget);
            // What never ran whole has no figure, in a recording without a gap as well.
            let Some(low) = seen.observed_low else { continue };
            let high = seen.observed_high.unwrap_or(f64::NAN);
            let (unit, factor) = match seen.unit.as_str() {
                "hertz" => ("Hz", 1.0),
                "share" => ("%", 100.0),
                "count" => ("", 1.0),
                unit => (unit, 1.0),
            };
            let (head, _) = budget.split_once('\'').unwrap();
            let limit =
                |sign: &str, value: f64| format!("{head}'{sign} {:.12} {unit}'\n", value * factor);
            // Nothing lies below zero.
            let below = (low > 0.0).then(|| limit(">=", low / 2.0));
            for far in [Some(limit("<=", high * 2.0)), below].into_iter().flatten() {
                limits += 1;
                if high.is_nan() || judged(&far).verdict != Verdict::Met {
                    undecided.push((far, seen.clone()));
                }
            }
        }
    }
    println!("{} of {limits} undecided", undecided.len());
    assert!(undecided.len() * 10 <= limits, "{:#?}", &undecided[..2]);
}

/// The formats have no checksums: such bytes may be a sound recording of another life. They are counted, not forbidden.
#[test]
fn silent_faults_are_seldom_believed() {
    let image = Image::parse(FIRMWARE).unwrap();
    for fault in [Fault::Removed, Fault::Flipped] {
        let tally = tally(fault, Habit::Usual, &image);
        assert!(fault.is_silent() && tally.wrong.len() as u64 * 5 < tally.verdicts, "{tally:?}");
    }
}

/// Samples in handlers say so; where too few fall there, the bytes may be those of another life.
#[test]
fn exceptions_that_are_not_traced_any_more_are_noticed_by_samples() {
    let image = Image::parse(FIRMWARE).unwrap();
    let tally = tally(Fault::SwitchedOff, Habit::Usual, &image);
    assert!(tally.wrong.len() as u64 * 40 < tally.verdicts, "{:#?}", &tally.wrong[..1]);
}

/// Shares of samples: the interval holds the share of this recording as often as it promises.
#[test]
fn shares_are_where_their_intervals_say() {
    let image = Image::parse(FIRMWARE).unwrap();
    for habit in [Habit::Usual, Habit::KeepsStep] {
        let (mut inside, mut all, mut widths) = (0_u64, 0_u64, 0.0);
        let (mut far, mut decided) = (0_u64, 0_u64);
        for number in 0..recordings() * 4 {
            let mut chance = Chance::new(number * 64 + 7 + habit as u64);
            let life = Life::new(&mut chance, habit);
            let recording = Recording::of(&life, Fault::Clean, &mut chance);
            let budget = "[function.sine]\nself_share = '<= 50 %'\n";
            let judgement = judged(&recording, life.sampling, &image, budget).remove(0);
            let truly = truth::share(&life, &recording.window);
            let [low, high] = [judgement.observed_low, judgement.observed_high].map(Option::unwrap);
            inside += u64::from(low <= truly && truly <= high);
            (all, widths) = (all + 1, widths + high - low);
            // And a limit that lies two half-widths away is decided.
            let (middle, half) = (f64::midpoint(low, high), (high - low) / 2.0);
            for (sign, limit) in [("<=", middle + 2.0 * half), (">=", middle - 2.0 * half)] {
                if habit != Habit::Usual || limit <= 0.0 || number % 4 > 0 {
                    continue;
                }
                let limit = format!("{sign} {:.6} %", 100.0 * limit);
                let budget = format!("[function.sine]\nself_share = '{limit}'\n");
                let verdict = judged(&recording, life.sampling, &image, &budget).remove(0).verdict;
                (far, decided) = (far + 1, decided + u64::from(verdict == Verdict::Met));
            }
        }
        assert!(decided * 10 >= far * 9, "{decided} of {far}");
        println!("{habit:?}: {inside} of {all} shares inside, {:.3} wide", widths / all as f64);
        assert!(inside as f64 >= 0.93 * all as f64 - 1.0, "{habit:?}: {inside} of {all}");
    }
}

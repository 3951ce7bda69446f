//! Verdicts on what was executed, over recordings that were cut, damaged or outrun: none is falsely met or broken.

use crate::calls::By;
use crate::chance::Chance;
use crate::executed::{FIRMWARE, image};
use crate::real_calls::{Call, Life};
use crate::recording::{ETM, FAST, Told, traced};
use std::collections::BTreeSet;
use std::ops::Range;
use weltblick_core::event::{FlowEvents, Origin};
use weltblick_core::figure::Doubt;
use weltblick_core::flow::Clocking;
use weltblick_core::image::{FunctionId, Image};
use weltblick_core::judge::{BudgetFile, Judgement, Timings, Verdict, judge};
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::execution::{
    BlockCounts, Calls, Confirmed, Executed, Listing, Seen, Sleep, Tally, TimeAgreement,
};
use weltblick_core::measure::inspection::{Unannounced, trace_doubts};
use weltblick_core::measure::interrupts::InterruptFigures;
use weltblick_core::measure::known::{Facts, against_times};
use weltblick_core::measure::profile::{Conduct, Context, SampleCounts};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::span::StatedSpans;
use weltblick_core::measure::statistic::Scale;
use weltblick_core::measure::tasks::{Settings, TaskFigures, Tracking};
use weltblick_core::measure::timing::{Clocks, Timing};
use weltblick_core::time::Frequency;

const CLOCK: f64 = 48e6;
/// Bytes of a trace within which everything agrees or not: a few synchronisations.
const SETTLES: usize = 3000;
/// Cycles that may count with a call or not, where it begins and ends, and where a handler interrupts it.
const EDGE: u64 = 30;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    Clean,
    /// It is only a part, begun and ended anywhere; judged from its first synchronisation on.
    Cut,
    /// Cut as well, and all of it is judged: what its first bytes were about, too.
    Head,
    /// The link is too slow.
    Overflow,
    /// Bytes are missing, or changed.
    Removed,
    Flipped,
}

/// A recording, and what is certain of it.
struct Recorded {
    bytes: Vec<u8>,
    told: Told,
    clocking: Clocking,
    /// All that it tells happened then, and all that happened in the other it tells, or says that it does not.
    within: Range<u64>,
    certainly: Range<u64>,
    without_head: bool,
}

fn lives(by: By, bit_rate: u64, image: &Image, cycles: u64) -> (Life, Told) {
    let (unit, told, mut registers) = by.set_up();
    // Synchronise often: every 256 bytes.
    registers.insert(
        1,
        match by {
            By::Etmv4(_) | By::Stamped => (ETM + 0x034, 8),
            By::Etmv3 => (ETM + 0x1e0, 256),
        },
    );
    registers.dedup_by_key(|(address, _)| *address);
    (Life::of(traced(FIRMWARE, unit, bit_rate, &registers), image, cycles), told)
}

fn recorded(
    life: &Life,
    (told, clocking): (Told, Clocking),
    fault: Fault,
    chance: &mut Chance,
) -> Recorded {
    let mut bytes = life.bytes.clone();
    let length = bytes.len() as u64;
    let all = 0..life.end;
    let (mut within, mut certainly) = (all.clone(), all);
    match fault {
        Fault::Clean | Fault::Overflow => {}
        Fault::Cut | Fault::Head => {
            let from = chance.within(0, length / 2) as usize;
            let until = chance.within(from as u64 + length / 4, length) as usize;
            bytes = bytes[from..until].to_vec();
            within = life.when(from.saturating_sub(SETTLES))..life.when(until + SETTLES);
            certainly = life.when(from + SETTLES)..life.when(until.saturating_sub(SETTLES));
        }
        Fault::Removed => {
            let at = chance.within(length / 4, length * 3 / 4) as usize;
            bytes.drain(at..at + chance.within(1, 3000) as usize);
        }
        Fault::Flipped => {
            let at = chance.within(length / 4, length * 3 / 4) as usize;
            bytes[at] ^= 1 << chance.within(0, 8);
        }
    }
    Recorded { bytes, told, clocking, within, certainly, without_head: fault == Fault::Cut }
}

/// What `check` would say.
fn judged(
    recorded: &Recorded,
    image: &Image,
    listing: &Listing,
    budgets: &[String],
) -> Vec<Vec<Judgement>> {
    let calls = Calls::new(image, recorded.clocking);
    let beside = (TimeAgreement::default(), Sleep::new(recorded.clocking));
    let mut sink = ((BlockCounts::default(), beside), calls);
    let code = recorded.told.follow(image, &[], (&recorded.bytes, 0), &mut sink);
    let ((counts, (agreement, mut sleep)), mut calls) = sink;
    calls.finish();
    let tally: Tally = counts.into_tally(&code);
    let seen_of = |tally: &Tally| {
        let mut seen = Seen::of_flow(tally, listing);
        if recorded.without_head {
            seen.gaps.head = 0;
        }
        seen
    };
    let seen = seen_of(&tally);
    let confirmed = tally.confirmed.as_ref().map(|tally| Confirmed {
        seen: seen_of(tally),
        calls: calls.take_confirmed(),
        ways: Vec::new(),
        sleep: sleep.take_confirmed(),
    });
    let clock = Frequency::from_hertz(CLOCK);
    let executed = Executed {
        image,
        listing,
        seen: &seen,
        calls: Some(&calls),
        ways: &[],
        sleep: Some(&sleep),
        scale: clock.map(|clock| Scale::of(clock, Some(clock))),
        intrusive: false,
        kept_the_end: false,
        times_disagree: agreement.contradictions(),
        confirmed: confirmed.as_ref(),
    };
    let clocks = Clocks {
        stated_period: None,
        core_clock: clock,
        timestamp_clock: clock,
        tick_period: None,
    };
    let (facts, cadences) = (Recording::default(), Cadences::default());
    let context = Context {
        image,
        timing: Timing { recording: &facts, clocks },
        cadences: &cadences,
        cut: 0,
        confidence: 0.95,
        conduct: Conduct::default(),
    };
    let judged = |budget: &String| {
        let file = BudgetFile::parse("budgets.toml", budget).unwrap();
        judge(&file, &SampleCounts::default(), None, Some(&executed), &context).unwrap().budgets
    };
    budgets.iter().map(judged).collect()
}

/// What `check` would say of interrupts, by the same bytes.
fn judged_interrupts(
    recorded: &Recorded,
    image: &Image,
    budgets: &[String],
) -> Vec<Vec<Judgement>> {
    let follow = |only_confirmed: bool| {
        let tasks = TaskFigures::new(Settings { keep: 0, window: 4_800_000, each: false });
        let tracking = Tracking::beside(1.0, tasks, InterruptFigures::new(0));
        let mut counted = (tracking, Recording::default());
        let events = FlowEvents::new(Origin(0), recorded.clocking, &mut counted);
        let mut events = if only_confirmed { events.confirmed() } else { events };
        let mut sink = ((TimeAgreement::default(), BlockCounts::default()), &mut events);
        recorded.told.follow(image, &[], (&recorded.bytes, 0), &mut sink);
        let ((times, counts), _) = sink;
        events.finish();
        let (tracking, facts) = counted;
        let (_, mut interrupts) = tracking.finish_both_at(facts.end());
        interrupts.finish();
        interrupts.ended_at(facts.last_moment());
        let mut gaps = counts.gaps().clone();
        if recorded.without_head {
            gaps.head = 0;
        }
        (interrupts, facts, (times.contradictions(), gaps))
    };
    let [(interrupts, facts, (times, gaps)), (before, facts_before, _)] = [false, true].map(follow);
    let (spans, cadences) = (StatedSpans::new(0), Cadences::default());
    let core_clock = Frequency::from_hertz(CLOCK);
    let clocks =
        Clocks { stated_period: None, core_clock, timestamp_clock: core_clock, tick_period: None };
    let context = Context {
        image,
        timing: Timing { recording: &facts, clocks },
        cadences: &cadences,
        cut: 0,
        confidence: 0.95,
        conduct: Conduct::default(),
    };
    let head = (gaps.head > 0).then_some(Doubt::Head { bytes: gaps.head });
    let against = || {
        let unannounced = Unannounced::default();
        let times_of = against_times(
            &context.timing,
            &cadences.ticks,
            interrupts.contradictions(),
            &unannounced,
            &context.conduct,
        );
        trace_doubts(times, &gaps).into_iter().chain(head.clone()).chain(times_of).collect()
    };
    let timings = |interrupts, recording: &Recording, confirmed| Timings {
        interrupts,
        tasks: &[],
        spans: &spans,
        signals: None,
        image: Some(image),
        facts: Facts {
            exceptions: true,
            by_pace: true,
            against: against(),
            ..Facts::of(&Timing { recording, clocks })
        },
        confirmed,
    };
    let confirmed = timings(&before, &facts_before, None);
    let timings = timings(&interrupts, &facts, Some(&confirmed));
    let judged = |budget: &String| {
        let file = BudgetFile::parse("budgets.toml", budget).unwrap();
        judge(&file, &SampleCounts::default(), Some(&timings), None, &context).unwrap().budgets
    };
    budgets.iter().map(judged).collect()
}

/// A budget on an interrupt, and whether it is truly kept.
fn interrupt_budget(
    life: &Life,
    recorded: &Recorded,
    chance: &mut Chance,
) -> Option<(String, Option<bool>)> {
    let (exception, _) = life.handlers[chance.within(0, life.handlers.len() as u64) as usize];
    let runs: Vec<&Range<u64>> =
        life.handlers.iter().filter(|run| run.0 == exception).map(|run| &run.1).collect();
    let begun = |window: &Range<u64>| -> Vec<u64> {
        runs.iter().map(|run| run.start).filter(|at| window.contains(at)).collect()
    };
    let inside = |run: &Range<u64>, window: &Range<u64>| {
        run.end.min(window.end).saturating_sub(run.start.max(window.start))
    };
    let whole = |window: &Range<u64>| -> Vec<u64> {
        let whole = runs.iter().filter(|run| run.start >= window.start && run.end <= window.end);
        whole.map(|run| run.end - run.start).collect()
    };
    let Recorded { within, certainly, .. } = recorded;
    let (key, (low, high)) = match chance.within(0, 4) {
        0 => ("count", (begun(certainly).len() as u64, begun(within).len() as u64)),
        1 => {
            let most = runs.iter().map(|run| inside(run, within) + EDGE).max()?;
            ("elapsed.max", (whole(certainly).into_iter().max()?.saturating_sub(EDGE), most))
        }
        2 => {
            let least = whole(within).into_iter().min()?.saturating_sub(EDGE);
            ("elapsed.min", (least, whole(certainly).into_iter().min()? + EDGE))
        }
        _ => {
            let between = |starts: &[u64]| starts.windows(2).map(|two| two[1] - two[0]).max();
            let silence = |window: &Range<u64>| begun(window).last().map(|last| window.end - last);
            let most = between(&begun(within)).into_iter().chain(silence(within)).max()?;
            ("period.max", (between(&begun(certainly))?.saturating_sub(EDGE), most + EDGE))
        }
    };
    let (low, high) = (low as f64, high as f64);
    let limit = chance.one_of(&[low * 0.5, high * 2.0, low - 1.0, high + 1.0]).max(0.0);
    let at_most = chance.once_in(2);
    let kept = |value: f64| if at_most { value <= limit } else { value >= limit };
    let kept = (kept(low) == kept(high)).then(|| kept(low));
    let sign = if at_most { "<=" } else { ">=" };
    let limit = match key {
        "count" => format!("{limit}"),
        _ => format!("{:.6} ns", limit * 1e9 / CLOCK),
    };
    Some((format!("[interrupt.\"{exception}\"]\n{key} = '{sign} {limit}'\n"), kept))
}

/// A budget on how much the core sleeps, and whether it is truly kept.
fn sleep_budget(life: &Life, recorded: &Recorded, chance: &mut Chance) -> (String, Option<bool>) {
    let slept = |window: &Range<u64>| {
        let within = |range: &Range<u64>| {
            range.end.min(window.end).saturating_sub(range.start.max(window.start))
        };
        life.slept.iter().map(within).sum::<u64>() as f64
    };
    let Recorded { within, certainly, .. } = recorded;
    let length = |window: &Range<u64>| window.end.saturating_sub(window.start).max(1) as f64;
    // It is entered and left within some cycles each time.
    let about = 8.0 * life.slept.len() as f64;
    let low = (slept(certainly) - about) / length(within);
    let high = ((slept(within) + about) / length(certainly)).min(1.0);
    let off = chance.one_of(&[-0.3, -0.05, -0.002, 0.002, 0.05, 0.3]);
    let limit = (if off < 0.0 { low } else { high } + off).clamp(0.0, 1.0);
    let at_most = chance.once_in(2);
    let kept = |value: f64| if at_most { value <= limit } else { value >= limit };
    let kept = (kept(low) == kept(high)).then(|| kept(low));
    let sign = if at_most { "<=" } else { ">=" };
    (format!("[sleep]\nshare = '{sign} {:.6} %'\n", 100.0 * limit), kept)
}

/// What a budget asks for.
#[derive(Debug, Clone, Copy)]
enum Asked {
    Calls,
    Longest { own: bool },
    Shortest { own: bool },
    Covered,
}

impl Call {
    fn cycles(&self, own: bool, window: &Range<u64>) -> u64 {
        let within = |range: &Range<u64>| {
            range.end.min(window.end).saturating_sub(range.start.max(window.start))
        };
        if own { self.ran.iter().map(within).sum() } else { within(&(self.began..self.ended)) }
    }

    /// How far off opinions about it may be.
    fn about(&self) -> u64 {
        EDGE * (self.ran.len() as u64 + 1) + self.began - self.entered
    }

    fn is_whole(&self, window: &Range<u64>) -> bool {
        self.began >= window.start && self.ended <= window.end
    }
}

/// The least and the most that may be called the truth.
fn truth(
    life: &Life,
    recorded: &Recorded,
    listing: &Listing,
    image: &Image,
    function: FunctionId,
    asked: Asked,
) -> Option<(f64, f64)> {
    let calls: Vec<&Call> = life.calls.iter().filter(|call| call.function == function).collect();
    let Recorded { within, certainly, .. } = recorded;
    let (low, high) = match asked {
        Asked::Calls => {
            let begun = |window: &Range<u64>| {
                calls.iter().filter(|call| window.contains(&call.began)).count() as u64
            };
            (begun(certainly), begun(within))
        }
        Asked::Longest { own } => {
            if calls.iter().any(|call| call.slept) {
                return None;
            }
            let whole = calls.iter().filter(|call| call.is_whole(certainly));
            let low =
                whole.map(|call| call.cycles(own, certainly).saturating_sub(call.about())).max()?;
            let high = calls.iter().map(|call| call.cycles(own, within) + call.about()).max()?;
            (low, high)
        }
        Asked::Shortest { own } => {
            if calls.iter().any(|call| call.slept) {
                return None;
            }
            let whole = |window: &Range<u64>| {
                let whole = calls.iter().filter(|call| call.is_whole(window));
                whole.map(|call| (call.cycles(own, window), call.about())).collect::<Vec<_>>()
            };
            let low =
                whole(within).iter().map(|(cycles, about)| cycles.saturating_sub(*about)).min()?;
            (low, whole(certainly).iter().map(|(cycles, about)| cycles + about).min()?)
        }
        Asked::Covered => {
            let range = &image.function(function).range;
            let all =
                listing.instructions.iter().filter(|one| range.contains(&one.address)).count();
            let ran = |window: &Range<u64>| {
                let ran =
                    life.ran.iter().filter(|(pc, at)| range.contains(pc) && window.contains(at));
                ran.map(|(pc, _)| *pc).collect::<BTreeSet<u64>>().len() as f64
            };
            return Some((ran(certainly) / all as f64, ran(within) / all as f64));
        }
    };
    Some((low as f64, high as f64))
}

/// A budget of chance, and whether it is truly kept.
fn budget(
    image: &Image,
    function: FunctionId,
    asked: Asked,
    (low, high): (f64, f64),
    chance: &mut Chance,
) -> (String, Option<bool>) {
    let at_most = chance.once_in(2);
    let limit = match chance.within(0, 4) {
        0 => low * 0.5,
        1 => high * 2.0,
        2 => low - 1.0,
        _ => high + 1.0,
    };
    let limit = match asked {
        Asked::Covered => (low + chance.one_of(&[-0.02, 0.02])).clamp(0.0, 1.0),
        _ => limit.max(0.0),
    };
    let kept = |value: f64| if at_most { value <= limit } else { value >= limit };
    let kept = (kept(low) == kept(high)).then(|| kept(low));
    let sign = if at_most { "<=" } else { ">=" };
    let name = &image.function(function).name;
    let nanoseconds = limit * 1e9 / CLOCK;
    let what = |own: bool| if own { "own" } else { "elapsed" };
    let text = match asked {
        Asked::Calls => format!("[function.{name}]\ncalls = '{sign} {limit}'\n"),
        Asked::Longest { own } => {
            format!("[function.{name}]\ntotal.{}.max = '{sign} {nanoseconds:.6} ns'\n", what(own))
        }
        Asked::Shortest { own } => {
            format!("[function.{name}]\ntotal.{}.min = '{sign} {nanoseconds:.6} ns'\n", what(own))
        }
        _ => format!("[coverage.{name}]\ninstructions = '{sign} {:.9} %'\n", 100.0 * limit),
    };
    (text, kept)
}

/// Verdicts, undecided ones, and what was wrong.
fn tally(by: By, fault: Fault, recordings: u64) -> (u64, u64, Vec<String>) {
    let image = image();
    let listing = Listing::of(&image);
    let bit_rate = if fault == Fault::Overflow { 15_000_000 } else { FAST };
    let (life, told) = lives(by, bit_rate, &image, 3_000_000);
    let called: BTreeSet<FunctionId> = life.calls.iter().map(|call| call.function).collect();
    let called: Vec<FunctionId> = called.into_iter().collect();
    let (mut verdicts, mut undecided, mut wrong) = (0, 0, Vec::new());
    for number in 0..recordings {
        let mut chance = Chance::new(number * 8 + fault as u64 + 1);
        let recorded = recorded(&life, (told, by.clocking()), fault, &mut chance);
        let mut budgets = Vec::new();
        while budgets.len() < 60 {
            let function = chance.one_of(&called);
            let own = chance.once_in(2);
            let asked = chance.one_of(&[
                Asked::Calls,
                Asked::Longest { own },
                Asked::Longest { own },
                Asked::Shortest { own },
                Asked::Covered,
            ]);
            if let Some(truth) = truth(&life, &recorded, &listing, &image, function, asked) {
                budgets.push(budget(&image, function, asked, truth, &mut chance));
            }
        }
        budgets.extend((0..4).map(|_| sleep_budget(&life, &recorded, &mut chance)));
        let texts: Vec<String> = budgets.iter().map(|(text, _)| text.clone()).collect();
        let mut judged = judged(&recorded, &image, &listing, &texts);
        let drawn = (0..20).filter_map(|_| interrupt_budget(&life, &recorded, &mut chance));
        let of_interrupts: Vec<_> = drawn.collect();
        let texts: Vec<String> = of_interrupts.iter().map(|(text, _)| text.clone()).collect();
        judged.extend(judged_interrupts(&recorded, &image, &texts));
        for ((text, kept), judgements) in budgets.iter().chain(&of_interrupts).zip(judged) {
            for judgement in judgements {
                verdicts += 1;
                match (judgement.verdict, kept) {
                    (Verdict::Undecided, _) => undecided += 1,
                    (Verdict::Met, Some(false)) | (Verdict::Broken, Some(true)) => {
                        wrong.push(format!("{number} {by:?} {fault:?}: {text} {judgement:?}"));
                    }
                    _ => {}
                }
            }
        }
    }
    println!("{by:?} {fault:?}: {verdicts} verdicts, {undecided} undecided, {} wrong", wrong.len());
    (verdicts, undecided, wrong)
}

fn recordings() -> u64 {
    std::env::var("VERDICT_RECORDINGS").ok().and_then(|text| text.parse().ok()).unwrap_or(8)
}

const TOLD: [By; 3] = [By::Etmv4(32), By::Etmv3, By::Stamped];

#[test]
fn nothing_that_was_executed_is_falsely_met_or_broken() {
    for by in TOLD {
        for fault in [Fault::Clean, Fault::Cut, Fault::Head, Fault::Overflow] {
            let (verdicts, undecided, wrong) = tally(by, fault, recordings());
            assert!(wrong.is_empty(), "{:#?}", &wrong[..wrong.len().min(3)]);
            // And not by being undecided: between two counts of cycles nobody knows a short call to the cycle.
            let most = match fault {
                // Timestamps come with synchronisations, and bound little.
                _ if by.clocking() == Clocking::Timestamps => 1.0,
                Fault::Clean => 0.25,
                Fault::Cut => 0.5,
                _ => 1.0,
            };
            assert!(undecided as f64 <= most * verdicts as f64, "{by:?} {fault:?}: {undecided}");
        }
    }
}

/// Where what is left is a sound recording of another life, nothing gives it away.
#[test]
fn damage_to_a_trace_is_seldom_believed() {
    for by in TOLD {
        for fault in [Fault::Removed, Fault::Flipped] {
            let (verdicts, _, wrong) = tally(by, fault, recordings());
            assert!(wrong.len() as u64 * 50 < verdicts, "{by:?} {fault:?}: {:#?}", &wrong[..1]);
        }
    }
}

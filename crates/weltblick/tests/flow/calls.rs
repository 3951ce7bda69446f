//! Calls and coverage from instruction flow, held against what the stand-in executed.

use crate::executed::image;
use crate::recording::{self, ETM, FAST, Told, certain};
use std::collections::HashMap;
use std::ops::Range;
use weltblick_core::flow::{Clocking, Code};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{
    BlockCounts, Calls, Listed, Listing, Named, OnStack, Role, Root, Seen, Times,
};
use weltblick_core::stats::Bounds;
use weltblick_core::wire::etmv4::{Decoder, Packet, Settings};
use weltblick_core::wire::{Malformed, Sink};
use weltblick_standin::Machine;
use weltblick_standin::trace::Fitted;
use weltblick_standin::trace::etmv3::Etm;

/// Cycle counts and return stack.
const CONFIG: u32 = 1 | 1 << 4 | 1 << 12;
/// Timestamps and return stack.
const STAMPED: u32 = 1 | 1 << 11 | 1 << 12;
/// `ETMCR`.
const CYCLE_ACCURATE: u32 = 1 << 12;

/// What tells.
#[derive(Debug, Clone, Copy)]
pub(crate) enum By {
    /// ETMv4, with a cycle count from so many cycles on.
    Etmv4(u32),
    /// ETMv3 with the cycles of every instruction.
    Etmv3,
    /// ETMv4 with timestamps alone.
    Stamped,
}

struct Recorded<'a> {
    machine: Machine,
    counts: BlockCounts,
    calls: Calls<'a>,
    code: Code<'a>,
}

impl By {
    /// What carries time.
    pub(crate) const fn clocking(self) -> Clocking {
        match self {
            Self::Stamped => Clocking::Timestamps,
            Self::Etmv4(_) | Self::Etmv3 => Clocking::Cycles,
        }
    }

    /// The trace unit and its registers, and how to read it.
    pub(crate) fn set_up(self) -> (Fitted, Told, Vec<(u32, u32)>) {
        match self {
            Self::Etmv4(threshold) => {
                let registers = vec![
                    (ETM + 0x010, CONFIG),
                    (ETM + 0x034, 12),
                    (ETM + 0x038, threshold),
                    (ETM + 0x080, 1 | 1 << 9),
                    (ETM + 0x004, 1),
                ];
                (Fitted::default(), Told::Etmv4(CONFIG), registers)
            }
            Self::Stamped => {
                let registers = vec![
                    (ETM + 0x010, STAMPED),
                    (ETM + 0x034, 12),
                    (ETM + 0x080, 1 | 1 << 9),
                    (ETM + 0x004, 1),
                ];
                (Fitted::default(), Told::Etmv4(STAMPED), registers)
            }
            Self::Etmv3 => {
                let registers = vec![(ETM + 0x020, 0x6f), (ETM, CYCLE_ACCURATE)];
                (Fitted::Etmv3(Etm::default()), Told::etmv3(CYCLE_ACCURATE), registers)
            }
        }
    }
}

/// The demo's firmware for so many cycles, as a trace unit tells it.
pub(crate) fn recorded(cycles: u64, by: By) -> (Machine, Vec<u8>, Told) {
    let (unit, told, registers) = by.set_up();
    let (machine, bytes) = recording::record(unit, FAST, &registers, cycles);
    (machine, bytes, told)
}

fn record(image: &Image, cycles: u64, by: By) -> Recorded<'_> {
    let (machine, bytes, told) = recorded(cycles, by);
    let mut sink = (BlockCounts::default(), Calls::new(image, Clocking::Cycles));
    let code = told.follow(image, &[], (&bytes, 0), &mut sink);
    let (counts, mut calls) = sink;
    calls.finish();
    Recorded { machine, counts, calls, code }
}

#[test]
fn every_instruction_is_counted_exactly() {
    for by in [By::Etmv4(32), By::Etmv3] {
        counts_are_exact(by);
    }
}

fn counts_are_exact(by: By) {
    let image = image();
    let Recorded { machine, counts, code, .. } = record(&image, 40_000_000, by);
    let listing = Listing::of(&image);
    let tally = counts.into_tally(&code);
    let seen = Seen::of_flow(&tally, &listing);
    let mut truth: HashMap<u64, u64> = HashMap::new();
    let told = certain(&machine);
    told.iter().for_each(|&pc| *truth.entry(u64::from(pc)).or_default() += 1);
    assert_eq!(tally.instructions(), told.len() as u64);
    // Conditions of `it` blocks are known where every instruction has an atom.
    let conditional = |listed: &Listed| listed.role == Role::Conditional;
    for listed in listing.instructions.iter().filter(|listed| conditional(listed)) {
        assert_eq!(seen.ways.contains_key(&listed.address), seen.conditions);
    }
    for (listed, &count) in listing.instructions.iter().zip(&seen.executed) {
        let true_count = truth.remove(&listed.address).unwrap_or(0);
        assert_eq!(count, true_count, "{:#x}", listed.address);
    }
    assert!(truth.is_empty(), "outside every function: {truth:x?}");
    // A branch went on as often as the instruction behind it was reached from it.
    let mut ways: HashMap<u64, [u64; 2]> = HashMap::new();
    for pair in told.windows(2) {
        let (from, to) = (u64::from(pair[0]), u64::from(pair[1]));
        if let Some(listed) = listing.position(from).map(|place| listing.instructions[place]) {
            let on = to == from + u64::from(listed.length);
            ways.entry(from).or_default()[usize::from(!on)] += 1;
        }
    }
    let two_way = listing.instructions.iter().filter(|listed| matches!(listed.role, Role::Branch));
    for listed in two_way {
        let seen = seen.ways.get(&listed.address).copied().unwrap_or_default();
        let real = ways.get(&listed.address).copied().unwrap_or_default();
        // Where an exception came in right behind it, only the trace knows.
        let apart = seen[0].abs_diff(real[0]) + seen[1].abs_diff(real[1]);
        assert!(
            apart <= seen.iter().sum::<u64>() / 20 + 3,
            "{:#x}: {seen:?} {real:?}",
            listed.address
        );
        assert_eq!(seen[0] > 0, real[0] > 0, "{:#x}", listed.address);
    }
}

#[test]
fn calls_are_counted_exactly() {
    for by in [By::Etmv4(32), By::Etmv3] {
        call_counts_are_exact(by);
    }
}

fn call_counts_are_exact(by: By) {
    let image = image();
    let Recorded { machine, calls, .. } = record(&image, 40_000_000, by);
    let told = certain(&machine);
    let figures: HashMap<Named, _> = calls.figures().collect();
    let (mut all, mut cut, mut told_apart) = (0, 0, 0);
    for (number, function) in (0..).zip(image.functions()) {
        let range = function.range.start as u32..function.range.end as u32;
        // A loop back to the first instruction is no call.
        let begins = |pair: &&[u32]| pair[1] == range.start && !range.contains(&pair[0]);
        let entries = told.windows(2).filter(begins).count() as u64;
        let entries = entries + u64::from(told[0] == range.start);
        let id = Named(Some(weltblick_core::image::FunctionId(number)));
        let (found, open) = figures.get(&id).map_or((0, 0), |figures| (figures.calls, figures.cut));
        assert_eq!(found, entries, "{}", function.name);
        let ended = figures.get(&id).map_or(0, |figures| figures.instructions.count());
        assert_eq!(found, ended + open, "{}", function.name);
        println!("{:24} {found:6} calls, {open} cut", function.name);
        // What calls ran themselves is all that ran in the function, unless some is not known.
        if let Some(figures) = figures.get(&id).filter(|figures| {
            figures.cut == 0 && figures.self_instructions.count() == figures.calls
        }) {
            let nodes = calls.tree().nodes().iter();
            let own = nodes.filter(|node| node.function == Some(id)).map(|node| node.instructions);
            let mean = figures.self_instructions.mean().map_or(0.0, Bounds::middle);
            let sum = (mean * figures.calls as f64).round() as u64;
            assert_eq!(sum, own.sum::<u64>(), "{}", function.name);
            let each = [&figures.self_own, &figures.own].map(|spread| spread.max().unwrap());
            assert!(each[0].low <= each[1].high && each[0].high <= each[1].high);
            // Who calls nobody has all of his time for himself.
            let tree = calls.tree();
            let calls_nobody = tree.nodes().iter().all(|node| {
                node.parent.is_none_or(|parent| tree.node(parent).function != Some(id))
            });
            assert!(!calls_nobody || each[0].high >= each[1].low, "{} {each:?}", function.name);
            told_apart += 1;
        }
        all += found;
        cut += open;
    }
    assert!(all > 10_000 && cut * 100 < all, "{cut} of {all} cut");
    assert!(told_apart > 20, "{told_apart}");
    assert_eq!(calls.instructions(), told.len() as u64);
    let by_path: u64 = calls.tree().nodes().iter().map(|node| node.instructions).sum();
    assert_eq!(by_path, told.len() as u64);
}

/// Where counts of up to 127 cycles stand that have no short form.
#[derive(Default)]
struct LongCounts(Vec<usize>);

impl Sink<Packet> for LongCounts {
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        let long = matches!(packet, Packet::CycleCount { cycles: Some(48..), .. });
        if long && at.end - at.start == 2 {
            self.0.push(at.start as usize);
        }
    }
    fn loss(&mut self, _: Range<u64>, _: Malformed) {}
}

#[test]
fn one_count_that_is_not_known_is_enough_not_to_know_all_time() {
    let image = image();
    for by in [By::Etmv4(4), By::Etmv4(256), By::Etmv3] {
        assert!(record(&image, 5_000_000, by).calls.knows_all_time(), "{by:?}");
    }
    let (_, mut bytes, told) = recorded(5_000_000, By::Etmv4(32));
    let mut counts = LongCounts::default();
    let settings = Settings { trcconfigr: CONFIG, ..Settings::default() };
    Decoder::new(settings).push(&bytes, &mut counts);
    let place = counts.0[counts.0.len() / 2];
    assert_eq!(bytes[place], 0x0e);
    // One that says so, and a packet that says nothing.
    bytes[place..place + 2].copy_from_slice(&[0x0f, 0x70]);
    let mut sink = (BlockCounts::default(), Calls::new(&image, Clocking::Cycles));
    told.follow(&image, &[], (&bytes, 0), &mut sink);
    let (counts, mut calls) = sink;
    calls.finish();
    assert!(counts.gaps().is_whole() && !calls.knows_all_time());
}

#[test]
fn handlers_last_as_long_as_they_really_do() {
    let image = image();
    for by in [By::Etmv4(4), By::Etmv4(64), By::Etmv3] {
        let Recorded { machine, calls, .. } = record(&image, 20_000_000, by);
        let ticks = calls.ticks().unwrap();
        assert!(ticks <= machine.cycle() && ticks + 100_000 > machine.cycle());
        let figures: HashMap<Named, _> = calls.figures().collect();
        let mut checked = 0;
        for exception in 11..40_u16 {
            let runs = machine.truth().exceptions.iter().filter(|e| e.number == exception);
            let lasted: Vec<u64> = runs.filter_map(|run| Some(run.left? - run.entered)).collect();
            let (Some(shortest), Some(longest)) = (lasted.iter().min(), lasted.iter().max()) else {
                continue;
            };
            let handler = image.vector(exception).unwrap().handler;
            let figures = figures[&Named(handler)];
            let within = |bounds: Bounds, real: u64, what: &str| {
                // The return itself lies in it or not.
                let (low, high) = (bounds.low - 12.0, bounds.high + 12.0);
                assert!(
                    low <= real as f64 && real as f64 <= high,
                    "{exception} {what}: {real} {bounds:?}"
                );
            };
            let ticks = |ticks: weltblick_core::stats::Ticks| Bounds::from(ticks);
            within(ticks(figures.elapsed.min().unwrap()), *shortest, "shortest");
            within(ticks(figures.elapsed.max().unwrap()), *longest, "longest");
            // Where each instruction has its cycles, only entering is not known exactly.
            let longest = figures.elapsed.max().unwrap();
            assert!(!matches!(by, By::Etmv3) || longest.high - longest.low <= 16);
            let open = lasted.len() as u64 - figures.elapsed.count();
            assert!(open <= 1, "{exception}: {open} not seen");
            checked += 1;
        }
        assert!(checked >= 6, "{checked}");
    }
}

#[test]
fn tasks_keep_their_own_stacks() {
    let image = image();
    let Recorded { calls, .. } = record(&image, 40_000_000, By::Etmv4(32));
    let name = |named: Named| named.0.map_or("?", |id| &image.function(id).name);
    // Who is seen to call whom is what the source says.
    let tree = calls.tree();
    let mut callers: HashMap<&str, Vec<&str>> = HashMap::new();
    for node in tree.nodes() {
        let parent = node.parent.and_then(|parent| tree.node(parent).function);
        if let (Some(function), Some(parent)) = (node.function, parent)
            && node.calls > 0
        {
            callers.entry(name(function)).or_default().push(name(parent));
        }
    }
    for (function, only) in [
        ("wave_filter", &["wave_estimator_task"][..]),
        ("spectrum_power", &["wave_estimator_task"]),
        ("modem_send", &["telemetry_task"]),
        ("kernel_choose", &["pendsv_handler", "kernel_start", "svcall_handler"]),
    ] {
        let found = &callers[function];
        assert!(found.iter().all(|caller| only.contains(caller)), "{function}: {found:?}");
    }
    // Handlers stand on their own.
    for node in
        tree.nodes().iter().filter(|node| node.function.map(name) == Some("systick_handler"))
    {
        assert_eq!(node.root, Root::Exception(15));
        assert!(node.parent.is_some_and(|parent| tree.node(parent).function.is_none()));
    }
}

/// What left the stack, by function, in order of beginning.
fn stays(image: &Image, by: By) -> (Machine, Vec<OnStack>) {
    let (machine, bytes, told) = recorded(20_000_000, by);
    let mut calls = Calls::new(image, Clocking::Cycles).telling_stacks();
    told.follow(image, &[], (&bytes, 0), &mut calls);
    calls.finish();
    let mut stays: Vec<OnStack> = calls.left_stack().collect();
    stays.sort_by_key(|stay| (stay.from.latest, stay.depth));
    (machine, stays)
}

#[test]
fn handlers_are_on_the_stack_while_they_really_run() {
    let image = image();
    for by in [By::Etmv4(4), By::Etmv3] {
        let (machine, stays) = stays(&image, by);
        let mut checked = 0;
        for exception in 11..40_u16 {
            let runs = machine.truth().exceptions.iter().filter(|e| e.number == exception);
            let runs: Vec<_> = runs.filter(|run| run.left.is_some()).collect();
            let Some(vector) = image.vector(exception).filter(|_| !runs.is_empty()) else {
                continue;
            };
            let own: Vec<_> =
                stays.iter().filter(|stay| stay.function == Named(vector.handler)).collect();
            assert!(own.len() >= runs.len() && own.len() <= runs.len() + 1, "{exception}");
            for (stay, run) in own.iter().zip(&runs) {
                let lasted = run.left.unwrap() - run.entered;
                let least = stay.until.earliest.saturating_sub(stay.from.latest + 12);
                let most = stay.until.latest - stay.from.earliest + 12;
                assert!((least..=most).contains(&lasted), "{exception}: {lasted} {stay:?}");
            }
            checked += runs.len();
        }
        assert!(checked > 500, "{checked}");
    }
}

#[test]
fn callees_are_on_the_stack_while_their_callers_are() {
    let image = image();
    let (_, stays) = stays(&image, By::Etmv4(32));
    let named = |name: &str| Named(Some(image.functions_named(name)[0]));
    // At one depth, one after the other, without a gap but for what is not called.
    let deepest = stays.iter().map(|stay| stay.depth).max().unwrap();
    assert!((4..=12).contains(&deepest), "{deepest}");
    for depth in 0..=deepest {
        let here: Vec<_> = stays.iter().filter(|stay| stay.depth == depth).collect();
        for pair in here.windows(2) {
            assert!(pair[0].until.latest <= pair[1].from.latest, "{pair:?}");
        }
        // Each lies in one that is a call less deep.
        let below: Vec<_> = stays.iter().filter(|stay| stay.depth + 1 == depth).collect();
        for stay in here.iter().filter(|_| depth > 0) {
            let at = below.partition_point(|below| below.from.latest <= stay.from.latest);
            let around = below[..at].iter().rev().take(2);
            let holds = around.into_iter().any(|below| below.until.latest >= stay.until.latest);
            assert!(holds, "{stay:?}");
        }
    }
    // Whoever calls it: it is as often there as it is called, unless another task has its turn meanwhile.
    let callers: Vec<Named> = stays
        .iter()
        .filter(|stay| stay.function == named("sine"))
        .filter_map(|stay| {
            let below = stays.iter().filter(|below| below.depth + 1 == stay.depth);
            let mut below = below.filter(|b| b.from.latest <= stay.from.latest);
            below.rfind(|b| b.until.latest >= stay.until.latest).map(|b| b.function)
        })
        .collect();
    assert!(callers.len() > 100 && callers.iter().all(|&by| by == named("spectrum_power")));
}

#[test]
fn times_of_instructions_add_up_to_those_of_functions() {
    let image = image();
    for by in [By::Etmv4(4), By::Etmv4(64), By::Etmv3] {
        let (_, bytes, told) = recorded(20_000_000, by);
        let mut sink = (Times::default(), Calls::new(&image, Clocking::Cycles));
        let code = told.follow(&image, &[], (&bytes, 0), &mut sink);
        let (times, mut calls) = sink;
        calls.finish();
        let listing = Listing::of(&image);
        assert_eq!(Some(times.ticks()), calls.ticks());
        let times = times.into_instructions(&code, &listing);
        let mut all = 0.0;
        for function in &listing.functions {
            let named = Named(Some(function.id));
            let nodes = calls.tree().nodes().iter().filter(|node| node.function == Some(named));
            let whole: u64 = nodes.map(|node| node.time.ticks).sum();
            let parts: f64 = function.instructions.clone().map(|place| times.ticks(place)).sum();
            // Shared out in the same way, but for how long entering and leaving handlers took.
            let apart = (whole as f64 - parts).abs();
            assert!(apart < 8000.0 + parts / 100.0, "{by:?} {named:?}: {whole} {parts}");
            all += parts;
        }
        // Nothing is handed out twice, and next to nothing is lost.
        let ticks = calls.ticks().unwrap() as f64;
        assert!(all <= ticks + 1.0 && all > 0.99 * ticks, "{by:?}: {all} of {ticks}");
        // The core sleeps in the instruction that waits.
        let waits = (0..listing.instructions.len())
            .max_by(|&a, &b| times.ticks(a).total_cmp(&times.ticks(b)));
        let idle = image.function_at(listing.instructions[waits.unwrap()].address);
        assert_eq!(idle, image.functions_named("idle").first().copied());
    }
}

//! Parts of what ran, and ways from one place to another, held against what the stand-in executed.

use crate::executed::image;
use crate::recording::{self, ETM, FAST, Told, certain};
use std::collections::BTreeMap;
use weltblick_core::flow::{Clocking, Edge, Only};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{
    BlockCounts, Callers, Calls, Crossings, History, Indexing, Listed, Listing, Named, NodeId,
    Place, Seen, View, What,
};
use weltblick_standin::Machine;
use weltblick_standin::trace::Fitted;
use weltblick_standin::trace::etmv3::Etm;

/// Cycle counts and return stack.
const CONFIG: u32 = 1 | 1 << 4 | 1 << 12;
const CYCLE_ACCURATE: u32 = 1 << 12;

struct Recorded {
    machine: Machine,
    bytes: Vec<u8>,
    told: Told,
}

fn record(version_3: bool) -> Recorded {
    record_counting(version_3, 8)
}

/// The same; where a count says for how long, after so many cycles at the earliest.
fn record_counting(version_3: bool, every: u32) -> Recorded {
    let (unit, told, registers) = if version_3 {
        let registers = vec![(ETM + 0x020, 0x6f), (ETM, CYCLE_ACCURATE)];
        (Fitted::Etmv3(Etm::default()), Told::etmv3(CYCLE_ACCURATE), registers)
    } else {
        let registers = vec![
            (ETM + 0x010, CONFIG),
            (ETM + 0x034, 12),
            (ETM + 0x038, every),
            (ETM + 0x080, 1 | 1 << 9),
            (ETM + 0x004, 1),
        ];
        (Fitted::default(), Told::Etmv4(CONFIG), registers)
    };
    let (machine, bytes) = recording::record(unit, FAST, &registers, 6_000_000);
    Recorded { machine, bytes, told }
}

impl Recorded {
    /// How often each instruction ran between two edges.
    fn executed(&self, image: &Image, listing: &Listing, edges: [Option<Edge>; 2]) -> Vec<u64> {
        let cuts: Vec<u64> = edges
            .iter()
            .filter_map(|edge| match edge {
                Some(Edge::Address(address)) => Some(*address),
                _ => None,
            })
            .collect();
        let mut counts = BlockCounts::default();
        let mut only = Only::new(edges[0], edges[1], &mut counts);
        let code = self.told.follow(image, &cuts, (&self.bytes, 0), &mut only);
        Seen::of_flow(&counts.into_tally(&code), listing).executed
    }
}

fn start_of(image: &Image, name: &str) -> u64 {
    image.function(image.functions_named(name)[0]).range.start
}

/// A place in the middle of a function's first block.
fn inside_of(image: &Image, name: &str) -> u64 {
    let start = start_of(image, name);
    let listing = Listing::of(image);
    listing.instructions[listing.position(start).unwrap() + 2].address
}

#[test]
fn a_part_and_the_rest_are_all() {
    let image = image();
    let listing = Listing::of(&image);
    for version_3 in [false, true] {
        let recorded = record(version_3);
        let all = recorded.executed(&image, &listing, [None, None]);
        for (from, until) in [
            (start_of(&image, "wave_filter"), start_of(&image, "spectrum_power")),
            (inside_of(&image, "adc_ready_handler"), inside_of(&image, "sine")),
        ] {
            let edges = [Some(Edge::Address(from)), Some(Edge::Address(until))];
            let [from, until] = edges;
            let inside = recorded.executed(&image, &listing, [from, until]);
            let outside = recorded.executed(&image, &listing, [until, from]);
            // Before either was passed; whichever comes first.
            let before = recorded.executed(&image, &listing, [None, from]);
            let earlier = recorded.executed(&image, &listing, [None, until]);
            let sum = |list: &[u64]| list.iter().sum::<u64>();
            let before = if sum(&before) < sum(&earlier) { before } else { earlier };
            assert!(sum(&inside) > 1000 && sum(&outside) > 1000);
            for (place, &count) in all.iter().enumerate() {
                let parts = inside[place] + outside[place] + before[place];
                assert_eq!(count, parts, "{:#x}", listing.instructions[place].address);
            }
        }
        // Bytes and cycles: from the middle on, and up to it.
        let middle = recorded.bytes.len() as u64 / 2;
        for edge in [Edge::Byte(middle), Edge::Cycles(3_000_000)] {
            let first = recorded.executed(&image, &listing, [None, Some(edge)]);
            let second = recorded.executed(&image, &listing, [Some(edge), None]);
            assert!(first.iter().zip(&second).zip(&all).all(|((a, b), all)| a + b == *all));
        }
    }
}

/// Each way from one place to another, whoever went it: the newest beginning counts.
fn ways_of(truth: &[u32], from: u64, until: u64) -> Vec<u64> {
    let mut ways = Vec::new();
    let mut begun = None;
    for (number, &pc) in truth.iter().enumerate() {
        if u64::from(pc) == until
            && let Some(begun) = begun.take()
        {
            ways.push((number - begun) as u64);
        }
        if u64::from(pc) == from {
            begun = Some(number);
        }
    }
    ways
}

#[test]
fn ways_between_places_are_counted_exactly() {
    let image = image();
    for version_3 in [false, true] {
        let recorded = record(version_3);
        let truth = certain(&recorded.machine);
        for (from, until) in [
            (start_of(&image, "adc_ready_handler"), start_of(&image, "wave_filter")),
            (start_of(&image, "sine"), start_of(&image, "sine")),
            (inside_of(&image, "adc_ready_handler"), inside_of(&image, "systick_handler")),
            (start_of(&image, "wave_filter"), inside_of(&image, "spectrum_power")),
        ] {
            let crossings = Crossings::new(&[from, until], true, 5);
            let mut calls = Calls::new(&image, Clocking::Cycles).crossing(crossings);
            recorded.told.follow(&image, &[from, until], (&recorded.bytes, 0), &mut calls);
            calls.finish();
            let crossings = calls.crossings().unwrap();
            let ways = ways_of(truth, from, until);
            let found = &crossings.total.instructions;
            assert_eq!(found.count(), ways.len() as u64);
            let ends = (ways.iter().min().copied(), ways.iter().max().copied());
            let found = (found.min().map(|min| min.low), found.max().map(|max| max.high));
            assert_eq!(found, ends, "{from:#x} .. {until:#x}");
            assert!(ways.len() > 3 && crossings.worst.len() == ways.len().min(5));
            // By the cycles of each instruction an interval is known to the cycle but for handlers.
            let longest = crossings.total.elapsed.max().unwrap();
            assert!(longest.low > 0 && (!version_3 || longest.high - longest.low < 60));
        }
    }
}

#[test]
fn interruptions_are_no_time_of_ones_own() {
    let image = image();
    let recorded = record(true);
    let points = [start_of(&image, "wave_filter"), start_of(&image, "spectrum_power")];
    let crossings = Crossings::new(&points, false, 100);
    let mut calls = Calls::new(&image, Clocking::Cycles).crossing(crossings);
    recorded.told.follow(&image, &points, (&recorded.bytes, 0), &mut calls);
    calls.finish();
    let crossings = calls.crossings().unwrap();
    let truth = certain(&recorded.machine);
    // Instructions of code that only handlers run do not count.
    let handlers: Vec<_> = (15..40)
        .filter_map(|number| image.vector(number)?.handler)
        .map(|id| image.function(id).range.clone())
        .collect();
    let in_handler = |pc: u32| handlers.iter().any(|range| range.contains(&u64::from(pc)));
    let mut by_number = BTreeMap::new();
    for crossing in &crossings.worst {
        let took = crossing.took[0];
        let (elapsed, own) = (took.elapsed.unwrap(), took.own.unwrap());
        assert!(own.low < elapsed.low && own.high < elapsed.high, "{own:?} {elapsed:?}");
        by_number.insert(crossing.number, took.instructions);
    }
    let begins = truth.iter().enumerate().filter(|(_, pc)| u64::from(**pc) == points[0]);
    for ((start, _), (_, &instructions)) in begins.zip(&by_number) {
        let way = truth[start..].iter().take_while(|pc| u64::from(**pc) != points[1]);
        let own = way.filter(|pc| !in_handler(**pc)).count() as u64;
        assert_eq!(own, instructions);
    }
    assert!(by_number.len() >= 4, "{}", by_number.len());
}

/// From each time that a handler begins to the next: the core sleeps between two of them, and in the stretches
/// in which they begin.
#[test]
fn sleep_is_no_doubt_of_where_a_way_begins() {
    let image = image();
    let recorded = record_counting(false, 256);
    let handler = start_of(&image, "adc_ready_handler");
    let crossings = Crossings::new(&[handler, handler], true, usize::MAX);
    let mut calls = Calls::new(&image, Clocking::Cycles).crossing(crossings);
    recorded.told.follow(&image, &[handler], (&recorded.bytes, 0), &mut calls);
    calls.finish();
    let crossings = calls.crossings().unwrap();
    assert!(crossings.by_pace);
    let number = image.exception_named("adc_ready").unwrap();
    let truth = recorded.machine.truth().exceptions.iter();
    let entered: Vec<u64> =
        truth.filter(|run| run.number == number).map(|run| run.entered).collect();
    let mut ways: Vec<_> = crossings.worst.iter().map(|way| (way.number, way.took[0])).collect();
    ways.sort_by_key(|(number, _)| *number);
    assert!(ways.len() > 300 && entered.len() - ways.len() < 3, "{}", ways.len());
    let mut wide = 0;
    for ((number, took), real) in ways.iter().zip(entered.windows(2)) {
        let (real, Some(elapsed)) = (real[1] - real[0], took.elapsed) else { continue };
        // An entry takes a little longer where another handler ends just then.
        let fits = elapsed.low <= real + 16 && real <= elapsed.high + 16;
        assert!(fits, "{number}: {real} is not in {elapsed:?}");
        wide += u32::from(number > &50 && elapsed.high - elapsed.low > 2000);
    }
    assert!(wide * 20 < ways.len() as u32, "{wide} of {}", ways.len());
    assert!(crossings.untimed < 5, "{}", crossings.untimed);
}

/// Whoever asks for ways that begin inside of a function gets those that the tree of calls has there.
#[test]
fn ways_count_by_who_called() {
    let image = image();
    for version_3 in [false, true] {
        let Recorded { told, bytes, .. } = record(version_3);
        let mut several = 0;
        for (callee, caller) in [
            ("copy_bytes", "wave_estimator_task"),
            ("sine", "spectrum_power"),
            ("console_print", "main"),
            ("semaphore_give", "adc_ready_handler"),
            ("mailbox_fetch", "telemetry_task"),
            ("__udivmoddi4", "bands_update"),
            ("__udivmoddi4", "wave_estimator_task"),
        ] {
            let id = |name: &str| image.functions_named(name).first().map(|&id| Named(Some(id)));
            let (Some(callee), Some(caller)) = (id(callee), id(caller)) else { continue };
            let place = image.function(callee.0.unwrap()).range.start;
            let follow = |callers: Callers| {
                let crossings = Crossings::new(&[place, place], true, 5).called_by(callers);
                let mut calls = Calls::new(&image, Clocking::Cycles).crossing(crossings);
                told.follow(&image, &[place], (&bytes, 0), &mut calls);
                calls.finish();
                calls
            };
            let only = |function: Named| [function].into_iter().collect();
            let inside = follow(Callers { inside: only(caller), ..Callers::default() });
            let outside = follow(Callers { exclude: only(caller), ..Callers::default() });
            let all = follow(Callers::default());
            let begun = |calls: &Calls<'_>| calls.crossings().unwrap().begun;
            let tree = inside.tree();
            let paths = (0..).map(NodeId::from).zip(tree.nodes());
            let below = paths.filter(|(path, node)| {
                node.function == Some(callee) && tree.is_below(*path, caller)
            });
            assert_eq!(begun(&inside), below.map(|(_, node)| node.calls).sum::<u64>());
            for part in [&inside, &outside] {
                let crossings = part.crossings().unwrap();
                let sum = crossings.begun + crossings.elsewhere + crossings.unplaced;
                assert_eq!(sum, begun(&all));
            }
            assert!(begun(&outside) <= inside.crossings().unwrap().elsewhere);
            several += u64::from(begun(&inside) > 0);
        }
        assert!(several > 2, "{several}");
    }
}

/// An index says how often what ran in each piece, and reading from shortly before the right one finds the
/// same as reading all, times included.
#[test]
fn an_index_leads_to_what_is_looked_for() {
    let image = image();
    let listing = Listing::of(&image);
    for version_3 in [false, true] {
        let Recorded { bytes, told, .. } = record(version_3);
        let bytes = bytes.repeat((3 << 20) / bytes.len() + 1);
        let mut sink = (BlockCounts::default(), Indexing::default());
        let code = told.follow(&image, &[], (&bytes, 0), &mut sink);
        let (counts, indexing) = sink;
        let index = indexing.finish(&code);
        let executed = Seen::of_flow(&counts.into_tally(&code), &listing).executed;
        for (listed, &count) in listing.instructions.iter().zip(&executed) {
            assert_eq!(index.nth(listed.address, count), None, "{:#x}", listed.address);
            assert_eq!(index.nth(listed.address, count.saturating_sub(1)).is_some(), count > 0);
        }
        let address = start_of(&image, "copy_bytes");
        let count = executed[listing.position(address).unwrap()];
        for number in [count / 3, count / 2, count - 1] {
            let found = index.nth(address, number).unwrap();
            let new = |skip| {
                History::new(&image, Clocking::Cycles, Place::Address(address), skip, [4, 4])
            };
            let mut whole = new(number);
            told.follow(&image, &[], (&bytes, 0), &mut whole);
            let mut near = new(number).from(found);
            let start = found.offset.saturating_sub(1 << 18);
            told.follow(&image, &[], (&bytes[start as usize..], start), &mut near);
            assert!(!near.misses() && found.skip <= number);
            let steps = |history: &History<'_>| {
                let (steps, hit) = history.steps().unwrap();
                (steps[hit].offset, steps[hit].ticks, steps[hit].what)
            };
            assert_eq!(steps(&near), steps(&whole), "{number} of {count}");
        }
        // Who begins to read behind it is told so.
        let found = index.nth(address, count - 1).unwrap();
        let mut late = History::new(&image, Clocking::Cycles, Place::Address(address), 0, [4, 4]);
        late = late.from(found);
        told.follow(
            &image,
            &[],
            (&bytes[found.offset as usize + 1..], found.offset + 1),
            &mut late,
        );
        assert!(late.misses());
    }
}

/// What a view shows of what happened, one by one: the instructions of a run, or how many were left out.
fn shown(history: &History<'_>) -> Vec<Result<(u64, u64), u64>> {
    let (steps, _) = history.steps().unwrap();
    let shown = steps.iter().filter_map(|step| match step.what {
        What::Ran { start, until, .. } => Some(Ok((start, until))),
        What::LeftOut { instructions, .. } => Some(Err(instructions)),
        _ => None,
    });
    shown.collect()
}

#[test]
fn a_view_hides_what_is_not_chosen_and_says_how_much() {
    let image = image();
    let [filter, update] = ["wave_filter", "bands_update"].map(|name| start_of(&image, name));
    let listing = Listing::of(&image);
    let chosen = [filter, start_of(&image, "sine")].map(|start| image.function_at(start));
    for version_3 in [false, true] {
        let Recorded { told, bytes, .. } = record(version_3);
        let cuts = [filter, update];
        let follow = |view: Option<View>| {
            let history = History::new(&image, Clocking::Cycles, Place::Last, 0, [1 << 22, 1]);
            let mut history = match view {
                Some(view) => history.seen_through(view),
                None => history,
            };
            told.follow(&image, &cuts, (&bytes, 0), &mut history);
            history.finish();
            history
        };
        let all = shown(&follow(None));
        let view = |edges: [Option<Edge>; 2]| View::new(Only::new(edges[0], edges[1], ()));
        let inside = |places: &mut bool, start: u64| {
            *places = start == filter || *places && start != update;
            *places
        };
        let part = [filter, update].map(|address| Some(Edge::Address(address)));
        for (view, only, code) in [
            (view([None, None]).of(chosen), false, true),
            (view(part), true, false),
            (view(part).of(chosen), true, true),
        ] {
            let (mut expected, mut now) = (Vec::new(), false);
            for run in &all {
                let &Ok((start, until)) = run else { panic!("nothing is hidden") };
                let shows = (!only || inside(&mut now, start))
                    && (!code || chosen.contains(&image.function_at(start)));
                let ran = |listed: &&Listed| (start..until).contains(&listed.address);
                let instructions = || listing.instructions.iter().filter(ran).count() as u64;
                match (shows, expected.last_mut()) {
                    (true, _) => expected.push(Ok((start, until))),
                    (false, Some(Err(count))) => *count += instructions(),
                    (false, _) => expected.push(Err(instructions())),
                }
            }
            assert!(expected.len() > 100 && expected.len() < all.len());
            assert!(shown(&follow(Some(view))) == expected, "{version_3} {only} {code}");
        }
    }
}

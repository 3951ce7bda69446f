use super::lag::Lag;
use super::witness::{Entered, Stretch};
use super::{Alignment, Witness};
use crate::event::{Event, LossReason, Origin, Position, Sink as _};
use crate::time::Window;
use proptest::prelude::*;

/// What one source tells, entry by entry.
enum Told {
    Entered(u16, u64, u64),
    /// Packets were dropped: time goes on.
    Hole(u64),
    /// Nothing says for how long.
    Gap(u64),
}

fn witness(told: &[Told]) -> Witness {
    let mut witness = Witness::default();
    for told in told {
        let (event, earliest, latest) = match *told {
            Told::Entered(exception, earliest, latest) => {
                (Event::Entered { exception }, earliest, latest)
            }
            Told::Hole(at) => (Event::Lost { bytes: 0..0, why: LossReason::Overflow }, at, at),
            Told::Gap(at) => (Event::Lost { bytes: 0..0, why: LossReason::FlowGap }, at, at),
        };
        let time = Some(Window { earliest, latest });
        witness.event(Position::new(Origin(0), 0, time), &event);
    }
    witness
}

/// A periodic interrupt, and another one that is not.
fn happened(count: u64) -> Vec<(u16, u64)> {
    let periodic = (0..count).map(|number| (16, 10_000 + 12_000 * number));
    let other = (0..count / 3)
        .map(|number| (20, 15_000 + 37_111 * number + number.pow(3) % 100_003 % 1009));
    let mut all: Vec<_> = periodic.chain(other).collect();
    all.sort_by_key(|(_, at)| *at);
    all
}

fn entered(happened: &[(u16, u64)], later: i64, width: u64) -> Vec<Told> {
    let told = |&(exception, at): &(u16, u64)| {
        let at = at.saturating_add_signed(later);
        Told::Entered(exception, at - width, at + width / 2)
    };
    happened.iter().map(told).collect()
}

#[test]
fn a_witness_keeps_what_lies_between_gaps() {
    let told = [
        Told::Entered(16, 10, 12),
        Told::Hole(20),
        Told::Entered(17, 30, 30),
        Told::Gap(40),
        Told::Gap(40),
        Told::Entered(16, 50, 50),
    ];
    let witness = witness(&told);
    let entry = |exception, after_hole, earliest, latest| Entered {
        exception,
        after_hole,
        time: Window { earliest, latest },
    };
    let first = vec![entry(16, false, 10, 12), entry(17, true, 30, 30)];
    assert_eq!(
        witness.stretches(),
        [
            Stretch { from: 0, until: 40, entered: first },
            Stretch { from: 40, until: 50, entered: vec![entry(16, false, 50, 50)] },
        ]
    );
}

/// More is not kept than can be; what lies behind the next gap then has no place.
#[test]
fn a_witness_is_full_some_time() {
    let mut happened = happened(900_000);
    happened.truncate((1 << 20) + 200);
    let last = happened.last().unwrap().1;
    let mut told = entered(&happened, 0, 10);
    told.push(Told::Gap(last + 100));
    told.extend(entered(&[(16, last + 5000), (16, last + 9000)], 0, 10));
    let flow = witness(&told);
    let [first, second] = flow.stretches() else { panic!("{}", flow.stretches().len()) };
    assert_eq!((first.entered.len(), first.until), (1 << 20, last + 100));
    assert_eq!((second.entered.len(), second.until), (0, last + 9005));
    // Of the ITM's clock nothing is known there either.
    let short = witness(&entered(&happened[100..400], -700, 4));
    let alignment = Alignment::of(&flow, &short);
    assert_eq!((alignment.placed.len(), alignment.unplaced), (1, 0));
    let alignment = Alignment::of(&witness(&told[..1000]), &flow);
    assert_eq!((alignment.placed.len(), alignment.unplaced), (1, 1));
}

#[test]
fn a_lag_is_what_all_entries_allow() {
    let window = |earliest, latest| Window { earliest, latest };
    let mut lag = Lag::ANY;
    assert!(lag.narrow(window(100, 110), window(40, 50)));
    assert_eq!(lag.bounds(), (50, 70));
    assert!(lag.narrow(window(200, 200), window(140, 145)));
    assert_eq!(lag.bounds(), (55, 60));
    assert_eq!((lag.later(1000), lag.sooner(1000)), ((1055, 1060), (940, 945)));
    // Not at once, but no farther apart than sources tell the same.
    assert!(lag.narrow(window(300, 300), window(230, 230)));
    assert_eq!(lag.bounds(), (6, 124));
    assert!(!lag.narrow(window(900, 900), window(230, 230)));
}

#[test]
fn what_both_saw_is_told_by_either_time() {
    let all = happened(60);
    let itm = witness(&entered(&all, 5000, 20));
    let flow = witness(&entered(&all[10..50], -60_000, 8));
    let alignment = Alignment::of(&itm, &flow);
    assert_eq!((alignment.placed.len(), alignment.unplaced), (1, 0));
    let told = alignment.to_itm(Window::exact(200_000)).unwrap();
    assert!(told.earliest <= 265_000 && 265_000 <= told.latest, "{told:?}");
    assert!(told.latest - told.earliest <= 60, "{told:?}");
    let ran = alignment.to_flow(Window::exact(265_000)).unwrap();
    assert!(ran.earliest <= 200_000 && 200_000 <= ran.latest, "{ran:?}");
    // Where nothing ran that the trace tells of.
    assert_eq!(alignment.to_flow(Window::exact(60_000)), None);
    assert_eq!(alignment.to_itm(Window::exact(20_000_000)), None);
}

#[test]
fn what_fits_anywhere_has_no_place() {
    let periodic: Vec<(u16, u64)> = (0..100).map(|number| (15, 5000 + 1000 * number)).collect();
    let itm = witness(&entered(&periodic, 0, 4));
    let some = Alignment::of(&itm, &witness(&entered(&periodic[20..60], -15_000, 4)));
    assert!(some.is_empty() && some.unplaced == 1, "{some:?}");
    // Each saw all that the other one saw.
    let all = Alignment::of(&itm, &witness(&entered(&periodic, 700, 4)));
    let told = all.to_itm(Window::exact(50_700)).unwrap();
    assert!(told.earliest <= 50_000 && 50_000 <= told.latest, "{told:?}");
    // Numbers that the ITM never told, and too few.
    let other: Vec<(u16, u64)> = periodic.iter().map(|&(_, at)| (16, at)).collect();
    assert!(Alignment::of(&itm, &witness(&entered(&other, 0, 4))).is_empty());
    assert!(Alignment::of(&witness(&[]), &itm).is_empty());
    assert!(Alignment::of(&itm, &witness(&[])).is_empty());
}

#[test]
fn between_two_gaps_too_few_lie_where_their_neighbours_leave_room() {
    let all = happened(90);
    let itm = witness(&entered(&all, 0, 10));
    let mut told = entered(&all[..40], 0, 4);
    // Two gaps of 300 cycles each, with one exception between them.
    let gap = |after: usize, missing: u64| Told::Gap(all[after].1 + 100 - missing);
    told.push(gap(39, 0));
    told.extend(entered(&all[40..41], -300, 4));
    told.push(gap(40, 300));
    told.extend(entered(&all[41..], -600, 4));
    let alignment = Alignment::of(&itm, &witness(&told));
    assert_eq!((alignment.placed.len(), alignment.unplaced), (3, 0));
    let at = all[40].1;
    let time = alignment.to_itm(Window::exact(at - 300)).unwrap();
    assert!(time.earliest <= at && at <= time.latest, "{time:?}");
    assert!(time.latest - time.earliest >= 600, "the doubt is told: {time:?}");
    // What ends at a gap does so before the missing time, what begins, behind it.
    let gap = all[39].1 + 100;
    let [ends, begins] = [true, false].map(|ends| alignment.likely(gap, ends).unwrap());
    assert!(ends.abs_diff(gap) < 20 && begins > ends + 200, "{gap}: {ends} {begins}");
    assert_eq!(alignment.likely(gap - 5000, true), alignment.likely(gap - 5000, false));
}

#[test]
fn what_may_lie_in_a_stretch_without_a_place_has_none() {
    let all = happened(60);
    let itm = witness(&entered(&all, 0, 10));
    // Two exceptions fit anywhere; behind the gap are many.
    let gap = all[1].1 + 300;
    let mut told = entered(&all[..2], 0, 4);
    told.push(Told::Gap(gap));
    told.extend(entered(&all[2..], -50, 4));
    let alignment = Alignment::of(&itm, &witness(&told));
    assert_eq!((alignment.placed.len(), alignment.unplaced), (1, 1));
    assert_eq!(alignment.to_itm(Window { earliest: gap - 200, latest: gap }), None);
    assert_eq!(alignment.to_itm(Window::exact(gap - 1)), None);
    assert!(alignment.to_itm(Window { earliest: gap, latest: gap + 200 }).is_some());
    let end = all.last().unwrap().1;
    assert_eq!(alignment.to_itm(Window { earliest: end - 100, latest: end + 9999 }), None);
}

#[test]
fn what_a_witness_lacks_is_passed_over() {
    let all = happened(90);
    let mut told = entered(&all[..30], 0, 10);
    told.push(Told::Hole(all[34].1));
    told.extend(entered(&all[37..60], 0, 10));
    // Bytes are lost: from here on the ITM's time is less than it should be.
    told.push(Told::Gap(all[60].1));
    told.extend(entered(&all[62..], -9000, 10));
    let itm = witness(&told);
    let alignment = Alignment::of(&itm, &witness(&entered(&all[5..], -20_000, 4)));
    for (at, later) in [(all[33].1, 0), (all[50].1, 0), (all[80].1, -9000)] {
        let time = alignment.to_itm(Window::exact(at - 20_000));
        let time = time.unwrap_or_else(|| panic!("{at} has no place: {alignment:?}"));
        let truly = at.saturating_add_signed(later);
        assert!(time.earliest <= truly && truly <= time.latest, "{at}: {time:?} {alignment:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Whatever both lack, and however long gaps are: what has a place has the right one.
    #[test]
    fn nothing_has_a_wrong_place(
        count in 20..160_u64,
        seed in any::<u64>(),
        cuts in prop::collection::vec((0..200_usize, 1..30_usize, 0..200_000_u64), 0..4),
        holes in prop::collection::vec((0..200_usize, 1..12_usize), 0..4),
        edges in (0..40_usize, 0..40_usize),
        later in 0..1_000_000_u64,
    ) {
        let mut random = seed | 1;
        let mut next = |below: u64| {
            random ^= random << 13;
            random ^= random >> 7;
            random ^= random << 17;
            random % below
        };
        let mut at = 1_000_000;
        let all: Vec<(u16, u64)> = (0..count).map(|_| {
            at += 500 + next(20_000);
            (15 + next(3) as u16, at)
        }).collect();
        let mut itm = Vec::new();
        for (number, &(exception, at)) in all.iter().enumerate() {
            if holes.iter().any(|&(from, length)| (from..from + length).contains(&number)) {
                itm.push(Told::Hole(at + later));
                continue;
            }
            let width = next(200);
            let early = next(width + 1);
            itm.push(Told::Entered(exception, at + later - early, at + later - early + width));
        }
        // What of it the instruction trace saw, and how much later it truly was than it says.
        let (mut flow, mut truth, mut missing) = (Vec::new(), Vec::new(), 0);
        let last = all.len().saturating_sub(edges.1);
        for number in edges.0.min(last)..last {
            let (exception, at) = all[number];
            if let Some(&(_, _, lost)) =
                cuts.iter().find(|(from, length, _)| (*from..from + length).contains(&number))
            {
                if !matches!(flow.last(), None | Some(Told::Gap(_))) {
                    let told = all[number - 1].1 - missing + 100;
                    flow.push(Told::Gap(told));
                    // The gap begins behind the last entry, and ends before the next that is told.
                    missing += lost.min(400);
                }
                continue;
            }
            let width = next(60);
            let told = at - missing;
            flow.push(Told::Entered(exception, told - width, told));
            truth.push((told, at + later));
        }
        let alignment = Alignment::of(&witness(&itm), &witness(&flow));
        for (told, truly) in truth {
            if let Some(time) = alignment.to_itm(Window::exact(told)) {
                prop_assert!(time.earliest <= truly + 64 && truly <= time.latest + 64,
                    "{told} is {truly}, not {time:?}");
                let back = alignment.to_flow(Window::exact(truly));
                prop_assert!(back.is_some());
            }
            // Whoever reads only what may lie around there misses nothing that is shown there.
            if let Some(shown) = alignment.likely(told, true) {
                let reach = alignment.between(shown.saturating_sub(100), shown + 100);
                prop_assert!(reach.is_some_and(|(from, until)| from <= told && told <= until),
                    "{told} is shown at {shown}, but {reach:?} is read");
            }
        }
    }
}

use super::*;
use crate::event::{Event, Origin, Position, Sink as _};
use crate::time::{Frequency, Window};
use proptest::prelude::*;

fn clock() -> Option<Frequency> {
    Frequency::from_hertz(1e6)
}

/// Laps at these counts of the cycle counter; the host saw each a millisecond later, per lap.
fn passages(way: &[u8], laps: &[(u8, Option<u32>)]) -> Passages {
    let mut passages = Passages::new(way.to_vec(), Way::new(way.len(), clock(), 3));
    for (number, &(lap, cycles)) in (0..).zip(laps) {
        let time = Window { earliest: number * 1_000_000, latest: number * 1_000_000 + 10_000 };
        let position = Position::new(Origin(0), 10 * number, Some(time));
        passages.event(position, &Event::Lap { lap, cycles });
    }
    passages
}

fn names(count: usize) -> Vec<String> {
    (0..count).map(|number| format!("p{number}")).collect()
}

#[test]
fn legs_and_totals_are_timed_by_the_core() {
    let at = |lap, cycles| (lap, Some(cycles));
    let laps =
        [at(0, 100), at(1, 150), at(2, 250), at(0, u32::MAX), at(1, 59), at(2, 69), at(0, 1)];
    let passages = passages(&[0, 1, 2], &laps);
    let names = names(3);
    let report = report(&passages.way, &Context { points: &names, clock: clock() });
    let cycles = |leg: &Leg| {
        (leg.elapsed.min.unwrap().cycles.unwrap(), leg.elapsed.max.unwrap().cycles.unwrap())
    };
    assert_eq!(cycles(&report.legs[0]), (50, 60), "over the counter's wrap too");
    assert_eq!(cycles(&report.legs[1]), (10, 100));
    assert_eq!((report.total.elapsed.count, cycles(&report.total)), (2, (70, 150)));
    assert_eq!(report.worst[0].number, 0);
    assert_eq!((report.worst[0].byte, report.worst[1].byte), (0, 30));
    assert!(report.evidence.doubts[0].starts_with("Intrusive"), "{:?}", report.evidence);
}

#[test]
fn what_has_no_certain_duration_is_left_out() {
    let at = |lap, cycles| (lap, Some(cycles));
    // Begun twice, ended once; an end without a beginning.
    let mut passages = passages(&[0, 1], &[at(1, 5), at(0, 10), at(0, 20), at(1, 50), at(1, 60)]);
    assert_eq!((passages.way.total.count(), passages.way.unfinished), (1, 1));
    assert_eq!(passages.way.total.max().unwrap().low, 30_000.0);
    // A gap in between.
    let position = Position::new(Origin(0), 99, None);
    passages.event(position, &Event::Lap { lap: 0, cycles: Some(70) });
    passages.event(position, &Event::Unwatched);
    passages.event(position, &Event::Lap { lap: 1, cycles: Some(80) });
    assert_eq!((passages.way.total.count(), passages.way.cut), (1, 1));
    // So long by the host that the counter may have wrapped: 2^32 cycles at 1 MHz are 4295 s.
    for (seconds, lap) in [(0, 0), (4300, 1)] {
        let time = Some(Window::exact(seconds * 1_000_000_000));
        let position = Position::new(Origin(0), 0, time);
        passages.event(position, &Event::Lap { lap, cycles: Some(7) });
    }
    assert_eq!((passages.way.total.count(), passages.way.too_long), (1, 1));
    // The firmware set the counter back: 2^32 - 60 cycles do not go into a millisecond.
    let way = self::passages(&[0, 1], &[at(0, 70), at(1, 10)]).way;
    assert_eq!((way.total.count(), way.contradicted), (0, 1));
}

#[test]
fn a_point_may_end_one_occurrence_and_begin_the_next() {
    let laps: Vec<_> = (0..5).map(|n| (4, Some(100 * n))).collect();
    let way = passages(&[4, 4], &laps).way;
    assert_eq!((way.total.count(), way.unfinished), (4, 0));
    assert_eq!(way.total.spread().0.deviation(), Some(0.0));
    // On the way it is no new beginning.
    let laps: Vec<_> = [0, 1, 0, 2].into_iter().zip((0..).step_by(10).map(Some)).collect();
    let way = passages(&[0, 1, 0, 2], &laps).way;
    assert_eq!((way.total.count(), way.unfinished, way.total.max().unwrap().low), (1, 0, 30_000.0));
}

#[test]
fn without_a_cycle_counter_the_host_s_times_are_windows() {
    let way = passages(&[0, 1], &[(0, None), (1, None)]).way;
    let most = way.total.max().unwrap();
    assert_eq!((most.low, most.high), (990_000.0, 1_010_000.0));
    let names = names(2);
    let report = report(&way, &Context { points: &names, clock: clock() });
    assert_eq!(report.evidence.basis, "lap_host_times");
    assert_eq!(report.total.elapsed.max.unwrap().cycles, None);
}

proptest! {
    #[test]
    fn every_beginning_ends_in_one_way(
        laps in prop::collection::vec((0_u8..4, any::<Option<u32>>()), 0..60),
        way in prop::collection::vec(0_u8..3, 2..5),
    ) {
        let begun = |laps: &[(u8, Option<u32>)]| passages(&way, laps).way;
        let way = begun(&laps);
        let ended = way.total.count() + way.unfinished + way.cut + way.too_long
            + way.contradicted;
        let all = way.begun();
        prop_assert!(ended == all || ended + 1 == all, "{ended} of {all}");
        for legs in &way.legs {
            prop_assert_eq!(legs.count(), way.total.count());
        }
        prop_assert!(way.worst.windows(2).all(|pair| pair[0].total.middle() >= pair[1].total.middle()));
    }
}

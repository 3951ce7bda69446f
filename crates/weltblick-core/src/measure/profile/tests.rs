//! Counting against a plain recount, and rows that add up.

use super::*;
use crate::event::{Event, Origin, Position, Sink};
use crate::image::Image;
use crate::time::Window;
use proptest::collection::vec;
use proptest::prelude::*;

const FIRMWARE: &[u8] = include_bytes!("../../../../../demo/buoy/wave-buoy.elf");

fn at(cycle: u64) -> Position {
    Position::new(Origin(0), 0, Some(Window::exact(cycle)))
}

fn sample() -> impl Strategy<Value = Event> {
    prop_oneof![
        4 => (0x0800_0000_u64..0x0800_1800).prop_map(|pc| Event::Sample { pc: pc & !1 }),
        1 => any::<u32>().prop_map(|pc| Event::Sample { pc: u64::from(pc & !1) }),
        2 => Just(Event::Asleep),
        1 => Just(Event::Unobservable),
        1 => Just(Event::Elsewhere),
    ]
}

proptest! {
    #[test]
    fn counts_agree_with_a_plain_recount(events in vec(sample(), 0..3000)) {
        let mut counts = SampleCounts::default();
        for event in &events {
            counts.event(at(0), event);
        }
        let plain = |wanted: &Event| events.iter().filter(|event| *event == wanted).count() as u64;
        for (address, category) in counts.addresses() {
            prop_assert_eq!(counts.batches().count(category), plain(&Event::Sample { pc: address }));
        }
        prop_assert_eq!(counts.batches().count(SampleCounts::ASLEEP), plain(&Event::Asleep));
        prop_assert_eq!(counts.batches().total(), events.len() as u64);
    }

    #[test]
    fn rows_add_up_whatever_they_stand_for(events in vec(sample(), 1..2000)) {
        let image = Image::parse(FIRMWARE).unwrap();
        let mut counts = SampleCounts::default();
        for event in &events {
            counts.event(at(0), event);
        }
        for by in [By::Function { inlined: false }, By::Function { inlined: true }, By::File, By::Line, By::Address] {
            let rows = rows(&counts, &image, by, 0.95);
            prop_assert_eq!(rows.iter().map(|row| row.samples).sum::<u64>(), events.len() as u64);
            prop_assert!(rows.is_sorted_by_key(|row| std::cmp::Reverse(row.samples)));
            for row in &rows {
                let estimate = row.estimate;
                prop_assert!(0.0 <= estimate.low && estimate.low <= estimate.share);
                prop_assert!(estimate.share <= estimate.high && estimate.high <= 1.0);
            }
        }
    }

    #[test]
    fn windows_hold_every_sample_once(cycles in vec(0_u64..100_000, 0..500), every in 200_u64..30_000) {
        let mut series = Series::new(every);
        for &cycle in &cycles {
            series.event(at(cycle), &Event::Asleep);
        }
        let windows: Vec<(u64, u64)> =
            series.windows().unwrap().iter().map(|w| (w.start, w.counts.batches().total())).collect();
        for &(start, total) in &windows {
            let plain = cycles.iter().filter(|&&c| (start..start + every).contains(&c)).count();
            prop_assert_eq!(total, plain as u64);
        }
        prop_assert_eq!(windows.iter().map(|&(_, total)| total).sum::<u64>(), cycles.len() as u64);
    }
}

#[test]
fn memory_is_bounded_for_endless_addresses() {
    let mut counts = SampleCounts::default();
    for pc in 0..200_000_u64 {
        counts.event(at(0), &Event::Sample { pc: pc * 2 });
    }
    assert_eq!(counts.addresses().count(), 1 << 17);
    assert_eq!(counts.batches().count(SampleCounts::BEYOND), 200_000 - (1 << 17));
    assert_eq!(counts.batches().total(), 200_000);
}

#[test]
fn a_sample_that_may_lie_in_two_windows_is_cut() {
    let mut series = Series::new(100);
    let time = Some(Window { earliest: 90, latest: 110 });
    series.event(Position { time, ..at(0) }, &Event::Asleep);
    series.event(Position { time: None, ..at(0) }, &Event::Asleep);
    series.event(at(250), &Event::Asleep);
    let cut: Vec<u64> = series.windows().unwrap().iter().map(|window| window.cut).collect();
    assert_eq!(cut, [2, 0, 0]);
    series.event(at(100 * MOST_WINDOWS as u64), &Event::Asleep);
    assert!(series.windows().is_err());
}

#[test]
fn manifests_say_how_they_were_made() {
    use crate::capture::Manifest;
    let itm = "format = 1\n[[stream]]\nfile = 'a'\nprotocol = 'itm'\n";
    let poll = "[[stream]]\nfile = 'b'\nprotocol = 'poll'\n";
    let stopping = "[stream.settings]\nintrusive = true\n";
    let conduct = |text: &str| Conduct::of(&Manifest::parse("m", text).unwrap());
    for (text, basis, intrusive) in [
        (itm.to_owned(), Basis::Sampler, false),
        (format!("intrusive = true\n{itm}"), Basis::Sampler, true),
        (format!("{itm}{poll}{stopping}"), Basis::Sampler, false),
        (format!("format = 1\n{poll}"), Basis::Polled, false),
        (format!("format = 1\n{poll}{stopping}"), Basis::Stopped, true),
        (format!("format = 1\nintrusive = true\n{poll}"), Basis::Polled, true),
    ] {
        let found = conduct(&text);
        assert_eq!((found.basis, found.intrusive), (basis, intrusive), "{text}");
    }
    let part = conduct(&format!("inside = '0x10..0x20'\n{itm}"));
    assert!(part.ranges.holds(0x10) && !part.ranges.holds(0x20));
}

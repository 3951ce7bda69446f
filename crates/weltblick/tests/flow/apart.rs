//! Calls that are followed on a thread of their own are those that one thread finds.

use crate::calls::{By, recorded};
use crate::executed::image;
use weltblick_core::flow::Clocking;
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{
    BlockCounts, Calls, Crossings, ExactContext, Gaps, by_function, by_interrupt, by_task,
};
use weltblick_core::measure::statistic::Scale;
use weltblick_core::time::Frequency;

/// Everything that is known of calls, as text.
fn all_of(calls: &Calls<'_>, image: &Image) -> String {
    let clock = Frequency::from_hertz(48e6);
    let context = ExactContext {
        image,
        scale: clock.map(|clock| Scale::of(clock, Some(clock))),
        gaps: &Gaps::default(),
        time: "cycle_counts",
        executed: None,
    };
    let reports = [by_function, by_interrupt, by_task].map(|by| by(calls, &context));
    format!("{reports:#?} {:#?} {:#?}", calls.tree().nodes(), calls.crossings())
}

#[test]
fn two_threads_find_what_one_finds() {
    let image = image();
    for by in [By::Etmv4(4), By::Etmv4(64), By::Etmv3] {
        let (_, mut bytes, told) = recorded(12_000_000, by);
        // A gap in the middle, and another end.
        let middle = bytes.len() / 2;
        bytes.drain(middle..middle + 100);
        bytes.truncate(bytes.len() - 7);
        let start = |name: &str| {
            let functions = image.functions().iter();
            functions.clone().find(|function| function.name == name).unwrap().range.start
        };
        let places = [start("wave_filter"), start("sine")];
        for clocking in [Clocking::Cycles, Clocking::Nothing] {
            let calls = |crosses: bool| {
                let calls = Calls::new(&image, clocking);
                if crosses { calls.crossing(Crossings::new(&places, true, 5)) } else { calls }
            };
            for crosses in [false, true] {
                let cuts = if crosses { &places[..] } else { &[] };
                let mut one = (BlockCounts::default(), calls(crosses));
                told.follow(&image, cuts, (&bytes, 0), &mut one);
                one.1.finish();
                let (counts, mut two) = calls(crosses).apart(|ahead| {
                    let mut sink = (BlockCounts::default(), ahead);
                    told.follow(&image, cuts, (&bytes, 0), &mut sink);
                    sink.0
                });
                two.finish();
                assert!(one.1.instructions() > 1_000_000);
                assert!(all_of(&one.1, &image) == all_of(&two, &image), "{by:?} {clocking:?}");
                assert_eq!(counts.gaps, one.0.gaps);
            }
        }
    }
}

#[test]
fn what_runs_is_counted_while_it_runs() {
    let image = image();
    let (_, bytes, told) = recorded(4_000_000, By::Etmv4(32));
    let mut calls = Calls::new(&image, Clocking::Cycles);
    told.follow(&image, &[], (&bytes, 0), &mut calls);
    let before = (calls.ticks(), calls.instructions());
    calls.catch_up();
    assert_eq!(before, (calls.ticks(), calls.instructions()));
    let by_path: u64 = calls.tree().nodes().iter().map(|node| node.time.ticks).sum();
    assert!(by_path.abs_diff(calls.ticks().unwrap()) < 200, "{by_path}");
}

#[test]
fn a_reader_that_fails_gives_back_what_it_found() {
    let image = image();
    let (_, bytes, told) = recorded(1_000_000, By::Etmv4(32));
    let (read, mut calls) = Calls::new(&image, Clocking::Cycles).apart(|ahead| {
        told.follow(&image, &[], (&bytes, 0), ahead);
        Err::<(), _>("no more")
    });
    calls.finish();
    assert_eq!(read, Err("no more"));
    assert!(calls.instructions() > 10_000);
}

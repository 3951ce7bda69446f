//! Recordings, losses and windows of time.

use super::recording::Recording;
use super::within::Within;
use crate::event::{Event, LossReason, Origin, Position, Sink};
use crate::time::Window;
use crate::wire::itm::Malformed;

fn at(earliest: u64, latest: u64) -> Position {
    Position::new(Origin(0), 0, Some(Window { earliest, latest }))
}

const UNDATED: Position = Position::new(Origin(0), 0, None);

fn overflow() -> Event {
    Event::Lost { bytes: 7..7, why: LossReason::Overflow }
}

fn damage(bytes: std::ops::Range<u64>) -> Event {
    Event::Lost { bytes, why: LossReason::Malformed(Malformed::ReservedHeader) }
}

/// `count` samples, 100 cycles apart, from cycle 100 on.
fn sampled(count: u64) -> Recording {
    let mut recording = Recording::default();
    for number in 1..=count {
        recording.event(at(100 * number, 100 * number), &Event::Asleep);
    }
    recording
}

#[test]
fn spans_from_the_first_event_to_the_last() {
    assert_eq!(Recording::default().span(), None);
    assert_eq!(sampled(1).span(), None, "one moment is no span");
    let mut recording = sampled(11);
    assert_eq!(recording.span(), Some(1000));
    recording.event(UNDATED, &Event::Asleep);
    assert_eq!((recording.span(), recording.samples()), (Some(1000), 12));
    recording.event(at(0, 5000), &Event::Entered { exception: 1 });
    assert_eq!(recording.span(), Some(5000));
}

#[test]
fn nothing_lost_is_nothing_missing() {
    assert_eq!(sampled(5).missing_samples(None), Some(0));
    assert_eq!(sampled(5).missing_samples(Some(100.0)), Some(0));
    // By a shorter period there is time that no sample covers: every tenth came.
    assert_eq!(sampled(5).missing_samples(Some(10.0)), Some(35));
}

#[test]
fn an_overflow_hides_what_time_says_and_no_more() {
    let mut recording = sampled(10);
    recording.event(at(2000, 2000), &overflow());
    // From 100 to 2000 there is room for 19 samples and one beside the ends.
    assert_eq!(recording.missing_samples(Some(100.0)), Some(10));
    assert_eq!(recording.missing_samples(None), Some(10), "the closest samples say the period");
    assert_eq!((recording.losses.overflows(), recording.time_slipped), (1, false));
}

#[test]
fn a_period_that_is_stated_too_long_hides_nothing_of_what_is_missing() {
    let mut recording = sampled(1000);
    recording.event(at(150_000, 150_000), &overflow());
    assert_eq!(recording.missing_samples(Some(100.0)), Some(500));
    // With 400 there would be room for 375 samples only, and a thousand came.
    assert_eq!(recording.missing_samples(Some(400.0)), Some(500));
}

#[test]
fn unread_bytes_hide_a_sample_per_two_and_time_slips() {
    let mut recording = sampled(10);
    recording.event(UNDATED, &damage(100..141));
    assert_eq!(recording.missing_samples(Some(100.0)), Some(20));
    assert!(recording.time_slipped);
    assert_eq!((recording.losses.count(), recording.losses.bytes()), (1, 41));
}

#[test]
fn losses_are_counted_by_reason_and_the_first_places_kept() {
    let mut recording = Recording::default();
    for number in 0..100 {
        recording.event(UNDATED, &damage(10 * number..10 * number + 3));
    }
    recording.event(UNDATED, &overflow());
    let rows = recording.losses.rows();
    let seen: Vec<(u64, u64)> = rows.iter().map(|row| (row.count, row.bytes)).collect();
    assert_eq!(seen, [(100, 300), (1, 0)]);
    assert_eq!(recording.losses.places().len(), 16);
    assert_eq!(recording.losses.places()[0].bytes, 0..3);
}

#[test]
fn a_window_takes_what_lies_inside_and_counts_what_is_cut() {
    let mut within = Within::new(1000, 2000, Recording::default());
    for (earliest, latest) in [(0, 999), (1000, 1000), (1999, 1999), (2000, 2000), (5000, 6000)] {
        within.event(at(earliest, latest), &Event::Asleep);
    }
    assert_eq!((within.sink.samples(), within.cut), (2, 0));
    for (earliest, latest) in [(900, 1000), (1999, 2000), (500, 3000)] {
        within.event(at(earliest, latest), &Event::Asleep);
    }
    within.event(UNDATED, &Event::Asleep);
    assert_eq!((within.sink.samples(), within.cut, within.undated), (2, 3, 1));
    within.event(at(999, 1000), &Event::Entered { exception: 15 });
    assert_eq!(within.cut, 3, "only samples are counted as cut");
}

#[test]
fn a_window_hears_of_every_loss_that_may_touch_it() {
    let within = |position: Position, event: &Event| {
        let mut within = Within::new(1000, 2000, Recording::default());
        within.event(position, event);
        (within.sink.losses.count(), within.slipped)
    };
    assert_eq!(within(at(1500, 1500), &overflow()), (1, false));
    assert_eq!(within(at(900, 1100), &overflow()), (1, false), "across the edge");
    assert_eq!(within(at(100, 200), &overflow()), (0, false));
    assert_eq!(within(at(100, 200), &damage(0..2)), (0, true), "it shifts all that follows");
    assert_eq!(within(at(2500, 2600), &damage(0..2)), (0, false));
    assert_eq!(within(UNDATED, &damage(0..2)), (1, true));
}

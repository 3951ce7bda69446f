//! Frames by hand, and properties of any bytes. The round trip with an independent encoder stands
//! in `crates/weltblick/tests/round_trip.rs`.

use super::*;
use proptest::collection::vec;
use proptest::prelude::*;
use std::ops::Range;

#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Recorder {
    data: Vec<(TraceId, Vec<u8>)>,
    losses: Vec<(Range<u64>, Damage)>,
    syncs: Vec<Range<u64>>,
    orphaned: usize,
    padding: usize,
}

impl Sink for Recorder {
    fn data(&mut self, id: TraceId, bytes: &[u8], _: u64) {
        match self.data.last_mut() {
            Some((last, run)) if *last == id => run.extend_from_slice(bytes),
            _ => self.data.push((id, bytes.to_vec())),
        }
    }
    fn loss(&mut self, at: Range<u64>, why: Damage) {
        self.losses.push((at, why));
    }
    fn synchronised(&mut self, at: Range<u64>) {
        self.syncs.push(at);
    }
    fn padding(&mut self, _: TraceId, bytes: usize) {
        self.padding += bytes;
    }
    fn orphaned(&mut self, _: u64, bytes: usize) {
        self.orphaned += bytes;
    }
}

fn deframe<'a>(start: Start, chunks: impl Iterator<Item = &'a [u8]>) -> Recorder {
    let mut recorder = Recorder::default();
    let mut deframer = Deframer::new(start);
    for chunk in chunks {
        deframer.push(chunk, &mut recorder);
    }
    deframer.finish(&mut recorder);
    recorder
}

const SYNC: [u8; 4] = [0xff, 0xff, 0xff, 0x7f];

/// Source 3 says 1 to 4, source 5 says 6 to 14; the second change is delayed by one byte.
const FRAME: [u8; 16] = [
    0x07, 0x01, 0x02, 0x03, 0x0b, 0x04, 0x06, 0x07, 0x08, 0x09, 0x0a, 0x0b, 0x0c, 0x0d, 0x0e, 0x04,
];

fn expected() -> Vec<(TraceId, Vec<u8>)> {
    vec![(3, vec![1, 2, 3, 4]), (5, (6..=14).collect())]
}

#[test]
fn reads_a_frame_with_both_kinds_of_change() {
    assert_eq!(deframe(Start::AtFrame, std::iter::once(&FRAME[..])).data, expected());
    let stream = [&SYNC[..], &FRAME].concat();
    let seen = deframe(Start::Anywhere, std::iter::once(&stream[..]));
    assert_eq!((&seen.data, seen.syncs.len()), (&expected(), 1));
    for cut in 1..stream.len() {
        assert_eq!(deframe(Start::Anywhere, stream.chunks(cut)), seen);
    }
}

#[test]
fn the_auxiliary_byte_restores_lowest_bits() {
    // Source 1: 0x01 0xAA (even byte with its lowest bit set), 0x02 0xBB (without).
    let mut frame = [0_u8; 16];
    frame[..6].copy_from_slice(&[0x03, 0x55, 0x00, 0xaa, 0x02, 0xbb]);
    frame[15] = 0b10;
    let data = deframe(Start::AtFrame, std::iter::once(&frame[..])).data;
    assert_eq!(data[0].1[..5], [0x55, 0x01, 0xaa, 0x02, 0xbb]);
}

#[test]
fn half_synchronisations_inside_a_frame_are_no_data() {
    let mut stream = SYNC.to_vec();
    for pair in FRAME.chunks(2) {
        stream.extend_from_slice(&[0xff, 0x7f]);
        stream.extend_from_slice(pair);
    }
    let seen = deframe(Start::Anywhere, std::iter::once(&stream[..]));
    assert_eq!((seen.data, seen.syncs.len()), (expected(), 9));
    assert!(seen.losses.is_empty());
}

#[test]
fn starts_in_the_middle_at_the_first_full_synchronisation() {
    let stream = [&FRAME[5..], &SYNC, &FRAME].concat();
    let seen = deframe(Start::Anywhere, std::iter::once(&stream[..]));
    assert_eq!(seen.data, expected());
    assert_eq!(seen.losses, [(0..11, Damage::Unsynchronised)]);
}

#[test]
fn a_frame_that_lost_bytes_is_lost_and_its_source_unknown_after_it() {
    let mut nameless = [0x10_u8; 16];
    nameless[15] = 0;
    let stream = [&SYNC[..], &FRAME, &FRAME[..9], &SYNC, &nameless, &FRAME].concat();
    let seen = deframe(Start::Anywhere, std::iter::once(&stream[..]));
    assert_eq!(seen.losses, [(20..29, Damage::ShortFrame)]);
    assert_eq!(seen.orphaned, 15, "no source was named since the loss");
    assert_eq!(seen.data, [expected(), expected()].concat());
}

#[test]
fn the_null_source_and_reserved_sources_are_padding() {
    let mut frame = [0_u8; 16];
    frame[0] = 0x01;
    let seen = deframe(Start::AtFrame, std::iter::once(&frame[..]));
    assert_eq!((seen.padding, seen.data.len()), (14, 0));
    frame[0] = 0x7d << 1 | 1;
    assert_eq!(deframe(Start::AtFrame, std::iter::once(&frame[..])).padding, 14);
}

#[test]
fn an_open_frame_is_lost_at_the_end() {
    let stream = [&FRAME[..], &FRAME[..3]].concat();
    let seen = deframe(Start::AtFrame, std::iter::once(&stream[..]));
    assert_eq!(seen.losses, [(16..19, Damage::CutOff)]);
    assert_eq!(deframe(Start::Anywhere, std::iter::once(&[1_u8, 2][..])).losses.len(), 1);
}

proptest! {
    #[test]
    fn where_it_was_cut_does_not_show(
        pieces in vec(prop_oneof![
            3 => Just(FRAME.to_vec()),
            1 => Just(SYNC.to_vec()),
            1 => Just(vec![0xff, 0x7f]),
            1 => vec(any::<u8>(), 1..20),
        ], 0..30),
        cut in 1_usize..40,
        aligned in any::<bool>(),
    ) {
        let stream = pieces.concat();
        let start = if aligned { Start::AtFrame } else { Start::Anywhere };
        let seen = deframe(start, std::iter::once(&stream[..]));
        prop_assert_eq!(&deframe(start, stream.chunks(cut)), &seen);
        // Losses never overlap, and data never outnumbers the bytes outside them.
        let mut end = 0;
        for (at, _) in &seen.losses {
            prop_assert!(at.start >= end && at.end > at.start && at.end <= stream.len() as u64);
            end = at.end;
        }
        let data: usize = seen.data.iter().map(|(_, run)| run.len()).sum();
        let lost: u64 = seen.losses.iter().map(|(at, _)| at.end - at.start).sum();
        prop_assert!(data as u64 + lost <= stream.len() as u64);
    }
}

/// What was read, and how much of it before each frame.
#[derive(Default)]
struct Framed {
    recorder: Recorder,
    frames: Vec<(u64, Option<TraceId>, Recorder)>,
}

impl Sink for Framed {
    fn data(&mut self, id: TraceId, bytes: &[u8], frame: u64) {
        self.recorder.data(id, bytes, frame);
    }
    fn loss(&mut self, at: Range<u64>, why: Damage) {
        self.recorder.loss(at, why);
    }
    fn synchronised(&mut self, at: Range<u64>) {
        self.recorder.synchronised(at);
    }
    fn padding(&mut self, id: TraceId, bytes: usize) {
        self.recorder.padding(id, bytes);
    }
    fn orphaned(&mut self, frame: u64, bytes: usize) {
        self.recorder.orphaned(frame, bytes);
    }
    fn frame(&mut self, frame: u64, id: Option<TraceId>) {
        self.frames.push((frame, id, self.recorder.clone()));
    }
}

impl Recorder {
    /// All bytes of each source.
    fn by_source(&self) -> std::collections::BTreeMap<TraceId, Vec<u8>> {
        let mut all = std::collections::BTreeMap::<_, Vec<u8>>::new();
        for (id, bytes) in &self.data {
            all.entry(*id).or_default().extend(bytes);
        }
        all
    }
}

proptest! {
    #[test]
    fn reading_goes_on_from_every_frame_as_if_it_had_begun_before(
        frames in vec((any::<[u8; 16]>(), 0..8_u8), 1..12),
        from_the_first in any::<bool>(),
    ) {
        let mut bytes = Vec::new();
        for (frame, kind) in frames {
            match kind {
                0 => bytes.extend(SYNC),
                // A half synchronisation inside the frame, or damage.
                1 => bytes.extend([&FRAME[..6], &[0xff, 0x7f], &FRAME[6..]].concat()),
                2 => bytes.extend(frame),
                _ => bytes.extend(frame.map(|byte| byte & 0x7f)),
            }
        }
        let start = if from_the_first { Start::AtFrame } else { Start::Anywhere };
        let mut whole = Framed::default();
        let mut deframer = Deframer::new(start);
        deframer.push(&bytes, &mut whole);
        deframer.finish(&mut whole);
        let all = whole.recorder.by_source();
        for (frame, id, before) in &whole.frames {
            let mut rest = Recorder::default();
            let mut deframer = Deframer::resuming(start, *frame, *id);
            deframer.push(&bytes[*frame as usize..], &mut rest);
            deframer.finish(&mut rest);
            let mut together = before.clone();
            together.data.extend(rest.data);
            prop_assert_eq!(&together.by_source(), &all);
            prop_assert_eq!(before.losses.len() + rest.losses.len(), whole.recorder.losses.len());
            prop_assert_eq!(before.orphaned + rest.orphaned, whole.recorder.orphaned);
        }
    }
}

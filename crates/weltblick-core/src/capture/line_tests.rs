//! Streams through their framing: sources, losses, and starting in the middle.

use super::*;
use crate::document::At;
use crate::event::{self, Event, LossReason, Origin, Position};
use crate::wire::tpiu::{Start, TraceId};

const SYNC: [u8; 6] = [0, 0, 0, 0, 0, 0x80];
const FRAME_SYNC: [u8; 4] = [0xff, 0xff, 0xff, 0x7f];

#[derive(Default)]
struct Seen {
    said: Vec<(u16, u8)>,
    lost: Vec<LossReason>,
}

impl event::Sink for Seen {
    fn event(&mut self, position: Position, event: &Event) {
        match event {
            Event::Said { bytes, .. } => self.said.push((position.origin.0, bytes.as_slice()[0])),
            Event::Lost { why, .. } => self.lost.push(*why),
            _ => {}
        }
    }
}

fn framed(start: Start, ids: &[TraceId]) -> StreamSpec {
    let source =
        |&id| SourceSpec { trace_id: Some(id), protocol: Protocol::Itm(ItmSettings::default()) };
    StreamSpec {
        segments: None,
        files: vec![At { value: "port.bin".into(), span: 0..0 }],
        framing: Framing::Tpiu(start),
        sources: ids.iter().map(source).collect(),
    }
}

/// A frame of 14 bytes for one source.
fn frame(id: TraceId, bytes: [u8; 14]) -> Vec<u8> {
    let mut frame = vec![id << 1 | 1];
    let mut flags = 0;
    for (position, byte) in (1..).zip(bytes) {
        if position % 2 == 0 {
            frame.push(byte & !1);
            flags |= (byte & 1) << (position / 2);
        } else {
            frame.push(byte);
        }
    }
    frame.push(flags);
    frame
}

/// Seven writes of one byte to port 0.
fn writes(first: u8) -> [u8; 14] {
    std::array::from_fn(|at| if at % 2 == 0 { 0x01 } else { first + at as u8 / 2 })
}

/// A synchronisation and four writes.
fn synchronised(first: u8) -> [u8; 14] {
    let mut bytes = writes(first);
    bytes.rotate_right(6);
    bytes[..6].copy_from_slice(&SYNC);
    bytes
}

fn read(spec: &StreamSpec, stream: &[u8]) -> Seen {
    let mut seen = Seen::default();
    for cut in [stream.len().max(1), 1, 7] {
        let mut again = Seen::default();
        let mut line = Line::new(spec, Origin(0));
        stream.chunks(cut).for_each(|chunk| line.push(chunk, &mut (), &mut again));
        line.finish(&mut (), &mut again);
        if cut != stream.len().max(1) {
            assert_eq!((&again.said, &again.lost), (&seen.said, &seen.lost), "cut in {cut}s");
        }
        seen = again;
    }
    seen
}

#[test]
fn each_source_has_its_own_decoder() {
    let stream =
        [&FRAME_SYNC[..], &frame(1, writes(10)), &frame(2, writes(20)), &frame(1, writes(30))]
            .concat();
    let seen = read(&framed(Start::Anywhere, &[1, 2]), &stream);
    let of = |origin| -> Vec<u8> {
        seen.said.iter().filter(|(from, _)| *from == origin).map(|(_, byte)| *byte).collect()
    };
    assert_eq!(of(0), (10..17).chain(30..37).collect::<Vec<_>>());
    assert_eq!(of(1), (20..27).collect::<Vec<_>>());
    assert!(seen.lost.is_empty());
}

#[test]
fn unnamed_sources_are_told_to_the_tap() {
    #[derive(Default)]
    struct Unread(Vec<(TraceId, usize)>);
    impl Tap for Unread {
        fn unread_source(&mut self, id: TraceId, bytes: usize) {
            self.0.push((id, bytes));
        }
    }
    let stream = [&FRAME_SYNC[..], &frame(9, writes(1)), &frame(0, [0; 14])].concat();
    let mut tap = Unread::default();
    let mut line = Line::new(&framed(Start::Anywhere, &[1]), Origin(0));
    line.push(&stream, &mut tap, &mut ());
    line.finish(&mut tap, &mut ());
    assert_eq!(tap.0, [(9, 14), (0, 14)]);
}

#[test]
fn a_lost_frame_costs_each_source_up_to_its_own_synchronisation() {
    let broken = &frame(2, writes(20))[..9];
    let stream = [
        &FRAME_SYNC[..],
        &frame(1, writes(10)),
        broken,
        &FRAME_SYNC,
        // Nothing is believed before a synchronisation of the source itself.
        &frame(1, writes(40)),
        &frame(2, synchronised(50)),
        &frame(1, synchronised(60)),
    ]
    .concat();
    let mut seen = read(&framed(Start::Anywhere, &[1, 2]), &stream);
    seen.said.sort_by_key(|(origin, _)| *origin); // sources are not ordered among each other
    let expected: Vec<(u16, u8)> = (10..17)
        .map(|byte| (0, byte))
        .chain((60..64).map(|byte| (0, byte)))
        .chain((50..54).map(|byte| (1, byte)))
        .collect();
    assert_eq!(seen.said, expected);
    assert!(matches!(seen.lost[0], LossReason::Framing(_)), "{:?}", seen.lost);
}

#[test]
fn a_stream_that_starts_in_the_middle_starts_at_a_synchronisation() {
    let stream = [
        &frame(1, writes(1))[5..],
        &FRAME_SYNC,
        &frame(1, writes(10)),
        &frame(1, synchronised(20)),
    ]
    .concat();
    let seen = read(&framed(Start::Anywhere, &[1]), &stream);
    assert_eq!(seen.said, (20..24).map(|byte| (0, byte)).collect::<Vec<_>>());
}

#[test]
fn an_on_chip_buffer_starts_at_a_frame_but_its_source_may_be_unknown() {
    let nameless: Vec<u8> = std::iter::once(0x02).chain(writes(1)).chain([0]).collect();
    let stream = [nameless, frame(1, writes(10)), frame(1, synchronised(20))].concat();
    let seen = read(&framed(Start::AtFrame, &[1]), &stream);
    assert_eq!(seen.said, (20..24).map(|byte| (0, byte)).collect::<Vec<_>>());
    let named = [frame(1, writes(10)), frame(1, writes(20))].concat();
    let seen = read(&framed(Start::AtFrame, &[1]), &named);
    assert_eq!(seen.said.len(), 14, "a named source is believed from the first byte");
}

#[test]
fn a_gap_costs_what_follows_up_to_a_synchronisation_and_is_told_once() {
    for (start, why) in [
        (Start::Anywhere, Some(LossReason::Disconnected)),
        (Start::AtFrame, Some(LossReason::Overwritten)),
        (Start::AtFrame, None),
    ] {
        let spec = framed(start, &[1]);
        let (mut line, mut seen) = (Line::new(&spec, Origin(0)), Seen::default());
        line.push(&FRAME_SYNC, &mut (), &mut seen);
        line.push(&frame(1, writes(10)), &mut (), &mut seen);
        // The connection breaks inside a frame, and inside a packet.
        line.push(&frame(1, writes(20))[..7], &mut (), &mut seen);
        line.gap(why, &mut (), &mut seen);
        let said = seen.said.len();
        if start == Start::Anywhere {
            line.push(&frame(1, writes(30))[5..], &mut (), &mut seen);
            line.push(&FRAME_SYNC, &mut (), &mut seen);
        }
        line.push(&frame(1, writes(40)), &mut (), &mut seen);
        assert_eq!(seen.said.len(), said, "nothing is believed before a synchronisation");
        line.push(&frame(1, synchronised(50)), &mut (), &mut seen);
        line.finish(&mut (), &mut seen);
        let later: Vec<u8> = seen.said[said..].iter().map(|(_, byte)| *byte).collect();
        assert_eq!(later, (50..54).collect::<Vec<_>>(), "{start:?}");
        let told = seen.lost.iter().filter(|lost| lost.is_unbounded()).count();
        assert_eq!(told, usize::from(why.is_some()), "{:?}", seen.lost);
    }
}

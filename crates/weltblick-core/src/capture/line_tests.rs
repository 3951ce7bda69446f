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
        capacity: None,
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

/// Counts what comes by, in bytes.
#[derive(Debug, Default)]
struct Bytes {
    packets: u64,
    branches: Vec<(u64, bool)>,
    unwanted: u64,
    lost: u64,
}

impl Tap for Bytes {
    fn packet(&mut self, _: Origin, at: std::ops::Range<u64>, _: crate::wire::itm::Packet) {
        self.packets += at.end - at.start;
    }

    fn branch(&mut self, _: Origin, at: std::ops::Range<u64>, packet: crate::wire::mtb::Packet) {
        self.packets += at.end - at.start;
        self.branches.push((at.start, packet.exceptional));
    }

    fn unwanted(&mut self, _: Origin, at: std::ops::Range<u64>) {
        self.unwanted += at.end - at.start;
    }

    fn loss(&mut self, _: Origin, at: std::ops::Range<u64>, _: crate::wire::itm::Malformed) {
        self.lost += at.end - at.start;
    }
}

#[test]
fn what_leads_up_to_a_window_is_nobodys_loss() {
    let spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    for (why, unwanted, lost) in [(None, 3, 0), (Some(LossReason::Disconnected), 0, 3)] {
        let (mut line, mut bytes, mut seen) =
            (Line::new(&spec, Origin(0)), Bytes::default(), Seen::default());
        line.push(&[0x01, b'a'], &mut bytes, &mut seen);
        line.gap(why, &mut bytes, &mut seen);
        // The rest of a packet, and a whole one: nobody knows that it is one.
        line.push(&[b'x', 0x01, b'y'], &mut bytes, &mut seen);
        line.push(&SYNC, &mut bytes, &mut seen);
        line.push(&[0x01, b'b'], &mut bytes, &mut seen);
        line.finish(&mut bytes, &mut seen);
        let said: Vec<u8> = seen.said.iter().map(|(_, byte)| *byte).collect();
        assert_eq!(said, b"ab", "{why:?}");
        assert_eq!((bytes.packets, bytes.unwanted, bytes.lost), (10, unwanted, lost), "{why:?}");
        assert_eq!(seen.lost.is_empty(), why.is_none(), "{:?}", seen.lost);
    }
}

#[test]
fn a_loss_outweighs_what_nobody_wanted() {
    // A buffer on the chip was read out, and had wrapped.
    let spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    let (mut line, mut bytes, mut seen) =
        (Line::new(&spec, Origin(0)), Bytes::default(), Seen::default());
    line.push(&[0x01], &mut bytes, &mut seen);
    line.gap(None, &mut bytes, &mut seen);
    line.gap(Some(LossReason::Overwritten), &mut bytes, &mut seen);
    line.push(&[7, 7], &mut bytes, &mut seen);
    line.push(&SYNC, &mut bytes, &mut seen);
    line.finish(&mut bytes, &mut seen);
    assert_eq!((bytes.unwanted, bytes.lost, bytes.packets), (0, 3, 6));
}

#[test]
fn framed_streams_find_their_feet_after_a_window_without_a_loss() {
    let spec = framed(Start::Anywhere, &[1]);
    let (mut line, mut bytes, mut seen) =
        (Line::new(&spec, Origin(0)), Bytes::default(), Seen::default());
    line.push(&FRAME_SYNC, &mut bytes, &mut seen);
    line.push(&frame(1, writes(10)), &mut bytes, &mut seen);
    line.gap(None, &mut bytes, &mut seen);
    line.push(&frame(1, writes(20))[3..], &mut bytes, &mut seen);
    line.push(&FRAME_SYNC, &mut bytes, &mut seen);
    line.push(&frame(1, synchronised(30)), &mut bytes, &mut seen);
    line.finish(&mut bytes, &mut seen);
    let said: Vec<u8> = seen.said.iter().map(|(_, byte)| *byte).collect();
    assert_eq!(said, (10..17).chain(30..34).collect::<Vec<_>>());
    assert!(seen.lost.is_empty() && bytes.lost == 0, "{:?} {bytes:?}", seen.lost);
}

#[test]
fn branches_of_a_micro_trace_buffer_come_by_whole_or_are_lost() {
    let source = SourceSpec {
        trace_id: None,
        protocol: Protocol::Mtb(crate::wire::mtb::Settings::default()),
    };
    let spec =
        StreamSpec { sources: vec![source], ..StreamSpec::itm(Vec::new(), ItmSettings::default()) };
    let packet = |source: u32| [source.to_le_bytes(), 0x0800_0200_u32.to_le_bytes()].concat();
    let (mut line, mut bytes, mut seen) =
        (Line::new(&spec, Origin(0)), Bytes::default(), Seen::default());
    let stream = [packet(0x0800_0100), packet(0x0800_0101), packet(0x0800_0104)].concat();
    line.push(&stream[..20], &mut bytes, &mut seen);
    line.gap(Some(LossReason::Overwritten), &mut bytes, &mut seen);
    line.push(&packet(0x0800_0300), &mut bytes, &mut seen);
    line.push(&[1, 2], &mut bytes, &mut seen);
    line.finish(&mut bytes, &mut seen);
    assert_eq!(bytes.branches, [(0, false), (8, true), (20, false)]);
    assert_eq!((bytes.packets, bytes.lost), (24, 6));
    let cut_off = LossReason::Malformed(crate::wire::itm::Malformed::CutOff);
    assert_eq!(seen.lost, [cut_off, LossReason::Overwritten, cut_off]);
}

//! One table of cases through every way of cutting a stream, and properties of any bytes.

use super::*;
use proptest::collection::vec;
use proptest::prelude::*;
use std::ops::Range;

/// What a decoder handed out, with its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Seen {
    Packet(Range<u64>, Packet),
    Loss(Range<u64>, Malformed),
}

#[derive(Default)]
struct Recorder(Vec<Seen>);

impl Sink for Recorder {
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        self.0.push(Seen::Packet(at, packet));
    }
    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.0.push(Seen::Loss(at, why));
    }
}

fn decode<'a>(chunks: impl Iterator<Item = &'a [u8]>) -> Vec<Seen> {
    let mut recorder = Recorder::default();
    let mut decoder = Decoder::new();
    for chunk in chunks {
        decoder.push(chunk, &mut recorder);
    }
    decoder.finish(&mut recorder);
    recorder.0
}

fn whole(bytes: &[u8]) -> Vec<Seen> {
    decode(std::iter::once(bytes))
}

const SYNC: [u8; 6] = [0, 0, 0, 0, 0, 0x80];

/// Bytes of single packets, by the manual's figures, and what they mean.
fn cases() -> Vec<(&'static [u8], Packet)> {
    use Packet::*;
    let time = |ticks, relation| LocalTime { ticks, relation };
    vec![
        (&[0, 0, 0, 0, 0, 0x80], Sync),
        (&[0, 0, 0, 0, 0, 0, 0, 0x80], Sync),
        (&[0x70], Overflow),
        (&[0x10], time(1, Relation::Synchronous)),
        (&[0x60], time(6, Relation::Synchronous)),
        (&[0xc0, 0x00], time(0, Relation::Synchronous)),
        (&[0xc0, 0x07], time(7, Relation::Synchronous)),
        (&[0xd0, 0x80, 0x01], time(128, Relation::TimestampDelayed)),
        (&[0xe0, 0xff, 0xff, 0x7f], time(0x1f_ffff, Relation::PacketDelayed)),
        (&[0xf0, 0xff, 0xff, 0xff, 0x7f], time(0x0fff_ffff, Relation::BothDelayed)),
        (&[0x94, 0x05], GlobalTimeLow { bits: 5, width: 7, clock_changed: false, wrapped: false }),
        (
            &[0x94, 0x85, 0x01],
            GlobalTimeLow { bits: 0x85, width: 14, clock_changed: false, wrapped: false },
        ),
        (
            &[0x94, 0xff, 0xff, 0xff, 0x7f],
            GlobalTimeLow { bits: 0x03ff_ffff, width: 26, clock_changed: true, wrapped: true },
        ),
        (
            &[0x94, 0x80, 0x80, 0x80, 0x21],
            GlobalTimeLow { bits: 1 << 21, width: 26, clock_changed: true, wrapped: false },
        ),
        (&[0xb4, 0x81, 0x80, 0x80, 0x01], GlobalTimeHigh { bits: 1 | 1 << 21, width: 22 }),
        (
            &[0xb4, 0xff, 0xff, 0xff, 0xff, 0xff, 0x07],
            GlobalTimeHigh { bits: (1 << 38) - 1, width: 38 },
        ),
        (&[0x18], Extension { hardware: false, value: 1 }),
        (&[0x7c], Extension { hardware: true, value: 7 }),
        (&[0xa8, 0x03], Extension { hardware: false, value: 2 | 3 << 3 }),
        (&[0xf8, 0xff, 0xff, 0xff, 0xff], Extension { hardware: false, value: u32::MAX }),
        (&[0x01, 0x41], Stimulus { port: 0, size: Size::Byte, value: 0x41 }),
        (&[0xfa, 0x34, 0x12], Stimulus { port: 31, size: Size::Half, value: 0x1234 }),
        (&[0x0b, 1, 2, 3, 4], Stimulus { port: 1, size: Size::Word, value: 0x0403_0201 }),
        (&[0x05, 0x24], EventCounters(Counters(0x24))),
        (&[0x0e, 0x0f, 0x10], Exception { number: 15, action: Action::Enter }),
        (&[0x0e, 0x0f, 0x20], Exception { number: 15, action: Action::Exit }),
        (&[0x0e, 0xff, 0x31], Exception { number: 511, action: Action::Return }),
        (&[0x17, 0x78, 0x56, 0x34, 0x12], PcSample { pc: 0x1234_5678 }),
        (&[0x15, 0x00], Asleep),
        (&[0x15, 0xff], Prohibited),
        (&[0x1d, 0x81], PmuOverflow { counters: 0x81 }),
        (&[0x47, 0x78, 0x56, 0x34, 0x12], DataPc { comparator: 0, pc: 0x1234_5678 }),
        (&[0x77, 0, 0, 0, 0x08], DataPc { comparator: 3, pc: 0x0800_0000 }),
        (&[0x55, 0x01], DataMatch { comparator: 1 }),
        (&[0x6e, 0x34, 0x12], DataAddress { comparator: 2, offset: 0x1234 }),
        (&[0x85, 9], DataValue { comparator: 0, write: false, size: Size::Byte, value: 9 }),
        (
            &[0xbf, 1, 0, 0, 0x80],
            DataValue { comparator: 3, write: true, size: Size::Word, value: 0x8000_0001 },
        ),
    ]
}

#[test]
fn reads_every_packet_however_it_is_cut() {
    for (bytes, packet) in cases() {
        let expected = vec![Seen::Packet(0..bytes.len() as u64, packet)];
        assert_eq!(whole(bytes), expected, "{bytes:02x?}");
        for cut in 1..=bytes.len() {
            assert_eq!(decode(bytes.chunks(cut)), expected, "{bytes:02x?} in {cut}s");
        }
    }
}

#[test]
fn reads_all_packets_in_a_row() {
    let cases = cases();
    let stream: Vec<u8> = cases.iter().flat_map(|(bytes, _)| *bytes).copied().collect();
    let packets: Vec<Packet> = whole(&stream)
        .into_iter()
        .map(|seen| match seen {
            Seen::Packet(_, packet) => packet,
            Seen::Loss(at, why) => panic!("lost {at:?}: {why:?}"),
        })
        .collect();
    assert_eq!(packets, cases.iter().map(|(_, packet)| *packet).collect::<Vec<_>>());
    for cut in 1..9 {
        assert_eq!(decode(stream.chunks(cut)), whole(&stream));
    }
}

#[test]
fn loses_what_is_malformed_up_to_the_next_synchronisation() {
    use Malformed::*;
    let cases: [(&[u8], Malformed); 17] = [
        (&[0x80, 1, 2], ReservedHeader),
        (&[0x04], ReservedHeader),
        (&[0x90], ReservedHeader),
        (&[0xa4], ReservedHeader),
        (&[0x06, 0, 1], ReservedHeader),
        (&[0x0d, 1], ReservedHeader),
        (&[0xc7, 1, 1, 1, 1], ReservedHeader),
        (&[0x05, 0x40], ReservedPayload),
        (&[0x0e, 0x0f, 0x00], ReservedPayload),
        (&[0x0e, 0x0f, 0x12], ReservedPayload),
        (&[0x15, 0x17], ReservedPayload),
        (&[0x45, 0x02], ReservedPayload),
        (&[0xb4, 0x01], ReservedPayload),
        (&[0xb4, 0x80, 0x80, 0x80, 0x02], ReservedPayload),
        (&[0xc0, 0x80, 0x80, 0x80, 0x80, 0x01], TooLong),
        (&[0x94, 0x80, 0x80, 0x80, 0x80], TooLong),
        (&[0x00, 0x00, 0x17], BrokenSync),
    ];
    for (bad, why) in cases {
        let stream = [bad, &SYNC, &[0x10]].concat();
        let seen = whole(&stream);
        let start = bad.len() as u64;
        let expected = [
            Seen::Loss(0..start, why),
            Seen::Packet(start..start + 6, Packet::Sync),
            Seen::Packet(
                start + 6..start + 7,
                Packet::LocalTime { ticks: 1, relation: Relation::Synchronous },
            ),
        ];
        assert_eq!(seen, expected, "{bad:02x?}");
        for cut in 1..stream.len() {
            assert_eq!(decode(stream.chunks(cut)), seen, "{bad:02x?} in {cut}s");
        }
    }
}

#[test]
fn a_synchronisation_is_found_inside_a_payload() {
    // A damaged header takes two zeros of the synchronisation as its payload.
    let mut stream = vec![0x0b, 0x01, 0x02];
    stream.extend(SYNC);
    stream.push(0x70);
    let seen = whole(&stream);
    let sync = seen.iter().any(|seen| matches!(seen, Seen::Packet(_, Packet::Sync)));
    assert!(sync && seen.ends_with(&[Seen::Packet(9..10, Packet::Overflow)]), "{seen:?}");
    for cut in 1..stream.len() {
        assert_eq!(decode(stream.chunks(cut)), seen, "in {cut}s");
    }
}

#[test]
fn an_open_end_is_lost_only_at_the_end() {
    let open = [Seen::Loss(0..3, Malformed::CutOff)];
    assert_eq!(whole(&[0x17, 1, 2]), open);
    assert_eq!(whole(&[0, 0, 0]), open);
    assert_eq!(whole(&[]), []);
}

#[test]
fn an_interruption_costs_up_to_the_next_synchronisation() {
    let mut recorder = Recorder::default();
    let mut decoder = Decoder::new();
    decoder.push(&[0x70, 0x17, 1], &mut recorder);
    decoder.interrupt(Malformed::FramingLoss);
    decoder.push(&[2, 3, 0x70], &mut recorder);
    decoder.push(&SYNC, &mut recorder);
    decoder.push(&[0x70], &mut recorder);
    decoder.finish(&mut recorder);
    assert_eq!(
        recorder.0,
        [
            Seen::Packet(0..1, Packet::Overflow),
            Seen::Loss(1..6, Malformed::FramingLoss),
            Seen::Packet(6..12, Packet::Sync),
            Seen::Packet(12..13, Packet::Overflow),
        ]
    );
}

/// Leans towards real headers: pure noise never reaches the deeper states.
pub(crate) fn noisy_stream() -> impl Strategy<Value = Vec<u8>> {
    let known: Vec<Vec<u8>> = cases().iter().map(|(bytes, _)| bytes.to_vec()).collect();
    let piece = prop_oneof![
        6 => proptest::sample::select(known),
        1 => Just(SYNC.to_vec()),
        1 => vec(any::<u8>(), 1..4),
        1 => vec(Just(0_u8), 1..8),
    ];
    vec(piece, 0..120).prop_map(|pieces| pieces.concat())
}

fn range(seen: &Seen) -> Range<u64> {
    match seen {
        Seen::Packet(at, _) | Seen::Loss(at, _) => at.clone(),
    }
}

proptest! {
    #[test]
    fn every_byte_is_accounted_for(stream in noisy_stream(), cut in 1_usize..64) {
        let seen = whole(&stream);
        let end = seen.iter().map(range).try_fold(0, |next, at| {
            (at.start == next && at.end > next).then_some(at.end)
        });
        prop_assert_eq!(end, Some(stream.len() as u64), "gap or overlap: {:?}", &seen);
        prop_assert_eq!(decode(stream.chunks(cut)), seen, "where it was cut must not show");
    }

    #[test]
    fn any_bytes_are_accounted_for(stream in vec(any::<u8>(), 0..600), cut in 1_usize..9) {
        let seen = whole(&stream);
        let read: u64 = seen.iter().map(|seen| range(seen).end - range(seen).start).sum();
        prop_assert_eq!(read, stream.len() as u64);
        prop_assert_eq!(decode(stream.chunks(cut)), seen);
    }

    /// After a damaged byte, everything from the next synchronisation on is as it was.
    #[test]
    fn a_flipped_byte_costs_up_to_the_next_synchronisation(
        before in vec(0_usize..35, 1..30),
        after in vec(0_usize..35, 1..30),
        place in any::<proptest::sample::Index>(),
        flip in 1_u8..,
    ) {
        let cases = cases();
        let bytes = |picks: &[usize]| -> Vec<u8> {
            picks.iter().flat_map(|&pick| cases[pick % cases.len()].0).copied().collect()
        };
        let (mut damaged, tail) = (bytes(&before), [&SYNC[..], &bytes(&after)].concat());
        let at = place.index(damaged.len());
        damaged[at] ^= flip;
        let start = damaged.len() as u64;
        let seen = whole(&[damaged, tail.clone()].concat());
        let shifted: Vec<Seen> = whole(&tail)
            .into_iter()
            .skip(1) // the synchronisation may take zeros before it as its own
            .map(|seen| match seen {
                Seen::Packet(at, packet) => Seen::Packet(at.start + start..at.end + start, packet),
                Seen::Loss(at, why) => Seen::Loss(at.start + start..at.end + start, why),
            })
            .collect();
        prop_assert!(seen.ends_with(&shifted), "{seen:?}\n{shifted:?}");
    }
}

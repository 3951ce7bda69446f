//! Every packet type as bytes, and what holds for any bytes.

use super::*;
use crate::wire::Malformed;
use crate::wire::seen::{self, assert_accounted, assert_recovers, decode};
use proptest::collection::vec;
use proptest::prelude::*;

type Seen = seen::Seen<Packet>;

const SYNC: [u8; 6] = [0, 0, 0, 0, 0, 0x80];
/// Context IDs of four bytes.
const CONTEXTS: u32 = 3 << 14;
const CYCLE_ACCURATE: u32 = 1 << 12;

fn settings(etmcr: u32) -> Settings {
    Settings { etmcr, ..Settings::default() }
}

/// The packets after a synchronisation.
fn packets(settings: Settings, bytes: &[u8]) -> Vec<Packet> {
    let stream = [&SYNC[..], bytes].concat();
    let packet = |seen: Seen| match seen {
        Seen::Packet(_, packet) => packet,
        Seen::Loss(at, why) => panic!("{at:?} {why:?} of {bytes:02x?}"),
    };
    decode(Decoder::new(settings), std::iter::once(&stream[..]))
        .into_iter()
        .skip(1)
        .map(packet)
        .collect()
}

const fn atoms(bits: u16, count: u8, cycles: u8, cycle_each: bool) -> Packet {
    Packet::Atoms(Atoms { bits, count, cycles, cycle_each })
}

const fn to(address: u64) -> Packet {
    Packet::Branch(Branch { address, set: InstructionSet::Thumb, exception: None })
}

const fn taken(address: u64, kind: u16) -> Branch {
    let exception = Exception {
        kind: Some(kind),
        cancels: false,
        resume: 0,
        non_secure: false,
        hypervisor: false,
    };
    Branch { address, set: InstructionSet::Thumb, exception: Some(exception) }
}

fn start(reason: Reason, address: u64) -> Start {
    Start {
        reason,
        address: Some(address),
        set: InstructionSet::Thumb,
        in_progress: None,
        cycles: None,
        context: 0,
        non_secure: false,
        hypervisor: false,
    }
}

/// Bytes of one packet each, without cycles and with contexts of four bytes, and what they say.
fn cases() -> Vec<(Vec<u8>, Packet)> {
    let with_context = |reason| Start { context: 0x0403_0201, ..start(reason, 0x0800_1234) };
    let cases: Vec<(&[u8], Packet)> = vec![
        (&SYNC, Packet::Async),
        (&[0x04, 0x83, 0x01], Packet::CycleCount(0x83)),
        (
            &[0x08, 1, 2, 3, 4, 0x01, 0x35, 0x12, 0, 8],
            Packet::Start(with_context(Reason::Periodic)),
        ),
        (&[0x08, 1, 2, 3, 4, 0x21, 0x35, 0x12, 0, 8], Packet::Start(with_context(Reason::TraceOn))),
        (
            &[0x08, 1, 2, 3, 4, 0x4b, 0x35, 0x12, 0, 8],
            Packet::Start(Start {
                non_secure: true,
                hypervisor: true,
                ..with_context(Reason::Overflow)
            }),
        ),
        (
            &[0x70, 0x90, 0x01, 1, 2, 3, 4, 0x61, 0x35, 0x12, 0, 8],
            Packet::Start(Start { cycles: Some(0x90), ..with_context(Reason::LeftDebug) }),
        ),
        (
            // A load goes on while execution is six bytes further.
            &[0x08, 1, 2, 3, 4, 0xa1, 0x35, 0x12, 0, 8, 0x3b],
            Packet::Start(Start {
                address: Some(0x0800_123a),
                in_progress: Some(0x0800_1234),
                ..with_context(Reason::TraceOn)
            }),
        ),
        (&[0x0c], Packet::Trigger),
        (&[0x3c, 0x07], Packet::Vmid(7)),
        (&[0x42, 0x81, 0x02], Packet::Timestamp { value: 0x101, clock_changed: false }),
        (&[0x46, 0x05], Packet::Timestamp { value: 5, clock_changed: true }),
        (&[0x66], Packet::Ignore),
        (&[0x6e, 4, 3, 2, 1], Packet::Context(0x0102_0304)),
        (&[0x76], Packet::ExceptionReturn),
        (&[0x7e], Packet::ExceptionEntry),
        (&[0x84], atoms(1, 1, 0, false)),
        (&[0xbc], atoms(0x7fff, 15, 0, false)),
        (&[0xc0], atoms(0, 1, 0, false)),
        (&[0xc8], atoms(0b11, 3, 0, false)),
        (&[0xfc], atoms(0x7fff, 16, 0, false)),
        (&[0x82], atoms(0b11, 2, 0, false)),
        (&[0x86], atoms(0b01, 2, 0, false)),
        (&[0x8a], atoms(0b10, 2, 0, false)),
        (&[0x8e], atoms(0b00, 2, 0, false)),
        (&[0x0e, 1, 2, 3, 4], Packet::Data(Data::Normal(0x0403_0201))),
        (&[0x26, 0x81, 0x01, 9], Packet::Data(Data::Normal(9))),
        (&[0x2a, 0x01, 9, 8], Packet::Data(Data::Normal(0x0809))),
        (&[0x02], Packet::Data(Data::Normal(0))),
        (&[0x6c, 1, 2, 3, 4], Packet::Data(Data::OutOfOrder(3, 0x0403_0201))),
        (&[0x20], Packet::Data(Data::OutOfOrder(1, 0))),
        (&[0x54], Packet::Data(Data::Placeholder(1))),
        (&[0x7c, 0xff, 0xff, 0xff, 0xff, 0x0f], Packet::Data(Data::Placeholder(3))),
        (&[0x50], Packet::Data(Data::StoreFailed)),
        (&[0x62], Packet::Data(Data::Suppressed)),
        (&[0x6a], Packet::Data(Data::NotTraced)),
        (&[0x7a, 0x03], Packet::Data(Data::NotTraced)),
    ];
    cases.into_iter().map(|(bytes, packet)| (bytes.to_vec(), packet)).collect()
}

#[test]
fn every_packet_type_is_read() {
    for (bytes, packet) in cases() {
        assert_eq!(packets(settings(CONTEXTS), &bytes), [packet], "{bytes:02x?}");
    }
}

#[test]
fn cycles_are_told_before_atoms_or_between_them() {
    for (header, expected) in [
        (0x80, atoms(0, 0, 1, false)),
        (0x84, atoms(1, 1, 1, true)),
        (0x9c, atoms(0x7f, 7, 1, true)),
        (0xc0, atoms(0, 1, 1, true)),
        (0xd4, atoms(0b1_1111, 6, 1, true)),
        (0x8a, atoms(0b10, 2, 1, false)),
        (0xa0, atoms(0, 0, 1, false)),
        (0xbc, atoms(0, 0, 8, false)),
        (0xe4, atoms(1, 1, 2, false)),
        (0x92, atoms(1, 1, 0, false)),
        (0x96, atoms(0, 1, 0, false)),
    ] {
        assert_eq!(packets(settings(CYCLE_ACCURATE), &[header]), [expected], "{header:#x}");
    }
}

/// A full address first, then what differs.
#[test]
fn branches_replace_low_bits_and_tell_exceptions() {
    let full = [0xb5, 0xa4, 0x80, 0x80, 0x11]; // Thumb, 0x1000_1234
    let alternative: [(&[u8], Packet); 8] = [
        (&[0x03], to(0x1000_1202)),
        (&[0x81, 0x01], to(0x1000_0080)),
        // Bit 6 of the last byte is no address bit.
        (&[0x81, 0x3f], to(0x1000_1f80)),
        (&[0x81, 0x81, 0x02], to(0x1000_8080)),
        (&[0x81, 0x81, 0x80, 0x3f], to(0x17e0_0080)),
        (&[0x81, 0x41, 0x1e], Packet::Branch(taken(0x1000_0080, 15))),
        (&[0x81, 0x41, 0x90, 0x02], Packet::Branch(taken(0x1000_0080, 0x28))),
        (&[0x81, 0x80, 0x80, 0x80, 0x52, 0x10], Packet::Branch(taken(0x2000_0000, 8))),
    ];
    for (bytes, expected) in alternative {
        let seen = packets(settings(0), &[&full[..], bytes].concat());
        assert_eq!(seen, [to(0x1000_1234), expected], "{bytes:02x?}");
    }
    let original = Settings { etmidr: 0x4104_f250, ..settings(0) };
    let untold = Branch { exception: Some(Exception::default()), ..taken(0x2000_0000, 0) };
    let cases: [(&[u8], Packet); 4] = [
        (&[0x81, 0x7f], to(0x1000_3f80)),
        (&[0x81, 0x80, 0x80, 0x80, 0x92, 0x10], Packet::Branch(taken(0x2000_0000, 8))),
        (&[0x81, 0x80, 0x80, 0x80, 0xd2, 0x10], Packet::Branch(taken(0x2000_0000, 8))),
        (&[0x81, 0x80, 0x80, 0x80, 0x52], Packet::Branch(untold)),
    ];
    for (bytes, expected) in cases {
        let seen = packets(original, &[&full[..], bytes].concat());
        assert_eq!(seen, [to(0x1000_1234), expected], "{bytes:02x?}");
    }
}

#[test]
fn exception_information_may_cancel_and_resume() {
    let told = |bytes: &[u8]| {
        let bytes = [&[0x81, 0x40][..], bytes].concat();
        match packets(settings(0), &bytes)[..] {
            [Packet::Branch(Branch { exception: Some(exception), .. })] => exception,
            ref other => panic!("{other:?}"),
        }
    };
    let none = taken(0, 0).exception.unwrap();
    assert_eq!(
        told(&[0x3f]),
        Exception { kind: Some(15), cancels: true, non_secure: true, ..none }
    );
    assert_eq!(told(&[0x9e, 0x45]), Exception { kind: Some(15), resume: 5, ..none });
    assert_eq!(
        told(&[0xa0, 0xa2, 0x43]),
        Exception { kind: Some(0x20), cancels: true, resume: 3, hypervisor: true, ..none }
    );
}

#[test]
fn the_full_address_tells_the_instruction_set() {
    let read = |last| packets(settings(0), &[0x81, 0x80, 0x80, 0x80, last, 0x83, 0x00]);
    let branch = |address, set| Packet::Branch(Branch { address, set, exception: None });
    let (arm, jazelle) = (InstructionSet::Arm, InstructionSet::Jazelle);
    assert_eq!(read(0x09), [branch(0x2000_0000, arm), branch(0x2000_0004, arm)]);
    assert_eq!(read(0x21), [branch(0x0800_0000, jazelle), branch(0x0800_0001, jazelle)]);
}

#[test]
fn exception_numbers_are_those_of_the_core() {
    let number = |kind| Exception { kind, ..Exception::default() }.m_profile_number();
    for (kind, expected) in [
        (1, Some(17)),
        (7, Some(23)),
        (8, Some(16)),
        (9, Some(6)),
        (10, Some(2)),
        (11, Some(11)),
        (12, Some(12)),
        (13, Some(4)),
        (14, Some(14)),
        (15, Some(15)),
        (17, Some(1)),
        (19, Some(3)),
        (21, Some(5)),
        (24, Some(24)),
        (511, Some(511)),
        (0, None),
        (16, None),
        (18, None),
    ] {
        assert_eq!(number(Some(kind)), expected, "{kind}");
    }
    // Every interrupt and system exception has one type.
    let mut numbers: Vec<_> = (0..512).filter_map(|kind| number(Some(kind))).collect();
    numbers.sort_unstable();
    let expected: Vec<u16> = (1..7).chain(11..13).chain(14..512).collect();
    assert_eq!(numbers, expected);
}

#[test]
fn timestamps_are_long_short_or_in_gray_code() {
    let value = |settings, bytes: &[u8]| match packets(settings, bytes)[..] {
        [.., Packet::Timestamp { value, .. }] => value,
        ref other => panic!("{other:?}"),
    };
    let longest = [0x42, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff];
    let short = [&longest[..], &[0x3f, 0x42, 0x01]].concat();
    assert_eq!(value(settings(0), &short), 0xffff_ffff_ff81);
    let wide = Settings { etmccer: 0x3854_1800, ..settings(0) };
    let long = [&longest[..], &[0xff, 0xff, 0xff]].concat();
    assert_eq!(value(wide, &long), u64::MAX);
    let gray = Settings { etmccer: 0, ..settings(0) };
    // 5 is 111 in Gray code, 6 is 101.
    assert_eq!(value(gray, &[0x42, 0x07]), 5);
    assert_eq!(value(gray, &[0x42, 0x07, 0x42, 0x05]), 6);
}

#[test]
fn what_no_trace_unit_sends_is_damage() {
    for (bytes, why) in [
        (&[0x80][..], Malformed::ReservedHeader),
        (&[0x92], Malformed::ReservedHeader),
        (&[0x10], Malformed::ReservedHeader),
        (&[0x72], Malformed::ReservedHeader),
        (&[0x04, 0xff, 0xff, 0xff, 0xff, 0x10], Malformed::TooLong),
        (&[0x42, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x40], Malformed::TooLong),
        (&[0x08, 0x00], Malformed::ReservedPayload),
        (&[0x81, 0x80, 0x80, 0x80, 0x91], Malformed::ReservedPayload),
        (&[0x81, 0x80, 0x80, 0x80, 0x01], Malformed::ReservedPayload),
        (&[0x81, 0x40, 0x80, 0x80, 0x02], Malformed::ReservedPayload),
        (&[0x00, 0x80], Malformed::BrokenSync),
        (&[0x81], Malformed::CutOff),
    ] {
        let stream = [&SYNC[..], bytes].concat();
        let seen = decode(Decoder::new(settings(0)), std::iter::once(&stream[..]));
        let expected = [Seen::Packet(0..6, Packet::Async), Seen::Loss(6..stream.len() as u64, why)];
        assert_eq!(seen, expected, "{bytes:02x?}");
    }
}

fn any_settings() -> impl Strategy<Value = Settings> {
    (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>()).prop_map(
        |(cycles, original, gray, data_only)| Settings {
            etmcr: u32::from(cycles) << 12 | u32::from(data_only) << 20 | CONTEXTS,
            etmidr: if original { 0x4104_f250 } else { 0x4114_f250 },
            etmccer: if gray { 1 << 29 } else { 0x1854_1800 },
        },
    )
}

/// Leans towards real headers: pure noise never reaches the deeper states.
fn noisy_stream() -> impl Strategy<Value = Vec<u8>> {
    let known: Vec<Vec<u8>> = cases().into_iter().map(|(bytes, _)| bytes).collect();
    let piece = prop_oneof![
        8 => proptest::sample::select(known),
        2 => vec(128_u8.., 1..7).prop_map(|bytes| bytes.iter().map(|byte| byte | 1).collect()),
        1 => Just(SYNC.to_vec()),
        1 => vec(any::<u8>(), 1..4),
        1 => vec(Just(0_u8), 1..8),
    ];
    vec(piece, 0..120).prop_map(|pieces| pieces.concat())
}

proptest! {
    #[test]
    fn every_byte_is_accounted_for(
        settings in any_settings(),
        stream in noisy_stream(),
        cut in 1_usize..64,
    ) {
        assert_accounted(&Decoder::new(settings), &stream, cut);
    }

    #[test]
    fn any_bytes_are_accounted_for(
        settings in any_settings(),
        stream in vec(any::<u8>(), 0..600),
        cut in 1_usize..9,
    ) {
        let stream = [&SYNC[..], &stream].concat();
        assert_accounted(&Decoder::new(settings), &stream, cut);
    }

    /// After a damaged byte, everything from the next I-sync on is as it was.
    #[test]
    fn a_flipped_byte_costs_up_to_the_next_synchronisation(
        before in vec(any::<proptest::sample::Index>(), 1..30),
        after in vec(any::<proptest::sample::Index>(), 1..30),
        place in any::<proptest::sample::Index>(),
        flip in 1_u8..,
    ) {
        // Timestamps go on from what was said before, whatever synchronises.
        let stamp = |(_, packet): &(Vec<u8>, Packet)| matches!(packet, Packet::Timestamp { .. });
        let cases: Vec<_> = cases().into_iter().filter(|case| !stamp(case)).collect();
        let bytes = |picks: &[proptest::sample::Index]| -> Vec<u8> {
            picks.iter().flat_map(|pick| pick.get(&cases).0.clone()).collect()
        };
        let mut damaged = [&SYNC[..], &bytes(&before)].concat();
        let tail = [&SYNC[..], &cases[2].0, &bytes(&after)].concat();
        let at = place.index(damaged.len());
        damaged[at] ^= flip;
        assert_recovers(&Decoder::new(settings(CONTEXTS)), &damaged, &tail);
    }
}

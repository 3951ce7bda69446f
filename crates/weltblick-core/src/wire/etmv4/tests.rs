//! Every packet type as bytes, and what holds for any bytes.

use super::*;
use crate::wire::Malformed;
use crate::wire::seen::{self, Recorder, assert_accounted, assert_recovers, decode};
use proptest::collection::vec;
use proptest::prelude::*;

/// An M-profile trace unit with IDs of contexts and virtual machines, which none has.
fn settings() -> Settings {
    Settings { trcidr2: 4 | 4 << 5 | 1 << 10, ..Settings::default() }
}

type Seen = seen::Seen<Packet>;

fn whole(bytes: &[u8]) -> Vec<Seen> {
    decode(Decoder::new(settings()), std::iter::once(bytes))
}

const SYNC: [u8; 12] = [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80];

/// The packets after a synchronisation.
fn packets(settings: Settings, bytes: &[u8]) -> Vec<Packet> {
    let stream = [&SYNC[..], bytes].concat();
    let seen = decode(Decoder::new(settings), std::iter::once(&stream[..]));
    let packet = |seen: Seen| match seen {
        Seen::Packet(_, packet) => packet,
        Seen::Loss(at, why) => panic!("{at:?} {why:?} of {bytes:02x?}"),
    };
    seen.into_iter().skip(1).map(packet).collect()
}

const fn atoms(bits: u32, count: u8) -> Atoms {
    Atoms { bits, count }
}

const fn t32(value: u64) -> Packet {
    Packet::Address(Address { value, set: InstructionSet::Is1, context: None })
}

const fn a32(value: u64) -> Packet {
    Packet::Address(Address { value, set: InstructionSet::Is0, context: None })
}

/// Bytes of one packet each, read from a fresh history, and what they say.
fn cases() -> Vec<(Vec<u8>, Packet)> {
    let secure = Context { level: 1, ..Context::default() };
    let full = Context { level: 2, wide: true, non_secure: true, vmid: 0x55, id: 0x0403_0201 };
    let with =
        |value, set, context| Packet::Address(Address { value, set, context: Some(context) });
    let (is0, is1) = (InstructionSet::Is0, InstructionSet::Is1);
    let info = TraceInfo::default();
    let cycles = |commit, cycles| Packet::CycleCount { commit, cycles };
    let q = |count, address: Option<(u64, InstructionSet)>| {
        let address = address.map(|(value, set)| Address { value, set, context: None });
        Packet::Q { count, address }
    };
    let exception = |kind, returns, fault_pending| {
        Packet::Exception(Exception { kind, returns, fault_pending })
    };
    let cancel = |bits, count, elements, mispredict| Packet::Cancel {
        atoms: atoms(bits, count),
        elements,
        mispredict,
    };
    let cases: [(&[u8], Packet); 77] = [
        (&SYNC, Packet::Async),
        (&[0x00, 0x03], Packet::Discard),
        (&[0x00, 0x05], Packet::Overflow),
        (&[0x01, 0x00], Packet::TraceInfo(info)),
        (&[0x01, 0x01, 0x01], Packet::TraceInfo(TraceInfo { cycle_counts: true, ..info })),
        (
            &[0x01, 0x0f, 0x3b, 0x85, 0x01, 0x07, 0x90, 0x02],
            Packet::TraceInfo(TraceInfo {
                cycle_counts: true,
                conditional: 0b101,
                loads: true,
                stores: true,
                key: 0x85,
                speculation: 7,
                threshold: 0x110,
            }),
        ),
        (&[0x02, 0x05], Packet::Timestamp { value: 5, cycles: None }),
        (&[0x02, 0x85, 0x01], Packet::Timestamp { value: 0x85, cycles: None }),
        (&[0x03, 0x05, 0x81, 0x01], Packet::Timestamp { value: 5, cycles: Some(0x81) }),
        (
            &[0x02, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xa5],
            Packet::Timestamp { value: 0xa5ff_ffff_ffff_ffff, cycles: None },
        ),
        (&[0x04], Packet::TraceOn),
        (&[0x05], Packet::FunctionReturn),
        (&[0x06, 0x1f], exception(15, Returns::After, false)),
        (&[0x06, 0x40 | 11 << 1], exception(11, Returns::AtTarget, false)),
        (&[0x06, 0x91, 0x10], exception(0x208, Returns::After, false)),
        (&[0x06, 0x87, 0x20], exception(3, Returns::After, true)),
        (&[0x07], Packet::ExceptionReturn),
        (&[0x0c, 0x3a], cycles(0, Some(10))),
        (&[0x0d, 0x3a], cycles(0, Some(10))),
        (&[0x0e, 0xff, 0xff, 0x3f], cycles(0, Some(0xf_ffff))),
        (&[0x0f], cycles(0, None)),
        (&[0x17], cycles(0, Some(3))),
        (&[0x26], Packet::DataSync(DataSync::Numbered(6))),
        (&[0x2b], Packet::DataSync(DataSync::Unnumbered(3))),
        (&[0x2d, 0x82, 0x01], Packet::Commit(0x82)),
        (&[0x2e, 0x03], cancel(0, 0, 3, false)),
        (&[0x2f, 0x03], cancel(0, 0, 3, true)),
        (&[0x30], Packet::Mispredict { atoms: atoms(0, 0) }),
        (&[0x31], Packet::Mispredict { atoms: atoms(1, 1) }),
        (&[0x32], Packet::Mispredict { atoms: atoms(3, 2) }),
        (&[0x33], Packet::Mispredict { atoms: atoms(0, 1) }),
        (&[0x34], cancel(0, 0, 1, true)),
        (&[0x37], cancel(0, 1, 1, true)),
        (&[0x3b], cancel(1, 1, 3, true)),
        (&[0x3e], cancel(0, 0, 5, true)),
        (&[0x41], Packet::Conditional(Conditional::Instruction { format: 2, bits: 1 })),
        (&[0x43], Packet::Conditional(Conditional::Flush)),
        (&[0x45], Packet::Conditional(Conditional::Result { format: 4, bits: [1, 0] })),
        (&[0x4d], Packet::Conditional(Conditional::Result { format: 2, bits: [5, 0] })),
        (&[0x53, 0x21], Packet::Conditional(Conditional::Result { format: 3, bits: [0x321, 0] })),
        (
            &[0x69, 0x92, 0x01, 0x05],
            Packet::Conditional(Conditional::Result { format: 1, bits: [0x92, 5] }),
        ),
        (&[0x6f, 0x12], Packet::Conditional(Conditional::Result { format: 1, bits: [0x12, 0] })),
        (&[0x6c, 0x11], Packet::Conditional(Conditional::Instruction { format: 1, bits: 0x11 })),
        (&[0x6d, 0x7f], Packet::Conditional(Conditional::Instruction { format: 3, bits: 0x7f })),
        (&[0x70], Packet::Ignore),
        (&[0x75], Packet::Event(5)),
        (&[0x80], Packet::Context(Context::default())),
        (&[0x81, 0x01], Packet::Context(secure)),
        (&[0x81, 0xf2, 0x55, 1, 2, 3, 4], Packet::Context(full)),
        (&[0x82, 0x01, 0x02, 0x03, 0x04, 0x01], with(0x0403_0404, is0, secure)),
        (&[0x83, 0x01, 0x02, 0x03, 0x04, 0x01], with(0x0403_0202, is1, secure)),
        (&[0x85, 1, 2, 3, 4, 5, 6, 7, 8, 0x01], with(0x0807_0605_0403_0404, is0, secure)),
        (
            &[0x86, 1, 2, 3, 4, 5, 6, 7, 8, 0xf2, 0x55, 1, 2, 3, 4],
            with(0x0807_0605_0403_0202, is1, full),
        ),
        (&[0x90], a32(0)),
        (&[0x92], a32(0)),
        (&[0x95, 0x7f], a32(0x1fc)),
        (&[0x95, 0xff, 0xff], a32(0x1_fffc)),
        (&[0x96, 0x7f], t32(0xfe)),
        (&[0x96, 0xff, 0xff], t32(0xfffe)),
        (&[0x9a, 0x7f, 0x7f, 0xff, 0xff], a32(0xffff_fffc)),
        (&[0x9b, 0x7f, 0xff, 0xff, 0xff], t32(0xffff_fffe)),
        (&[0x9d, 0x01, 0x02, 3, 4, 5, 6, 7, 8], a32(0x0807_0605_0403_0404)),
        (&[0x9e, 0x01, 0x02, 3, 4, 5, 6, 7, 8], t32(0x0807_0605_0403_0202)),
        (&[0xa1, 0x07], q(Some(7), Some((0, is0)))),
        (&[0xa5, 0x01, 0x07], q(Some(7), Some((4, is0)))),
        (&[0xa6, 0x01, 0x87, 0x01], q(Some(0x87), Some((2, is1)))),
        (&[0xaa, 1, 2, 3, 4, 0x07], q(Some(7), Some((0x0403_0404, is0)))),
        (&[0xab, 1, 2, 3, 4, 0x07], q(Some(7), Some((0x0403_0202, is1)))),
        (&[0xac, 0x07], q(Some(7), None)),
        (&[0xaf], q(None, None)),
        (&[0xf7], Packet::Atoms(atoms(1, 1))),
        (&[0xda], Packet::Atoms(atoms(0b10, 2))),
        (&[0xfb], Packet::Atoms(atoms(0b011, 3))),
        (&[0xdc], Packet::Atoms(atoms(0b1110, 4))),
        (&[0xf5], Packet::Atoms(atoms(0b11110, 5))),
        (&[0xc0], Packet::Atoms(atoms(0b1111, 4))),
        (&[0xf4], Packet::Atoms(atoms(0x7f_ffff, 24))),
    ];
    cases.into_iter().map(|(bytes, packet)| (bytes.to_vec(), packet)).collect()
}

#[test]
fn every_packet_type_is_read() {
    for (bytes, packet) in cases() {
        assert_eq!(packets(settings(), &bytes), [packet], "{bytes:02x?}");
    }
}

#[test]
fn every_atom_header_has_its_count() {
    for header in 0xc0..=0xff_u8 {
        let [Packet::Atoms(atoms)] = packets(settings(), &[header])[..] else { panic!() };
        assert!((1..=24).contains(&atoms.count) && atoms.bits >> atoms.count == 0, "{header:#x}");
    }
}

/// Frequent packets have a way of their own through the decoder; half a packet never takes it.
#[test]
fn what_is_read_does_not_depend_on_the_way() {
    for commits in [false, true] {
        let trcidr0 = if commits { 0x0800_06a1 } else { Settings::default().trcidr0 };
        let settings = Settings { trcidr0, trcidr8: 3, ..settings() };
        // A threshold of 9 cycles.
        let stream = |header, next| [&SYNC[..], &[1, 8, 9], &[header, next, 0xf7, 0xf7]].concat();
        for (header, next) in
            (0..=255).flat_map(|header| [0, 1, 0x7f, 0x80, 0xe5].map(|next| (header, next)))
        {
            let stream = stream(header, next);
            let whole = decode(Decoder::new(settings), std::iter::once(&stream[..]));
            let slowly = decode(Decoder::new(settings), stream.chunks(1));
            assert_eq!(whole, slowly, "{header:#04x} {next:#04x}");
        }
    }
}

#[test]
fn reserved_headers_are_damage() {
    let reserved = (0_u8..=255).filter(|&header| {
        let seen = whole(&[&SYNC[..], &[header; 24]].concat());
        seen.iter().any(|seen| matches!(seen, Seen::Loss(_, Malformed::ReservedHeader)))
    });
    assert_eq!(
        reserved.collect::<Vec<_>>(),
        [
            0x08, 0x09, 0x0a, 0x0b, 0x47, 0x4b, 0x4f, 0x60, 0x61, 0x62, 0x63, 0x64, 0x65, 0x66,
            0x67, 0x84, 0x87, 0x88, 0x89, 0x8a, 0x8b, 0x8c, 0x8d, 0x8e, 0x8f, 0x93, 0x94, 0x97,
            0x98, 0x99, 0x9c, 0x9f, 0xa3, 0xa4, 0xa7, 0xa8, 0xa9, 0xad, 0xae, 0xb0, 0xb1, 0xb2,
            0xb3, 0xb4, 0xb5, 0xb6, 0xb7, 0xb8, 0xb9, 0xba, 0xbb, 0xbc, 0xbd, 0xbe, 0xbf
        ]
    );
}

#[test]
fn addresses_are_differences_from_the_newest_and_may_name_older_ones() {
    let bytes = [
        &[0x9b, 0x00, 0x10, 0x00, 0x08][..], // 0x0800_1000
        &[0x96, 0x08],                       // ..10
        &[0x96, 0x88, 0x20],                 // ..2010
        &[0x92],                             // the oldest
        &[0x91],                             // the one before
        &[0x96, 0x01],
        &[0x95, 0x01], // another instruction set
    ]
    .concat();
    let expected = [
        t32(0x0800_1000),
        t32(0x0800_1010),
        t32(0x0800_2010),
        t32(0x0800_1000),
        t32(0x0800_2010),
        t32(0x0800_2002),
        a32(0x0800_2004),
    ];
    assert_eq!(packets(settings(), &bytes), expected);
    // A trace info packet forgets them.
    assert_eq!(packets(settings(), &[&bytes[..], &[0x01, 0x00, 0x96, 0x01]].concat())[8], t32(2));
}

#[test]
fn timestamps_keep_their_high_bits_and_counts_their_threshold() {
    let bytes =
        [0x01, 0x08, 0x04, 0x02, 0x80, 0x80, 0x01, 0x02, 0x07, 0x12, 0x0c, 0x05, 0x0e, 0x09, 0x0f];
    let cycles = |cycles| Packet::CycleCount { commit: 0, cycles };
    assert_eq!(
        packets(settings(), &bytes)[1..],
        [
            Packet::Timestamp { value: 0x4000, cycles: None },
            Packet::Timestamp { value: 0x4007, cycles: None },
            cycles(Some(6)),
            cycles(Some(9)),
            cycles(Some(13)),
            cycles(None),
        ]
    );
}

#[test]
fn cycle_counts_commit_where_the_trace_unit_says_so() {
    let settings = Settings { trcidr0: settings().trcidr0 & !(1 << 29), trcidr8: 20, ..settings() };
    let commits = |bytes: &[u8]| {
        let seen = packets(settings, bytes);
        seen.iter()
            .map(|packet| match packet {
                Packet::CycleCount { commit, cycles } => (*commit, *cycles),
                other => panic!("{other:?}"),
            })
            .collect::<Vec<_>>()
    };
    // Format 2 with F set counts from the depth of speculation: 20 + 10 - 15.
    assert_eq!(
        commits(&[0x0c, 0x31, 0x0d, 0xa1, 0x1b]),
        [(4, Some(1)), (15, Some(1)), (3, Some(3))]
    );
    assert_eq!(commits(&[0x0e, 0x85, 0x01, 0x07, 0x0f, 0x02]), [(0x85, Some(7)), (2, None)]);
}

#[test]
fn exception_types_are_exception_numbers() {
    let number =
        |kind| Exception { kind, returns: Returns::After, fault_pending: false }.m_profile_number();
    for (kind, expected) in [
        (0, None),
        (11, Some(11)),
        (0x10, Some(16)),
        (0x17, Some(23)),
        (0x18, None),
        (0x208, Some(24)),
        (0x3ef, Some(511)),
        (0x3f0, None),
    ] {
        assert_eq!(number(kind), expected, "{kind:#x}");
    }
}

#[test]
fn what_is_too_long_or_too_wide_is_damage() {
    for (bytes, why) in [
        (&[0x2d, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01][..], Malformed::TooLong),
        (&[0x2d, 0xff, 0xff, 0xff, 0xff, 0x10], Malformed::TooLong),
        (&[0x0e, 0xff, 0xff, 0x40], Malformed::TooLong),
        (&[0x06, 0x00], Malformed::ReservedPayload),
        (&[0x06, 0x41], Malformed::ReservedPayload),
        (&[0x01, 0x10], Malformed::ReservedPayload),
        (&[0x00, 0x04], Malformed::ReservedHeader),
        (&[0x00, 0x00, 0x00, 0x80], Malformed::BrokenSync),
        (&[0x9b, 0x00], Malformed::CutOff),
        (&[0x00], Malformed::CutOff),
    ] {
        let stream = [&SYNC[..], bytes].concat();
        let expected =
            [Seen::Packet(0..12, Packet::Async), Seen::Loss(12..stream.len() as u64, why)];
        assert_eq!(whole(&stream), expected, "{bytes:02x?}");
    }
}

#[test]
fn a_synchronisation_inside_a_payload_is_believed() {
    // A damaged header makes a long address of the beginning of a synchronisation.
    let stream = [&SYNC[..], &[0x9b, 0x01], &SYNC, &[0xf7]].concat();
    let seen = whole(&stream);
    assert_eq!(seen[1], Seen::Packet(12..17, t32(2)));
    assert_eq!(
        seen[2..],
        [Seen::Packet(17..26, Packet::Async), Seen::Packet(26..27, Packet::Atoms(atoms(1, 1)))]
    );
}

#[test]
fn a_gap_costs_up_to_the_next_synchronisation() {
    let mut recorder = Recorder(Vec::new());
    let mut decoder = Decoder::starting_at(settings(), 100);
    decoder.push(&[&SYNC[..], &[0x9b, 0x01]].concat(), &mut recorder);
    decoder.interrupt(Malformed::FramingLoss);
    decoder.push(&[&[0xf7][..], &SYNC, &[0x04]].concat(), &mut recorder);
    decoder.finish(&mut recorder);
    assert_eq!(
        recorder.0,
        [
            Seen::Packet(100..112, Packet::Async),
            Seen::Loss(112..115, Malformed::FramingLoss),
            Seen::Packet(115..127, Packet::Async),
            Seen::Packet(127..128, Packet::TraceOn),
        ]
    );
}

/// Leans towards real headers: pure noise never reaches the deeper states.
fn noisy_stream() -> impl Strategy<Value = Vec<u8>> {
    let known: Vec<Vec<u8>> = cases().into_iter().map(|(bytes, _)| bytes).collect();
    let piece = prop_oneof![
        8 => proptest::sample::select(known),
        1 => Just(SYNC.to_vec()),
        1 => vec(any::<u8>(), 1..4),
        1 => vec(Just(0_u8), 1..14),
    ];
    vec(piece, 0..120).prop_map(|pieces| pieces.concat())
}

proptest! {
    #[test]
    fn every_byte_is_accounted_for(stream in noisy_stream(), cut in 1_usize..64, speculative: bool) {
        let settings = if speculative {
            Settings { trcidr0: 0, trcidr8: 9, ..settings() }
        } else {
            settings()
        };
        assert_accounted(&Decoder::new(settings), &stream, cut);
    }

    #[test]
    fn any_bytes_are_accounted_for(stream in vec(any::<u8>(), 0..600), cut in 1_usize..9) {
        let stream = [&SYNC[..], &stream].concat();
        assert_accounted(&Decoder::new(settings()), &stream, cut);
    }

    /// After a damaged byte, everything from the next synchronisation on is as it was.
    #[test]
    fn a_flipped_byte_costs_up_to_the_next_synchronisation(
        before in vec(any::<proptest::sample::Index>(), 1..30),
        after in vec(any::<proptest::sample::Index>(), 1..30),
        place in any::<proptest::sample::Index>(),
        flip in 1_u8..,
    ) {
        let cases = cases();
        let bytes = |picks: &[proptest::sample::Index]| -> Vec<u8> {
            picks.iter().flat_map(|pick| pick.get(&cases).0.clone()).collect()
        };
        let mut damaged = [&SYNC[..], &bytes(&before)].concat();
        // A trace info packet ends what is left of the history before.
        let tail = [&SYNC[..], &[0x01, 0x00], &bytes(&after)].concat();
        let at = place.index(damaged.len());
        damaged[at] ^= flip;
        assert_recovers(&Decoder::new(settings()), &damaged, &tail);
    }
}

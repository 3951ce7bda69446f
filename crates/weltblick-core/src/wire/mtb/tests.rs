use super::*;
use proptest::prelude::*;
use std::ops::Range;

/// Writes down what it receives, in order.
#[derive(Debug, Default, PartialEq)]
struct Seen(Vec<(Range<u64>, Option<Packet>)>);

impl Sink for Seen {
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        self.0.push((at, Some(packet)));
    }

    fn unwritten(&mut self, at: Range<u64>) {
        self.0.push((at, None));
    }

    fn erased(&mut self, at: Range<u64>) {
        self.0.push((at, None));
    }

    fn cut_off(&mut self, at: Range<u64>) {
        self.0.push((at, None));
    }
}

fn read<'a>(pieces: impl IntoIterator<Item = &'a [u8]>) -> Seen {
    let (mut decoder, mut seen) = (Decoder::new(), Seen::default());
    for piece in pieces {
        decoder.push(piece, &mut seen);
    }
    decoder.finish(&mut seen);
    seen
}

#[test]
fn reads_branches_exceptions_and_starts() {
    let words: [u32; 6] =
        [0x0800_0104, 0x0800_0201, 0x0800_0211, 0x0800_0400, 0xffff_fff9, 0x0800_0210];
    let bytes: Vec<u8> = words.iter().flat_map(|word| word.to_le_bytes()).collect();
    let packet = |source, exceptional, destination, starts| {
        Some(Packet { source, exceptional, destination, starts })
    };
    assert_eq!(
        read([&bytes[..]]).0,
        [
            (0..8, packet(0x0800_0104, false, 0x0800_0200, true)),
            (8..16, packet(0x0800_0210, true, 0x0800_0400, false)),
            (16..24, packet(0xffff_fff8, true, 0x0800_0210, false)),
        ]
    );
}

#[test]
fn a_gap_loses_half_a_packet_and_reading_goes_on_after_it() {
    let (mut decoder, mut seen) = (Decoder::new(), Seen::default());
    decoder.push(&[1; 11], &mut seen);
    decoder.interrupt(&mut seen);
    decoder.push(&[2; 8], &mut seen);
    decoder.finish(&mut seen);
    let places: Vec<_> = seen.0.iter().map(|(at, packet)| (at.clone(), packet.is_some())).collect();
    assert_eq!(places, [(0..8, true), (8..11, false), (11..19, true)]);
}

#[test]
fn zeros_around_packets_were_never_written_and_between_them_something_else_wrote() {
    #[derive(Default)]
    struct Zeros(Vec<(Range<u64>, bool)>);
    impl Sink for Zeros {
        fn packet(&mut self, _: Range<u64>, _: Packet) {}
        fn unwritten(&mut self, at: Range<u64>) {
            self.0.push((at, false));
        }
        fn erased(&mut self, at: Range<u64>) {
            self.0.push((at, true));
        }
        fn cut_off(&mut self, at: Range<u64>) {
            panic!("{at:?}");
        }
    }
    let bytes = [[0; 8], [1; 8], [0; 8], [0; 8], [1; 8], [0; 8]].concat();
    for cut in [5, 8, 48] {
        let (mut decoder, mut zeros) = (Decoder::new(), Zeros::default());
        bytes.chunks(cut).for_each(|piece| decoder.push(piece, &mut zeros));
        decoder.finish(&mut zeros);
        assert_eq!(zeros.0, [(0..8, false), (16..32, true), (40..48, false)]);
    }
}

proptest! {
    #[test]
    fn every_byte_is_read_or_lost_and_cuts_do_not_show(
        bytes in prop::collection::vec(any::<u8>(), 0..100), cut in 1_usize..20,
    ) {
        let whole = read([&bytes[..]]);
        prop_assert_eq!(&whole, &read(bytes.chunks(cut)));
        let mut next = 0;
        for (at, _) in &whole.0 {
            prop_assert_eq!(at.start, next);
            next = at.end;
        }
        prop_assert_eq!(next, bytes.len() as u64);
    }
}

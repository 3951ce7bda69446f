//! A recording that is counted in pieces, joined, against one that is counted by one reader.

use crate::executed::image;
use crate::recording::{self, ETM, FAST};
use proptest::prelude::*;
use weltblick_core::capture::{Anchor, FlowLine, Manifest, StreamSpec};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{BlockCounts, FlowPiece, Tally};
use weltblick_standin::trace::Fitted;
use weltblick_standin::trace::etmv3::Etm;

/// What a trace unit sends, and how a manifest says so.
pub(crate) struct Recorded {
    pub(crate) spec: StreamSpec,
    pub(crate) bytes: Vec<u8>,
}

/// The demo's firmware, as one of these tells it: with a return stack and cycle counts, on a link that is too
/// slow for it, and from an older unit.
pub(crate) fn record(kind: usize, cycles: u64) -> Recorded {
    let etmv4 = [
        (ETM + 0x010, 1 | 1 << 4 | 1 << 12),
        (ETM + 0x034, 12),
        (ETM + 0x038, 32),
        (ETM + 0x080, 1 | 1 << 9),
        (ETM + 0x004, 1),
    ];
    let etmv3 = [(ETM + 0x020, 0x6f), (ETM, 1 << 12)];
    let (unit, link, registers, settings) = match kind {
        0 => {
            (Fitted::default(), FAST, &etmv4[..], "etmv4\"\n[stream.settings]\ntrcconfigr = 0x1011")
        }
        1 => {
            let settings = "etmv4\"\n[stream.settings]\ntrcconfigr = 0x1011";
            (Fitted::default(), 15_000_000, &etmv4[..], settings)
        }
        _ => {
            let unit = Fitted::Etmv3(Etm::default());
            (unit, FAST, &etmv3[..], "etmv3\"\n[stream.settings]\netmcr = 0x1000")
        }
    };
    let (_, bytes) = recording::record(unit, link, registers, cycles);
    let manifest = format!("format = 1\n[[stream]]\nfile = \"etm.bin\"\nprotocol = \"{settings}\n");
    let mut manifest = Manifest::parse("capture.toml", &manifest).unwrap();
    Recorded { spec: manifest.streams.remove(0), bytes }
}

impl Recorded {
    fn line<'a>(&self, image: &'a Image, offset: u64) -> FlowLine<'a> {
        match offset {
            0 => FlowLine::new(&self.spec, 0, image).unwrap(),
            _ => FlowLine::starting_at(&self.spec, 0, image, Anchor::at(offset)).unwrap(),
        }
    }

    pub(crate) fn whole(&self, image: &Image) -> Tally {
        let mut counts = BlockCounts::default();
        let mut line = self.line(image, 0);
        line.push(&self.bytes, &mut counts);
        let code = line.finish(&mut counts);
        counts.into_tally(&code)
    }

    /// The same in pieces that end at these places; how many were joined.
    fn in_pieces(&self, image: &Image, ends: &[usize], run_in: usize) -> (Tally, usize) {
        let (mut tally, mut joined) = (Tally::default(), 0);
        let mut before: Option<FlowPiece<'_>> = None;
        let mut start = 0_usize;
        for &end in ends {
            let first = start.saturating_sub(run_in);
            let mut piece = FlowPiece::new(self.line(image, first as u64));
            piece.run_in(&self.bytes[first..start]);
            piece.begin();
            piece.push(&self.bytes[start..end]);
            before = Some(match before.take() {
                None => piece,
                Some(mut before) => {
                    if piece.join(&mut before) {
                        tally.merge(before.into_tally());
                        joined += 1;
                        piece
                    } else {
                        before.push(&self.bytes[start..end]);
                        before
                    }
                }
            });
            start = end;
        }
        tally.merge(before.unwrap().finish());
        (tally, joined)
    }
}

#[test]
fn pieces_count_what_one_reader_counts() {
    let image = image();
    for kind in 0..3 {
        let recorded = record(kind, 20_000_000);
        let whole = recorded.whole(&image);
        assert_eq!(whole.gaps.overflows > 20, kind == 1);
        let length = recorded.bytes.len();
        let ends: Vec<usize> = (1..=40).map(|piece| length * piece / 40).collect();
        let (tally, joined) = recorded.in_pieces(&image, &ends, 8192);
        assert_eq!(tally, whole, "{kind}");
        // Most of them are: the way there was not in vain.
        assert!(joined >= 30, "{kind}: {joined} of 39 joined");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Wherever they begin, however short the way to there, and whatever is damaged.
    #[test]
    fn pieces_never_count_otherwise(
        kind in 0_usize..3,
        ends in prop::collection::btree_set(1_usize..60_000, 1..12),
        run_in in prop_oneof![Just(0_usize), 1_usize..3000, Just(20_000)],
        damage in prop::collection::vec((0_usize..60_000, any::<u8>()), 0..4),
    ) {
        let image = image();
        let mut recorded = record(kind, 1_500_000);
        let length = recorded.bytes.len();
        for (at, byte) in damage {
            recorded.bytes[at % length] = byte;
        }
        let mut ends: Vec<usize> = ends.into_iter().filter(|&end| end < length).collect();
        ends.push(length);
        let whole = recorded.whole(&image);
        let (tally, _) = recorded.in_pieces(&image, &ends, run_in);
        prop_assert_eq!(tally, whole);
    }
}

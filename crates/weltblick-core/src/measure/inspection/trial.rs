//! Reading the first bytes another way: the surest sign of a wrong framing is that the other one
//! fits.

use crate::wire::itm::{self, Malformed, Packet};
use crate::wire::tpiu::{self, Damage, Start, TraceId};
use std::collections::BTreeMap;
use std::ops::Range;

/// Bytes that are kept for trials.
pub(super) const KEPT: usize = 64 * 1024;

/// How well bytes read as ITM packets.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Fit {
    pub(super) packets: u64,
    pub(super) syncs: u64,
    pub(super) bytes: u64,
    pub(super) lost: u64,
}

impl Fit {
    /// Read with few losses, enough of it to mean something.
    pub(super) const fn reads(&self) -> bool {
        self.packets >= 8 && self.lost * 20 <= self.bytes
    }

    /// The same, and synchronised: that is no accident.
    pub(super) const fn is_good(&self) -> bool {
        self.reads() && self.syncs > 0
    }
}

impl itm::Sink for Fit {
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        self.packets += 1;
        self.syncs += u64::from(packet == Packet::Sync);
        self.bytes += at.end - at.start;
    }

    fn loss(&mut self, at: Range<u64>, _: Malformed) {
        self.lost += at.end - at.start;
        self.bytes += at.end - at.start;
    }
}

/// As plain packets.
pub(super) fn as_plain(bytes: &[u8]) -> Fit {
    let mut fit = Fit::default();
    let mut decoder = itm::Decoder::new();
    decoder.push(bytes, &mut fit);
    decoder.finish(&mut fit);
    fit
}

/// As formatter frames: the source that reads best as ITM, and how well.
pub(super) fn as_framed(bytes: &[u8]) -> Option<(TraceId, Fit)> {
    [Start::Anywhere, Start::AtFrame]
        .into_iter()
        .flat_map(|start| {
            let mut sources = Sources::default();
            let mut deframer = tpiu::Deframer::new(start);
            deframer.push(bytes, &mut sources);
            deframer.finish(&mut sources);
            sources.bytes
        })
        .map(|(id, bytes)| (id, as_plain(&bytes)))
        .filter(|(_, fit)| fit.is_good())
        .max_by_key(|(_, fit)| fit.packets)
}

#[derive(Default)]
struct Sources {
    bytes: BTreeMap<TraceId, Vec<u8>>,
}

impl tpiu::Sink for Sources {
    fn data(&mut self, id: TraceId, bytes: &[u8], _: u64) {
        self.bytes.entry(id).or_default().extend_from_slice(bytes);
    }
    fn loss(&mut self, _: Range<u64>, _: Damage) {}
    fn synchronised(&mut self, _: Range<u64>) {}
}

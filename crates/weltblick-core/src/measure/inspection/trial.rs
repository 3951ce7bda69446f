//! Reading the first bytes another way: the surest sign of a wrong protocol or framing is that another one fits.

use crate::capture::Protocol;
use crate::wire::tpiu::{self, Damage, Start, TraceId};
use crate::wire::{Malformed, Sink, etmv3, etmv4, itm};
use std::collections::BTreeMap;
use std::ops::Range;

/// Bytes that are kept for trials.
pub(super) const KEPT: usize = 64 * 1024;
/// Fewer packets than this fit by chance.
const FEWEST: u64 = 8;
/// Words of a micro trace buffer are addresses of one region; of all other bytes few have the same upper bits.
const REGION: u32 = 20;

/// A protocol whose packets differ from those of others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Packets {
    Itm,
    Etmv3,
    Etmv4,
    Mtb,
}

impl Packets {
    const ALL: [Self; 4] = [Self::Itm, Self::Etmv3, Self::Etmv4, Self::Mtb];

    /// The packets of a protocol, if it is one of them.
    pub(super) const fn of(protocol: &Protocol) -> Option<Self> {
        match protocol {
            Protocol::Itm(_) => Some(Self::Itm),
            Protocol::Etmv3(_) => Some(Self::Etmv3),
            Protocol::Etmv4(_) => Some(Self::Etmv4),
            Protocol::Mtb(_) => Some(Self::Mtb),
            Protocol::Poll(_) | Protocol::Ctf(_) => None,
        }
    }

    /// The protocol's name in options and files.
    pub(super) const fn name(self) -> &'static str {
        match self {
            Self::Itm => "itm",
            Self::Etmv3 => "etmv3",
            Self::Etmv4 => "etmv4",
            Self::Mtb => "mtb",
        }
    }

    /// What it is called in sentences.
    pub(super) const fn title(self) -> &'static str {
        match self {
            Self::Itm => "ITM packets",
            Self::Etmv3 => "instruction trace of an ETMv3",
            Self::Etmv4 => "instruction trace of an ETMv4",
            Self::Mtb => "branches of a micro trace buffer",
        }
    }

    /// How well bytes read as its packets.
    pub(super) fn fit(self, bytes: &[u8]) -> Fit {
        let mut fit = Fit::default();
        match self {
            Self::Itm => {
                let mut decoder = itm::Decoder::new();
                decoder.push(bytes, &mut fit);
                decoder.finish(&mut fit);
                // Nothing follows a synchronisation that others have not.
                fit.anchors = fit.syncs;
            }
            Self::Etmv3 => {
                let mut decoder = etmv3::Decoder::new(etmv3::Settings::default());
                decoder.push(bytes, &mut fit);
                decoder.finish(&mut fit);
            }
            Self::Etmv4 => {
                let mut decoder = etmv4::Decoder::new(etmv4::Settings::default());
                decoder.push(bytes, &mut fit);
                decoder.finish(&mut fit);
            }
            Self::Mtb => fit = fit_of_branches(bytes),
        }
        fit
    }
}

/// How well bytes read as packets of a protocol.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Fit {
    pub(super) packets: u64,
    syncs: u64,
    /// Packets that have to follow a synchronisation.
    anchors: u64,
    bytes: u64,
    lost: u64,
}

impl Fit {
    /// Read with few losses, enough of it to mean something.
    pub(super) const fn reads(&self) -> bool {
        self.packets >= FEWEST && self.lost * 20 <= self.bytes
    }

    /// The same, and synchronised: that is no accident.
    pub(super) const fn is_good(&self) -> bool {
        self.reads() && self.syncs > 0 && self.anchors * 2 >= self.syncs
    }

    fn packet(&mut self, at: Range<u64>, is_sync: bool, is_anchor: bool) {
        self.packets += 1;
        self.syncs += u64::from(is_sync);
        self.anchors += u64::from(is_anchor);
        self.bytes += at.end - at.start;
    }

    fn lose(&mut self, at: Range<u64>, why: Malformed) {
        // The head says nothing: a recording may begin anywhere.
        if why != Malformed::StartsInside {
            self.lost += at.end - at.start;
        }
        self.bytes += at.end - at.start;
    }
}

impl itm::Sink for Fit {
    fn packet(&mut self, at: Range<u64>, packet: itm::Packet) {
        self.packet(at, packet == itm::Packet::Sync, false);
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.lose(at, why);
    }
}

impl Sink<etmv3::Packet> for Fit {
    fn packet(&mut self, at: Range<u64>, packet: etmv3::Packet) {
        let is_anchor = matches!(packet, etmv3::Packet::Start(_));
        self.packet(at, packet == etmv3::Packet::Async, is_anchor);
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.lose(at, why);
    }
}

impl Sink<etmv4::Packet> for Fit {
    fn packet(&mut self, at: Range<u64>, packet: etmv4::Packet) {
        let is_anchor = matches!(packet, etmv4::Packet::TraceInfo(_));
        self.packet(at, packet == etmv4::Packet::Async, is_anchor);
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.lose(at, why);
    }
}

/// Pairs of addresses: all of them in one region, but for exception returns.
fn fit_of_branches(bytes: &[u8]) -> Fit {
    let word = |word: &[u8]| u32::from_le_bytes([word[0], word[1], word[2], word[3]]);
    let words = bytes.chunks_exact(4).map(word).filter(|word| *word != 0 && *word >> 24 != 0xff);
    let mut regions: BTreeMap<u32, u64> = BTreeMap::new();
    let mut all = 0;
    for word in words {
        *regions.entry(word >> REGION).or_default() += 1;
        all += 1;
    }
    let most = regions.into_values().max().unwrap_or(0);
    let fits = u64::from(10 * most >= 9 * all && all >= 2 * FEWEST);
    let (packets, bytes) = (fits * all / 2, 4 * all);
    Fit { packets, syncs: fits, anchors: fits, bytes, lost: 0 }
}

/// How bytes read best: as which source of frames, if they are frames, and as packets of which protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Reading {
    pub(super) source: Option<TraceId>,
    pub(super) packets: Packets,
    pub(super) fit: Fit,
}

/// The best readings of bytes, plain and as formatter frames, if any fits.
pub(super) fn best(bytes: &[u8]) -> [Option<Reading>; 2] {
    let plain =
        Packets::ALL.map(|packets| Reading { source: None, packets, fit: packets.fit(bytes) });
    let framed = [Start::Anywhere, Start::AtFrame].into_iter().flat_map(|start| {
        let mut sources = Sources::default();
        let mut deframer = tpiu::Deframer::new(start);
        deframer.push(bytes, &mut sources);
        deframer.finish(&mut sources);
        sources.bytes.into_iter().flat_map(|(id, bytes)| {
            // A micro trace buffer is no source of a trace port.
            let others = Packets::ALL.into_iter().filter(|packets| *packets != Packets::Mtb);
            others.map(move |packets| Reading {
                source: Some(id),
                packets,
                fit: packets.fit(&bytes),
            })
        })
    });
    [best_of(plain.into_iter()), best_of(framed)]
}

fn best_of(readings: impl Iterator<Item = Reading>) -> Option<Reading> {
    let good = readings.filter(|reading| reading.fit.is_good());
    good.max_by_key(|reading| (reading.fit.bytes - reading.fit.lost, reading.fit.packets))
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

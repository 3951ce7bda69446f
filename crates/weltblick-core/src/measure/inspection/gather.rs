//! What one pass over the streams gathers.

use super::globals::Globals;
use super::kinds::Kind;
use super::rate::{Pace, Rate};
use super::shared::Shared;
use super::trial::KEPT;
use crate::capture::EventCounts;
use crate::capture::{EventTrace, Framing, Instructions, ItmSettings, Protocol, StreamSpec, Tap};
use crate::event::{Event, LossReason, Origin, Position, Sink};
use crate::image::Image;
use crate::measure::cadence::Cadences;
use crate::measure::profile::{Conduct, SampleCounts};
use crate::measure::recording::Recording;
use crate::measure::timing::Clocks;
use crate::wire::itm::{Malformed, Packet};
use crate::wire::tpiu::{Damage, TraceId};
use crate::wire::{etmv3, etmv4, mtb};
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;
use std::ops::Range;

/// What the packets themselves show.
#[derive(Debug, Default)]
pub struct Wire {
    packets: [u64; Kind::COUNT],
    bytes: [u64; Kind::COUNT],
    pub(super) lost: u64,
    unwanted: u64,
    /// Bytes of a buffer that was not full.
    unwritten: u64,
    pub(super) first_sync: Option<u64>,
    pub(super) frame_syncs: u64,
    pub(super) frame_lost: u64,
    /// Of the bytes that are lost: those of a packet or frame in which the stream ends.
    pub(super) cut: u64,
    /// Of those of frames: before a synchronisation, at the beginning, and after a gap.
    pub(super) frame_head: u64,
    pub(super) frame_behind: u64,
    pub(super) unread: BTreeMap<TraceId, u64>,
    pub(super) raw_bytes: u64,
    pub(super) beginning: Vec<u8>,
    /// How often each address was branched to; addresses beyond the first `MOST_TARGETS` are left
    /// out.
    pub(super) targets: FxHashMap<u64, u64>,
    /// Of an event trace.
    pub(super) events_seen: EventCounts,
    /// Of the first source.
    pub(super) globals: Globals,
}

/// Distinct branch targets that are held against the image.
const MOST_TARGETS: usize = 1 << 16;

/// What the events show.
#[derive(Debug, Default)]
pub struct Counted {
    pub(super) samples: SampleCounts,
    pub(super) recording: Recording,
    pub(super) cadences: Cadences,
    pub(super) rate: Rate,
    pub(super) pace: Pace,
    pub(super) shared: Shared,
    offsets: Offsets,
    /// The core whose interrupts say how regular they are: of several, the first.
    core: Option<u8>,
}

/// How far each of several files was read that are read side by side: their bytes follow each other.
#[derive(Debug, Default)]
struct Offsets {
    starts: Vec<u64>,
    last: Vec<u64>,
}

impl Offsets {
    /// Bytes since the last event of the same file.
    fn step(&mut self, offset: u64) -> u64 {
        let file = self.starts.partition_point(|&start| start <= offset).saturating_sub(1);
        if self.last.len() <= file {
            self.last = self.starts.clone();
            self.last.resize(file + 1, 0);
        }
        offset.saturating_sub(std::mem::replace(&mut self.last[file], offset))
    }
}

impl Counted {
    /// What is read comes from files that begin at these bytes.
    pub(super) fn read_files(&mut self, starts: Vec<u64>) {
        self.offsets = Offsets { last: starts.clone(), starts };
    }
}

impl Wire {
    pub(super) const fn packets(&self, kind: Kind) -> u64 {
        self.packets[kind as usize]
    }

    pub(super) const fn bytes(&self, kind: Kind) -> u64 {
        self.bytes[kind as usize]
    }

    /// Bytes of a plain stream that are in no packet: lost ones, and those of a loss that has not
    /// ended.
    pub(super) fn unread(&self) -> u64 {
        self.raw_bytes
            .saturating_sub(self.bytes.iter().sum::<u64>() + self.unwanted + self.unwritten)
    }

    /// An address at which something ran.
    fn note_target(&mut self, target: u64) {
        if mtb::is_exception_return(target as u32) {
            return;
        }
        if let Some(count) = self.targets.get_mut(&target) {
            *count += 1;
        } else if self.targets.len() < MOST_TARGETS {
            self.targets.insert(target, 1);
        }
    }

    /// Bytes before a synchronisation that nobody wanted: of a window that was chosen.
    pub(super) const fn unwanted(&self) -> u64 {
        self.unwanted
    }

    pub(super) fn all_packets(&self) -> u64 {
        self.packets.iter().sum()
    }
}

impl Tap for Wire {
    fn raw(&mut self, bytes: &[u8]) {
        self.raw_bytes += bytes.len() as u64;
        let room = KEPT - self.beginning.len();
        self.beginning.extend_from_slice(&bytes[..bytes.len().min(room)]);
    }

    fn packet(&mut self, origin: Origin, at: Range<u64>, packet: Packet) {
        self.globals.packet(origin, &packet);
        let kind = Kind::of(&packet);
        self.packets[kind as usize] += 1;
        self.bytes[kind as usize] += at.end - at.start;
        if kind == Kind::Sync {
            self.first_sync.get_or_insert(at.start);
        }
    }

    fn branch(&mut self, _: Origin, at: Range<u64>, packet: mtb::Packet) {
        let kind = Kind::of_branch(&packet);
        self.packets[kind as usize] += 1;
        self.bytes[kind as usize] += at.end - at.start;
        self.note_target(u64::from(packet.destination));
    }

    fn instructions(&mut self, _: Origin, at: Range<u64>, packet: Instructions) {
        let kind = Kind::of_instructions(&packet);
        self.packets[kind as usize] += 1;
        self.bytes[kind as usize] += at.end - at.start;
        if kind == Kind::Sync {
            self.first_sync.get_or_insert(at.start);
        }
        match packet {
            Instructions::Etmv3(etmv3::Packet::Start(start)) => {
                start.address.into_iter().for_each(|address| self.note_target(address));
            }
            Instructions::Etmv3(etmv3::Packet::Branch(branch)) => self.note_target(branch.address),
            Instructions::Etmv4(etmv4::Packet::Address(address)) => self.note_target(address.value),
            _ => {}
        }
    }

    fn loss(&mut self, _: Origin, at: Range<u64>, why: Malformed) {
        self.globals.lost();
        let bytes = at.end - at.start;
        self.lost += bytes;
        if why == Malformed::CutOff {
            self.cut += bytes;
        }
    }

    fn unwanted(&mut self, _: Origin, at: Range<u64>) {
        self.unwanted += at.end - at.start;
    }

    fn unwritten(&mut self, _: Origin, at: Range<u64>) {
        self.unwritten += at.end - at.start;
    }

    fn frame_loss(&mut self, at: Range<u64>, why: Damage) {
        self.globals.lost();
        let bytes = at.end - at.start;
        self.frame_lost += bytes;
        match why {
            Damage::CutOff => self.cut += bytes,
            Damage::Unsynchronised if at.start == 0 => self.frame_head += bytes,
            Damage::Unsynchronised => self.frame_behind += bytes,
            Damage::ShortFrame | Damage::ReservedId => {}
        }
    }

    fn frame_sync(&mut self, _: Range<u64>) {
        self.frame_syncs += 1;
    }

    fn event_counts(&mut self, counts: &EventCounts) {
        self.events_seen = counts.clone();
    }

    fn unread_source(&mut self, id: TraceId, bytes: usize) {
        *self.unread.entry(id).or_default() += bytes as u64;
    }
}

impl Sink for Counted {
    fn event(&mut self, position: Position, event: &Event) {
        self.samples.event(position, event);
        self.recording.event(position, event);
        if *self.core.get_or_insert(position.core) == position.core {
            self.cadences.event(position, event);
        }
        self.shared.add(position, event);
        let bytes = self.offsets.step(position.offset);
        if let Some(window) = position.time {
            // Bytes up to this event, which came at about its time.
            let overflow = matches!(event, Event::Lost { why: LossReason::Overflow, .. });
            self.rate.add(window.latest, bytes, u64::from(overflow));
            self.pace.add(window, position.offset, overflow);
        }
    }
}

/// What the capture says of itself.
#[derive(Debug)]
pub struct Settings<'a> {
    /// The image, if there is one.
    pub image: Option<&'a Image>,
    /// The first stream.
    pub stream: Option<&'a StreamSpec>,
    /// How many sources of samples there are: with several, samples and time together say no period.
    pub sources: usize,
    /// The clocks of the first source.
    pub clocks: Clocks,
    /// The event trace that leads, if one does.
    pub trace: Option<&'a EventTrace>,
    /// How the recording was made.
    pub conduct: Conduct,
}

impl Settings<'_> {
    /// How the first ITM of the first stream was set up.
    pub(super) fn itm(&self) -> Option<&ItmSettings> {
        self.stream?.sources.iter().find_map(|source| match &source.protocol {
            Protocol::Itm(itm) => Some(itm),
            _ => None,
        })
    }

    /// The framing of the first stream.
    pub(super) fn framing(&self) -> Framing {
        self.stream.map_or(Framing::None, |stream| stream.framing)
    }
}

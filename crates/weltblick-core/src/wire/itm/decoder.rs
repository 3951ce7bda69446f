//! The push decoder: bytes in, packets and losses out, every byte in exactly one of them.

use super::packet::{Packet, Relation};
use super::parse::read;
use crate::wire::Malformed;
use crate::wire::alignment::{Alignment, Mode, Stop};
use std::ops::Range;

/// Receives packets and losses in stream order; together their byte ranges tile the stream.
pub trait Sink {
    /// A packet, and where it stands.
    fn packet(&mut self, at: Range<u64>, packet: Packet);
    /// A packet and, right behind it up to `end`, the local timestamp that dates it: what most of a
    /// stream consists of.
    #[inline(always)]
    fn dated(&mut self, at: Range<u64>, packet: Packet, end: u64, ticks: u32, relation: Relation) {
        self.packet(at.clone(), packet);
        self.packet(at.end..end, Packet::LocalTime { ticks, relation });
    }
    /// Bytes that are no packet; the decoder found its feet again at `at.end`.
    fn loss(&mut self, at: Range<u64>, why: Malformed);
}

/// Zero bytes that a synchronisation needs before its `0x80`.
const SYNC_ZEROS: u64 = 5;

/// An ITM decoder. A few words of state, no allocation.
///
/// ```
/// use std::ops::Range;
/// use weltblick_core::wire::itm::{Decoder, Malformed, Packet, Sink};
///
/// struct Print(Vec<String>);
/// impl Sink for Print {
///     fn packet(&mut self, at: Range<u64>, packet: Packet) {
///         self.0.push(format!("{at:?} {packet:x?}"));
///     }
///     fn loss(&mut self, at: Range<u64>, why: Malformed) {
///         self.0.push(format!("{at:?} lost: {}", why.describe()));
///     }
/// }
///
/// let mut print = Print(Vec::new());
/// let mut decoder = Decoder::new();
/// decoder.push(&[0x17, 0x34, 0x12], &mut print); // a chunk may end anywhere
/// decoder.push(&[0x00, 0x08, 0x15, 0x00], &mut print);
/// decoder.finish(&mut print);
/// assert_eq!(print.0, ["0..5 PcSample { pc: 8001234 }", "5..7 Asleep"]);
/// ```
#[derive(Debug, Clone)]
pub struct Decoder {
    alignment: Alignment,
}

impl Default for Decoder {
    fn default() -> Self {
        Self::new()
    }
}

impl Decoder {
    /// A decoder at the start of a stream, expecting a header.
    #[must_use]
    pub const fn new() -> Self {
        Self { alignment: Alignment::new(0, Mode::Packets) }
    }

    /// How many bytes were pushed so far.
    #[must_use]
    pub const fn offset(&self) -> u64 {
        self.alignment.offset
    }

    /// Reads the next bytes of the stream.
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        let mut used = 0;
        while used < bytes.len() {
            let rest = &bytes[used..];
            used += match self.alignment.mode {
                Mode::Packets if self.alignment.held_len > 0 => self.complete_held(rest, sink),
                Mode::Packets => self.read_packets(bytes, used, sink),
                Mode::Zeros { start } => {
                    let (took, sync) = self.alignment.read_zeros(rest, start, SYNC_ZEROS);
                    if let Some(at) = sync {
                        sink.packet(at, Packet::Sync);
                    }
                    took
                }
                Mode::Lost { start, why } => self.hunt(rest, start, why, sink),
            };
        }
    }

    /// Ends the stream: what is still open is lost.
    pub fn finish(self, sink: &mut impl Sink) {
        if let Some((at, why)) = self.alignment.finish() {
            sink.loss(at, why);
        }
    }

    /// Bytes are missing here, for some reason: the half packet is lost, and so is everything up to
    /// the next synchronisation.
    pub fn interrupt(&mut self, why: Malformed) {
        self.alignment.interrupt(why);
    }

    /// The hot loop: whole packets from `bytes[from..]`. Returns how many bytes it took.
    fn read_packets(&mut self, bytes: &[u8], from: usize, sink: &mut impl Sink) -> usize {
        let base = self.alignment.offset - from as u64;
        let mut at = from;
        let stopped = loop {
            let Some(ahead) = ahead(bytes, at) else { break None };
            match read(ahead, 16, base + at as u64, sink) {
                Ok(len) => at += len,
                Err(stop) => break Some(stop),
            }
        };
        let stopped = stopped.or_else(|| self.read_tail(bytes, &mut at, base, sink));
        self.alignment.settle(&bytes[from..at]);
        match stopped {
            None => at - from,
            Some(stop) => {
                at - from + self.alignment.stop(stop, self.alignment.offset, &bytes[at..])
            }
        }
    }

    /// Packets at the end of a slice.
    fn read_tail(
        &self,
        bytes: &[u8],
        at: &mut usize,
        base: u64,
        sink: &mut impl Sink,
    ) -> Option<Stop> {
        while *at < bytes.len() {
            match read_short(&bytes[*at..], base + *at as u64, sink) {
                Ok(len) => *at += len,
                Err(stop) => return Some(stop),
            }
        }
        None
    }

    /// Goes on with a packet that the last slice left half.
    fn complete_held(&mut self, rest: &[u8], sink: &mut impl Sink) -> usize {
        let had = self.alignment.held_len;
        let (held, start) = self.alignment.held_with(rest);
        let tried = held.len() - had;
        match read_short(held, start, sink) {
            Ok(length) => {
                self.alignment.held_len = 0;
                self.alignment.settle(&rest[..length - had]);
                length - had
            }
            Err(stop) => self.alignment.stop(stop, start, &rest[..tried]),
        }
    }

    /// Looks for a synchronisation, and reports what lay before it as lost.
    fn hunt(&mut self, rest: &[u8], start: u64, why: Malformed, sink: &mut impl Sink) -> usize {
        let (took, sync) = self.alignment.hunt(rest, start, SYNC_ZEROS);
        if let Some(at) = sync {
            if start < at.start {
                sink.loss(start..at.start, why);
            }
            sink.packet(at, Packet::Sync);
        }
        took
    }
}

/// A packet and what follows it, as a little-endian number.
#[inline(always)]
fn ahead(bytes: &[u8], at: usize) -> Option<u128> {
    bytes[at..].first_chunk().map(|chunk| u128::from_le_bytes(*chunk))
}

/// Reads a packet from fewer bytes than [`ahead`] loads.
#[inline(never)]
fn read_short(bytes: &[u8], start: u64, sink: &mut impl Sink) -> Result<usize, Stop> {
    let mut ahead = [0; 16];
    let have = bytes.len().min(16);
    ahead[..have].copy_from_slice(&bytes[..have]);
    read(u128::from_le_bytes(ahead), have, start, sink)
}

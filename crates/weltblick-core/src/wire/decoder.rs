//! The push decoder of instruction traces: bytes in, packets and losses out, every byte in exactly
//! one of them.

use super::Malformed;
use super::alignment::{Alignment, Mode, Stop};
use std::ops::Range;

/// Receives packets and losses in stream order; together their byte ranges tile the stream.
pub trait Sink<P> {
    /// A packet, and where it stands.
    fn packet(&mut self, at: Range<u64>, packet: P);
    /// Bytes that are no packet; the decoder found its feet again at `at.end`.
    fn loss(&mut self, at: Range<u64>, why: Malformed);
}

/// How a protocol writes packets, and what they leave out because it was said before.
pub trait Grammar {
    /// A packet.
    type Packet: Copy;
    /// Zero bytes that a synchronisation needs before its `0x80`.
    const SYNC_ZEROS: u64;
    /// The synchronisation itself.
    const SYNC: Self::Packet;

    /// Hands on the packets that `bytes` start with, the first at byte `at` of the stream, as long as they are
    /// frequent ones that change nothing that is remembered. Returns the length of all of them.
    ///
    /// The hot loop: each kind calls the sink from a place of its own, so that it is never put together and taken
    /// apart again.
    fn frequent(&self, bytes: &[u8], at: u64, sink: &mut impl Sink<Self::Packet>) -> usize;

    /// Reads the packet that `bytes` start with: its length, and what it says. Changes what is
    /// remembered only if the packet is whole.
    ///
    /// # Errors
    ///
    /// If there is none, or not all of it.
    fn read(&mut self, bytes: &[u8]) -> Result<(usize, Self::Packet), Stop>;
}

/// A decoder. A few words of state, no allocation.
///
/// It does not know where packets start until it has seen a synchronisation: what stands before the
/// first one is a loss.
#[derive(Debug, Clone, PartialEq)]
pub struct Decoder<G> {
    grammar: G,
    alignment: Alignment,
}

impl<G: Grammar> Decoder<G> {
    /// A decoder for what starts at byte `offset` of a stream, which may be the middle of a packet.
    pub(super) const fn with_grammar(grammar: G, offset: u64) -> Self {
        let mode = Mode::Lost { start: offset, why: Malformed::StartsInside };
        Self { grammar, alignment: Alignment::new(offset, mode) }
    }

    /// Where in the stream the next byte stands.
    #[must_use]
    pub const fn offset(&self) -> u64 {
        self.alignment.offset
    }

    /// Reads the next bytes of the stream.
    #[inline]
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink<G::Packet>) {
        let mut used = 0;
        while used < bytes.len() {
            let rest = &bytes[used..];
            used += match self.alignment.mode {
                Mode::Packets if self.alignment.held_len > 0 => self.complete_held(rest, sink),
                Mode::Packets => self.read_packets(rest, sink),
                Mode::Zeros { start } => {
                    let (took, sync) = self.alignment.read_zeros(rest, start, G::SYNC_ZEROS);
                    if let Some(at) = sync {
                        sink.packet(at, G::SYNC);
                    }
                    took
                }
                Mode::Lost { start, why } => self.hunt(rest, start, why, sink),
            };
        }
    }

    /// Ends the stream: what is still open is lost.
    pub fn finish(self, sink: &mut impl Sink<G::Packet>) {
        if let Some((at, why)) = self.alignment.finish() {
            sink.loss(at, why);
        }
    }

    /// Bytes are missing here, for some reason: the half packet is lost, and so is everything up to
    /// the next synchronisation.
    pub fn interrupt(&mut self, why: Malformed) {
        self.alignment.interrupt(why);
    }

    /// Whole packets. Returns how many bytes it took.
    #[inline]
    fn read_packets(&mut self, bytes: &[u8], sink: &mut impl Sink<G::Packet>) -> usize {
        let base = self.alignment.offset;
        let mut at = 0;
        let stopped = loop {
            at += self.grammar.frequent(&bytes[at..], base + at as u64, sink);
            if at == bytes.len() {
                break None;
            }
            match self.grammar.read(&bytes[at..]) {
                Ok((length, packet)) => {
                    let start = base + at as u64;
                    at += length;
                    sink.packet(start..base + at as u64, packet);
                }
                Err(stop) => break Some(stop),
            }
        };
        self.alignment.settle(&bytes[..at]);
        match stopped {
            None => at,
            Some(stop) => at + self.alignment.stop(stop, self.alignment.offset, &bytes[at..]),
        }
    }

    /// Goes on with a packet that the last slice left half.
    fn complete_held(&mut self, rest: &[u8], sink: &mut impl Sink<G::Packet>) -> usize {
        let had = self.alignment.held_len;
        let (held, start) = self.alignment.held_with(rest);
        let tried = held.len() - had;
        match self.grammar.read(held) {
            Ok((length, packet)) => {
                self.alignment.held_len = 0;
                self.alignment.settle(&rest[..length - had]);
                sink.packet(start..self.alignment.offset, packet);
                length - had
            }
            Err(stop) => self.alignment.stop(stop, start, &rest[..tried]),
        }
    }

    /// Looks for a synchronisation, and reports what lay before it as lost.
    fn hunt(
        &mut self,
        rest: &[u8],
        start: u64,
        why: Malformed,
        sink: &mut impl Sink<G::Packet>,
    ) -> usize {
        let (took, sync) = self.alignment.hunt(rest, start, G::SYNC_ZEROS);
        if let Some(at) = sync {
            if start < at.start {
                sink.loss(start..at.start, why);
            }
            sink.packet(at, G::SYNC);
        }
        took
    }
}

//! The push decoder: bytes in, packets and losses out, every byte in exactly one of them.

use super::packet::{Packet, Relation};
use super::parse::{Stop, read};
use crate::wire::Malformed;
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
/// The longest packet: a global timestamp of format 2 in its 64-bit form.
const LONGEST: usize = 7;

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
    /// Where the next pushed byte stands in the stream.
    offset: u64,
    /// A packet whose end has not arrived.
    held: [u8; 8],
    held_len: usize,
    /// Zero bytes directly before `offset`, in packets or not.
    zeros: u64,
    mode: Mode,
}

#[derive(Debug, Clone, Copy)]
enum Mode {
    /// The next byte is a header.
    Packets,
    /// A run of zeros began at `start`, where a header was due.
    Zeros { start: u64 },
    /// Looking for a synchronisation.
    Lost { start: u64, why: Malformed },
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
        Self { offset: 0, held: [0; 8], held_len: 0, zeros: 0, mode: Mode::Packets }
    }

    /// How many bytes were pushed so far.
    #[must_use]
    pub const fn offset(&self) -> u64 {
        self.offset
    }

    /// Reads the next bytes of the stream.
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        let mut used = 0;
        while used < bytes.len() {
            let rest = &bytes[used..];
            used += match self.mode {
                Mode::Packets if self.held_len > 0 => self.complete_held(rest, sink),
                Mode::Packets => self.read_packets(bytes, used, sink),
                Mode::Zeros { start } => self.read_zeros(rest, start, sink),
                Mode::Lost { start, why } => self.hunt(rest, start, why, sink),
            };
        }
    }

    /// Ends the stream: what is still open is lost.
    pub fn finish(mut self, sink: &mut impl Sink) {
        self.abandon(Malformed::CutOff);
        if let Mode::Lost { start, why } = self.mode {
            report_loss(start..self.offset, why, sink);
        }
    }

    /// Bytes are missing here, for some reason: the half packet is lost, and so is everything up to
    /// the next synchronisation.
    pub fn interrupt(&mut self, why: Malformed) {
        self.abandon(why);
        match &mut self.mode {
            // What is lost outweighs what nobody wanted.
            Mode::Lost { why: before @ Malformed::Unwanted, .. } => *before = why,
            Mode::Lost { .. } => {}
            mode => *mode = Mode::Lost { start: self.offset, why },
        }
        self.zeros = 0;
    }

    /// Turns a half packet or an open run of zeros into the start of a loss.
    fn abandon(&mut self, why: Malformed) {
        let start = match self.mode {
            Mode::Packets if self.held_len > 0 => self.offset - self.held_len as u64,
            Mode::Zeros { start } => start,
            Mode::Packets | Mode::Lost { .. } => return,
        };
        self.held_len = 0;
        self.mode = Mode::Lost { start, why };
    }

    /// The hot loop: whole packets from `bytes[from..]`. Returns how many bytes it took.
    fn read_packets(&mut self, bytes: &[u8], from: usize, sink: &mut impl Sink) -> usize {
        let base = self.offset - from as u64;
        let mut at = from;
        let stopped = loop {
            let Some(ahead) = ahead(bytes, at) else { break None };
            match read(ahead, 16, base + at as u64, sink) {
                Ok(len) => at += len,
                Err(stop) => break Some(stop),
            }
        };
        let stopped = stopped.or_else(|| self.read_tail(bytes, &mut at, base, sink));
        self.settle(bytes, from, at);
        match stopped {
            None => {}
            Some(Stop::Zeros) => self.mode = Mode::Zeros { start: self.offset },
            Some(Stop::Bad(why)) => self.mode = Mode::Lost { start: self.offset, why },
            Some(Stop::NotYet) => {
                let tail = &bytes[at..];
                self.held[..tail.len()].copy_from_slice(tail);
                self.held_len = tail.len();
                self.settle(bytes, at, bytes.len());
                at = bytes.len();
            }
        }
        at - from
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
        let had = self.held_len;
        let take = rest.len().min(LONGEST - had);
        self.held[had..had + take].copy_from_slice(&rest[..take]);
        let start = self.offset - had as u64;
        match read_short(&self.held[..had + take], start, sink) {
            Ok(len) => {
                self.held_len = 0;
                self.settle(rest, 0, len - had);
                len - had
            }
            Err(Stop::NotYet) => {
                self.held_len += take;
                self.settle(rest, 0, take);
                take
            }
            Err(Stop::Bad(why)) => {
                self.held_len = 0;
                self.mode = Mode::Lost { start, why };
                0
            }
            Err(Stop::Zeros) => unreachable!("a held packet never starts with zero"),
        }
    }

    /// Inside a run of zeros that began where a header was due.
    fn read_zeros(&mut self, rest: &[u8], start: u64, sink: &mut impl Sink) -> usize {
        let run = rest.iter().take_while(|&&byte| byte == 0).count();
        self.settle(rest, 0, run);
        match rest.get(run) {
            None => run,
            Some(0x80) if self.zeros >= SYNC_ZEROS => {
                self.settle(rest, run, run + 1);
                sink.packet(start..self.offset, Packet::Sync);
                self.mode = Mode::Packets;
                run + 1
            }
            Some(_) => {
                self.mode = Mode::Lost { start, why: Malformed::BrokenSync };
                run
            }
        }
    }

    /// Looks for five zeros and `0x80`, and reports what lay before them as lost.
    fn hunt(&mut self, rest: &[u8], start: u64, why: Malformed, sink: &mut impl Sink) -> usize {
        for (at, &byte) in rest.iter().enumerate() {
            if byte == 0x80 && self.zeros >= SYNC_ZEROS {
                let end = self.offset + at as u64;
                let sync = (end - SYNC_ZEROS).max(start);
                report_loss(start..sync, why, sink);
                sink.packet(sync..end + 1, Packet::Sync);
                self.offset = end + 1;
                self.zeros = 0;
                self.mode = Mode::Packets;
                return at + 1;
            }
            self.zeros = if byte == 0 { self.zeros.saturating_add(1) } else { 0 };
        }
        self.offset += rest.len() as u64;
        rest.len()
    }

    /// Accounts for `bytes[from..to]` as read: moves the offset, and counts the zeros at the end,
    /// which may turn out to be the first of a synchronisation.
    fn settle(&mut self, bytes: &[u8], from: usize, to: usize) {
        let read = &bytes[from..to];
        let zeros = read.iter().rev().take_while(|&&byte| byte == 0).count();
        let before = if zeros == read.len() { self.zeros } else { 0 };
        self.zeros = before.saturating_add(zeros as u64);
        self.offset += read.len() as u64;
    }
}

fn report_loss(at: Range<u64>, why: Malformed, sink: &mut impl Sink) {
    if !at.is_empty() {
        sink.loss(at, why);
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

//! The push decoder: bytes in, packets and losses out, every byte in exactly one of them.

use super::history::History;
use super::packet::Packet;
use super::parse::{ATOMS, FIRST_ATOMS, Stop, read};
use super::settings::Settings;
use crate::wire::Malformed;
use std::ops::Range;

/// Receives packets and losses in stream order; together their byte ranges tile the stream.
pub trait Sink {
    /// A packet, and where it stands.
    fn packet(&mut self, at: Range<u64>, packet: Packet);
    /// Bytes that are no packet; the decoder found its feet again at `at.end`.
    fn loss(&mut self, at: Range<u64>, why: Malformed);
}

/// Zero bytes that a synchronisation needs before its `0x80`.
const SYNC_ZEROS: u64 = 11;
/// No packet is longer: a trace info with every section at its longest has 21 bytes, an address
/// with a context 18.
const LONGEST: usize = 24;

/// An ETMv4 decoder. A few words of state, no allocation.
///
/// It does not know where packets start until it has seen a synchronisation: what stands before the
/// first one is a loss.
///
/// ```
/// use std::ops::Range;
/// use weltblick_core::wire::Malformed;
/// use weltblick_core::wire::etmv4::{Decoder, Packet, Settings, Sink};
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
/// let mut decoder = Decoder::new(Settings::default());
/// decoder.push(&[0xff; 2], &mut print); // the end of a packet
/// decoder.push(&[0; 11], &mut print);
/// decoder.push(&[0x80, 0x04, 0xd9], &mut print);
/// decoder.finish(&mut print);
/// assert_eq!(print.0, [
///     "0..2 lost: bytes before the first synchronisation",
///     "2..14 Async",
///     "14..15 TraceOn",
///     "15..16 Atoms(Atoms { bits: 1, count: 2 })",
/// ]);
/// ```
#[derive(Debug, Clone)]
pub struct Decoder {
    settings: Settings,
    history: History,
    /// Where the next pushed byte stands in the stream.
    offset: u64,
    /// A packet whose end has not arrived.
    held: [u8; LONGEST],
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

impl Decoder {
    /// A decoder at the start of a recording.
    #[must_use]
    pub fn new(settings: Settings) -> Self {
        Self {
            settings,
            history: History::default(),
            offset: 0,
            held: [0; LONGEST],
            held_len: 0,
            zeros: 0,
            mode: Mode::Lost { start: 0, why: Malformed::StartsInside },
        }
    }

    /// The same, for what starts at byte `offset` of a stream.
    #[must_use]
    pub fn starting_at(settings: Settings, offset: u64) -> Self {
        let mode = Mode::Lost { start: offset, why: Malformed::StartsInside };
        Self { offset, mode, ..Self::new(settings) }
    }

    /// How many bytes were pushed so far.
    #[must_use]
    pub const fn offset(&self) -> u64 {
        self.offset
    }

    /// Reads the next bytes of the stream.
    #[inline]
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        let mut used = 0;
        while used < bytes.len() {
            let rest = &bytes[used..];
            used += match self.mode {
                Mode::Packets if self.held_len > 0 => self.complete_held(rest, sink),
                Mode::Packets => self.read_packets(rest, sink),
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

    /// The hot loop: whole packets. Returns how many bytes it took.
    #[inline]
    fn read_packets(&mut self, bytes: &[u8], sink: &mut impl Sink) -> usize {
        let base = self.offset;
        let mut at = 0;
        let stopped = loop {
            let Some(&header) = bytes.get(at) else { break None };
            let start = base + at as u64;
            if header >= FIRST_ATOMS {
                at += 1;
                let atoms = ATOMS[usize::from(header & 0x3f)];
                sink.packet(start..start + 1, Packet::Atoms(atoms));
                continue;
            }
            match read(&bytes[at..], &self.settings, &mut self.history) {
                Ok((length, packet)) => {
                    at += length;
                    sink.packet(start..base + at as u64, packet);
                }
                Err(stop) => break Some(stop),
            }
        };
        self.settle(&bytes[..at]);
        match stopped {
            None => {}
            Some(Stop::Zeros) => self.mode = Mode::Zeros { start: self.offset },
            Some(Stop::Bad(why)) => self.mode = Mode::Lost { start: self.offset, why },
            Some(Stop::NotYet) => {
                let tail = &bytes[at..];
                self.held[..tail.len()].copy_from_slice(tail);
                self.held_len = tail.len();
                self.settle(tail);
                at = bytes.len();
            }
        }
        at
    }

    /// Goes on with a packet that the last slice left half.
    fn complete_held(&mut self, rest: &[u8], sink: &mut impl Sink) -> usize {
        let had = self.held_len;
        let take = rest.len().min(LONGEST - had);
        self.held[had..had + take].copy_from_slice(&rest[..take]);
        let start = self.offset - had as u64;
        match read(&self.held[..had + take], &self.settings, &mut self.history) {
            Ok((length, packet)) => {
                self.held_len = 0;
                self.settle(&rest[..length - had]);
                sink.packet(start..self.offset, packet);
                length - had
            }
            Err(Stop::NotYet) => {
                self.held_len += take;
                self.settle(&rest[..take]);
                take
            }
            Err(Stop::Bad(why)) => {
                self.held_len = 0;
                self.mode = Mode::Lost { start, why };
                0
            }
            // Only the first zero was held.
            Err(Stop::Zeros) => {
                self.held_len = 0;
                self.mode = Mode::Zeros { start };
                0
            }
        }
    }

    /// Inside a run of zeros that began where a header was due.
    fn read_zeros(&mut self, rest: &[u8], start: u64, sink: &mut impl Sink) -> usize {
        let run = rest.iter().take_while(|&&byte| byte == 0).count();
        self.settle(&rest[..run]);
        match rest.get(run) {
            None => run,
            Some(0x80) if self.zeros >= SYNC_ZEROS => {
                self.settle(&rest[run..=run]);
                sink.packet(start..self.offset, Packet::Async);
                self.mode = Mode::Packets;
                run + 1
            }
            Some(_) => {
                self.mode = Mode::Lost { start, why: Malformed::BrokenSync };
                run
            }
        }
    }

    /// Looks for eleven zeros and `0x80`, and reports what lay before them as lost.
    fn hunt(&mut self, rest: &[u8], start: u64, why: Malformed, sink: &mut impl Sink) -> usize {
        for (at, &byte) in rest.iter().enumerate() {
            if byte == 0x80 && self.zeros >= SYNC_ZEROS {
                let end = self.offset + at as u64;
                let sync = end.saturating_sub(SYNC_ZEROS).max(start);
                report_loss(start..sync, why, sink);
                sink.packet(sync..end + 1, Packet::Async);
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

    /// Accounts for bytes as read: moves the offset, and counts the zeros at the end, which may turn
    /// out to be the first of a synchronisation.
    fn settle(&mut self, read: &[u8]) {
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

//! The push decoder: bytes in, packets and losses out, every byte in exactly one of them.

use super::packet::{Action, Counters, Malformed, Packet, Relation, Size};
use std::ops::Range;

/// Receives packets and losses in stream order; together their byte ranges tile the stream.
pub trait Sink {
    /// A packet, and where it stands.
    fn packet(&mut self, at: Range<u64>, packet: Packet);
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

/// What the bytes at a header amount to.
enum Step {
    Packet(Packet, usize),
    NotYet,
    Zeros,
    Bad(Malformed),
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

    /// Bytes are missing here (the framing lost them): the half packet is lost, and so is
    /// everything up to the next synchronisation.
    pub fn interrupt(&mut self) {
        self.abandon(Malformed::FramingLoss);
        if !matches!(self.mode, Mode::Lost { .. }) {
            self.mode = Mode::Lost { start: self.offset, why: Malformed::FramingLoss };
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
            let Some(chunk) = bytes[at..].first_chunk::<8>() else { break None };
            match parse(u64::from_le_bytes(*chunk), 8) {
                Step::Packet(packet, len) => {
                    let start = base + at as u64;
                    sink.packet(start..start + len as u64, packet);
                    at += len;
                }
                other => break Some(other),
            }
        };
        let stopped = stopped.or_else(|| self.read_tail(bytes, &mut at, base, sink));
        self.settle(bytes, from, at);
        match stopped {
            None | Some(Step::Packet(..)) => {}
            Some(Step::Zeros) => self.mode = Mode::Zeros { start: self.offset },
            Some(Step::Bad(why)) => self.mode = Mode::Lost { start: self.offset, why },
            Some(Step::NotYet) => {
                let tail = &bytes[at..];
                self.held[..tail.len()].copy_from_slice(tail);
                self.held_len = tail.len();
                self.settle(bytes, at, bytes.len());
                at = bytes.len();
            }
        }
        at - from
    }

    /// Packets among the last seven bytes of a slice, where a whole word cannot be loaded.
    fn read_tail(
        &self,
        bytes: &[u8],
        at: &mut usize,
        base: u64,
        sink: &mut impl Sink,
    ) -> Option<Step> {
        while *at < bytes.len() {
            let tail = &bytes[*at..];
            match parse(word_of(tail), tail.len()) {
                Step::Packet(packet, len) => {
                    let start = base + *at as u64;
                    sink.packet(start..start + len as u64, packet);
                    *at += len;
                }
                other => return Some(other),
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
        match parse(word_of(&self.held[..had + take]), had + take) {
            Step::Packet(packet, len) => {
                sink.packet(start..start + len as u64, packet);
                self.held_len = 0;
                self.settle(rest, 0, len - had);
                len - had
            }
            Step::NotYet => {
                self.held_len += take;
                self.settle(rest, 0, take);
                take
            }
            Step::Bad(why) => {
                self.held_len = 0;
                self.mode = Mode::Lost { start, why };
                0
            }
            Step::Zeros => unreachable!("a held packet never starts with zero"),
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

/// Up to seven bytes as a little-endian word, zero above.
fn word_of(bytes: &[u8]) -> u64 {
    let mut word = [0; 8];
    let len = bytes.len().min(8);
    word[..len].copy_from_slice(&bytes[..len]);
    u64::from_le_bytes(word)
}

/// What a header announces; every other header is reserved.
#[derive(Clone, Copy)]
#[repr(u8)]
enum Class {
    Reserved,
    Zeros,
    Overflow,
    ShortTime,
    LocalTime,
    GlobalLow,
    GlobalHigh,
    Extension,
    Stimulus,
    Counters,
    Exception,
    Pc,
    PcShort,
    Pmu,
    DataPc,
    DataMatch,
    DataAddress,
    DataValue,
}

/// The class of every header. One look-up and one jump per packet: nested matches on the header's
/// fields cost a fifth of the decoding rate in mispredicted branches.
const CLASSES: [Class; 256] = {
    let mut classes = [Class::Reserved; 256];
    let mut header = 0;
    while header < 256 {
        classes[header] = classify(header as u8);
        header += 1;
    }
    classes
};

/// D4.2 and D4.3: headers by their fields.
const fn classify(header: u8) -> Class {
    let (size, discriminator) = (header & 0b11, header >> 3);
    match (size, header >> 2 & 1) {
        (0, _) => classify_protocol(header),
        (_, 0) => Class::Stimulus,
        _ => match (discriminator, size) {
            (0, 1) => Class::Counters,
            (1, 2) => Class::Exception,
            (2, 3) => Class::Pc,
            (2, 1) => Class::PcShort,
            // DDI 0553: discriminator 3 is assumed to be the PMU overflow packet with one byte.
            (3, 1) => Class::Pmu,
            (8 | 10 | 12 | 14, 3) => Class::DataPc,
            // DDI 0553: the one-byte form with payload 1 is the data trace match packet.
            (8 | 10 | 12 | 14, 1) => Class::DataMatch,
            (9 | 11 | 13 | 15, 2) => Class::DataAddress,
            (16..=23, _) => Class::DataValue,
            _ => Class::Reserved,
        },
    }
}

/// D4.2: packets of the protocol itself, whose headers end in two zero bits.
const fn classify_protocol(header: u8) -> Class {
    match header {
        0x00 => Class::Zeros,
        0x70 => Class::Overflow,
        0x10 | 0x20 | 0x30 | 0x40 | 0x50 | 0x60 => Class::ShortTime,
        0xc0 | 0xd0 | 0xe0 | 0xf0 => Class::LocalTime,
        0x94 => Class::GlobalLow,
        0xb4 => Class::GlobalHigh,
        _ if header & 0b1000 != 0 => Class::Extension,
        _ => Class::Reserved,
    }
}

/// Reads the packet whose header is the lowest byte of `word`, of which `have` bytes are real.
#[inline(always)]
fn parse(word: u64, have: usize) -> Step {
    let header = word as u8;
    let value = (word >> 8) as u32;
    let comparator = header >> 4 & 0b11;
    match CLASSES[usize::from(header)] {
        Class::Pc => sized(have, 4, Packet::PcSample { pc: value }),
        Class::LocalTime => local_time(header, word, have),
        Class::ShortTime => {
            // Format 2: one byte, values 1 to 6.
            let ticks = u32::from(header >> 4);
            Step::Packet(Packet::LocalTime { ticks, relation: Relation::Synchronous }, 1)
        }
        Class::Exception => fallible(have, 2, exception(value & 0xffff)),
        Class::PcShort => fallible(have, 1, short_sample(value & 0xff)),
        Class::Stimulus => {
            let (size, value) = sized_value(header, value);
            sized(have, size.bytes(), Packet::Stimulus { port: header >> 3, size, value })
        }
        Class::DataValue => {
            let (size, value) = sized_value(header, value);
            let write = header >> 3 & 1 == 1;
            sized(have, size.bytes(), Packet::DataValue { comparator, write, size, value })
        }
        Class::DataPc => sized(have, 4, Packet::DataPc { comparator, pc: value }),
        Class::DataAddress => {
            sized(have, 2, Packet::DataAddress { comparator, offset: value as u16 })
        }
        Class::DataMatch if value & 0xff == 1 => sized(have, 1, Packet::DataMatch { comparator }),
        Class::DataMatch => fallible(have, 1, Err(Malformed::ReservedPayload)),
        Class::Counters if value & 0xc0 == 0 => {
            sized(have, 1, Packet::EventCounters(Counters(value as u8)))
        }
        Class::Counters => fallible(have, 1, Err(Malformed::ReservedPayload)),
        Class::Pmu => sized(have, 1, Packet::PmuOverflow { counters: value as u8 }),
        Class::Overflow => Step::Packet(Packet::Overflow, 1),
        Class::GlobalLow => global_time_low(word, have),
        Class::GlobalHigh => global_time_high(word, have),
        Class::Extension => extension(header, word, have),
        Class::Zeros => Step::Zeros,
        Class::Reserved => Step::Bad(Malformed::ReservedHeader),
    }
}

/// A packet with `payload` bytes behind its header, if they are there.
#[inline(always)]
fn sized(have: usize, payload: usize, packet: Packet) -> Step {
    if have > payload { Step::Packet(packet, 1 + payload) } else { Step::NotYet }
}

/// The same where the payload may be reserved.
#[inline(always)]
fn fallible(have: usize, payload: usize, packet: Result<Packet, Malformed>) -> Step {
    match packet {
        _ if have <= payload => Step::NotYet,
        Ok(packet) => Step::Packet(packet, 1 + payload),
        Err(why) => Step::Bad(why),
    }
}

/// Size and value of a payload of 1, 2 or 4 bytes, by the header's lowest bits.
#[inline(always)]
fn sized_value(header: u8, payload: u32) -> (Size, u32) {
    match header & 0b11 {
        1 => (Size::Byte, payload & 0xff),
        2 => (Size::Half, payload & 0xffff),
        _ => (Size::Word, payload),
    }
}

/// D4.3.3, short form.
#[inline(always)]
fn short_sample(value: u32) -> Result<Packet, Malformed> {
    match value {
        0x00 => Ok(Packet::Asleep),
        0xff => Ok(Packet::Prohibited),
        _ => Err(Malformed::ReservedPayload),
    }
}

/// D4.3.2: number in bits 8:0, function in bits 13:12; the other bits are reserved, zero.
#[inline(always)]
fn exception(value: u32) -> Result<Packet, Malformed> {
    let action = match value >> 9 {
        0b000_1000 => Action::Enter,
        0b001_0000 => Action::Exit,
        0b001_1000 => Action::Return,
        _ => return Err(Malformed::ReservedPayload),
    };
    Ok(Packet::Exception { number: (value & 0x1ff) as u16, action })
}

/// How many payload bytes a packet has whose bytes say in bit 7 that another follows.
///
/// `longest` bytes at most: one more continuation is malformed; with `last_is_full`, the byte
/// number `longest` has no continuation bit.
#[inline(always)]
fn continued(word: u64, have: usize, longest: usize, last_is_full: bool) -> Result<usize, Step> {
    let stops = !(word >> 8) & 0x0080_8080_8080_8080;
    let len = stops.trailing_zeros() as usize / 8 + 1;
    let len = if last_is_full { len.min(longest) } else { len };
    match len {
        _ if len > longest && have > longest => Err(Step::Bad(Malformed::TooLong)),
        _ if len < have => Ok(len),
        _ => Err(Step::NotYet),
    }
}

/// The 7-bit groups of `len` payload bytes (6 at most), least significant first.
#[inline(always)]
fn groups(word: u64, len: usize) -> u64 {
    let payload = word >> 8 & ((1 << (8 * len)) - 1);
    (0..6).fold(0, |value, group| value | payload >> group & 0x7f << (7 * group))
}

/// D4.2.4, format 1: up to 28 bits.
#[inline(always)]
fn local_time(header: u8, word: u64, have: usize) -> Step {
    let relation = match header >> 4 & 0b11 {
        0 => Relation::Synchronous,
        1 => Relation::TimestampDelayed,
        2 => Relation::PacketDelayed,
        _ => Relation::BothDelayed,
    };
    match continued(word, have, 4, false) {
        Ok(len) => {
            let ticks = groups(word, len) as u32;
            Step::Packet(Packet::LocalTime { ticks, relation }, 1 + len)
        }
        Err(step) => step,
    }
}

/// D4.2.5, format 1: three groups of seven bits, then five bits, clock change and wrap.
fn global_time_low(word: u64, have: usize) -> Step {
    match continued(word, have, 4, false) {
        Ok(len) => {
            let value = groups(word, len);
            let last = (word >> 32) as u8;
            let whole = len == 4;
            let packet = Packet::GlobalTimeLow {
                bits: (value & 0x03ff_ffff) as u32,
                width: if whole { 26 } else { 7 * len as u8 },
                clock_changed: whole && last & 0x20 != 0,
                wrapped: whole && last & 0x40 != 0,
            };
            Step::Packet(packet, 1 + len)
        }
        Err(step) => step,
    }
}

/// D4.2.5, format 2: four bytes for a 48-bit timestamp, six for a 64-bit one.
fn global_time_high(word: u64, have: usize) -> Step {
    match continued(word, have, 6, false) {
        Ok(len @ (4 | 6)) => {
            let width = if len == 4 { 22 } else { 38 };
            let bits = groups(word, len);
            if bits >> width != 0 {
                return Step::Bad(Malformed::ReservedPayload);
            }
            Step::Packet(Packet::GlobalTimeHigh { bits, width }, 1 + len)
        }
        Ok(_) => Step::Bad(Malformed::ReservedPayload),
        Err(step) => step,
    }
}

/// D4.2.6: three bits in the header, then groups of seven bits, the fourth of them eight.
fn extension(header: u8, word: u64, have: usize) -> Step {
    let low = u32::from(header >> 4 & 0b111);
    let hardware = header & 0b100 != 0;
    if header & 0x80 == 0 {
        return Step::Packet(Packet::Extension { hardware, value: low }, 1);
    }
    match continued(word, have, 4, true) {
        Ok(len) => {
            let top = if len == 4 { (word >> 32 & 0x80) << 21 } else { 0 };
            let value = low | ((groups(word, len) | top) as u32) << 3;
            Step::Packet(Packet::Extension { hardware, value }, 1 + len)
        }
        Err(step) => step,
    }
}

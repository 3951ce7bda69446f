//! One packet from the bytes at its header, with its timestamp: no state, no stream.

use super::decoder::Sink;
use super::packet::{Action, Counters, Packet, Relation, Size};
use crate::wire::Malformed;
use crate::wire::alignment::Stop;

/// A packet, and how many bytes it has.
type Parsed = Result<(Packet, usize), Stop>;

/// Headers of what most of a stream consists of.
mod headers {
    /// D4.3.2.
    pub(super) const EXCEPTION: u8 = 0x0e;
    /// D4.3.3.
    pub(super) const PC: u8 = 0x17;
    /// D4.3.3, short form.
    pub(super) const PC_SHORT: u8 = 0x15;
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

/// The class of every header: one look-up and one jump.
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
            _ if header == headers::EXCEPTION => Class::Exception,
            _ if header == headers::PC => Class::Pc,
            _ if header == headers::PC_SHORT => Class::PcShort,
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

/// Reads the packet whose header is the lowest byte of `ahead`, of which `have` bytes are real, and
/// the local timestamp behind it, if there is one. Returns how many bytes they have.
///
/// Every frequent packet is handed on from a place of its own: the compiler then sees which one it
/// is, and matches on it vanish.
#[inline(always)]
pub(super) fn read(
    ahead: u128,
    have: usize,
    start: u64,
    sink: &mut impl Sink,
) -> Result<usize, Stop> {
    let word = ahead as u64;
    let value = (word >> 8) as u32;
    let (packet, len) = match word as u8 {
        headers::PC if have > 4 => {
            return Ok(hand_on(Packet::PcSample { pc: value }, 5, ahead, have, start, sink));
        }
        headers::PC_SHORT if have > 1 && value as u8 == 0x00 => {
            return Ok(hand_on(Packet::Asleep, 2, ahead, have, start, sink));
        }
        headers::EXCEPTION if have > 2 => {
            // D4.3.2: number in bits 8:0, function in bits 13:12; the others are reserved, zero.
            let number = (value & 0x1ff) as u16;
            let packet = |action| Packet::Exception { number, action };
            return Ok(match value as u16 >> 9 {
                0b000_1000 => hand_on(packet(Action::Enter), 3, ahead, have, start, sink),
                0b001_0000 => hand_on(packet(Action::Exit), 3, ahead, have, start, sink),
                0b001_1000 => hand_on(packet(Action::Return), 3, ahead, have, start, sink),
                _ => return Err(Stop::Bad(Malformed::ReservedPayload)),
            });
        }
        header => any(header, word, have)?,
    };
    Ok(hand_on(packet, len, ahead, have, start, sink))
}

/// Hands on a packet of `len` bytes, and the timestamp if one follows. Returns how many bytes both
/// have. Asked for here, that is a branch of its own behind every kind of packet, and nearly always
/// right; among all packets a timestamp is a jump that often is not.
#[inline(always)]
fn hand_on(
    packet: Packet,
    len: usize,
    ahead: u128,
    have: usize,
    start: u64,
    sink: &mut impl Sink,
) -> usize {
    let at = start..start + len as u64;
    let next = (ahead >> (8 * len)) as u64;
    if is_local_time(next)
        && let Ok((ticks, relation, more)) = local_time(next, have - len)
    {
        sink.dated(at, packet, start + (len + more) as u64, ticks, relation);
        return len + more;
    }
    sink.packet(at, packet);
    len
}

/// Any packet.
#[inline(never)]
fn any(header: u8, word: u64, have: usize) -> Parsed {
    let value = (word >> 8) as u32;
    let comparator = header >> 4 & 0b11;
    match CLASSES[usize::from(header)] {
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
        Class::DataMatch => {
            let packet = Packet::DataMatch { comparator };
            sized(have, 1, packet).and_then(|read| allowed(value & 0xff == 1, read))
        }
        Class::Counters => {
            let packet = Packet::EventCounters(Counters(value as u8));
            sized(have, 1, packet).and_then(|read| allowed(value & 0xc0 == 0, read))
        }
        Class::Pmu => sized(have, 1, Packet::PmuOverflow { counters: value as u8 }),
        Class::ShortTime => {
            // Format 2: one byte, values 1 to 6.
            let ticks = u32::from(header >> 4);
            Ok((Packet::LocalTime { ticks, relation: Relation::Synchronous }, 1))
        }
        Class::Overflow => Ok((Packet::Overflow, 1)),
        Class::GlobalLow => global_time_low(word, have),
        Class::GlobalHigh => global_time_high(word, have),
        Class::Extension => extension(header, word, have),
        Class::LocalTime => {
            let (ticks, relation, len) = local_time(word, have)?;
            Ok((Packet::LocalTime { ticks, relation }, len))
        }
        Class::PcShort if have > 1 => {
            // D4.3.3, short form.
            let packet = if value as u8 == 0 { Packet::Asleep } else { Packet::Prohibited };
            allowed(matches!(value as u8, 0x00 | 0xff), (packet, 2))
        }
        // What is whole of these was read already.
        Class::Pc | Class::PcShort | Class::Exception => Err(Stop::NotYet),
        Class::Zeros => Err(Stop::Zeros),
        Class::Reserved => Err(Stop::Bad(Malformed::ReservedHeader)),
    }
}

/// A packet with `payload` bytes behind its header, if they are there.
fn sized(have: usize, payload: usize, packet: Packet) -> Parsed {
    if have > payload { Ok((packet, 1 + payload)) } else { Err(Stop::NotYet) }
}

/// What was read, unless its payload is reserved.
fn allowed(is: bool, read: (Packet, usize)) -> Parsed {
    if is { Ok(read) } else { Err(Stop::Bad(Malformed::ReservedPayload)) }
}

/// Size and value of a payload of 1, 2 or 4 bytes, by the header's lowest bits.
fn sized_value(header: u8, payload: u32) -> (Size, u32) {
    match header & 0b11 {
        1 => (Size::Byte, payload & 0xff),
        2 => (Size::Half, payload & 0xffff),
        _ => (Size::Word, payload),
    }
}

/// How many payload bytes a packet has whose bytes say in bit 7 that another follows.
///
/// `longest` bytes at most: one more continuation is malformed; with `last_is_full`, the byte
/// number `longest` has no continuation bit.
#[inline(always)]
fn continued(word: u64, have: usize, longest: usize, last_is_full: bool) -> Result<usize, Stop> {
    let stops = !(word >> 8) & 0x0080_8080_8080_8080;
    let len = stops.trailing_zeros() as usize / 8 + 1;
    let len = if last_is_full { len.min(longest) } else { len };
    match len {
        _ if len > longest && have > longest => Err(Stop::Bad(Malformed::TooLong)),
        _ if len < have => Ok(len),
        _ => Err(Stop::NotYet),
    }
}

/// The 7-bit groups of `len` payload bytes (6 at most), least significant first.
#[inline(always)]
fn groups(word: u64, len: usize) -> u64 {
    let payload = word >> 8 & ((1 << (8 * len)) - 1);
    (0..6).fold(0, |value, group| value | payload >> group & 0x7f << (7 * group))
}

/// Whether the lowest byte is the header of a local timestamp of format 1.
#[inline(always)]
const fn is_local_time(word: u64) -> bool {
    word & 0xcf == 0xc0
}

/// D4.2.4, format 1: up to 28 bits in at most four groups; and how many bytes the packet has.
#[inline(always)]
fn local_time(word: u64, have: usize) -> Result<(u32, Relation, usize), Stop> {
    let relation = match word >> 4 & 0b11 {
        0 => Relation::Synchronous,
        1 => Relation::TimestampDelayed,
        2 => Relation::PacketDelayed,
        _ => Relation::BothDelayed,
    };
    let groups = (word >> 8) as u32;
    let stops = !groups & 0x8080_8080;
    let len = stops.trailing_zeros() as usize / 8 + 2;
    if stops == 0 || len > have {
        return Err(if have > 4 { Stop::Bad(Malformed::TooLong) } else { Stop::NotYet });
    }
    // Up to the first group that says that no other follows.
    let groups = groups & (stops ^ (stops - 1));
    // Four groups of seven bits become two of fourteen, then one.
    let pairs = groups & 0x007f_007f | groups >> 1 & 0x3f80_3f80;
    let ticks = pairs & 0x3fff | pairs >> 2 & 0x0fff_c000;
    Ok((ticks, relation, len))
}

/// D4.2.5, format 1: three groups of seven bits, then five bits, clock change and wrap.
fn global_time_low(word: u64, have: usize) -> Parsed {
    let len = continued(word, have, 4, false)?;
    let last = (word >> 32) as u8;
    let whole = len == 4;
    let packet = Packet::GlobalTimeLow {
        bits: (groups(word, len) & 0x03ff_ffff) as u32,
        width: if whole { 26 } else { 7 * len as u8 },
        clock_changed: whole && last & 0x20 != 0,
        wrapped: whole && last & 0x40 != 0,
    };
    Ok((packet, 1 + len))
}

/// D4.2.5, format 2: four bytes for a 48-bit timestamp, six for a 64-bit one.
fn global_time_high(word: u64, have: usize) -> Parsed {
    let len = continued(word, have, 6, false)?;
    let width = if len == 4 { 22 } else { 38 };
    let bits = groups(word, len);
    let read = (Packet::GlobalTimeHigh { bits, width }, 1 + len);
    allowed(matches!(len, 4 | 6) && bits >> width == 0, read)
}

/// D4.2.6: three bits in the header, then groups of seven bits, the fourth of them eight.
fn extension(header: u8, word: u64, have: usize) -> Parsed {
    let low = u32::from(header >> 4 & 0b111);
    let hardware = header & 0b100 != 0;
    if header & 0x80 == 0 {
        return Ok((Packet::Extension { hardware, value: low }, 1));
    }
    let len = continued(word, have, 4, true)?;
    let top = if len == 4 { (word >> 32 & 0x80) << 21 } else { 0 };
    let value = low | ((groups(word, len) | top) as u32) << 3;
    Ok((Packet::Extension { hardware, value }, 1 + len))
}

//! One packet from the bytes at its header: no state, no stream.

use super::packet::{Action, Counters, Malformed, Packet, Relation, Size};

/// What the bytes at a header amount to.
pub(super) enum Step {
    Packet(Packet, usize),
    NotYet,
    Zeros,
    Bad(Malformed),
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
pub(super) fn parse(word: u64, have: usize) -> Step {
    let header = word as u8;
    let value = (word >> 8) as u32;
    let comparator = header >> 4 & 0b11;
    match CLASSES[usize::from(header)] {
        Class::Pc => sized(have, 4, Packet::PcSample { pc: value }),
        Class::LocalTime => local_time(word, have),
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

/// Whether the lowest byte is the header of a local timestamp of format 1.
#[inline(always)]
pub(super) const fn is_local_time(word: u64) -> bool {
    word & 0xcf == 0xc0
}

/// D4.2.4, format 1: up to 28 bits.
#[inline(always)]
pub(super) fn local_time(word: u64, have: usize) -> Step {
    let relation = match word >> 4 & 0b11 {
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

//! The encoder of ITM and DWT packets, written from DDI 0403E, appendix D4, alone.
//!
//! It shares nothing with the decoder in `weltblick-core`: neither code nor types.

/// One packet's bytes: seven at most, but for synchronisations.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Encoded {
    bytes: [u8; 8],
    len: u8,
}

impl Encoded {
    const fn empty() -> Self {
        Self { bytes: [0; 8], len: 0 }
    }

    const fn with(mut self, byte: u8) -> Self {
        self.bytes[self.len as usize] = byte;
        self.len += 1;
        self
    }

    /// A header and `count` bytes of `value`, least significant first.
    const fn payload(header: u8, value: u32, count: u32) -> Self {
        let mut packet = Self::empty().with(header);
        let mut shift = 0;
        while shift < 8 * count {
            packet = packet.with((value >> shift) as u8);
            shift += 8;
        }
        packet
    }

    /// The bytes.
    #[must_use]
    pub fn as_slice(&self) -> &[u8] {
        &self.bytes[..self.len as usize]
    }
}

/// The two bits of a source header that say how long the payload is.
const fn size_bits(bytes: u32) -> u8 {
    match bytes {
        1 => 0b01,
        2 => 0b10,
        _ => 0b11,
    }
}

/// Synchronisation: 47 zero bits and a one.
#[must_use]
pub const fn synchronisation() -> Encoded {
    Encoded { bytes: [0, 0, 0, 0, 0, 0x80, 0, 0], len: 6 }
}

/// Overflow.
#[must_use]
pub const fn overflow() -> Encoded {
    Encoded::empty().with(0b0111_0000)
}

/// Local timestamp. `tc` is the two-bit time control; the one-byte form is used where it can be.
#[must_use]
pub const fn local_timestamp(ticks: u32, tc: u8) -> Encoded {
    if tc == 0 && ticks >= 1 && ticks <= 6 {
        return Encoded::empty().with((ticks as u8) << 4);
    }
    let mut packet = Encoded::empty().with(0b1100_0000 | (tc & 0b11) << 4);
    let mut rest = ticks & 0x0fff_ffff;
    loop {
        let group = (rest & 0x7f) as u8;
        rest >>= 7;
        if rest == 0 {
            return packet.with(group);
        }
        packet = packet.with(group | 0x80);
    }
}

/// Global timestamp 1, in its full form of four payload bytes.
#[must_use]
pub const fn global_timestamp_low(timestamp: u64, clock_changed: bool, wrapped: bool) -> Encoded {
    let bits = timestamp as u32;
    Encoded::empty()
        .with(0b1001_0100)
        .with(0x80 | (bits & 0x7f) as u8)
        .with(0x80 | (bits >> 7 & 0x7f) as u8)
        .with(0x80 | (bits >> 14 & 0x7f) as u8)
        .with((bits >> 21 & 0x1f) as u8 | (clock_changed as u8) << 5 | (wrapped as u8) << 6)
}

/// Global timestamp 1, in its short form of `groups` (1 to 3) seven-bit groups.
#[must_use]
pub const fn global_timestamp_short(timestamp: u64, groups: u32) -> Encoded {
    let mut packet = Encoded::empty().with(0b1001_0100);
    let mut group = 0;
    while group < groups {
        let more = if group + 1 < groups { 0x80 } else { 0 };
        packet = packet.with((timestamp >> (7 * group)) as u8 & 0x7f | more);
        group += 1;
    }
    packet
}

/// Global timestamp 2: bits 47:26 in four bytes, or 63:26 in six.
#[must_use]
pub const fn global_timestamp_high(timestamp: u64, wide: bool) -> Encoded {
    let bits = timestamp >> 26;
    let groups = if wide { 6 } else { 4 };
    let mut packet = Encoded::empty().with(0b1011_0100);
    let mut group = 0;
    while group < groups {
        let last = group + 1 == groups;
        let mask = match (last, wide) {
            (true, true) => 0b111,
            (true, false) => 0b1,
            _ => 0x7f,
        };
        let more = if last { 0 } else { 0x80 };
        packet = packet.with((bits >> (7 * group)) as u8 & mask | more);
        group += 1;
    }
    packet
}

/// Extension: the page of later stimulus packets, or of hardware sources.
#[must_use]
pub const fn extension(value: u32, hardware: bool) -> Encoded {
    let header = 0b0000_1000 | (hardware as u8) << 2 | (value as u8 & 0b111) << 4;
    let mut rest = value >> 3;
    if rest == 0 {
        return Encoded::empty().with(header);
    }
    let mut packet = Encoded::empty().with(header | 0x80);
    let mut group = 1;
    loop {
        if group == 4 {
            return packet.with(rest as u8);
        }
        let low = (rest & 0x7f) as u8;
        rest >>= 7;
        if rest == 0 {
            return packet.with(low);
        }
        packet = packet.with(low | 0x80);
        group += 1;
    }
}

/// A write of `bytes` bytes to stimulus port 0 to 31.
#[must_use]
pub const fn stimulus(port: u8, bytes: u32, value: u32) -> Encoded {
    Encoded::payload(port << 3 | size_bits(bytes), value, bytes)
}

/// A hardware source packet by discriminator.
const fn hardware(discriminator: u8, bytes: u32, value: u32) -> Encoded {
    Encoded::payload(discriminator << 3 | 0b100 | size_bits(bytes), value, bytes)
}

/// Event counters that wrapped, one bit each.
#[must_use]
pub const fn event_counters(bits: u8) -> Encoded {
    hardware(0, 1, bits as u32)
}

/// Exception trace; `function` is 1 (entered), 2 (left) or 3 (returned to).
#[must_use]
pub const fn exception(number: u16, function: u8) -> Encoded {
    hardware(1, 2, number as u32 & 0x1ff | (function as u32) << 12)
}

/// Program counter sample.
#[must_use]
pub const fn pc_sample(pc: u32) -> Encoded {
    hardware(2, 4, pc)
}

/// Program counter sample of a sleeping core.
#[must_use]
pub const fn asleep() -> Encoded {
    hardware(2, 1, 0)
}

/// Program counter sample where sampling is prohibited (Armv8-M).
#[must_use]
pub const fn prohibited() -> Encoded {
    hardware(2, 1, 0xff)
}

/// Overflowed performance counters (Armv8.1-M).
#[must_use]
pub const fn pmu_overflow(bits: u8) -> Encoded {
    hardware(3, 1, bits as u32)
}

/// Data trace: the accessing instruction's address.
#[must_use]
pub const fn data_pc(comparator: u8, pc: u32) -> Encoded {
    hardware(0b01000 | comparator << 1, 4, pc)
}

/// Data trace: a comparator matched (Armv8-M).
#[must_use]
pub const fn data_match(comparator: u8) -> Encoded {
    hardware(0b01000 | comparator << 1, 1, 1)
}

/// Data trace: the low half of the data address.
#[must_use]
pub const fn data_address(comparator: u8, offset: u16) -> Encoded {
    hardware(0b01001 | comparator << 1, 2, offset as u32)
}

/// Data trace: the value read or written.
#[must_use]
pub const fn data_value(comparator: u8, write: bool, bytes: u32, value: u32) -> Encoded {
    hardware(0b10000 | comparator << 1 | write as u8, bytes, value)
}

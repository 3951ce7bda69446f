//! Bytes to packets.

use std::ops::Range;

/// Bytes of a packet.
pub const PACKET: usize = 8;

/// Addresses from here on are no code, but `EXC_RETURN` values (DDI 0403E, B1.5.8).
const EXC_RETURN: u32 = 0xf000_0000;

/// Whether an address of a packet is an `EXC_RETURN` value, not code.
#[must_use]
pub const fn is_exception_return(address: u32) -> bool {
    address >= EXC_RETURN
}

/// One branch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Packet {
    /// The instruction that branched, or, of an exception's entry, the one that was not executed
    /// any more; of its return, the `EXC_RETURN` value. Bit 0 clear.
    pub source: u32,
    /// An exception, or a debugger, moved the program counter: not an instruction (the A-bit).
    pub exceptional: bool,
    /// Where it went; bit 0 clear.
    pub destination: u32,
    /// The first one since tracing started: what ran before is not in the buffer (the S-bit).
    pub starts: bool,
}

impl Packet {
    /// Reads two words.
    #[inline]
    #[must_use]
    pub const fn from_bytes(bytes: [u8; PACKET]) -> Self {
        let [a, b, c, d, e, f, g, h] = bytes;
        let source = u32::from_le_bytes([a, b, c, d]);
        let destination = u32::from_le_bytes([e, f, g, h]);
        Self {
            source: source & !1,
            exceptional: source & 1 == 1,
            destination: destination & !1,
            starts: destination & 1 == 1,
        }
    }
}

/// Receives packets and losses in stream order; together their byte ranges tile the stream.
pub trait Sink {
    /// A packet.
    fn packet(&mut self, at: Range<u64>, packet: Packet);
    /// Zeros before the first packet, or behind the last one: memory that was never written.
    fn unwritten(&mut self, at: Range<u64>);
    /// Zeros between packets: something else wrote there, and branches are lost. (No branch goes from address 0 to
    /// address 0.)
    fn erased(&mut self, at: Range<u64>);
    /// The beginning of a packet whose rest is not there.
    fn cut_off(&mut self, at: Range<u64>);
}

/// A push decoder: half a packet of state.
#[derive(Debug, Clone, Default)]
pub struct Decoder {
    held: [u8; PACKET],
    /// How many bytes of `held` are there.
    filled: usize,
    /// Bytes that were pushed.
    offset: u64,
    /// Where zeros began that go on to here.
    zeros: Option<u64>,
    /// There was a packet, since the last gap.
    begun: bool,
}

impl Decoder {
    /// A decoder at the start of a stream, which is the start of a packet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Reads the next bytes.
    pub fn push(&mut self, mut bytes: &[u8], sink: &mut impl Sink) {
        if self.filled > 0 {
            let (now, later) = bytes.split_at(bytes.len().min(PACKET - self.filled));
            self.hold(now);
            bytes = later;
            if self.filled < PACKET {
                return;
            }
            self.filled = 0;
            self.packet(self.offset - PACKET as u64, self.held, sink);
        }
        let (packets, rest) = bytes.as_chunks::<PACKET>();
        for &bytes in packets {
            self.offset += PACKET as u64;
            self.packet(self.offset - PACKET as u64, bytes, sink);
        }
        self.hold(rest);
    }

    #[inline(always)]
    fn packet(&mut self, start: u64, bytes: [u8; PACKET], sink: &mut impl Sink) {
        if bytes == [0; PACKET] {
            self.zeros.get_or_insert(start);
            return;
        }
        if let Some(zeros) = self.zeros.take() {
            if self.begun { sink.erased(zeros..start) } else { sink.unwritten(zeros..start) }
        }
        self.begun = true;
        sink.packet(start..start + PACKET as u64, Packet::from_bytes(bytes));
    }

    fn hold(&mut self, bytes: &[u8]) {
        self.held[self.filled..self.filled + bytes.len()].copy_from_slice(bytes);
        self.filled += bytes.len();
        self.offset += bytes.len() as u64;
    }

    /// Bytes are missing here: half a packet is lost, and the next byte starts one.
    pub fn interrupt(&mut self, sink: &mut impl Sink) {
        let whole = self.offset - self.filled as u64;
        if let Some(zeros) = self.zeros.take() {
            sink.unwritten(zeros..whole);
        }
        self.begun = false;
        if std::mem::take(&mut self.filled) > 0 {
            sink.cut_off(whole..self.offset);
        }
    }

    /// Ends the stream.
    pub fn finish(mut self, sink: &mut impl Sink) {
        self.interrupt(sink);
    }
}

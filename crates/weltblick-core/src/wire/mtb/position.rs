//! Where a buffer was written last: what a dump of its memory begins with, in time.

use super::PACKET;
use std::ops::Range;

/// `MTB_POSITION`: where the next packet goes, from the buffer's beginning, and whether it has wrapped.
const POINTER: u32 = !(PACKET as u32 - 1);
const WRAPPED: u32 = 1 << 2;

/// How a buffer was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Settings {
    /// `MTB_POSITION` as it was read when the memory was dumped; 0: not stated, and packets are in the order of the
    /// dump's bytes.
    pub mtb_position: u32,
}

impl Settings {
    /// The parts of a dump of so many bytes that hold packets, oldest first. `None` where the position lies behind
    /// the dump.
    ///
    /// ```text
    /// 64 bytes, position 0x2c: it has wrapped, the next packet would go to byte 40: 40..64, then 0..40
    /// 64 bytes, position 0x28: 0..40, the rest was not written since tracing began
    /// ```
    #[must_use]
    pub fn parts(self, length: u64) -> Option<[Range<u64>; 2]> {
        if self.mtb_position == 0 {
            return Some([0..length, 0..0]);
        }
        let pointer = u64::from(self.mtb_position & POINTER);
        // The pointer counts from the memory's beginning; of that the buffer is a part as large as a power of two.
        let next = if length.is_power_of_two() { pointer & (length - 1) } else { pointer };
        if next > length {
            return None;
        }
        let wrapped = self.mtb_position & WRAPPED != 0;
        Some(if wrapped { [next..length, 0..next] } else { [0..next, 0..0] })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dump_is_read_from_its_oldest_packet_on() {
        let parts = |mtb_position, length| Settings { mtb_position }.parts(length);
        assert_eq!(parts(0, 60), Some([0..60, 0..0]), "not stated");
        assert_eq!(parts(0x2c, 64), Some([40..64, 0..40]));
        assert_eq!(parts(0x28, 64), Some([0..40, 0..0]));
        assert_eq!(parts(0x1028, 64), Some([0..40, 0..0]), "the buffer is a part of the memory");
        assert_eq!(parts(0x4, 64), Some([0..64, 0..0]), "it has wrapped just now");
        assert_eq!(parts(0x28, 24), None, "behind the dump");
    }
}

//! The link: a small buffer that empties at the trace port's bit rate.

/// Buffer and port. Bytes come out in the order in which they went in, so what has left so far is
/// told by time alone.
#[derive(Debug, Clone)]
pub struct Link {
    /// Core cycles per byte, in 65536ths.
    per_byte: u64,
    capacity: u64,
    /// When the last byte in the buffer will have left, in 65536ths of a cycle.
    empty_at: u64,
    out: Vec<u8>,
}

impl Link {
    /// A port of `bit_rate` bits per second beside a core of `core_clock` hertz, one start and one
    /// stop bit per byte, with a buffer of `capacity` bytes.
    ///
    /// # Panics
    ///
    /// If `bit_rate` is zero.
    #[must_use]
    pub fn new(core_clock: u64, bit_rate: u64, capacity: u64) -> Self {
        assert!(bit_rate > 0, "a link needs a bit rate");
        Self {
            per_byte: core_clock * 10 * 65_536 / bit_rate,
            capacity,
            empty_at: 0,
            out: Vec::new(),
        }
    }

    /// The first cycle from `cycle` on at which `bytes` more bytes fit.
    #[must_use]
    pub const fn room_at(&self, cycle: u64, bytes: u64) -> u64 {
        let Some(free) = self.capacity.checked_sub(bytes) else { return u64::MAX };
        let room = self.empty_at.saturating_sub(free * self.per_byte).div_ceil(65_536);
        if room > cycle { room } else { cycle }
    }

    /// Puts bytes in; they must fit at `cycle`.
    pub fn send(&mut self, cycle: u64, bytes: &[u8]) {
        let start = self.empty_at.max(cycle * 65_536);
        self.empty_at = start + bytes.len() as u64 * self.per_byte;
        self.out.extend_from_slice(bytes);
    }

    /// Takes what has been sent so far.
    pub fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fills_and_empties_with_time() {
        // 10 cycles per bit, 100 per byte.
        let mut link = Link::new(1_000_000, 100_000, 4);
        assert_eq!(link.room_at(0, 4), 0);
        link.send(0, &[1, 2, 3, 4]);
        assert_eq!(link.room_at(0, 1), 100);
        assert_eq!(link.room_at(150, 1), 150);
        assert_eq!(link.room_at(150, 4), 400);
        assert_eq!(link.room_at(0, 5), u64::MAX);
        assert_eq!(link.take(), [1, 2, 3, 4]);
    }
}

//! The link: a small buffer that empties at the trace port's bit rate.

use super::tpiu::Formatter;

/// Frames carry 15 bytes in 16.
const FRAME: (u64, u64) = (16, 15);

/// Buffer and port. Bytes come out in the order in which they went in, so what has left so far is
/// told by time alone.
#[derive(Debug, Clone)]
pub struct Link {
    /// Core cycles per byte, in 65536ths.
    per_byte: u64,
    capacity: u64,
    /// The formatter, where it is on: what goes out then are frames.
    formatter: Option<Formatter>,
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
        let mut link =
            Self { per_byte: 0, capacity, formatter: None, empty_at: 0, out: Vec::new() };
        link.set_rate(core_clock, bit_rate);
        link
    }

    /// Changes the bit rate for what comes from now on.
    ///
    /// # Panics
    ///
    /// If `bit_rate` is zero.
    pub fn set_rate(&mut self, core_clock: u64, bit_rate: u64) {
        assert!(bit_rate > 0, "a link needs a bit rate");
        self.per_byte = core_clock * 10 * 65_536 / bit_rate;
    }

    /// Switches the formatter on or off.
    pub fn set_formatter(&mut self, on: bool) {
        match (on, &mut self.formatter) {
            (true, None) => {
                let mut formatter = Formatter::new();
                formatter.synchronise();
                self.formatter = Some(formatter);
            }
            (false, Some(formatter)) => {
                formatter.complete();
                let rest = formatter.take();
                self.out.extend(rest);
                self.formatter = None;
            }
            _ => {}
        }
    }

    /// Frames are synchronised after so many bytes of them, again and again.
    pub fn synchronise_every(&mut self, bytes: Option<u64>) {
        if let Some(formatter) = &mut self.formatter {
            formatter.synchronise_every(bytes);
        }
    }

    /// Nothing leaves for so many cycles: the receiver does not listen.
    pub fn stall(&mut self, cycle: u64, cycles: u64) {
        self.empty_at = self.empty_at.max(cycle * 65_536) + cycles * 65_536;
    }

    /// Bytes that the buffer holds at most.
    #[must_use]
    pub const fn capacity(&self) -> u64 {
        self.capacity
    }

    /// The first cycle from `cycle` on at which `bytes` more bytes fit.
    #[must_use]
    pub const fn room_at(&self, cycle: u64, bytes: u64) -> u64 {
        let Some(free) = self.capacity.checked_sub(bytes) else { return u64::MAX };
        let room = self.empty_at.saturating_sub(free * self.per_byte).div_ceil(65_536);
        if room > cycle { room } else { cycle }
    }

    /// Puts bytes of a source in; they must fit at `cycle`. Without the formatter nobody can tell
    /// sources apart.
    pub fn send(&mut self, cycle: u64, source: u8, bytes: &[u8]) {
        let start = self.empty_at.max(cycle * 65_536);
        let cost = bytes.len() as u64 * self.per_byte;
        match &mut self.formatter {
            None => {
                self.empty_at = start + cost;
                self.out.extend_from_slice(bytes);
            }
            Some(formatter) => {
                self.empty_at = start + cost * FRAME.0 / FRAME.1;
                formatter.write(source, bytes);
            }
        }
    }

    /// A synchronisation of the frames, if there are any.
    pub fn synchronise(&mut self) {
        if let Some(formatter) = &mut self.formatter {
            formatter.synchronise();
        }
    }

    /// Completes the open frame.
    pub fn finish(&mut self) {
        if let Some(formatter) = &mut self.formatter {
            formatter.complete();
        }
    }

    /// Takes what has been sent so far.
    pub fn take(&mut self) -> Vec<u8> {
        if let Some(formatter) = &mut self.formatter {
            self.out.extend(formatter.take());
        }
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
        link.send(0, 1, &[1, 2, 3, 4]);
        assert_eq!(link.room_at(0, 1), 100);
        assert_eq!(link.room_at(150, 1), 150);
        assert_eq!(link.room_at(150, 4), 400);
        assert_eq!(link.room_at(0, 5), u64::MAX);
        assert_eq!(link.take(), [1, 2, 3, 4]);
    }
}

//! A UART receiver that listens at its own bit rate: what a probe makes of a line that is sent at
//! another one.

/// Farther apart than this, sender and receiver do not understand each other: the tenth bit would
/// be sampled outside its middle half.
const TOLERANCE: f64 = 0.025;

/// Listens to a line of start bit, eight data bits with the lowest first, and stop bit.
#[derive(Debug)]
pub(super) struct Receiver {
    /// Bits per second that it expects.
    bit_rate: f64,
    /// Levels of the line that are not used up, one per sender's bit.
    line: Vec<bool>,
    /// Where in `line` the receiver is, in sender's bits.
    at: f64,
    gap: u32,
}

impl Receiver {
    pub(super) const fn new(bit_rate: f64) -> Self {
        Self { bit_rate, line: Vec::new(), at: 0.0, gap: 0 }
    }

    /// The bytes that it understands of `bytes`, sent at `sent` bits per second.
    pub(super) fn hear(&mut self, bytes: Vec<u8>, sent: f64) -> Vec<u8> {
        let per_bit = sent / self.bit_rate;
        if (per_bit - 1.0).abs() <= TOLERANCE {
            return bytes;
        }
        for byte in bytes {
            self.line.push(false);
            self.line.extend((0..8).map(|bit| byte >> bit & 1 == 1));
            self.line.push(true);
            // The line rests now and then, so that the receiver finds another start bit.
            self.gap = (self.gap * 5 + 3) % 7;
            self.line.extend((0..self.gap / 3).map(|_| true));
        }
        self.sample(per_bit)
    }

    /// Samples the line: `per_bit` sender's bits pass during one of the receiver's.
    fn sample(&mut self, per_bit: f64) -> Vec<u8> {
        let mut heard = Vec::new();
        let level = |line: &[bool], at: f64| line.get(at as usize).copied();
        // A start bit is the next fall of the line.
        while let Some(now) = level(&self.line, self.at) {
            if now {
                self.at = self.at.floor() + 1.0;
                continue;
            }
            let start = self.at;
            if level(&self.line, start + 9.5 * per_bit).is_none() {
                break;
            }
            let bit = |bit: u32| level(&self.line, start + (f64::from(bit) + 1.5) * per_bit);
            heard.push((0..8).fold(0, |byte, n| byte | u8::from(bit(n) == Some(true)) << n));
            // Right after the stop bit's middle it listens for the next start.
            self.at = start + 9.5 * per_bit;
        }
        let used = (self.at as usize).min(self.line.len());
        self.line.drain(..used);
        self.at -= used as f64;
        heard
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hears_what_is_sent_at_its_own_rate() {
        let bytes: Vec<u8> = (0..=255).collect();
        let mut receiver = Receiver::new(2e6);
        assert_eq!(receiver.hear(bytes.clone(), 2.02e6), bytes);
        // Sampling itself is sound: at the same rate it hears the same.
        let mut receiver = Receiver::new(2e6);
        for &byte in &bytes {
            receiver.line.push(false);
            receiver.line.extend((0..8).map(|bit| byte >> bit & 1 == 1));
            receiver.line.push(true);
        }
        receiver.line.extend([true; 20]);
        assert_eq!(receiver.sample(1.0), bytes);
    }

    #[test]
    fn hears_noise_at_another_rate_and_holds_no_line_back() {
        let bytes: Vec<u8> = (0..100_000_u32).map(|n| (n * 37) as u8).collect();
        let mut receiver = Receiver::new(2e6);
        let heard = receiver.hear(bytes.clone(), 1.5e6);
        assert!(heard.len() > 50_000 && heard[..1000] != bytes[..1000]);
        assert!(receiver.line.len() < 40);
    }
}

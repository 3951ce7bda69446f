//! The accelerometer's converter: a sample of vertical acceleration every period.
//!
//! | offset | register |
//! |---|---|
//! | `0x0` | control: bit 0 runs |
//! | `0x4` | period in cycles |
//! | `0x8` | status: bit 0 a sample is ready |
//! | `0xC` | the sample, 16 bits signed; reading it clears the status |

use super::{Noise, timer::Timer};

/// The converter, and the sea that it feels.
#[derive(Debug, Clone)]
pub(super) struct Accelerometer {
    timer: Timer,
    swell: u32,
    chop: u32,
    noise: Noise,
    sample: i16,
    /// Samples left of a passing ship's wake, which drives the sensor to its limits.
    wake: u32,
}

impl Accelerometer {
    pub(super) const fn new(seed: u64) -> Self {
        Self { timer: Timer::new(), swell: 0, chop: 0, noise: Noise::new(seed), sample: 0, wake: 0 }
    }

    pub(super) const fn due(&self) -> u64 {
        self.timer.due()
    }

    pub(super) fn advance(&mut self, cycle: u64) -> bool {
        let ready = self.timer.advance(cycle);
        if ready {
            self.sample = self.feel();
        }
        ready
    }

    /// The next sample: swell, chop, noise, and now and then a wake.
    fn feel(&mut self) -> i16 {
        // Phases are fractions of 2^32 of a turn.
        self.swell = self.swell.wrapping_add(9_000_000);
        self.chop = self.chop.wrapping_add(61_000_000);
        if self.wake == 0 && self.noise.next().is_multiple_of(900) {
            self.wake = 90 + self.noise.next() % 120;
        }
        let gain = if self.wake > 0 { 5 } else { 1 };
        self.wake = self.wake.saturating_sub(1);
        let value = sine(self.swell) / 6 + sine(self.chop) / 14 + self.noise.within(300);
        (value * gain).clamp(-32_000, 32_000) as i16
    }

    pub(super) const fn read(&mut self, offset: u32) -> Option<u32> {
        if offset == 0xc {
            let _ = self.timer.write(0x8, 1, 0);
            return Some(self.sample as i32 as u32);
        }
        self.timer.read(offset)
    }

    pub(super) const fn write(&mut self, offset: u32, value: u32, cycle: u64) -> Option<()> {
        self.timer.write(offset, value, cycle)
    }
}

/// A sine of a phase in 2^32ths of a turn, from -32767 to 32767: two parabolas, near enough for a
/// sea and the same on every machine.
fn sine(phase: u32) -> i32 {
    let half = i64::from(phase & 0x7fff_ffff) >> 16;
    let arch = (half * (0x8000 - half) >> 13) * 32_767 >> 15;
    if phase >> 31 == 0 { arch as i32 } else { -(arch as i32) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sea_stays_in_range_and_moves() {
        assert_eq!(sine(0), 0);
        assert!((sine(1 << 30) - 32_767).abs() < 8);
        assert!((sine(3 << 30) + 32_767).abs() < 8);
        let mut sensor = Accelerometer::new(1);
        let samples: Vec<i16> = (0..20_000).map(|_| sensor.feel()).collect();
        assert!(samples.iter().any(|&sample| sample > 12_000), "a wake now and then");
        let calm = samples.iter().filter(|sample| sample.abs() < 9_000).count();
        assert!(calm > 14_000, "mostly calm: {calm}");
    }
}

//! The satellite receiver's pulse: captures the cycle at which it came.
//!
//! | offset | register |
//! |---|---|
//! | `0x0` | control: bit 0 on |
//! | `0x4` | the cycle of the last pulse, low 32 bits |
//! | `0x8` | status: bit 0 a pulse came; write 1 to clear |
//! | `0xC` | nominal cycles between pulses |
//! | `0x10` | cycles since the last pulse |

use super::Noise;

/// The capture unit, and the receiver behind it.
#[derive(Debug, Clone)]
pub(super) struct Pulse {
    on: bool,
    period: u32,
    captured: u32,
    came: bool,
    due: u64,
    noise: Noise,
}

impl Pulse {
    pub(super) const fn new(seed: u64) -> Self {
        Self {
            on: false,
            period: 0,
            captured: 0,
            came: false,
            due: 0,
            noise: Noise::new(seed ^ 0x9a75),
        }
    }

    pub(super) const fn due(&self) -> u64 {
        if self.on && self.period > 0 { self.due } else { u64::MAX }
    }

    pub(super) const fn advance(&mut self, cycle: u64) -> bool {
        if cycle < self.due() {
            return false;
        }
        self.captured = self.due as u32;
        self.came = true;
        // The core's crystal is 21 ppm fast, and the pulse jitters a little.
        let drift = self.period as i64 * 21 / 1_000_000;
        self.due =
            (self.due as i64 + self.period as i64 + drift + self.noise.within(24) as i64) as u64;
        true
    }

    pub(super) const fn read(&self, offset: u32, cycle: u64) -> Option<u32> {
        match offset {
            0x0 => Some(self.on as u32),
            0x4 => Some(self.captured),
            0x8 => Some(self.came as u32),
            0xc => Some(self.period),
            0x10 => Some((cycle as u32).wrapping_sub(self.captured)),
            _ => None,
        }
    }

    pub(super) const fn write(&mut self, offset: u32, value: u32, cycle: u64) -> Option<()> {
        match offset {
            0x0 => {
                self.on = value & 1 == 1;
                self.due = cycle + self.period as u64 / 3;
            }
            0x8 if value & 1 == 1 => self.came = false,
            0x8 => {}
            0xc => self.period = value,
            _ => return None,
        }
        Some(())
    }
}

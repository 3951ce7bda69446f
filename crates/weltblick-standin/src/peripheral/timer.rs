//! A periodic timer.
//!
//! | offset | register |
//! |---|---|
//! | `0x0` | control: bit 0 runs |
//! | `0x4` | period in cycles |
//! | `0x8` | status: bit 0 elapsed; write 1 to clear |

/// The timer.
#[derive(Debug, Clone)]
pub(super) struct Timer {
    running: bool,
    period: u32,
    due: u64,
    elapsed: bool,
}

impl Timer {
    pub(super) const fn new() -> Self {
        Self { running: false, period: 0, due: u64::MAX, elapsed: false }
    }

    pub(super) const fn due(&self) -> u64 {
        if self.running && self.period > 0 { self.due } else { u64::MAX }
    }

    pub(super) const fn advance(&mut self, cycle: u64) -> bool {
        if cycle < self.due() {
            return false;
        }
        self.due += self.period as u64;
        self.elapsed = true;
        true
    }

    pub(super) const fn read(&self, offset: u32) -> Option<u32> {
        match offset {
            0x0 => Some(self.running as u32),
            0x4 => Some(self.period),
            0x8 => Some(self.elapsed as u32),
            _ => None,
        }
    }

    pub(super) const fn write(&mut self, offset: u32, value: u32, cycle: u64) -> Option<()> {
        match offset {
            0x0 => {
                self.running = value & 1 == 1;
                self.due = cycle + self.period as u64;
            }
            0x4 => self.period = value,
            0x8 if value & 1 == 1 => self.elapsed = false,
            0x8 => {}
            _ => return None,
        }
        Some(())
    }
}

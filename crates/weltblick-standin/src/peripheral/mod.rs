//! The buoy's peripherals: each a few registers, a clock, and an interrupt line.
//!
//! | base | what | interrupt |
//! |---|---|---|
//! | `0x4000_0000` | accelerometer converter | 0 |
//! | `0x4000_1000` | radio slot timer | 1 |
//! | `0x4000_2000` | modem UART | 2 (sent), 3 (received) |
//! | `0x4000_3000` | satellite pulse capture | 4 |
//! | `0x4000_4000` | battery and temperature | none |

mod accelerometer;
mod pulse;
mod timer;
mod uart;

use accelerometer::Accelerometer;
use pulse::Pulse;
use timer::Timer;
use uart::Uart;

/// A repeatable stream of numbers, so that every run is the same.
#[derive(Debug, Clone)]
pub(crate) struct Noise(u64);

impl Noise {
    pub(crate) const fn new(seed: u64) -> Self {
        Self(seed ^ 0x9e37_79b9_7f4a_7c15)
    }

    /// The next number (a linear congruential generator, upper bits).
    pub(crate) const fn next(&mut self) -> u32 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as u32
    }

    /// A number from `-range` to `range`.
    pub(crate) const fn within(&mut self, range: i32) -> i32 {
        (self.next() % (2 * range as u32 + 1)) as i32 - range
    }
}

/// All peripherals together.
#[derive(Debug, Clone)]
pub struct Peripherals {
    accelerometer: Accelerometer,
    radio_slot: Timer,
    modem: Uart,
    pulse: Pulse,
    noise: Noise,
}

impl Peripherals {
    /// Peripherals as after reset; `seed` chooses the weather.
    #[must_use]
    pub const fn new(seed: u64) -> Self {
        Self {
            accelerometer: Accelerometer::new(seed),
            radio_slot: Timer::new(),
            modem: Uart::new(),
            pulse: Pulse::new(seed),
            noise: Noise::new(seed ^ 0x5eed),
        }
    }

    /// The cycle at which something next happens by itself.
    #[must_use]
    pub fn due(&self) -> u64 {
        self.accelerometer
            .due()
            .min(self.radio_slot.due())
            .min(self.modem.due())
            .min(self.pulse.due())
    }

    /// Brings everything to `cycle`; `request` is called with each interrupt line that rises.
    pub fn advance(&mut self, cycle: u64, mut request: impl FnMut(u16)) {
        if self.accelerometer.advance(cycle) {
            request(0);
        }
        if self.radio_slot.advance(cycle) {
            request(1);
        }
        let (sent, received) = self.modem.advance(cycle);
        if sent {
            request(2);
        }
        if received {
            request(3);
        }
        if self.pulse.advance(cycle) {
            request(4);
        }
    }

    /// Reads a register; `None` if there is none.
    pub fn read(&mut self, address: u32, cycle: u64) -> Option<u32> {
        let offset = address & 0xfff;
        match address >> 12 {
            0x40000 => self.accelerometer.read(offset),
            0x40001 => self.radio_slot.read(offset),
            0x40002 => self.modem.read(offset),
            0x40003 => self.pulse.read(offset, cycle),
            0x40004 => match offset {
                0x0 => Some((3700 + self.noise.within(60)) as u32),
                0x4 => Some((281 + self.noise.within(4)) as u32),
                _ => None,
            },
            _ => None,
        }
    }

    /// Writes a register; `None` if there is none. The flags say which interrupts rise at once.
    pub fn write(&mut self, address: u32, value: u32, cycle: u64) -> Option<()> {
        let offset = address & 0xfff;
        match address >> 12 {
            0x40000 => self.accelerometer.write(offset, value, cycle),
            0x40001 => self.radio_slot.write(offset, value, cycle),
            0x40002 => self.modem.write(offset, value, cycle),
            0x40003 => self.pulse.write(offset, value, cycle),
            _ => None,
        }
    }
}

//! What a trace link can carry.
//!
//! Assumed where the standards leave room: a busy Manchester link fills its packets of eight bytes
//! (IHI 0029, serial wire output); a formatter that carries several sources changes between them
//! twice per frame.

use crate::time::Frequency;

/// Frames of the formatter: 16 bytes that carry 15 of one source (IHI 0029, trace formatter).
const FRAME: f64 = 16.0;

/// What carries the trace out of the chip.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Link {
    /// Serial wire output, asynchronous: a start and a stop bit around every byte.
    Uart {
        /// Bits per second.
        bit_rate: f64,
    },
    /// Serial wire output in Manchester code: a start and a stop bit around up to eight bytes.
    Manchester {
        /// Data bits per second; the line changes up to twice as often.
        bit_rate: f64,
    },
    /// A parallel port: data on both edges of its clock.
    Port {
        /// Data pins: 1, 2 or 4.
        width: u8,
        /// The frequency of the clock pin.
        clock: Frequency,
    },
    /// A buffer on the chip, read out later.
    Buffer {
        /// Its size.
        bytes: u64,
    },
}

impl Link {
    /// Its name in options and files.
    #[must_use]
    pub const fn name(&self) -> &'static str {
        match self {
            Self::Uart { .. } => "uart",
            Self::Manchester { .. } => "manchester",
            Self::Port { .. } => "port",
            Self::Buffer { .. } => "buffer",
        }
    }

    /// Bits per second on the wire; absent for a buffer, which takes what comes.
    #[must_use]
    pub fn bits_per_second(&self) -> Option<f64> {
        match *self {
            Self::Uart { bit_rate } | Self::Manchester { bit_rate } => Some(bit_rate),
            Self::Port { width, clock } => Some(2.0 * f64::from(width) * clock.hertz()),
            Self::Buffer { .. } => None,
        }
    }

    /// Bits on the wire for one byte of trace.
    #[must_use]
    pub const fn bits_per_byte(&self) -> f64 {
        match self {
            Self::Uart { .. } => 10.0,
            Self::Manchester { .. } => 66.0 / 8.0,
            Self::Port { .. } | Self::Buffer { .. } => 8.0,
        }
    }

    /// Whether the formatter must be on: a port and a buffer always frame, a serial wire can do
    /// without as long as one source uses it.
    #[must_use]
    pub const fn needs_formatter(&self, sources: usize) -> bool {
        sources > 1 || matches!(self, Self::Port { .. } | Self::Buffer { .. })
    }

    /// Bytes of trace per second; absent for a buffer.
    #[must_use]
    pub fn capacity(&self, formatter: bool, sources: usize) -> Option<f64> {
        let raw = self.bits_per_second()? / self.bits_per_byte();
        Some(if formatter { raw * frame_use(sources) } else { raw })
    }
}

/// The part of a formatter's frames that carries trace.
#[must_use]
pub(super) const fn frame_use(sources: usize) -> f64 {
    let identities = if sources > 1 { 2.0 } else { 0.0 };
    (FRAME - 1.0 - identities) / FRAME
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn carries_what_the_framing_leaves() {
        let uart = Link::Uart { bit_rate: 2e6 };
        assert_eq!(uart.capacity(false, 1), Some(200_000.0));
        assert_eq!(uart.capacity(true, 1), Some(187_500.0));
        let manchester = Link::Manchester { bit_rate: 3.3e6 };
        assert!((manchester.capacity(false, 1).unwrap() - 400_000.0).abs() < 1e-6);
        let clock = Frequency::from_hertz(24e6).unwrap();
        let port = Link::Port { width: 4, clock };
        assert_eq!(port.capacity(true, 2), Some(24e6 * 13.0 / 16.0));
        assert_eq!(Link::Buffer { bytes: 4096 }.capacity(true, 1), None);
        assert!(port.needs_formatter(1) && !uart.needs_formatter(1) && uart.needs_formatter(2));
    }
}

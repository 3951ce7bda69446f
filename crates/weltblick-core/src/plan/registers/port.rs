//! Trace port interface unit (DDI 0403E, C1.10): which pins, how fast, framed or not.

use super::{Register, Request};
use crate::plan::core::Architecture;
use crate::plan::link::Link;
use crate::time::Frequency;
use thiserror::Error;

const BASE: u64 = 0xe004_0000;
/// Frames of Armv8-M ports synchronise every 2 to the power of this many bytes.
const FRAME_SYNC: u32 = 10;
/// The largest value of `TPIU_ACPR`: 13 bits at least are built in, 16 at most.
const MOST_DIVISOR: f64 = 65_536.0;
/// A receiver samples the tenth bit in its middle: farther off than this it may read the next one.
const MOST_ERROR: f64 = 0.02;

/// What the trace clock is divided by.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Divisor {
    /// `TPIU_ACPR` plus one.
    pub divisor: u32,
    /// The bit rate that comes out.
    pub bit_rate: f64,
    /// How far that is from the wanted one, as a fraction.
    pub error: f64,
}

/// No divisor comes near enough.
#[derive(Debug, Clone, PartialEq, Error)]
#[error(
    "a trace clock of {clock} cannot be divided to {wanted:.0} bit/s: divided by {divisor} it is {nearest:.0} bit/s, {percent:+.1} % off, and a receiver follows 2 % at most; take {nearest:.0} bit/s, or another one below {most:.0} bit/s that divides it"
)]
pub struct DivisorError {
    clock: Frequency,
    wanted: f64,
    divisor: u32,
    nearest: f64,
    percent: f64,
    most: f64,
}

/// The divisor of `clock` for `bit_rate`.
///
/// # Errors
///
/// If it is more than 2 % off.
pub fn divide(clock: Frequency, bit_rate: f64) -> Result<Divisor, DivisorError> {
    let divisor = (clock.hertz() / bit_rate).round().clamp(1.0, MOST_DIVISOR);
    let reached = clock.hertz() / divisor;
    let error = reached / bit_rate - 1.0;
    if error.abs() > MOST_ERROR {
        return Err(DivisorError {
            clock,
            wanted: bit_rate,
            divisor: divisor as u32,
            nearest: reached,
            percent: 100.0 * error,
            most: clock.hertz(),
        });
    }
    Ok(Divisor { divisor: divisor as u32, bit_rate: reached, error })
}

/// Whether the port sends frames.
const fn sends_frames(request: &Request<'_>) -> bool {
    request.formatter && !matches!(request.link, Link::Buffer { .. })
}

/// Whether frames synchronise with the DWT's cycle counter. Ports of Armv7-M have no counter of their own (technical
/// reference manual of the Cortex-M3, formatter synchronization counter register; assumed to hold for the other ones).
pub(super) const fn follows_the_counter(request: &Request<'_>) -> bool {
    sends_frames(request) && matches!(request.core.architecture, Architecture::V7)
}

/// The port's registers.
pub(super) fn registers(request: &Request<'_>) -> Vec<Register> {
    let mut writes = Vec::new();
    let protocol = |code, meaning: &str| {
        Register::new("TPIU_SPPR", BASE + 0xf0).field("TXMODE", 0, 2, code, meaning)
    };
    match request.link {
        Link::Uart { .. } => writes.push(protocol(2, "serial wire, asynchronous (UART)")),
        Link::Manchester { .. } => writes.push(protocol(1, "serial wire, Manchester")),
        Link::Port { width, .. } => {
            let meaning = format!("{width} data pins");
            let size = Register::new("TPIU_CSPSR", BASE + 4);
            writes.push(size.field("CSIZE", 0, 32, 1 << (width - 1), meaning));
            writes.push(protocol(0, "parallel trace port"));
        }
        // The buffer stands before the port, or instead of it.
        Link::Buffer { .. } => return super::buffer::etb(request),
    }
    if let Some(divisor) = request.divisor {
        let value = divisor.divisor - 1;
        let error = divisor.error;
        let off = if error.abs() < 5e-6 {
            String::new()
        } else {
            format!(", {:+.2} % off", 100.0 * error)
        };
        let meaning = format!(
            "the trace clock divided by {}: {:.0} a second{off}",
            divisor.divisor, divisor.bit_rate
        );
        writes.push(Register::new("TPIU_ACPR", BASE + 0x10).field(
            "PRESCALER",
            0,
            16,
            value,
            meaning,
        ));
    }
    let framed = if request.formatter {
        "frames around the packets"
    } else {
        "no frames: packets as they are"
    };
    writes.push(
        Register::new("TPIU_FFCR", BASE + 0x304)
            .field("EnFCont", 1, 1, u32::from(request.formatter), framed)
            .field("TrigIn", 8, 1, 1, "triggers are indicated (reset value)"),
    );
    if sends_frames(request) && !follows_the_counter(request) {
        // DDI 0553, `TPIU_PSCR`.
        let meaning = format!("frames synchronise every 2^{FRAME_SYNC} bytes");
        writes.push(
            Register::new("TPIU_PSCR", BASE + 0x308).field("PSCount", 0, 5, FRAME_SYNC, meaning),
        );
    }
    writes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn divides_or_says_by_how_much_it_cannot() {
        let clock = Frequency::from_hertz(48e6).unwrap();
        let exact = divide(clock, 2e6).unwrap();
        assert_eq!((exact.divisor, exact.error), (24, 0.0));
        let near = divide(clock, 115_200.0).unwrap();
        assert_eq!(near.divisor, 417);
        assert!(near.error.abs() < 0.001);
        let error = divide(clock, 30e6).unwrap_err().to_string();
        assert!(error.contains("divided by 2 it is 24000000 bit/s, -20.0 % off"), "{error}");
        assert!(divide(clock, 100e6).is_err());
    }
}

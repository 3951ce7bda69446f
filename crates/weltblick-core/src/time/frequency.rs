//! How fast a clock runs.

use super::quantity::{Quantity, QuantityError, Unit};
use std::{fmt, str::FromStr, time::Duration};

/// Cycles per second, more than zero.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct Frequency(f64);

impl Frequency {
    /// A clock of `hertz` cycles per second; `None` unless finite and above zero.
    #[must_use]
    pub fn from_hertz(hertz: f64) -> Option<Self> {
        (hertz.is_finite() && hertz > 0.0).then_some(Self(hertz))
    }

    /// Cycles per second.
    #[must_use]
    pub const fn hertz(self) -> f64 {
        self.0
    }

    /// How long so many cycles take, in nanoseconds.
    #[must_use]
    pub fn nanoseconds(self, cycles: u64) -> f64 {
        cycles as f64 * 1e9 / self.0
    }

    /// The cycle that is running `after` the clock's zero; saturates at the end of time.
    #[must_use]
    pub fn cycle_at(self, after: Duration) -> u64 {
        (after.as_secs_f64() * self.0).round() as u64
    }
}

impl FromStr for Frequency {
    type Err = QuantityError;

    /// Reads `48 MHz`, `32768 Hz`, `1.2 GHz`.
    fn from_str(text: &str) -> Result<Self, QuantityError> {
        let quantity = Quantity::parse(text, &[Unit::Hertz])?;
        Self::from_hertz(quantity.value).ok_or(QuantityError::NotPositive)
    }
}

impl fmt::Display for Frequency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (value, unit) = match self.0 {
            hertz if hertz >= 1e9 => (hertz / 1e9, "GHz"),
            hertz if hertz >= 1e6 => (hertz / 1e6, "MHz"),
            hertz if hertz >= 1e3 => (hertz / 1e3, "kHz"),
            hertz => (hertz, "Hz"),
        };
        // Six significant decimals, without the zeros that say nothing.
        let digits = format!("{value:.6}");
        write!(f, "{} {unit}", digits.trim_end_matches('0').trim_end_matches('.'))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_and_shows_frequencies() {
        for (text, hertz, shown) in [
            ("48 MHz", 48e6, "48 MHz"),
            ("48MHz", 48e6, "48 MHz"),
            ("32768 Hz", 32768.0, "32.768 kHz"),
            ("1.25 GHz", 1.25e9, "1.25 GHz"),
        ] {
            let frequency: Frequency = text.parse().unwrap();
            assert!((frequency.hertz() - hertz).abs() < 1e-3, "{text}");
            assert_eq!(frequency.to_string(), shown);
        }
    }

    #[test]
    fn refuses_what_is_no_frequency() {
        for text in ["48", "0 Hz", "-1 MHz", "48 ms", "fast", "", "nan Hz", "inf MHz", "1e400 Hz"] {
            assert!(text.parse::<Frequency>().is_err(), "{text}");
        }
    }
}

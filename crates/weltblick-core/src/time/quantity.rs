//! A number with its unit, as people write it.

use std::time::Duration;
use thiserror::Error;

/// What a quantity measures; its value is kept in the base unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unit {
    /// Cycles per second; base unit hertz.
    Hertz,
    /// A stretch of time; base unit seconds.
    Time,
    /// A part of a whole; base unit one (`18 %` is 0.18).
    Share,
    /// So many of something; base unit one. Written with or without the counted noun.
    Count,
    /// A number in a unit that only its context knows; written plain.
    Plain,
    /// Bits per second of a link; base unit one bit per second.
    BitRate,
    /// An amount of memory; base unit one byte.
    Bytes,
    /// Bytes per second; base unit one byte per second.
    ByteRate,
}

/// Spelling, what it measures, and how many base units it is.
const SPELLINGS: &[(&str, Unit, f64)] = &[
    ("Hz", Unit::Hertz, 1.0),
    ("kHz", Unit::Hertz, 1e3),
    ("MHz", Unit::Hertz, 1e6),
    ("GHz", Unit::Hertz, 1e9),
    ("ns", Unit::Time, 1e-9),
    ("us", Unit::Time, 1e-6),
    ("\u{b5}s", Unit::Time, 1e-6),
    ("ms", Unit::Time, 1e-3),
    ("s", Unit::Time, 1.0),
    ("min", Unit::Time, 60.0),
    ("h", Unit::Time, 3600.0),
    ("%", Unit::Share, 0.01),
    ("samples", Unit::Count, 1.0),
    ("entries", Unit::Count, 1.0),
    ("bit/s", Unit::BitRate, 1.0),
    ("kbit/s", Unit::BitRate, 1e3),
    ("Mbit/s", Unit::BitRate, 1e6),
    ("Gbit/s", Unit::BitRate, 1e9),
    ("B", Unit::Bytes, 1.0),
    ("kB", Unit::Bytes, 1e3),
    ("MB", Unit::Bytes, 1e6),
    ("GB", Unit::Bytes, 1e9),
    ("KiB", Unit::Bytes, 1024.0),
    ("MiB", Unit::Bytes, 1_048_576.0),
    ("GiB", Unit::Bytes, 1_073_741_824.0),
    ("B/s", Unit::ByteRate, 1.0),
    ("kB/s", Unit::ByteRate, 1e3),
    ("MB/s", Unit::ByteRate, 1e6),
];

impl Unit {
    /// The spellings of this unit, for an error that says what was expected.
    #[must_use]
    pub fn spellings(self) -> Vec<&'static str> {
        SPELLINGS.iter().filter(|(_, unit, _)| *unit == self).map(|(name, ..)| *name).collect()
    }
}

/// A finite number of base units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Quantity {
    /// How many base units.
    pub value: f64,
    /// What it measures.
    pub unit: Unit,
}

/// Why a text is no quantity.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum QuantityError {
    /// No number at the start.
    #[error("`{0}` does not start with a number")]
    NoNumber(String),
    /// A number that stands alone.
    #[error("`{text}` has no unit; write {expected}", expected = one_of(.expected))]
    NoUnit {
        /// What was written.
        text: String,
        /// Units that would do.
        expected: Vec<&'static str>,
    },
    /// A unit that is unknown or measures something else.
    #[error("`{unit}` is not a unit expected here; write {expected}", expected = one_of(.expected))]
    WrongUnit {
        /// What was written.
        unit: String,
        /// Units that would do.
        expected: Vec<&'static str>,
    },
    /// Zero or less where more is needed.
    #[error("it must be more than zero")]
    NotPositive,
    /// A share of more than everything.
    #[error("it must be at most 100 %")]
    NotAShare,
}

fn one_of(names: &[&str]) -> String {
    match names {
        [] => "none".to_owned(),
        [only] => (*only).to_owned(),
        [most @ .., last] => format!("{} or {last}", most.join(", ")),
    }
}

impl Quantity {
    /// Reads a number and a unit that measures one of `accepted`; the space between is optional,
    /// and so is the noun of a count.
    pub fn parse(text: &str, accepted: &[Unit]) -> Result<Self, QuantityError> {
        let text = text.trim();
        let end = text
            .find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '_' | '-' | '+')))
            .unwrap_or(text.len());
        let number = text[..end].replace('_', "");
        let value: f64 = number
            .parse()
            .ok()
            .filter(|value: &f64| value.is_finite())
            .ok_or_else(|| QuantityError::NoNumber(text.to_owned()))?;
        let unit = text[end..].trim();
        let expected = || accepted.iter().flat_map(|unit| unit.spellings()).collect();
        if unit.is_empty() {
            let plain = [Unit::Plain, Unit::Count].into_iter().find(|unit| accepted.contains(unit));
            return match plain {
                Some(unit) => Ok(Self { value, unit }),
                None => Err(QuantityError::NoUnit { text: text.to_owned(), expected: expected() }),
            };
        }
        SPELLINGS
            .iter()
            .find(|(name, measured, _)| *name == unit && accepted.contains(measured))
            .map(|&(_, unit, scale)| Self { value: value * scale, unit })
            .ok_or_else(|| QuantityError::WrongUnit { unit: unit.to_owned(), expected: expected() })
    }
}

/// Reads a stretch of time such as `12.5ms`; not negative.
pub fn parse_duration(text: &str) -> Result<Duration, QuantityError> {
    let seconds = Quantity::parse(text, &[Unit::Time])?.value;
    Duration::try_from_secs_f64(seconds).map_err(|_| QuantityError::NotPositive)
}

/// Reads an amount of memory such as `4 KiB`: whole bytes, at least one.
pub fn parse_bytes(text: &str) -> Result<u64, QuantityError> {
    let bytes = Quantity::parse(text, &[Unit::Bytes])?.value.round();
    if (1.0..=u64::MAX as f64).contains(&bytes) {
        Ok(bytes as u64)
    } else {
        Err(QuantityError::NotPositive)
    }
}

/// Reads the bits per second of a link, such as `2 Mbit/s`: more than zero.
pub fn parse_bit_rate(text: &str) -> Result<f64, QuantityError> {
    positive(Quantity::parse(text, &[Unit::BitRate])?.value)
}

/// Reads bytes per second, such as `300 B/s`: more than zero.
pub fn parse_byte_rate(text: &str) -> Result<f64, QuantityError> {
    positive(Quantity::parse(text, &[Unit::ByteRate])?.value)
}

/// Reads a share such as `5 %`: from 0 to 1.
pub fn parse_share(text: &str) -> Result<f64, QuantityError> {
    let share = positive(Quantity::parse(text, &[Unit::Share])?.value)?;
    if share <= 1.0 { Ok(share) } else { Err(QuantityError::NotAShare) }
}

fn positive(value: f64) -> Result<f64, QuantityError> {
    if value > 0.0 { Ok(value) } else { Err(QuantityError::NotPositive) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn reads_what_people_write() {
        assert_eq!(parse_duration("12.5ms"), Ok(Duration::from_micros(12_500)));
        assert_eq!(parse_duration(" 2 min "), Ok(Duration::from_secs(120)));
        assert_eq!(parse_duration("3 \u{b5}s"), Ok(Duration::from_micros(3)));
        let count = Quantity::parse("10_000 samples", &[Unit::Count]).unwrap();
        assert_eq!(count.value, 10_000.0);
        assert_eq!(Quantity::parse("7", &[Unit::Count, Unit::Share]).unwrap().unit, Unit::Count);
    }

    #[test]
    fn says_what_was_expected() {
        let error = parse_duration("12").unwrap_err();
        assert_eq!(error.to_string(), "`12` has no unit; write ns, us, \u{b5}s, ms, s, min or h");
        let error = Quantity::parse("18 MHz", &[Unit::Share]).unwrap_err();
        assert_eq!(error.to_string(), "`MHz` is not a unit expected here; write %");
        assert!(parse_duration("-1 s").is_err());
    }

    proptest! {
        #[test]
        fn never_panics(text in any::<String>()) {
            let _ = parse_duration(&text);
            let _ = Quantity::parse(&text, &[Unit::Share, Unit::Count]);
        }
    }
}

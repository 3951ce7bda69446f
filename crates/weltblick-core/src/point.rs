//! Points in a recording: one grammar for every option and for budgets.
//!
//! | written | meaning |
//! |---|---|
//! | `12.5ms` | a time after the recording's start |
//! | `swo@4096` | a byte of a stream |
//! | `#120`, `first`, `last` | an event |
//! | `wave_filter` | code: a function |
//! | `src/dsp.c#clamp` | code: a static function of one file |
//! | `src/dsp.c:120` | code: a line |
//! | `0x08001234` | code: an address |
//! | `irq:adc_ready[3]`, `task:telemetry[last]`, `span:frame[2].end` | an occurrence |
//! | `irq:adc_ready`, `task:telemetry.end` | every one, where ways are followed |
//!
//! A range is `A..B`, half open; either side may be left out.

use crate::time::{QuantityError, parse_duration};
use std::fmt;
use std::str::FromStr;
use std::time::Duration;
use thiserror::Error;

/// A point.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Point {
    /// A time after the recording's start.
    Time(Duration),
    /// A byte of a stream.
    Byte {
        /// The stream's name: its file without folder and extension.
        stream: String,
        /// The byte's number, from 0.
        offset: u64,
    },
    /// An event by number.
    Event(u64),
    /// The first event.
    First,
    /// The last event.
    Last,
    /// A function by name, in one file where the file is given.
    Function {
        /// The file that a static function belongs to.
        file: Option<String>,
        /// Its name.
        name: String,
    },
    /// A source line.
    Line {
        /// The file, or the end of its path.
        file: String,
        /// The line, from 1.
        line: u32,
    },
    /// An address.
    Address(u64),
    /// One occurrence of something named.
    Occurrence(Occurrence),
}

/// One occurrence of something named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Occurrence {
    /// What kind of thing.
    pub subject: Subject,
    /// Its name.
    pub name: String,
    /// Which one.
    pub which: Which,
    /// Its beginning or its end.
    pub end: End,
}

/// What can occur again and again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// An interrupt's handler.
    Interrupt,
    /// A task's activation.
    Task,
    /// A span between two marks.
    Span,
}

impl Subject {
    const ALL: [(Self, &'static str); 3] =
        [(Self::Interrupt, "irq"), (Self::Task, "task"), (Self::Span, "span")];
}

impl Occurrence {
    /// The occurrence itself, if one is meant.
    ///
    /// # Errors
    ///
    /// If every one is.
    pub fn one(&self) -> Result<&Self, PointError> {
        match self.which {
            Which::Every => Err(PointError::NoNumber(Point::Occurrence(self.clone()).to_string())),
            Which::Number(_) | Which::First | Which::Last => Ok(self),
        }
    }
}

/// Which occurrence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// By number, from 0.
    Number(u64),
    /// The first.
    First,
    /// The last.
    Last,
    /// Each of them.
    Every,
}

/// Which end of an occurrence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// Where it begins (`.begin`, or nothing).
    Begin,
    /// Where it ends (`.end`).
    End,
}

/// Why a text is no point.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum PointError {
    /// Nothing there.
    #[error(
        "a point is missing: write a time (12.5ms), a byte (swo@4096), an event (#120, first, last), code (wave_filter, src/dsp.c:120, 0x08001234) or an occurrence (irq:adc_ready[3])"
    )]
    Empty,
    /// It starts like a time.
    #[error("`{text}` is no time: {why}")]
    Time {
        /// What was written.
        text: String,
        /// What is wrong with it.
        why: QuantityError,
    },
    /// A number that does not fit or is none.
    #[error("`{0}` is no number from 0 to 2^64")]
    Number(String),
    /// `kind:name` without a number.
    #[error("`{0}` does not say which occurrence: write {0}[3], {0}[first] or {0}[last]")]
    NoNumber(String),
    /// An ending that is neither `.begin` nor `.end`.
    #[error("`{0}` is no end of an occurrence: write .begin or .end")]
    End(String),
    /// A range without two dots.
    #[error("`{0}` is no range: write A..B, for example 1.2s..1.5s")]
    NoRange(String),
}

impl FromStr for Point {
    type Err = PointError;

    fn from_str(text: &str) -> Result<Self, PointError> {
        let text = text.trim();
        if text.is_empty() {
            return Err(PointError::Empty);
        }
        if let Some(occurrence) = occurrence(text)? {
            return Ok(Self::Occurrence(occurrence));
        }
        if let Some(number) = text.strip_prefix('#') {
            return Ok(Self::Event(whole(number)?));
        }
        if let Some(digits) = text.strip_prefix("0x") {
            let address = u64::from_str_radix(digits, 16);
            return address.map(Self::Address).map_err(|_| PointError::Number(text.to_owned()));
        }
        if text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '.' | '-' | '+')) {
            return parse_duration(text)
                .map(Self::Time)
                .map_err(|why| PointError::Time { text: text.to_owned(), why });
        }
        match text {
            "first" => Ok(Self::First),
            "last" => Ok(Self::Last),
            _ => place(text),
        }
    }
}

fn whole(digits: &str) -> Result<u64, PointError> {
    digits.parse().map_err(|_| PointError::Number(digits.to_owned()))
}

/// A byte of a stream, a line, or a function.
fn place(text: &str) -> Result<Point, PointError> {
    if let Some((stream, offset)) = text.rsplit_once('@')
        && offset.starts_with(|c: char| c.is_ascii_digit())
    {
        return Ok(Point::Byte { stream: stream.to_owned(), offset: whole(offset)? });
    }
    if let Some((file, line)) = text.rsplit_once(':')
        && !file.ends_with(':')
        && line.starts_with(|c: char| c.is_ascii_digit())
    {
        let line = line.parse().map_err(|_| PointError::Number(line.to_owned()))?;
        return Ok(Point::Line { file: file.to_owned(), line });
    }
    match text.split_once('#') {
        Some((file, name)) if !file.is_empty() && !name.is_empty() => {
            Ok(Point::Function { file: Some(file.to_owned()), name: name.to_owned() })
        }
        _ => Ok(Point::Function { file: None, name: text.to_owned() }),
    }
}

/// `irq:adc_ready[3].end`; `None` if it does not start like one.
fn occurrence(text: &str) -> Result<Option<Occurrence>, PointError> {
    let Some((kind, rest)) = text.split_once(':') else { return Ok(None) };
    let Some(&(subject, _)) = Subject::ALL.iter().find(|(_, name)| *name == kind) else {
        return Ok(None);
    };
    let no_number = || PointError::NoNumber(text.to_owned());
    let Some((name, rest)) = rest.rsplit_once('[') else {
        let (name, end) = match (rest.strip_suffix(".begin"), rest.strip_suffix(".end")) {
            (Some(name), _) => (name, End::Begin),
            (None, Some(name)) => (name, End::End),
            (None, None) => (rest, End::Begin),
        };
        let name = name.to_owned();
        return Ok(Some(Occurrence { subject, name, which: Which::Every, end }));
    };
    let (which, ending) = rest.split_once(']').ok_or_else(no_number)?;
    let which = match which {
        "first" => Which::First,
        "last" => Which::Last,
        number => Which::Number(whole(number)?),
    };
    let end = match ending {
        "" | ".begin" => End::Begin,
        ".end" => End::End,
        other => return Err(PointError::End(other.to_owned())),
    };
    Ok(Some(Occurrence { subject, name: name.to_owned(), which, end }))
}

impl fmt::Display for Point {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Time(time) => write_time(*time, f),
            Self::Byte { stream, offset } => write!(f, "{stream}@{offset}"),
            Self::Event(number) => write!(f, "#{number}"),
            Self::First => f.write_str("first"),
            Self::Last => f.write_str("last"),
            Self::Function { file: Some(file), name } => write!(f, "{file}#{name}"),
            Self::Function { file: None, name } => f.write_str(name),
            Self::Line { file, line } => write!(f, "{file}:{line}"),
            Self::Address(address) => write!(f, "{address:#010x}"),
            Self::Occurrence(Occurrence { subject, name, which, end }) => {
                let kind = Subject::ALL.iter().find(|(s, _)| s == subject).map_or("", |(_, n)| n);
                let end = if *end == End::End { ".end" } else { "" };
                match which {
                    Which::Number(number) => write!(f, "{kind}:{name}[{number}]{end}"),
                    Which::First => write!(f, "{kind}:{name}[first]{end}"),
                    Which::Last => write!(f, "{kind}:{name}[last]{end}"),
                    Which::Every => write!(f, "{kind}:{name}{end}"),
                }
            }
        }
    }
}

/// A time in the largest unit in which it is a whole number.
fn write_time(time: Duration, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let ns = time.as_nanos();
    let units = [(1_000_000_000, "s"), (1_000_000, "ms"), (1000, "us")];
    let fits = |(unit, _): &&(u128, &str)| ns > 0 && ns.is_multiple_of(*unit);
    let (unit, name) = units.iter().find(fits).copied().unwrap_or((1, "ns"));
    write!(f, "{}{name}", ns / unit)
}

/// A half-open range of points; a side that is left out is open.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PointRange {
    /// The first point inside.
    pub start: Option<Point>,
    /// The first point outside again.
    pub end: Option<Point>,
}

impl fmt::Display for PointRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let side = |point: &Option<Point>| point.as_ref().map(Point::to_string).unwrap_or_default();
        write!(f, "{}..{}", side(&self.start), side(&self.end))
    }
}

impl FromStr for PointRange {
    type Err = PointError;

    fn from_str(text: &str) -> Result<Self, PointError> {
        let (start, end) =
            text.split_once("..").ok_or_else(|| PointError::NoRange(text.to_owned()))?;
        let side = |side: &str| match side.trim() {
            "" => Ok(None),
            point => point.parse().map(Some),
        };
        Ok(Self { start: side(start)?, end: side(end)? })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn reads_every_form_and_writes_it_again() {
        for text in [
            "12500us",
            "3s",
            "40ms",
            "0ns",
            "1500001ns",
            "swo@4096",
            "#120",
            "first",
            "last",
            "wave_filter",
            "src/dsp.c#clamp",
            "src/dsp.c:120",
            "0x08001234",
            "irq:adc_ready[3]",
            "task:telemetry[last]",
            "span:frame[2].end",
            "irq:adc_ready",
            "task:telemetry.end",
            "wave::Filter::run",
        ] {
            let point: Point = text.parse().unwrap();
            assert_eq!(point.to_string(), text, "{point:?}");
        }
        assert_eq!("12.5ms".parse(), Ok(Point::Time(Duration::from_micros(12_500))));
    }

    #[test]
    fn says_what_is_wrong() {
        for (text, part) in [
            ("", "missing"),
            ("12", "no unit"),
            ("#x", "no number"),
            ("0xzz", "no number"),
            ("irq:adc_ready[3", "which occurrence"),
            ("irq:adc_ready[3].middle", ".begin or .end"),
        ] {
            let error = text.parse::<Point>().unwrap_err().to_string();
            assert!(error.contains(part), "{text}: {error}");
        }
        assert!("1s".parse::<PointRange>().unwrap_err().to_string().contains("A..B"));
    }

    #[test]
    fn ranges_may_be_open() {
        let range: PointRange = "1s..".parse().unwrap();
        assert_eq!(
            range,
            PointRange { start: Some(Point::Time(Duration::from_secs(1))), end: None }
        );
        assert_eq!("..".parse(), Ok(PointRange::default()));
    }

    proptest! {
        #[test]
        fn never_panics_and_keeps_its_meaning(text in "[a-z0-9#:@.\\[\\]x/_-]{0,20}") {
            if let Ok(point) = text.parse::<Point>() {
                prop_assert_eq!(point.to_string().parse::<Point>(), Ok(point));
            }
            if let Ok(range) = text.parse::<PointRange>() {
                prop_assert_eq!(range.to_string().parse::<PointRange>(), Ok(range));
            }
        }
    }
}

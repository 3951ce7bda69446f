//! Patterns that find numbers in printed lines: `height {height} mm, * {period} ms`.

use thiserror::Error;

/// Places at which parts of a pattern are tried at most: many wildcards could try for ever.
const MOST_TRIES: usize = 1000;

/// A line with holes: `{name}` is a number, `*` is anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    parts: Vec<Part>,
    names: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Anything,
    Number,
}

/// Why a text is no pattern.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PatternError {
    /// Nothing is taken out.
    #[error("`{0}` takes no number out of a line; write a name in braces: battery {{battery}} mV")]
    NoNumber(String),
    /// A brace has no partner.
    #[error("`{0}` has a brace without its partner")]
    Brace(String),
    /// A number has no name.
    #[error("`{0}` does not name a number: write {{name}}")]
    NoName(String),
    /// Two numbers or wildcards touch each other.
    #[error("`{0}` has nothing between two numbers, so that nobody knows where one ends")]
    Touching(String),
}

impl std::str::FromStr for Pattern {
    type Err = PatternError;

    fn from_str(text: &str) -> Result<Self, PatternError> {
        let whole = || text.to_owned();
        let (mut parts, mut names) = (Vec::new(), Vec::new());
        let mut rest = text;
        while !rest.is_empty() {
            let end = rest.find(['{', '}', '*']).unwrap_or(rest.len());
            if end > 0 {
                parts.push(Part::Text(rest[..end].to_owned()));
                rest = &rest[end..];
                continue;
            }
            if let Some(after) = rest.strip_prefix('*') {
                parts.push(Part::Anything);
                rest = after;
                continue;
            }
            let inner = rest.strip_prefix('{').ok_or_else(|| PatternError::Brace(whole()))?;
            let (name, after) =
                inner.split_once('}').ok_or_else(|| PatternError::Brace(whole()))?;
            if name.trim().is_empty() {
                return Err(PatternError::NoName(whole()));
            }
            if parts.last() == Some(&Part::Number) {
                return Err(PatternError::Touching(whole()));
            }
            parts.push(Part::Number);
            names.push(name.trim().to_owned());
            rest = after;
        }
        if names.is_empty() {
            return Err(PatternError::NoNumber(whole()));
        }
        Ok(Self { parts, names })
    }
}

impl Pattern {
    /// What its numbers are called.
    #[must_use]
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// The numbers of a line; nothing if it does not fit. It may stand anywhere in the line. What `*`
    /// skips is as short as possible.
    ///
    /// ```
    /// use weltblick_core::pattern::Pattern;
    /// let pattern: Pattern = "height {height} mm, * {period} ms".parse().unwrap();
    /// let line = "12:04 height 1250 mm, period 6.5 ms";
    /// assert_eq!(pattern.read(line), Some(vec![1250.0, 6.5]));
    /// ```
    #[must_use]
    pub fn read(&self, line: &str) -> Option<Vec<f64>> {
        let mut numbers = Vec::with_capacity(self.names.len());
        // It may stand anywhere in the line, as if a wildcard led it in.
        let mut tries = MOST_TRIES;
        anywhere(&self.parts, line, &mut numbers, &mut tries).then_some(numbers)
    }
}

/// Whether the parts fit the start of a line; numbers are collected on the way.
fn here(parts: &[Part], line: &str, numbers: &mut Vec<f64>, tries: &mut usize) -> bool {
    match parts {
        [] => true,
        [Part::Anything, after @ ..] => anywhere(after, line, numbers, tries),
        [Part::Text(text), after @ ..] => {
            line.strip_prefix(text.as_str()).is_some_and(|rest| here(after, rest, numbers, tries))
        }
        [Part::Number, after @ ..] => {
            let Some((number, rest)) = leading_number(line) else { return false };
            numbers.push(number);
            let fits = here(after, rest, numbers, tries);
            if !fits {
                numbers.pop();
            }
            fits
        }
    }
}

/// Whether the parts fit somewhere in a line: the first such place counts.
fn anywhere(parts: &[Part], line: &str, numbers: &mut Vec<f64>, tries: &mut usize) -> bool {
    let mut fits_at = |at: usize| {
        *tries = tries.saturating_sub(1);
        *tries > 0 && here(parts, &line[at..], numbers, tries)
    };
    match parts.first() {
        None => true,
        Some(Part::Text(text)) => line.match_indices(text.as_str()).any(|(at, _)| fits_at(at)),
        Some(Part::Number) => number_starts(line).any(fits_at),
        Some(Part::Anything) => fits_at(0),
    }
}

/// Where numbers may begin: not within one.
fn number_starts(text: &str) -> impl Iterator<Item = usize> + '_ {
    let begins = |c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.');
    let inside = |at: usize| text[..at].ends_with(|c: char| c.is_ascii_digit() || c == '.');
    text.match_indices(begins).map(|(at, _)| at).filter(move |&at| !inside(at))
}

/// A number at the start of a text, blanks before it, and what follows: `-1.5e3`, `0x1f`.
fn leading_number(text: &str) -> Option<(f64, &str)> {
    let text = text.trim_start_matches(' ');
    let unsigned = text.strip_prefix(['-', '+']).unwrap_or(text);
    let sign = text.len() - unsigned.len();
    if let Some(digits) = unsigned.strip_prefix("0x").or_else(|| unsigned.strip_prefix("0X")) {
        let end = digits.find(|c: char| !c.is_ascii_hexdigit()).unwrap_or(digits.len());
        let value = u64::from_str_radix(&digits[..end], 16).ok()? as f64;
        return Some((if text.starts_with('-') { -value } else { value }, &digits[end..]));
    }
    let digits = |text: &str| text.bytes().take_while(u8::is_ascii_digit).count();
    let mut end = digits(unsigned);
    if let Some(fraction) = unsigned[end..].strip_prefix('.') {
        let count = digits(fraction);
        // A full stop after a number is none of its digits.
        end += if count > 0 { 1 + count } else { 0 };
    }
    if end == 0 {
        return None;
    }
    if let Some(power) = unsigned[end..].strip_prefix(['e', 'E']) {
        let signed = power.strip_prefix(['-', '+']).unwrap_or(power);
        let count = digits(signed);
        end += if count > 0 { 1 + (power.len() - signed.len()) + count } else { 0 };
    }
    let value = text[..sign + end].parse().ok()?;
    Some((value, &unsigned[end..]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(pattern: &str, line: &str) -> Option<Vec<f64>> {
        pattern.parse::<Pattern>().unwrap().read(line)
    }

    #[test]
    fn takes_numbers_out_of_lines() {
        for (pattern, line, numbers) in [
            ("battery {mv} mV", "battery 3712 mV", Some(vec![3712.0])),
            ("battery {mv} mV", "[7] battery   3712 mV now", Some(vec![3712.0])),
            ("battery {mv} mV", "battery low, battery 9 mV", Some(vec![9.0])),
            ("battery {mv} mV", "battery low", None),
            ("battery {mv} mV", "battery 3712", None),
            ("{a}, {b}", "x=-1.5e3, +.25", Some(vec![-1500.0, 0.25])),
            ("at {address}:", "at 0x1F: done", Some(vec![31.0])),
            ("took * {us}", "took as ever 12.", Some(vec![12.0])),
            ("{first} * {last}", "1 2 3", Some(vec![1.0, 3.0])),
            ("{n}", "none", None),
            ("{a}/{b}", "3700 mV, 1/2", Some(vec![1.0, 2.0])),
            ("t{n}", "3e: t4e", Some(vec![4.0])),
        ] {
            assert_eq!(read(pattern, line), numbers, "{pattern} on {line}");
        }
    }

    #[test]
    fn says_what_is_no_pattern() {
        for (text, why) in [
            ("battery", "takes no number"),
            ("battery {mv", "a brace without its partner"),
            ("battery mv}", "a brace without its partner"),
            ("battery { }", "does not name a number"),
            ("{a}{b}", "nothing between two numbers"),
        ] {
            let error = text.parse::<Pattern>().unwrap_err().to_string();
            assert!(error.contains(why), "{error}");
        }
    }

    proptest! {
        #[test]
        fn what_was_written_is_read(number in -1e9_f64..1e9, before in "[a-z ]{0,9}") {
            let line = format!("{before}<{number}> V");
            prop_assert_eq!(read("<{n}> V", &line), Some(vec![number]));
        }

        #[test]
        fn no_line_does_harm(pattern in "[{}*a-c0-9 .e-]{0,12}", line in "\\PC{0,40}") {
            if let Ok(pattern) = pattern.parse::<Pattern>() {
                let read = pattern.read(&line);
                prop_assert!(read.is_none_or(|numbers| numbers.len() == pattern.names().len()));
            }
        }
    }
}

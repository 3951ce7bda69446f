//! Lines to records.

use std::ops::Range;

/// Bytes of a variable at most: longer ones are read in parts.
pub const LONGEST_VALUE: usize = 4096;
/// A longer line is none of ours.
pub const LONGEST_LINE: usize = 2 * LONGEST_VALUE + 128;

/// How to read a variable's bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// `u`: a whole number that is not negative.
    Unsigned,
    /// `s`: a whole number.
    Signed,
    /// `f`: a number of IEEE 754.
    Float,
    /// `o`: something else.
    Other,
}

/// One line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Record<'a> {
    /// The program counter; `None` where the core told none.
    Sample {
        /// When it was asked for and told.
        when: (u64, u64),
        /// An instruction's address.
        pc: Option<u64>,
        /// The core was stopped for it.
        stopped: bool,
    },
    /// What later lines call a number.
    Name {
        /// The number.
        watch: u8,
        /// Bytes of one element.
        size: u64,
        /// How to read them.
        kind: Kind,
        /// Where it lies.
        address: u64,
        /// The variable's name.
        name: &'a str,
    },
    /// A variable's bytes.
    Value {
        /// When they were asked for and told.
        when: (u64, u64),
        /// Which variable.
        watch: u8,
        /// The bytes.
        bytes: &'a [u8],
    },
    /// A lap point was reached.
    Lap {
        /// When the core stopped there, as seen from outside.
        when: (u64, u64),
        /// Which point.
        lap: u8,
        /// The cycle counter, if the core has one.
        cycles: Option<u32>,
    },
}

/// Receives records and losses in stream order; together their byte ranges tile the stream.
pub trait Sink {
    /// A line.
    fn record(&mut self, at: Range<u64>, record: Record<'_>);
    /// A line that says nothing, or the rest of one that was cut off.
    fn loss(&mut self, at: Range<u64>);
}

/// A push decoder: half a line of state.
#[derive(Debug, Clone, Default)]
pub struct Decoder {
    line: Vec<u8>,
    /// Where the held line starts.
    start: u64,
    offset: u64,
    /// The line is too long: the rest of it is skipped.
    skips: bool,
    value: Vec<u8>,
}

impl Decoder {
    /// A decoder at the start of a stream.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Reads the next bytes.
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        for piece in bytes.split_inclusive(|&byte| byte == b'\n') {
            self.offset += piece.len() as u64;
            let (text, ends) = match piece.split_last() {
                Some((b'\n', text)) => (text, true),
                _ => (piece, false),
            };
            self.skips |= self.line.len() + text.len() > LONGEST_LINE;
            if !self.skips {
                self.line.extend_from_slice(text);
            }
            if ends {
                self.end_line(sink);
            }
        }
    }

    /// Bytes are missing here: half a line is lost.
    pub fn interrupt(&mut self, sink: &mut impl Sink) {
        if self.start < self.offset {
            sink.loss(self.start..self.offset);
        }
        self.begin_line();
    }

    /// Ends the stream.
    pub fn finish(mut self, sink: &mut impl Sink) {
        self.interrupt(sink);
    }

    fn begin_line(&mut self) {
        self.line.clear();
        self.skips = false;
        self.start = self.offset;
    }

    fn end_line(&mut self, sink: &mut impl Sink) {
        let at = self.start..self.offset;
        let text = std::str::from_utf8(&self.line).ok().filter(|_| !self.skips);
        match text.and_then(|line| parse(line, &mut self.value)) {
            Some(record) => sink.record(at, record),
            None => sink.loss(at),
        }
        self.begin_line();
    }
}

/// Reads a line; the bytes of a value are put into `value`.
fn parse<'a>(line: &'a str, value: &'a mut Vec<u8>) -> Option<Record<'a>> {
    let mut fields = line.splitn(6, ' ');
    let letter = fields.next()?;
    let record = match letter {
        "n" => {
            let watch = fields.next()?.parse().ok()?;
            let size = fields.next()?.parse().ok()?;
            let kind = match fields.next()? {
                "u" => Kind::Unsigned,
                "s" => Kind::Signed,
                "f" => Kind::Float,
                "o" => Kind::Other,
                _ => return None,
            };
            let address = hexadecimal(fields.next()?)?;
            return Some(Record::Name { watch, size, kind, address, name: fields.next()? });
        }
        "p" | "h" | "z" | "v" | "l" => {
            let when = (fields.next()?.parse().ok()?, fields.next()?.parse().ok()?);
            match letter {
                "p" | "h" => {
                    let pc = Some(hexadecimal(fields.next()?)?);
                    Record::Sample { when, pc, stopped: letter == "h" }
                }
                "z" => Record::Sample { when, pc: None, stopped: false },
                "l" => Record::Lap {
                    when,
                    lap: fields.next()?.parse().ok()?,
                    cycles: match fields.next()? {
                        "-" => None,
                        cycles => Some(cycles.parse().ok()?),
                    },
                },
                _ => {
                    let watch = fields.next()?.parse().ok()?;
                    unhex(fields.next()?, value)?;
                    Record::Value { when, watch, bytes: value }
                }
            }
        }
        _ => return None,
    };
    fields.next().is_none().then_some(record)
}

fn hexadecimal(digits: &str) -> Option<u64> {
    u64::from_str_radix(digits, 16).ok().filter(|_| !digits.starts_with('+'))
}

fn unhex(digits: &str, bytes: &mut Vec<u8>) -> Option<()> {
    bytes.clear();
    if !digits.len().is_multiple_of(2) || digits.len() > 2 * LONGEST_VALUE {
        return None;
    }
    let digit = |digit: u8| char::from(digit).to_digit(16).map(|digit| digit as u8);
    for pair in digits.as_bytes().chunks(2) {
        bytes.push(digit(pair[0])? << 4 | digit(pair[1])?);
    }
    Some(())
}

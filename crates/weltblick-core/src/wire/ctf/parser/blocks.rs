//! `trace`, `stream`, `event`, `clock` and what else stands outermost (section 7.2).

use super::super::token::Kind;
use super::super::types::{DeclaredClock, DeclaredEvent, DeclaredStream, TypeId};
use super::Parser;
use super::scalars::Assigned;
use crate::document::Fault;
use std::ops::Range;

/// Events at most, of all streams.
pub(in super::super) const MOST_EVENTS: usize = 1 << 14;
/// Streams at most.
pub(in super::super) const MOST_STREAMS: usize = 256;
/// Clocks at most.
const MOST_CLOCKS: usize = 16;
/// What a clock ticks at if nothing says so (section 8).
const USUAL_HERTZ: u64 = 1_000_000_000;

/// One line of a block.
enum Line {
    /// `path = value;`
    Is(Vec<String>, Assigned, Range<usize>),
    /// `path := type;`
    Has(Vec<String>, TypeId),
}

impl Parser<'_> {
    pub(super) fn document(&mut self) -> Result<(), Fault> {
        while *self.peek() != Kind::End {
            if self.type_declaration()? {
                continue;
            }
            let span = self.span();
            let keyword = self.word("a block such as `trace` or `event`")?;
            match keyword.as_str() {
                "trace" => self.trace()?,
                "clock" => self.clock(span)?,
                "stream" => self.stream(span)?,
                "event" => self.event(span)?,
                // They change nothing of how the trace is read.
                "env" | "callsite" => self.lines(|_, _| Ok(()))?,
                other => return self.fault_at(span, format!("`{other}` is no block of metadata")),
            }
            self.expect(";")?;
        }
        Ok(())
    }

    /// The lines of a block; unknown ones are for others to read.
    fn lines(
        &mut self,
        mut line: impl FnMut(&mut Self, Line) -> Result<(), Fault>,
    ) -> Result<(), Fault> {
        self.braces(|parser| {
            if parser.type_declaration()? {
                return Ok(());
            }
            let path = parser.path()?;
            let read = if parser.accept(":=") {
                Line::Has(path, parser.type_name(&[";"])?)
            } else {
                parser.expect("=")?;
                let (value, span) = parser.assigned()?;
                Line::Is(path, value, span)
            };
            parser.expect(";")?;
            line(parser, read)
        })
    }

    fn natural(&self, value: &Assigned, span: Range<usize>) -> Result<u64, Fault> {
        match value {
            Assigned::Number(number) => u64::try_from(*number).ok(),
            _ => None,
        }
        .map_or_else(|| self.fault_at(span, "a whole number from 0 on must stand here"), Ok)
    }

    fn trace(&mut self) -> Result<(), Fault> {
        self.lines(|parser, line| {
            match line {
                Line::Is(path, value, span) if path == ["byte_order"] => {
                    let order = parser.order(&value, span.clone())?;
                    if order.is_none() {
                        return parser.fault_at(span, "the trace's own byte order is `le` or `be`");
                    }
                    parser.told.order = order;
                }
                Line::Is(path, value, span) if path == ["uuid"] => {
                    parser.told.uuid = Some(parser.uuid(&value, span)?);
                }
                Line::Is(path, value, span)
                    if path == ["major"] && parser.natural(&value, span.clone())? != 1 =>
                {
                    return parser.fault_at(span, "version 1 of the format is read, no other");
                }
                Line::Has(path, of) if path == ["packet", "header"] => {
                    parser.told.packet_header = Some(of);
                }
                _ => {}
            }
            Ok(())
        })
    }

    fn uuid(&self, value: &Assigned, span: Range<usize>) -> Result<[u8; 16], Fault> {
        let mut uuid = [0; 16];
        let digits: Vec<u8> = match value {
            Assigned::Text(text) => text
                .chars()
                .filter(|c| *c != '-')
                .map(|c| c.to_digit(16).map_or(u8::MAX, |digit| digit as u8))
                .collect(),
            _ => Vec::new(),
        };
        if digits.len() != 32 || digits.contains(&u8::MAX) {
            return self.fault_at(span, "a UUID is 32 hexadecimal digits in quotes");
        }
        for (byte, pair) in uuid.iter_mut().zip(digits.chunks(2)) {
            *byte = pair[0] << 4 | pair[1];
        }
        Ok(uuid)
    }

    fn clock(&mut self, here: Range<usize>) -> Result<(), Fault> {
        let mut clock = DeclaredClock {
            name: String::new(),
            hertz: USUAL_HERTZ,
            precision: 0,
            offset_s: 0,
            offset: 0,
        };
        self.lines(|parser, line| {
            let Line::Is(path, value, span) = line else { return Ok(()) };
            let whole = |value: &Assigned| match value {
                Assigned::Number(number) => i64::try_from(*number).ok(),
                _ => None,
            };
            let wrong = "a whole number below 2^63 must stand here";
            match path.join(".").as_str() {
                "name" => clock.name = parser.text_of(value, span)?,
                "freq" => {
                    clock.hertz = parser.natural(&value, span.clone())?;
                    if clock.hertz == 0 {
                        return parser.fault_at(span, "a clock ticks at more than 0 Hz");
                    }
                }
                "precision" => clock.precision = parser.natural(&value, span)?,
                "offset_s" => match whole(&value) {
                    Some(offset) => clock.offset_s = offset,
                    None => return parser.fault_at(span, wrong),
                },
                "offset" => match whole(&value) {
                    Some(offset) => clock.offset = offset,
                    None => return parser.fault_at(span, wrong),
                },
                _ => {}
            }
            Ok(())
        })?;
        if clock.name.is_empty() {
            return self.fault_at(here, "a clock needs its `name`");
        }
        if self.told.clocks.iter().any(|other| other.name == clock.name) {
            return self.fault_at(here, format!("there are two clocks `{}`", clock.name));
        }
        if self.told.clocks.len() == MOST_CLOCKS {
            return self.fault_at(here, format!("more than {MOST_CLOCKS} clocks"));
        }
        self.told.clocks.push(clock);
        Ok(())
    }

    fn text_of(&self, value: Assigned, span: Range<usize>) -> Result<String, Fault> {
        match value {
            Assigned::Text(text) => Ok(text),
            Assigned::Path(path) => Ok(path.join(".")),
            Assigned::Number(_) => self.fault_at(span, "a name must stand here"),
        }
    }

    fn stream(&mut self, here: Range<usize>) -> Result<(), Fault> {
        let mut stream = DeclaredStream::default();
        self.lines(|parser, line| {
            match line {
                Line::Is(path, value, span) if path == ["id"] => {
                    stream.id = parser.natural(&value, span)?;
                }
                Line::Has(path, of) => match path.join(".").as_str() {
                    "packet.context" => stream.packet_context = Some(of),
                    "event.header" => stream.event_header = Some(of),
                    "event.context" => stream.event_context = Some(of),
                    _ => {}
                },
                Line::Is(..) => {}
            }
            Ok(())
        })?;
        if self.told.streams.iter().any(|other| other.id == stream.id) {
            return self.fault_at(here, format!("there are two streams {}", stream.id));
        }
        if self.told.streams.len() == MOST_STREAMS {
            return self.fault_at(here, format!("more than {MOST_STREAMS} streams"));
        }
        self.told.streams.push(stream);
        Ok(())
    }

    fn event(&mut self, here: Range<usize>) -> Result<(), Fault> {
        let mut event = DeclaredEvent { span: here.clone(), ..DeclaredEvent::default() };
        self.lines(|parser, line| {
            match line {
                Line::Is(path, value, span) => match path.join(".").as_str() {
                    "name" => event.name = parser.text_of(value, span)?,
                    "id" => event.id = Some(parser.natural(&value, span)?),
                    "stream_id" => event.stream = Some(parser.natural(&value, span)?),
                    _ => {}
                },
                Line::Has(path, of) => match path.join(".").as_str() {
                    "context" => event.context = Some(of),
                    "fields" => event.fields = Some(of),
                    _ => {}
                },
            }
            Ok(())
        })?;
        if event.name.is_empty() {
            return self.fault_at(here, "an event needs its `name`");
        }
        if self.told.events.len() == MOST_EVENTS {
            return self.fault_at(here, format!("more than {MOST_EVENTS} events"));
        }
        self.told.events.push(event);
        Ok(())
    }
}

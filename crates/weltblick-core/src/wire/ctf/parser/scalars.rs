//! `integer`, `floating_point`, `string` and `enum`.

use super::super::bits::Order;
use super::super::token::Kind;
use super::super::types::{Integer, Label, Type, TypeId};
use super::Parser;
use crate::document::{Fault, nearest};
use std::ops::Range;

/// Bits of an integer at most. Those of more than 64 are skipped over.
const WIDEST: u64 = 1 << 16;
/// Bits to which something is aligned at most.
const WIDEST_ALIGNMENT: u64 = 1 << 16;
/// Labels of one enumeration at most.
const MOST_LABELS: usize = 1 << 16;

/// What stands on the right of `key = `.
pub(super) enum Assigned {
    Number(i128),
    Text(String),
    Path(Vec<String>),
}

impl Parser<'_> {
    /// `key = value;`
    pub(super) fn assigned(&mut self) -> Result<(Assigned, Range<usize>), Fault> {
        let start = self.span().start;
        let value = match self.peek() {
            Kind::Number(_) | Kind::Mark("-") => Assigned::Number(self.signed()?),
            Kind::Text(_) => {
                let Kind::Text(text) = self.take().kind else { unreachable!("it was a text") };
                Assigned::Text(text)
            }
            _ => Assigned::Path(self.path()?),
        };
        let end = self.tokens[self.at - 1].span.end;
        Ok((value, start..end))
    }

    /// The attributes of a scalar type: calls `set` for each of them.
    fn attributes(
        &mut self,
        known: &[&str],
        mut set: impl FnMut(&Self, &str, Assigned, Range<usize>) -> Result<(), Fault>,
    ) -> Result<(), Fault> {
        self.braces(|parser| {
            let span = parser.span();
            let key = parser.word("an attribute")?;
            if !known.contains(&key.as_str()) {
                let hint = nearest(&key, known.iter().copied());
                return parser.fault_at(span, format!("`{key}` is no attribute here{hint}"));
            }
            parser.expect("=")?;
            let (value, span) = parser.assigned()?;
            set(parser, &key, value, span)?;
            parser.expect(";")
        })
    }

    fn number_in(
        &self,
        key: &str,
        value: &Assigned,
        range: std::ops::RangeInclusive<u64>,
        span: Range<usize>,
    ) -> Result<u64, Fault> {
        let number = match value {
            Assigned::Number(number) => u64::try_from(*number).ok(),
            _ => None,
        };
        match number.filter(|number| range.contains(number)) {
            Some(number) => Ok(number),
            None => {
                let (low, high) = range.into_inner();
                self.fault_at(span, format!("`{key}` must lie between {low} and {high}"))
            }
        }
    }

    pub(super) fn alignment(&self, value: &Assigned, span: Range<usize>) -> Result<u32, Fault> {
        let align = self.number_in("align", value, 1..=WIDEST_ALIGNMENT, span.clone())?;
        if !align.is_power_of_two() {
            return self.fault_at(span, "an alignment must be a power of two");
        }
        Ok(align as u32)
    }

    pub(super) fn order(
        &self,
        value: &Assigned,
        span: Range<usize>,
    ) -> Result<Option<Order>, Fault> {
        let word = match value {
            Assigned::Path(path) if path.len() == 1 => path[0].as_str(),
            _ => "",
        };
        match word {
            "le" => Ok(Some(Order::Little)),
            "be" | "network" => Ok(Some(Order::Big)),
            "native" => Ok(None),
            _ => self.fault_at(span, "a byte order is `le`, `be`, `network` or `native`"),
        }
    }

    /// `{ size = 32; ... }` after `integer`.
    pub(super) fn integer(&mut self) -> Result<Integer, Fault> {
        const KNOWN: [&str; 7] =
            ["size", "align", "signed", "byte_order", "base", "encoding", "map"];
        let here = self.span();
        let (mut size, mut align) = (None, None);
        let mut integer = Integer::of(0, false);
        self.attributes(&KNOWN, |parser, key, value, span| {
            match key {
                "size" => size = Some(parser.number_in(key, &value, 1..=WIDEST, span)? as u32),
                "align" => align = Some(parser.alignment(&value, span)?),
                "byte_order" => integer.order = parser.order(&value, span)?,
                "signed" => integer.signed = parser.boolean(&value, span)?,
                "encoding" => integer.is_character = parser.encoding(&value, span)?,
                "map" => integer.clock = Some(parser.clock_of(&value, span)?),
                // How people write it.
                _ => integer.is_hex = is_hex(&value),
            }
            Ok(())
        })?;
        let Some(size) = size else {
            return self.fault_at(here, "an integer needs its `size` in bits");
        };
        integer.size = size;
        integer.align = align.unwrap_or_else(|| usual_alignment(size));
        Ok(integer)
    }

    fn boolean(&self, value: &Assigned, span: Range<usize>) -> Result<bool, Fault> {
        match value {
            Assigned::Number(number) => Ok(*number != 0),
            Assigned::Path(path) if matches!(path[0].as_str(), "true" | "TRUE") => Ok(true),
            Assigned::Path(path) if matches!(path[0].as_str(), "false" | "FALSE") => Ok(false),
            _ => self.fault_at(span, "`signed` is true or false"),
        }
    }

    /// Whether it is one of text.
    fn encoding(&self, value: &Assigned, span: Range<usize>) -> Result<bool, Fault> {
        match value {
            Assigned::Path(path)
                if matches!(path[0].as_str(), "UTF8" | "ASCII" | "utf8" | "ascii") =>
            {
                Ok(true)
            }
            Assigned::Path(path) if path[0] == "none" => Ok(false),
            _ => self.fault_at(span, "an encoding is `none`, `UTF8` or `ASCII`"),
        }
    }

    /// The clock of `clock.NAME.value`.
    fn clock_of(&self, value: &Assigned, span: Range<usize>) -> Result<String, Fault> {
        let name = match value {
            Assigned::Path(path) => match path.as_slice() {
                [clock, name, value] if clock == "clock" && value == "value" => Some(name),
                _ => None,
            },
            _ => None,
        };
        let Some(name) = name else {
            return self.fault_at(span, "`map` names a clock's value: clock.NAME.value");
        };
        if !self.told.clocks.iter().any(|clock| clock.name == *name) {
            let known = self.told.clocks.iter().map(|clock| clock.name.as_str());
            let hint = nearest(name, known);
            return self.fault_at(span, format!("no clock `{name}` is declared before this{hint}"));
        }
        Ok(name.clone())
    }

    /// `{ exp_dig = 8; mant_dig = 24; ... }` after `floating_point` (section 4.1.7).
    pub(super) fn float(&mut self) -> Result<Type, Fault> {
        let here = self.span();
        let (mut exponent, mut mantissa, mut order, mut align) = (None, None, None, None);
        let known = ["exp_dig", "mant_dig", "byte_order", "align"];
        self.attributes(&known, |parser, key, value, span| {
            match key {
                "exp_dig" => {
                    exponent = Some(parser.number_in(key, &value, 1..=WIDEST, span)? as u32)
                }
                "mant_dig" => {
                    mantissa = Some(parser.number_in(key, &value, 1..=WIDEST, span)? as u32);
                }
                "byte_order" => order = parser.order(&value, span)?,
                _ => align = Some(parser.alignment(&value, span)?),
            }
            Ok(())
        })?;
        let (Some(exponent), Some(mantissa)) = (exponent, mantissa) else {
            return self.fault_at(here, "a floating-point number needs `exp_dig` and `mant_dig`");
        };
        let align = align.unwrap_or_else(|| usual_alignment(exponent + mantissa));
        Ok(Type::Float { exponent, mantissa, order, align })
    }

    /// What may stand in braces after `string`.
    pub(super) fn string(&mut self) -> Result<Type, Fault> {
        if self.is("{") {
            self.attributes(&["encoding"], |parser, _, value, span| {
                parser.encoding(&value, span).map(|_| ())
            })?;
        }
        Ok(Type::Text)
    }

    /// What follows `enum` (section 4.1.8).
    pub(super) fn enumeration(&mut self) -> Result<TypeId, Fault> {
        let here = self.span();
        let name = match self.peek() {
            Kind::Word(_) => Some(format!("enum {}", self.word("a name")?)),
            _ => None,
        };
        let of = if self.accept(":") { Some(self.type_name(&["{"])?) } else { None };
        if !self.is("{") {
            return match name {
                Some(name) => self.named(&name, here),
                None => self.unexpected("`{`"),
            };
        }
        let of = match of {
            Some(of) => of,
            None => self.find("int").ok_or_else(|| {
                let why = "an enumeration needs its integer: `enum : TYPE`, or a type named `int`";
                self.source.fault(here.clone(), why)
            })?,
        };
        let Type::Integer(of) = self.told.types.get(of).clone() else {
            return self.fault_at(here, "an enumeration is one of an integer");
        };
        let labels = self.labels()?;
        let id = self.add(Type::Enumeration { of, labels: labels.into() });
        if let Some(name) = name {
            self.name(name, here, id)?;
        }
        Ok(id)
    }

    fn labels(&mut self) -> Result<Vec<Label>, Fault> {
        let mut labels: Vec<Label> = Vec::new();
        let mut next = 0;
        self.braces(|parser| {
            let span = parser.span();
            let name = match parser.peek() {
                Kind::Text(_) => match parser.take().kind {
                    Kind::Text(text) => text,
                    _ => unreachable!("it was a text"),
                },
                _ => parser.word("a label")?,
            };
            let low = if parser.accept("=") { parser.signed()? } else { next };
            let high = if parser.accept("...") { parser.signed()? } else { low };
            if high < low {
                return parser
                    .fault_at(span, format!("the range of `{name}` ends before it starts"));
            }
            if labels.len() == MOST_LABELS {
                return parser.fault_at(span, "an enumeration of more than 65536 labels");
            }
            next = high + 1;
            labels.push(Label { name, low, high });
            if parser.is("}") { Ok(()) } else { parser.expect(",") }
        })?;
        Ok(labels)
    }
}

/// Whether numbers are told in hexadecimal (section 4.1.5).
fn is_hex(base: &Assigned) -> bool {
    match base {
        Assigned::Number(base) => *base == 16,
        Assigned::Path(path) => {
            matches!(path[0].as_str(), "hex" | "hexadecimal" | "x" | "X" | "p")
        }
        Assigned::Text(_) => false,
    }
}

/// Whole bytes stand at bytes, everything else anywhere (section 4.1.2).
const fn usual_alignment(size: u32) -> u32 {
    if size.is_multiple_of(8) { 8 } else { 1 }
}

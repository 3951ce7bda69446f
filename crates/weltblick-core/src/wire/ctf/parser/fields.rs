//! Types with others inside, and how fields and names are declared.

use super::super::token::Kind;
use super::super::types::{Member, Reference, Type, TypeId};
use super::Parser;
use super::scalars::Assigned;
use crate::document::{Fault, nearest};
use std::collections::HashSet;
use std::ops::Range;

/// Elements of an array at most.
const MOST_ELEMENTS: u64 = u32::MAX as u64;

impl Parser<'_> {
    /// The type that is known by this name.
    pub(super) fn named(&self, name: &str, span: Range<usize>) -> Result<TypeId, Fault> {
        self.find(name).ok_or_else(|| {
            let known = self.scopes.iter().flat_map(|scope| scope.keys()).map(String::as_str);
            let hint = nearest(name, known);
            self.source.fault(span, format!("no type `{name}` is declared before this{hint}"))
        })
    }

    /// A type that is written out, or begins with a keyword; `None` if it is a plain name.
    fn written(&mut self) -> Result<Option<TypeId>, Fault> {
        let Kind::Word(keyword) = self.peek().clone() else {
            return self.unexpected("a type");
        };
        if !matches!(
            keyword.as_str(),
            "integer" | "floating_point" | "string" | "enum" | "struct" | "variant"
        ) {
            return Ok(None);
        }
        self.take();
        Ok(Some(match keyword.as_str() {
            "integer" => {
                let integer = self.integer()?;
                self.add(Type::Integer(integer))
            }
            "floating_point" => {
                let float = self.float()?;
                self.add(float)
            }
            "string" => {
                let string = self.string()?;
                self.add(string)
            }
            "enum" => self.enumeration()?,
            "struct" => self.structure()?,
            _ => self.variant()?,
        }))
    }

    /// A type and nothing behind it but one of `ends`: written out, or a name of several words.
    pub(super) fn type_name(&mut self, ends: &[&str]) -> Result<TypeId, Fault> {
        if let Some(written) = self.written()? {
            return Ok(written);
        }
        let start = self.span().start;
        let words = self.words(ends)?;
        let end = self.tokens[self.at - 1].span.end;
        self.named(&words.join(" "), start..end)
    }

    /// Words and asterisks up to one of `ends`, without `const`.
    fn words(&mut self, ends: &[&str]) -> Result<Vec<String>, Fault> {
        let mut words = Vec::new();
        while !ends.iter().any(|end| self.is(end)) {
            if self.accept("*") {
                words.push("*".to_owned());
            } else {
                let word = self.word("a name")?;
                if word != "const" {
                    words.push(word);
                }
            }
        }
        if words.is_empty() { self.unexpected("a name") } else { Ok(words) }
    }

    /// What follows `struct` (section 4.2.1).
    fn structure(&mut self) -> Result<TypeId, Fault> {
        let here = self.span();
        let name = match self.peek() {
            Kind::Word(word) if word != "align" => Some(format!("struct {}", self.word("a name")?)),
            _ => None,
        };
        if !self.is("{") {
            return match name {
                Some(name) => self.named(&name, here),
                None => self.unexpected("`{`"),
            };
        }
        let members = self.members()?;
        let mut align = 1;
        if self.is_word("align") {
            self.take();
            self.expect("(")?;
            let span = self.span();
            let value = Assigned::Number(self.signed()?);
            align = self.alignment(&value, span)?;
            self.expect(")")?;
        }
        let id = self.add(Type::Struct { members, align });
        if let Some(name) = name {
            self.name(name, here, id)?;
        }
        Ok(id)
    }

    /// What follows `variant` (section 4.2.2).
    fn variant(&mut self) -> Result<TypeId, Fault> {
        let here = self.span();
        let name = match self.peek() {
            Kind::Word(_) => Some(format!("variant {}", self.word("a name")?)),
            _ => None,
        };
        let tag = if self.accept("<") {
            let tag = self.reference()?;
            self.expect(">")?;
            Some(tag)
        } else {
            None
        };
        if self.is("{") {
            let choices = self.members()?;
            let id = self.add(Type::Variant { tag, choices });
            if let Some(name) = name {
                self.name(name, here, id)?;
            }
            return Ok(id);
        }
        let Some(name) = name else { return self.unexpected("`{`") };
        let declared = self.named(&name, here)?;
        match (self.told.types.get(declared).clone(), tag) {
            (Type::Variant { choices, .. }, Some(tag)) => {
                Ok(self.add(Type::Variant { tag: Some(tag), choices }))
            }
            _ => Ok(declared),
        }
    }

    /// The path of another field, up to a bracket.
    fn reference(&mut self) -> Result<Reference, Fault> {
        let start = self.span().start;
        let path = self.path()?;
        Ok(Reference { path, outwards: None, span: start..self.tokens[self.at - 1].span.end })
    }

    fn members(&mut self) -> Result<Vec<Member>, Fault> {
        let mut members: Vec<Member> = Vec::new();
        let mut names = HashSet::new();
        self.braces(|parser| {
            if parser.type_declaration()? {
                return Ok(());
            }
            let mut of = parser.written()?;
            let mut bare = None;
            if of.is_none() {
                let start = parser.span().start;
                let mut words = parser.words(&[";", ",", "[", ":"])?;
                let end = parser.tokens[parser.at - 1].span.end;
                let name = words.pop().unwrap_or_default();
                if words.is_empty() {
                    return parser
                        .fault_at(start..end, format!("`{name}` needs a type and a name"));
                }
                of = Some(parser.named(&words.join(" "), start..end)?);
                bare = Some((name, start..end));
            }
            let of = of.expect("either was written or is named");
            loop {
                let (name, span) = match bare.take() {
                    Some(bare) => bare,
                    None => {
                        let span = parser.span();
                        (parser.word("a name")?, span)
                    }
                };
                let of = parser.declared(of)?;
                if !names.insert(name.clone()) {
                    return parser.fault_at(span, format!("there are two fields `{name}`"));
                }
                members.push(Member { name, of });
                if !parser.accept(",") {
                    break;
                }
            }
            parser.expect(";")
        })?;
        Ok(members)
    }

    /// What may follow a declared name: sizes in brackets, or the bits of a bit-field.
    fn declared(&mut self, of: TypeId) -> Result<TypeId, Fault> {
        if self.accept(":") {
            return self.bit_field(of);
        }
        let mut sizes = Vec::new();
        while self.accept("[") {
            let span = self.span();
            sizes.push(match *self.peek() {
                Kind::Number(len) if len <= MOST_ELEMENTS => {
                    self.take();
                    Ok(len)
                }
                Kind::Number(_) => {
                    return self.fault_at(span, "an array of more than 2^32 elements");
                }
                _ => Err(self.reference()?),
            });
            self.expect("]")?;
        }
        // `a[2][3]` is two arrays of three.
        Ok(sizes.into_iter().rev().fold(of, |of, size| match size {
            Ok(len) => self.add(Type::Array { of, len, align: 1 }),
            Err(len) => self.add(Type::Sequence { of, len, align: 1 }),
        }))
    }

    /// `uint32_t flags : 3` (section 4.1.6): it never crosses a unit of its type's size.
    fn bit_field(&mut self, of: TypeId) -> Result<TypeId, Fault> {
        let span = self.span();
        let bits = self.signed()?;
        let Type::Integer(whole) = self.told.types.get(of).clone() else {
            return self.fault_at(span, "only integers have bit-fields");
        };
        if bits < 1 || bits > i128::from(whole.size) {
            return self.fault_at(span, format!("a bit-field of 1 to {} bits", whole.size));
        }
        let unit = Some(whole.size);
        let field = super::super::types::Integer { size: bits as u32, align: 1, unit, ..whole };
        Ok(self.add(Type::Integer(field)))
    }

    /// `typedef`, `typealias`, or a named type without a field; `false` if something else stands here.
    pub(super) fn type_declaration(&mut self) -> Result<bool, Fault> {
        if self.is_word("typedef") {
            self.take();
            self.typedef()?;
        } else if self.is_word("typealias") {
            self.take();
            self.typealias()?;
        } else if self.declares_name() {
            self.written()?;
        } else {
            return Ok(false);
        }
        self.expect(";")?;
        Ok(true)
    }

    /// Whether `struct NAME { ... };` stands here, with nothing behind the brace.
    fn declares_name(&self) -> bool {
        let named = matches!(self.peek(), Kind::Word(word) if matches!(word.as_str(), "struct" | "variant" | "enum"))
            && matches!(self.ahead(1), Kind::Word(_));
        if !named {
            return false;
        }
        let mut open = 0_usize;
        for (number, token) in self.tokens[self.at..].iter().enumerate() {
            match token.kind {
                Kind::Mark("{") => open += 1,
                Kind::Mark("}") if open == 1 => {
                    let after = &self.tokens[self.at + number + 1..];
                    return ends_declaration(after);
                }
                Kind::Mark("}") => open = open.saturating_sub(1),
                Kind::Mark(";") if open == 0 => return false,
                _ => {}
            }
        }
        false
    }

    fn typedef(&mut self) -> Result<(), Fault> {
        let (of, mut bare) = match self.written()? {
            Some(of) => (of, None),
            None => {
                let span = self.span();
                let mut words = self.words(&[";", ",", "["])?;
                let name = words.pop().unwrap_or_default();
                (self.named(&words.join(" "), span.clone())?, Some((name, span)))
            }
        };
        loop {
            let (name, span) = match bare.take() {
                Some(bare) => bare,
                None => {
                    let span = self.span();
                    (self.words(&[";", ",", "["])?.join(" "), span)
                }
            };
            let of = self.declared(of)?;
            self.name(name, span, of)?;
            if !self.accept(",") {
                return Ok(());
            }
        }
    }

    fn typealias(&mut self) -> Result<(), Fault> {
        let of = self.type_name(&[":=", "["])?;
        let of = self.declared(of)?;
        self.expect(":=")?;
        let span = self.span();
        let name = self.words(&[";"])?.join(" ");
        self.name(name, span, of)
    }
}

/// `;`, or an alignment and `;`.
fn ends_declaration(after: &[super::Token]) -> bool {
    let mut after = after.iter().map(|token| &token.kind);
    match after.next() {
        Some(Kind::Mark(";")) => true,
        Some(Kind::Word(word)) if word == "align" => {
            matches!(after.nth(3), Some(Kind::Mark(";")))
        }
        _ => false,
    }
}

//! A description from its text (appendix C): one pass, names before their use, so that nothing can
//! contain itself.

mod blocks;
mod fields;
mod scalars;

pub(super) use blocks::{MOST_EVENTS, MOST_STREAMS};

use super::token::{Kind, Token, tokens};
use super::types::{Description, Type, TypeId};
use crate::document::{Fault, Source};
use std::collections::HashMap;
use std::ops::Range;

/// Braces inside braces at most.
const DEEPEST: usize = 32;

/// Reads the text of a description that the user knows as `source`.
pub(super) fn parse(source: Source<'_>, text: &str) -> Result<Description, Fault> {
    let mut parser = Parser {
        source,
        tokens: tokens(source, text)?,
        at: 0,
        depth: 0,
        scopes: vec![HashMap::new()],
        told: Description::default(),
    };
    parser.document()?;
    Ok(parser.told)
}

struct Parser<'a> {
    source: Source<'a>,
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    /// Names of types, innermost scope last. `struct x` and `x` are two names.
    scopes: Vec<HashMap<String, TypeId>>,
    told: Description,
}

impl Parser<'_> {
    fn peek(&self) -> &Kind {
        self.ahead(0)
    }

    fn ahead(&self, by: usize) -> &Kind {
        let last = self.tokens.len() - 1;
        &self.tokens[(self.at + by).min(last)].kind
    }

    fn span(&self) -> Range<usize> {
        self.tokens[self.at].span.clone()
    }

    fn take(&mut self) -> Token {
        let token = self.tokens[self.at].clone();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    fn fault_at<T>(&self, span: Range<usize>, message: impl Into<String>) -> Result<T, Fault> {
        Err(self.source.fault(span, message))
    }

    /// What stands here is not what must stand here.
    fn unexpected<T>(&self, wanted: &str) -> Result<T, Fault> {
        let found = match self.peek() {
            Kind::End => "the text ends".to_owned(),
            Kind::Word(word) => format!("there is `{word}`"),
            Kind::Number(number) => format!("there is {number}"),
            Kind::Text(_) => "there is a text in quotes".to_owned(),
            Kind::Mark(mark) => format!("there is `{mark}`"),
        };
        self.fault_at(self.span(), format!("{wanted} must stand here, but {found}"))
    }

    fn is(&self, mark: &str) -> bool {
        matches!(self.peek(), Kind::Mark(found) if *found == mark)
    }

    fn is_word(&self, word: &str) -> bool {
        matches!(self.peek(), Kind::Word(found) if found == word)
    }

    /// Takes a mark if it stands here.
    fn accept(&mut self, mark: &str) -> bool {
        let is = self.is(mark);
        if is {
            self.take();
        }
        is
    }

    fn expect(&mut self, mark: &str) -> Result<(), Fault> {
        if self.accept(mark) { Ok(()) } else { self.unexpected(&format!("`{mark}`")) }
    }

    fn word(&mut self, wanted: &str) -> Result<String, Fault> {
        match self.peek() {
            Kind::Word(word) => {
                let word = word.clone();
                self.take();
                Ok(word)
            }
            _ => self.unexpected(wanted),
        }
    }

    /// A whole number, perhaps with a sign.
    fn signed(&mut self) -> Result<i128, Fault> {
        let negative = self.accept("-");
        match *self.peek() {
            Kind::Number(number) => {
                self.take();
                let number = i128::from(number);
                Ok(if negative { -number } else { number })
            }
            _ => self.unexpected("a whole number"),
        }
    }

    /// A name with dots: `clock.monotonic.value`.
    fn path(&mut self) -> Result<Vec<String>, Fault> {
        let mut path = vec![self.word("a name")?];
        while self.accept(".") || self.accept("->") {
            path.push(self.word("a name")?);
        }
        Ok(path)
    }

    /// `{ ... }`: calls `inside` until the brace closes, in a scope of its own.
    fn braces(
        &mut self,
        mut inside: impl FnMut(&mut Self) -> Result<(), Fault>,
    ) -> Result<(), Fault> {
        let open = self.span();
        self.expect("{")?;
        if self.depth == DEEPEST {
            return self.fault_at(open, format!("braces are nested more than {DEEPEST} deep"));
        }
        self.depth += 1;
        self.scopes.push(HashMap::new());
        while !self.accept("}") {
            if *self.peek() == Kind::End {
                return self.fault_at(open, "this brace is never closed");
            }
            inside(self)?;
        }
        self.scopes.pop();
        self.depth -= 1;
        Ok(())
    }

    fn add(&mut self, declared: Type) -> TypeId {
        self.told.types.add(declared)
    }

    fn find(&self, name: &str) -> Option<TypeId> {
        self.scopes.iter().rev().find_map(|scope| scope.get(name)).copied()
    }

    /// Gives a type a name in the innermost scope.
    fn name(&mut self, name: String, span: Range<usize>, of: TypeId) -> Result<(), Fault> {
        let scope = self.scopes.last_mut().expect("the outermost scope stays");
        if scope.contains_key(&name) {
            return self.fault_at(span, format!("`{name}` is declared a second time"));
        }
        scope.insert(name, of);
        Ok(())
    }
}

//! The words of TSDL (appendix C.1).

use crate::document::{Fault, Source};
use std::ops::Range;

/// One word, and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Token {
    pub(super) kind: Kind,
    pub(super) span: Range<usize>,
}

/// What a word is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Kind {
    /// A keyword or a name.
    Word(String),
    /// A whole number.
    Number(u64),
    /// A text in quotes, without them.
    Text(String),
    /// Punctuation.
    Mark(&'static str),
    /// The end of the text.
    End,
}

/// Longest first, so that `...` is not three dots.
const MARKS: [&str; 18] =
    ["...", ":=", "->", "{", "}", "[", "]", "(", ")", "<", ">", ";", ":", ",", "=", ".", "*", "-"];

/// Cuts a text into words.
pub(super) fn tokens(source: Source<'_>, text: &str) -> Result<Vec<Token>, Fault> {
    let mut lexer = Lexer { source, text, at: 0 };
    let mut tokens = Vec::new();
    loop {
        let token = lexer.next()?;
        let ends = token.kind == Kind::End;
        tokens.push(token);
        if ends {
            return Ok(tokens);
        }
    }
}

struct Lexer<'a> {
    source: Source<'a>,
    text: &'a str,
    at: usize,
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn fault(&self, at: Range<usize>, message: impl Into<String>) -> Fault {
        self.source.fault(at, message)
    }

    /// Skips blanks and comments.
    fn skip(&mut self) -> Result<(), Fault> {
        loop {
            let rest = self.rest();
            let blank = rest.len() - rest.trim_start().len();
            let rest = &rest[blank..];
            let comment = if rest.starts_with("//") {
                rest.find('\n').unwrap_or(rest.len())
            } else if let Some(inside) = rest.strip_prefix("/*") {
                let start = self.at + blank;
                let end = inside.find("*/");
                end.ok_or_else(|| self.fault(start..start + 2, "this comment never ends"))? + 4
            } else {
                0
            };
            self.at += blank + comment;
            if comment == 0 {
                return Ok(());
            }
        }
    }

    fn next(&mut self) -> Result<Token, Fault> {
        self.skip()?;
        let start = self.at;
        let kind = match self.rest().chars().next() {
            None => Kind::End,
            Some('"') => Kind::Text(self.quoted('"')?),
            Some('\'') => self.character()?,
            Some(first) if first == '_' || first.is_ascii_alphabetic() => {
                let is_part = |c: char| c == '_' || c.is_ascii_alphanumeric();
                let rest = self.rest();
                let len = rest.find(|c| !is_part(c)).unwrap_or(rest.len());
                let word = rest[..len].to_owned();
                self.at += len;
                Kind::Word(word)
            }
            Some(first) if first.is_ascii_digit() => self.number()?,
            Some(_) => {
                let mark = MARKS.into_iter().find(|mark| self.rest().starts_with(mark));
                let mark = mark.ok_or_else(|| {
                    self.fault(start..start + 1, "this character has no place in metadata")
                })?;
                self.at += mark.len();
                Kind::Mark(mark)
            }
        };
        Ok(Token { kind, span: start..self.at })
    }

    /// A constant as C writes it: decimal, octal or hexadecimal, with a suffix that says nothing here.
    fn number(&mut self) -> Result<Kind, Fault> {
        let rest = self.rest();
        let len = rest.find(|c: char| !c.is_ascii_alphanumeric()).unwrap_or(rest.len());
        let (start, written) = (self.at, rest[..len].to_ascii_lowercase());
        self.at += len;
        let digits = written.trim_end_matches(['u', 'l']);
        let value = match (digits.strip_prefix("0x"), digits.strip_prefix('0')) {
            (Some(hex), _) => u64::from_str_radix(hex, 16),
            (None, Some(octal)) if !octal.is_empty() => u64::from_str_radix(octal, 8),
            _ => digits.parse(),
        };
        let why = "this is no whole number below 2^64";
        value.map(Kind::Number).map_err(|_| self.fault(start..start + len, why))
    }

    /// A character constant is a number.
    fn character(&mut self) -> Result<Kind, Fault> {
        let start = self.at;
        let text = self.quoted('\'')?;
        let mut characters = text.chars();
        match (characters.next(), characters.next()) {
            (Some(one), None) => Ok(Kind::Number(u64::from(u32::from(one)))),
            _ => Err(self.fault(start..self.at, "one character must stand here")),
        }
    }

    /// What stands between two quotes; escapes are those of C.
    fn quoted(&mut self, quote: char) -> Result<String, Fault> {
        let start = self.at;
        let mut text = String::new();
        let mut characters = self.rest().char_indices().skip(1).peekable();
        while let Some((at, character)) = characters.next() {
            match character {
                '\n' => break,
                c if c == quote => {
                    self.at += at + 1;
                    return Ok(text);
                }
                '\\' => {
                    let Some((_, escaped)) = characters.next() else { break };
                    let radix = match escaped {
                        'x' => 16,
                        '0'..='7' => 8,
                        _ => 0,
                    };
                    if radix == 0 {
                        text.push(simple_escape(escaped));
                        continue;
                    }
                    let mut code = escaped.to_digit(8).unwrap_or(0);
                    let most = if radix == 8 { 2 } else { 8 };
                    for _ in 0..most {
                        let digit = characters.peek().and_then(|(_, c)| c.to_digit(radix));
                        let Some(digit) = digit else { break };
                        code = code.saturating_mul(radix).saturating_add(digit);
                        characters.next();
                    }
                    text.push(char::from_u32(code).unwrap_or(char::REPLACEMENT_CHARACTER));
                }
                other => text.push(other),
            }
        }
        Err(self.fault(start..start + 1, "this text has no end on its line"))
    }
}

const fn simple_escape(escaped: char) -> char {
    match escaped {
        'n' => '\n',
        't' => '\t',
        'r' => '\r',
        'a' => '\x07',
        'b' => '\x08',
        'f' => '\x0c',
        'v' => '\x0b',
        other => other,
    }
}

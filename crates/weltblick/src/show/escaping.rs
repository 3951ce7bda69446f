//! JSON whose texts steer no terminal: what the standard lets stand as it is, is escaped, too.

use super::plain::is_unsafe;
use serde_json::ser::{CharEscape, Formatter};
use std::io::{Result, Write};

/// As another formatter has it, with escapes (`\u202e`) for control and direction characters.
pub(super) struct Escaping<F>(pub(super) F);

impl<F: Formatter> Formatter for Escaping<F> {
    fn write_string_fragment<W: ?Sized + Write>(&mut self, out: &mut W, text: &str) -> Result<()> {
        let mut plain = text;
        while let Some((at, unsafe_one)) = plain.char_indices().find(|&(_, c)| is_unsafe(c)) {
            out.write_all(&plain.as_bytes()[..at])?;
            for unit in unsafe_one.encode_utf16(&mut [0; 2]) {
                write!(out, "\\u{unit:04x}")?;
            }
            plain = &plain[at + unsafe_one.len_utf8()..];
        }
        out.write_all(plain.as_bytes())
    }

    fn write_char_escape<W: ?Sized + Write>(&mut self, out: &mut W, c: CharEscape) -> Result<()> {
        self.0.write_char_escape(out, c)
    }

    fn begin_array<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.begin_array(out)
    }

    fn end_array<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.end_array(out)
    }

    fn begin_array_value<W: ?Sized + Write>(&mut self, out: &mut W, first: bool) -> Result<()> {
        self.0.begin_array_value(out, first)
    }

    fn end_array_value<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.end_array_value(out)
    }

    fn begin_object<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.begin_object(out)
    }

    fn end_object<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.end_object(out)
    }

    fn begin_object_key<W: ?Sized + Write>(&mut self, out: &mut W, first: bool) -> Result<()> {
        self.0.begin_object_key(out, first)
    }

    fn begin_object_value<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.begin_object_value(out)
    }

    fn end_object_value<W: ?Sized + Write>(&mut self, out: &mut W) -> Result<()> {
        self.0.end_object_value(out)
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn texts_come_back_as_they_were_and_steer_nothing() {
        let text = "a\u{7f}b\u{9b}c\u{202e}d\u{1b}e\u{2028}f\"g\\h\u{fc}";
        let mut out = Vec::new();
        super::super::json(&[text], &mut out).unwrap();
        let written = String::from_utf8(out).unwrap();
        assert!(written.contains("\\u202e") && written.contains("\\u009b"), "{written}");
        assert!(written.trim_end().chars().all(|c| c == '\n' || !super::is_unsafe(c)), "{written}");
        let read: Vec<String> = serde_json::from_str(&written).unwrap();
        assert_eq!(read, [text]);
    }
}

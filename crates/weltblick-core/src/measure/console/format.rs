//! Texts whose format stays in the image, while only their arguments travel.

use std::fmt::Write as _;

/// Fields are padded to this width at most: a format may ask for any.
const WIDEST: usize = 64;

/// A conversion as C writes it: `%-8u`, `%04x`.
struct Field {
    left: bool,
    zero: bool,
    plus: bool,
    alternate: bool,
    width: usize,
    precision: Option<usize>,
    kind: char,
}

/// Fills `arguments` into a format in the manner of C's `printf`: `%d %i %u %x %X %o %c %s %p %%` with
/// flags, width and precision; a `%s` takes the address of a text that `text_at` finds. What cannot
/// be filled in stays as it is written.
///
/// ```
/// use weltblick_core::measure::console::format;
/// let text = format("report %u: %04x%% of %s", &[7, 0xab, 0x800], |_| Some("all".into()));
/// assert_eq!(text, "report 7: 00ab% of all");
/// ```
#[must_use]
pub fn format(format: &str, arguments: &[u32], text_at: impl Fn(u64) -> Option<String>) -> String {
    let mut out = String::with_capacity(format.len() + 16);
    let mut arguments = arguments.iter();
    let mut rest = format;
    while let Some(at) = rest.find('%') {
        out.push_str(&rest[..at]);
        let after = &rest[at + 1..];
        if let Some(tail) = after.strip_prefix('%') {
            out.push('%');
            rest = tail;
            continue;
        }
        let parsed = conversion(after);
        let filled = parsed
            .as_ref()
            .and_then(|(conversion, _)| fill(conversion, *arguments.next()?, &text_at));
        let length = parsed.map_or(0, |(_, length)| length);
        match filled {
            Some(text) => out.push_str(&text),
            None => out.push_str(&rest[at..=at + length]),
        }
        rest = &after[length..];
    }
    out.push_str(rest);
    out
}

/// What a conversion makes of its argument.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Conversion {
    /// A whole number.
    Signed,
    /// A whole number that is not negative.
    Unsigned,
    /// The address of a text.
    Text,
    /// Nothing that is known here.
    Unknown,
}

/// What a format makes of each of its arguments.
///
/// ```
/// use weltblick_core::measure::console::{Conversion, conversions};
/// let takes = conversions("%d %% of %08x, %s");
/// assert_eq!(takes, [Conversion::Signed, Conversion::Unsigned, Conversion::Text]);
/// ```
#[must_use]
pub fn conversions(format: &str) -> Vec<Conversion> {
    let mut found = Vec::new();
    let mut rest = format;
    while let Some(at) = rest.find('%') {
        let after = &rest[at + 1..];
        if let Some(tail) = after.strip_prefix('%') {
            rest = tail;
            continue;
        }
        let Some((field, length)) = conversion(after) else {
            rest = after;
            continue;
        };
        found.push(match field.kind {
            'd' | 'i' => Conversion::Signed,
            'u' | 'x' | 'X' | 'o' | 'p' | 'c' => Conversion::Unsigned,
            's' => Conversion::Text,
            _ => Conversion::Unknown,
        });
        rest = &after[length..];
    }
    found
}

/// The conversion at the start of a text, and its length.
fn conversion(text: &str) -> Option<(Field, usize)> {
    let mut chars = text.char_indices().peekable();
    let mut read = Field {
        left: false,
        zero: false,
        plus: false,
        alternate: false,
        width: 0,
        precision: None,
        kind: 'd',
    };
    while let Some(&(_, flag)) = chars.peek() {
        match flag {
            '-' => read.left = true,
            '0' => read.zero = true,
            '+' => read.plus = true,
            '#' => read.alternate = true,
            ' ' => {}
            _ => break,
        }
        chars.next();
    }
    let number = |chars: &mut std::iter::Peekable<std::str::CharIndices<'_>>| {
        let mut value = 0_usize;
        while let Some(digit) = chars.peek().and_then(|&(_, c)| c.to_digit(10)) {
            value = value.saturating_mul(10).saturating_add(digit as usize);
            chars.next();
        }
        value.min(WIDEST)
    };
    read.width = number(&mut chars);
    if chars.next_if(|&(_, c)| c == '.').is_some() {
        read.precision = Some(number(&mut chars));
    }
    while chars.next_if(|&(_, c)| matches!(c, 'l' | 'h' | 'z' | 't' | 'j')).is_some() {}
    let (at, kind) = chars.next()?;
    read.kind = kind;
    Some((read, at + kind.len_utf8()))
}

fn fill(conversion: &Field, word: u32, text_at: &impl Fn(u64) -> Option<String>) -> Option<String> {
    let signed = word as i32;
    let mut digits = String::new();
    let mut sign = "";
    match conversion.kind {
        'd' | 'i' => {
            let _ = write!(digits, "{}", signed.unsigned_abs());
            sign = if signed < 0 {
                "-"
            } else if conversion.plus {
                "+"
            } else {
                ""
            };
        }
        'u' => digits = word.to_string(),
        'x' => digits = format!("{word:x}"),
        'X' => digits = format!("{word:X}"),
        'o' => digits = format!("{word:o}"),
        'p' => digits = format!("0x{word:08x}"),
        'c' => digits = char::from_u32(word & 0xff)?.to_string(),
        's' => {
            let text = text_at(u64::from(word))?;
            digits = text.chars().take(conversion.precision.unwrap_or(usize::MAX)).collect();
        }
        _ => return None,
    }
    if conversion.alternate && matches!(conversion.kind, 'x' | 'X') && word != 0 {
        sign = if conversion.kind == 'x' { "0x" } else { "0X" };
    }
    let is_number = !matches!(conversion.kind, 'c' | 's');
    let least = conversion.precision.filter(|_| is_number).unwrap_or(0);
    let zeros = least.saturating_sub(digits.chars().count());
    let mut body = "0".repeat(zeros) + &digits;
    let pad = conversion.width.saturating_sub(body.chars().count() + sign.len());
    if conversion.zero && is_number && !conversion.left && conversion.precision.is_none() {
        body = "0".repeat(pad) + &body;
        return Some(format!("{sign}{body}"));
    }
    let blanks = " ".repeat(pad);
    Some(if conversion.left {
        format!("{sign}{body}{blanks}")
    } else {
        format!("{blanks}{sign}{body}")
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn filled(text: &str, arguments: &[u32]) -> String {
        format(text, arguments, |address| (address == 0x800).then(|| "sent".to_owned()))
    }

    #[test]
    fn fills_in_as_c_does() {
        for (text, arguments, expected) in [
            ("plain", &[][..], "plain"),
            ("%d and %u", &[-5_i32 as u32, 5], "-5 and 5"),
            ("%+d|%6d|%-6d|%06d", &[7, 7, 7, -7_i32 as u32], "+7|     7|7     |-00007"),
            ("%x %X %#x %o %.4u", &[255, 255, 255, 8, 42], "ff FF 0xff 10 0042"),
            ("%c%c", &[72, 105], "Hi"),
            ("[%6s] [%-6s] [%.2s]", &[0x800, 0x800, 0x800], "[  sent] [sent  ] [se]"),
            ("%p", &[0x0800_0000], "0x08000000"),
            ("%lu %hhd", &[1, 2], "1 2"),
            ("100 %% of %u", &[3], "100 % of 3"),
            // What cannot be filled in stays.
            ("%u and %u", &[1], "1 and %u"),
            ("%s", &[0x900], "%s"),
            ("%f", &[1], "%f"),
            ("ends with %", &[1], "ends with %"),
        ] {
            assert_eq!(filled(text, arguments), expected, "{text}");
        }
    }

    proptest! {
        #[test]
        fn no_format_does_harm(
            text in "[%a-z0-9.*#+ \u{e9}-]{0,40}",
            arguments in prop::collection::vec(any::<u32>(), 0..9),
        ) {
            let out = filled(&text, &arguments);
            prop_assert!(out.len() <= text.len() + 20 * WIDEST * 2, "{out}");
        }
    }
}

//! Foreign text at the door: names and texts from files never steer a terminal or a spreadsheet.

use std::borrow::Cow;

/// The text with control and direction characters written out (`\u{1b}`).
pub(crate) fn plain(text: &str) -> Cow<'_, str> {
    if !text.chars().any(is_unsafe) {
        return Cow::Borrowed(text);
    }
    let mut safe = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        if is_unsafe(c) {
            safe.extend(c.escape_unicode());
        } else {
            safe.push(c);
        }
    }
    Cow::Owned(safe)
}

/// The text as a spreadsheet cell: never a formula.
pub(crate) fn cell(text: &str) -> Cow<'_, str> {
    let text = plain(text);
    if text.starts_with(['=', '+', '-', '@', '\t']) { Cow::Owned(format!("'{text}")) } else { text }
}

/// Lines of at most 96 characters.
pub(crate) fn wrapped(text: &str) -> Vec<String> {
    const WIDEST: usize = 96;
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= WIDEST => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

fn is_unsafe(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn writes_out_what_would_steer() {
        assert_eq!(plain("wave_filter"), "wave_filter");
        assert_eq!(plain("a\u{1b}[31mb"), "a\\u{1b}[31mb");
        assert_eq!(plain("a\u{202e}b"), "a\\u{202e}b");
        assert_eq!(plain("Welle \u{fc}ber"), "Welle \u{fc}ber");
        assert_eq!(cell("=1+1"), "'=1+1");
        assert_eq!(cell("wave"), "wave");
    }
}

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

/// A path that fits a column: ways up say nothing, and neither does its beginning if it is long.
pub(crate) fn path_end(path: &str) -> String {
    const WIDEST: usize = 40;
    let length = path.chars().count();
    let skipped = length.saturating_sub(WIDEST);
    let kept: String = path.chars().skip(skipped).collect();
    let whole = match kept.find('/') {
        Some(slash) if skipped > 0 => &kept[slash + 1..],
        _ => kept.as_str(),
    };
    let down = whole.rsplit("../").next().unwrap_or(whole);
    if skipped > 0 || down.len() < whole.len() { format!("../{down}") } else { down.to_owned() }
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

    #[test]
    fn paths_fit_their_column_and_keep_their_end() {
        for (path, shown) in [
            ("src/dsp/filter.c", "src/dsp/filter.c"),
            ("../../vendor/lib/sort.c", "../vendor/lib/sort.c"),
            (
                "/build/gcc-arm-none-eabi/build/thumb/v7-m/../../../../libgcc/libgcc2.c",
                "../libgcc/libgcc2.c",
            ),
        ] {
            assert_eq!(path_end(path), shown);
        }
        let endless = "directory/".repeat(30) + "file.c";
        assert!(path_end(&endless).len() <= 43 && path_end(&endless).ends_with("/file.c"));
        let no_slash = "x".repeat(100);
        assert!(path_end(&no_slash).len() <= 43);
    }
}

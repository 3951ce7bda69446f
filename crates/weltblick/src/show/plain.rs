//! Foreign text at the door: names and texts from files never steer a terminal or a spreadsheet.

use std::borrow::Cow;

/// A word as a shell takes it: in quotes where it has more than letters, digits and what paths and points are made of.
pub(crate) fn shell(word: &str) -> String {
    let is_simple = |c: char| c.is_ascii_alphanumeric() || "_./:@%+,-".contains(c);
    let safe = plain(word);
    if !word.is_empty() && word.chars().all(is_simple) {
        safe.into_owned()
    } else {
        format!("'{}'", safe.replace('\'', "'\\''"))
    }
}

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

/// JSON with what the standard lets stand as it is escaped, too: control and direction characters, which are nowhere
/// but in its texts. Lines end outside of them.
pub(super) fn json(text: &str) -> Cow<'_, str> {
    let steers = |c: char| c != '\n' && is_unsafe(c);
    if !text.contains(steers) {
        return Cow::Borrowed(text);
    }
    let mut safe = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if steers(c) {
            let units = c.encode_utf16(&mut [0; 2]).to_vec();
            safe.extend(units.into_iter().map(|unit| format!("\\u{unit:04x}")));
        } else {
            safe.push(c);
        }
    }
    Cow::Owned(safe)
}

/// The text as a spreadsheet cell: never a formula, with blanks before it or without.
pub(crate) fn cell(text: &str) -> Cow<'_, str> {
    let text = plain(text);
    let is_formula = text.trim_start().starts_with(['=', '+', '-', '@']);
    if is_formula { Cow::Owned(format!("'{text}")) } else { text }
}

/// An error message that fits a screen: the middle of an endless line, and lines beyond the first few, are left out.
pub(crate) fn message(text: &str) -> String {
    const MOST_LINES: usize = 16;
    const LONGEST_LINE: usize = 800;
    const ENDS: usize = 300;
    let all: Vec<&str> = text.lines().collect();
    let shortened = |line: &&str| {
        let line = plain(line);
        let length = line.chars().count();
        if length <= LONGEST_LINE {
            return line.into_owned();
        }
        let begin: String = line.chars().take(ENDS).collect();
        let end: String = line.chars().skip(length - ENDS).collect();
        format!("{begin} [... {} characters ...] {end}", length - 2 * ENDS)
    };
    let mut lines: Vec<String> = all.iter().take(MOST_LINES).map(shortened).collect();
    if all.len() > MOST_LINES {
        lines.push(format!("[... {} more lines]", all.len() - MOST_LINES));
    }
    lines.join("\n")
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

/// A name that fits a column: what a template is made of goes first, then parameters, then the middle. The end of a
/// name says more than its beginning.
pub(crate) fn fitted(name: &str) -> Cow<'_, str> {
    const WIDEST: usize = 80;
    const BEGINNING: usize = 20;
    let length = |name: &str| name.chars().count();
    if length(name) <= WIDEST {
        return Cow::Borrowed(name);
    }
    let name = emptied(&emptied(name, '<', '>', WIDEST), '(', ')', WIDEST);
    let longer = length(&name).saturating_sub(WIDEST);
    if longer == 0 {
        return Cow::Owned(name);
    }
    let begin: String = name.chars().take(BEGINNING).collect();
    let end: String = name.chars().skip(BEGINNING + longer + 3).collect();
    Cow::Owned(format!("{begin}...{end}"))
}

/// What is between the outermost brackets left out, of a name that is longer than `widest`: `Ring<..>::put(int)`.
fn emptied(name: &str, open: char, close: char, widest: usize) -> String {
    if name.chars().count() <= widest {
        return name.to_owned();
    }
    let (mut out, mut depth) = (String::new(), 0_usize);
    let mut before = ' ';
    for c in name.chars() {
        // `->` closes nothing.
        let closes = c == close && before != '-';
        if closes {
            depth = depth.saturating_sub(1);
        }
        if depth == 0 {
            out.push(c);
        }
        if c == open {
            if depth == 0 {
                out.push_str("..");
            }
            depth += 1;
        }
        before = c;
    }
    out
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
        assert_eq!(cell(" \u{a0}=1+1"), "' \u{a0}=1+1");
        assert_eq!(cell("\t@x"), "\\u{9}@x");
    }

    #[test]
    fn json_comes_back_as_it_was_and_steers_nothing() {
        let text = "a\u{7f}b\u{9b}c\u{202e}d\u{1b}e\u{2028}f\"g\\h\u{fc}\n";
        for written in [serde_json::to_string(text), serde_json::to_string_pretty(&[text])] {
            let written = written.unwrap();
            let safe = json(&written);
            assert!(safe.contains("\\u202e") && safe.contains("\\u009b"), "{safe}");
            assert!(safe.chars().all(|c| c == '\n' || !is_unsafe(c)), "{safe}");
            let read = |text: &str| serde_json::from_str::<serde_json::Value>(text).unwrap();
            assert_eq!(read(&safe), read(&written));
        }
    }

    #[test]
    fn messages_fit_a_screen() {
        assert_eq!(message("one\ntwo"), "one\ntwo");
        let endless = message(&"member, ".repeat(10_000));
        assert!(endless.starts_with("member, ") && endless.ends_with("member, "));
        assert!(endless.len() < 800 && endless.contains("79400 characters"), "{endless}");
        let long = message(&"line\n".repeat(100));
        assert_eq!((long.lines().count(), long.lines().last()), (17, Some("[... 84 more lines]")));
    }

    #[test]
    fn long_names_keep_what_says_most() {
        let ring = format!("wave::Ring<{}, 4>::put(int)", "std::pair<int, int>".repeat(6));
        assert_eq!(fitted(&ring), "wave::Ring<..>::put(int)");
        let call = format!("wave::put({})", "int, ".repeat(30));
        assert_eq!(fitted(&call), "wave::put(..)");
        let nested = format!("a{}::end", "::very_long_name".repeat(10));
        let short = fitted(&nested);
        assert!(short.starts_with("a::very") && short.ends_with("_name::end"), "{short}");
        assert_eq!(short.chars().count(), 80);
        assert_eq!(fitted("Ring<int>::put(int)"), "Ring<int>::put(int)");
        let operators = format!("operator<< <{}>(int)", "char, ".repeat(30));
        assert!(fitted(&operators).chars().count() <= 80, "{}", fitted(&operators));
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

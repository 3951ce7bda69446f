//! Symbol names as people wrote them.

use std::fmt::{self, Write};

/// The longest name that is demangled or kept: longer ones are cut.
const LONGEST_NAME: usize = 512;

/// Demangles Rust and C++ names; others come back as they are. Control characters stay: whoever
/// shows a name escapes it.
pub(super) fn demangle(symbol: &str) -> String {
    // An assembler's quotes around a name that it could not read otherwise; debug information may keep them.
    let quoted = symbol.strip_prefix('"').and_then(|symbol| symbol.strip_suffix('"'));
    let symbol = cut(quoted.unwrap_or(symbol));
    let mut text = Short::default();
    if let Ok(name) = rustc_demangle::try_demangle(symbol) {
        // Stops where the text is full.
        let _ = write!(text, "{name:#}");
        return text.0;
    }
    if symbol.starts_with("_Z")
        && let Ok(name) = cpp_demangle::Symbol::new(symbol)
    {
        let whole = name.structured_demangle(&mut text, &cpp_demangle::DemangleOptions::new());
        if whole.is_ok() || text.0.len() == LONGEST_NAME {
            return literal_operator(text.0);
        }
    }
    symbol.to_owned()
}

/// Text up to [`LONGEST_NAME`]: a short symbol may stand for an endless name.
#[derive(Default)]
struct Short(String);

impl Write for Short {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        let mut end = text.len().min(LONGEST_NAME - self.0.len());
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        self.0.push_str(&text[..end]);
        if end < text.len() { Err(fmt::Error) } else { Ok(()) }
    }
}

/// `wave::operator_m::operator ""(long)`, as the demangler writes a literal operator, as `wave::operator"" _m(long)`.
fn literal_operator(name: String) -> String {
    const AFTER: &str = "::operator \"\"";
    let Some(after) = name.find(AFTER) else { return name };
    let (before, rest) = (&name[..after], &name[after + AFTER.len()..]);
    match before.rfind("operator") {
        Some(at) => {
            let suffix = &before[at + "operator".len()..];
            format!("{}operator\"\" {suffix}{rest}", &before[..at])
        }
        None => name,
    }
}

fn cut(name: &str) -> &str {
    let mut end = name.len().min(LONGEST_NAME);
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    &name[..end]
}

/// Endings of the names of what compilers make of a function besides, after a point.
const CLONES: [&str; 9] =
    ["constprop", "part", "isra", "cold", "lto_priv", "llvm", "clone", "localalias", "__uniq"];

/// The function's name, where a symbol is what a compiler made of a function besides: a copy for certain arguments
/// (`clamp.constprop.0`), a part of it, its cold code. C++ names have it at their end: `f(int) [clone .isra.0]`.
pub(super) fn original(symbol: &str) -> Option<&str> {
    let (name, rest) = match symbol.split_once(" [clone .") {
        Some(split) => split,
        None => {
            let marks = symbol.match_indices('.');
            let first = marks.map(|(at, _)| at).find(|&at| is_clone(&symbol[at + 1..]))?;
            (&symbol[..first], &symbol[first + 1..])
        }
    };
    (!name.is_empty() && is_clone(rest)).then_some(name)
}

fn is_clone(ending: &str) -> bool {
    CLONES.iter().any(|mark| {
        ending.strip_prefix(mark).is_some_and(|rest| !rest.starts_with(char::is_alphabetic))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn demangles_both_families() {
        for (symbol, name) in [
            ("_ZN4wave6filter3runEf", "wave::filter::run(float)"),
            ("_ZN4wave6filter17h0123456789abcdefE", "wave::filter"),
            ("_RNvC4wave6filter", "wave::filter"),
            ("wave_filter", "wave_filter"),
            ("_Znonsense", "_Znonsense"),
            ("_ZN4wellli2_lEy", "well::operator\"\" _l(unsigned long long)"),
            ("_ZN4wellli3_piEe", "well::operator\"\" _pi(long double)"),
            ("_ZNK4well1ScvbEv", "well::S::operator bool() const"),
            ("\"=say;hello\"", "=say;hello"),
            ("\"", "\""),
        ] {
            assert_eq!(demangle(symbol), name);
        }
    }

    #[test]
    fn cuts_endless_names_at_a_character() {
        let name = demangle(&"\u{e4}".repeat(1000));
        assert_eq!(name.len(), LONGEST_NAME);
        assert_eq!(demangle(&"a".repeat(LONGEST_NAME)).len(), LONGEST_NAME);
    }

    #[test]
    fn short_symbols_of_endless_names_are_cut() {
        // Each template argument is twice the one before.
        let arguments: String = (0..30).map(|at| format!("S{}_IS{}_S{}_E", at, at, at)).collect();
        let symbol = format!("_Z1fI1AIiE{arguments}EvT_");
        assert!(demangle(&symbol).len() <= LONGEST_NAME);
    }

    #[test]
    fn what_a_compiler_made_of_a_function_belongs_to_it() {
        for (symbol, name) in [
            ("clamp.constprop.0", Some("clamp")),
            ("clamp.part.0.isra.1", Some("clamp")),
            ("a.b.cold", Some("a.b")),
            ("f(int) [clone .isra.0]", Some("f(int)")),
            ("f(int) [clone .constprop.0] [clone .cold]", Some("f(int)")),
            ("counter.partial", None),
            ("wave_filter", None),
            ("count.0", None),
            (".cold", None),
        ] {
            assert_eq!(original(symbol), name, "{symbol}");
        }
    }
}

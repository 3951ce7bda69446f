//! Symbol names as people wrote them.

use std::fmt::{self, Write};
use std::hash::Hasher as _;

/// The longest symbol that is demangled, and that is kept whole.
const LONGEST_SYMBOL: usize = 4096;

/// The longest name that a symbol is demangled to: templates of templates may be as long.
const LONGEST_NAME: usize = 16 * LONGEST_SYMBOL;

/// Bytes of symbols and names that are read and kept: some ten times what a large firmware has. Demangling takes most
/// of a second for each ten megabytes.
const ROOM: usize = 24 << 20;

/// What of a name is kept where there is no room for it.
const SHORTENED: usize = 48;

/// Makes of symbols the names that people wrote.
#[derive(Debug)]
pub(super) struct Names {
    room: usize,
}

impl Default for Names {
    fn default() -> Self {
        Self { room: ROOM }
    }
}

impl Names {
    /// Demangles Rust and C++ names; others come back as they are. Control characters stay: whoever
    /// shows a name escapes it.
    ///
    /// Two symbols have two names, however long they are: a cut one ends with what differs.
    pub(super) fn of(&mut self, symbol: &str) -> String {
        // An assembler's quotes around a name that it could not read otherwise; debug information may keep them.
        let quoted = symbol.strip_prefix('"').and_then(|symbol| symbol.strip_suffix('"'));
        let symbol = quoted.unwrap_or(symbol);
        let Some(room) = self.room.checked_sub(symbol.len().min(LONGEST_SYMBOL)) else {
            return shortened(symbol);
        };
        self.room = room;
        if symbol.len() >= LONGEST_SYMBOL {
            return shortened(symbol);
        }
        let Some(name) = demangled(symbol, room) else { return symbol.to_owned() };
        self.room -= name.len();
        name
    }
}

/// The name that a symbol stands for, if it stands for another one that is not endless.
fn demangled(symbol: &str, room: usize) -> Option<String> {
    let mut text = Short { text: String::new(), limit: room.min(LONGEST_NAME) };
    if let Ok(name) = rustc_demangle::try_demangle(symbol) {
        // Stops where the text is full.
        return write!(text, "{name:#}").is_ok().then_some(text.text);
    }
    if !symbol.starts_with("_Z") {
        return None;
    }
    let name = cpp_demangle::Symbol::new(symbol).ok()?;
    name.structured_demangle(&mut text, &cpp_demangle::DemangleOptions::new()).ok()?;
    Some(literal_operator(text.text))
}

/// The beginning of a name, and a number that other names do not have.
fn shortened(name: &str) -> String {
    let name = cut(name, LONGEST_SYMBOL);
    let mut hasher = rustc_hash::FxHasher::default();
    hasher.write(name.as_bytes());
    format!("{}...{:016x}", cut(name, SHORTENED), hasher.finish())
}

/// Text up to a limit: a short symbol may stand for an endless name.
struct Short {
    text: String,
    limit: usize,
}

impl Write for Short {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        if self.text.len() + text.len() > self.limit {
            return Err(fmt::Error);
        }
        self.text.push_str(text);
        Ok(())
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

fn cut(name: &str, longest: usize) -> &str {
    let mut end = name.len().min(longest);
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

    fn demangle(symbol: &str) -> String {
        Names::default().of(symbol)
    }

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
    fn names_that_are_long_or_many_stay_different() {
        let mut names = Names::default();
        let long = |last: char| "\u{e4}".repeat(LONGEST_SYMBOL / 2 - 1) + &last.to_string();
        let [one, other] = ['a', 'b'].map(|last| names.of(&long(last)));
        assert_eq!((one.chars().count(), one == other), (LONGEST_SYMBOL / 2, false));
        let [one, other] = ['a', 'b'].map(|last| names.of(&(last.to_string() + &long(last))));
        assert!(one.starts_with("a\u{e4}\u{e4}") && one.len() < 80 && one != other, "{one}");
        let mut full = Names { room: 10 };
        let few = ["wave_filter", "wave_fitter"].map(|name| full.of(name));
        assert!(few[0].starts_with("wave_filter...") && few[0] != few[1], "{few:?}");
    }

    /// What a member function is called comes at the end, behind all that its class was made of.
    #[test]
    fn long_templates_keep_their_end() {
        let class = "N4wave3bigIJ".to_owned() + &"St6vectorIiSaIiEE".repeat(30) + "EE";
        let name = |end: &str| demangle(&format!("_Z{class}{end}Ev"));
        let (one, other) = (name("4heap"), name("4heel"));
        assert!(one.len() > 600 && one.ends_with("::heap()") && other.ends_with("::heel()"));
    }

    #[test]
    fn short_symbols_of_endless_names_stay_as_they_are() {
        // Each template argument is twice the one before.
        let arguments: String = (0..30).map(|at| format!("S{}_IS{}_S{}_E", at, at, at)).collect();
        let symbol = format!("_Z1fI1AIiE{arguments}EvT_");
        assert_eq!(demangle(&symbol), symbol);
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

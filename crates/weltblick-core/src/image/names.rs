//! Symbol names as people wrote them.

/// The longest name that is demangled or kept: longer ones are cut.
const LONGEST_NAME: usize = 512;

/// Demangles Rust and C++ names; others come back as they are. Control characters stay: whoever
/// shows a name escapes it.
pub(super) fn demangle(symbol: &str) -> String {
    let symbol = cut(symbol);
    if let Ok(name) = rustc_demangle::try_demangle(symbol) {
        return cut(&format!("{name:#}")).to_owned();
    }
    if symbol.starts_with("_Z")
        && let Ok(name) = cpp_demangle::Symbol::new(symbol)
        && let Ok(text) = name.demangle()
    {
        return cut(&text).to_owned();
    }
    symbol.to_owned()
}

fn cut(name: &str) -> &str {
    let mut end = name.len().min(LONGEST_NAME);
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    &name[..end]
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
}

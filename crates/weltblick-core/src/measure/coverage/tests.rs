//! What counts, by name.

use super::choice::{Choice, matches};
use proptest::prelude::*;

#[test]
fn stars_stand_for_anything() {
    for (pattern, text, expected) in [
        ("wave_filter", "wave_filter", true),
        ("wave_*", "wave_filter", true),
        ("*_handler", "adc_ready_handler", true),
        ("*a*b*", "xxaxxbxx", true),
        ("w?ve", "wave", true),
        ("w?ve", "wve", false),
        ("", "", true),
        ("*", "", true),
        ("wave", "wave_filter", false),
        ("*b", "abc", false),
    ] {
        assert_eq!(matches(pattern, text), expected, "{pattern} {text}");
    }
}

#[test]
fn paths_may_leave_out_their_beginning() {
    let takes = |inside: &str, function: &str, file: &str| {
        let choice = Choice { inside: vec![inside.into()], ..Choice::default() };
        choice.takes(function, Some(file))
    };
    assert!(takes("src/dsp/*", "wave_filter", "/build/src/dsp/filter.c"));
    assert!(takes("filter.c", "wave_filter", "src/dsp/filter.c"));
    assert!(!takes("ilter.c", "wave_filter", "src/dsp/filter.c"));
    let exclude = Choice { exclude: vec!["vendor/*".into()], ..Choice::default() };
    assert!(
        !exclude.takes("sort", Some("vendor/sort.c")) && exclude.takes("main", Some("src/main.c"))
    );
    let lines = Choice { lines: vec![("src/main.c".into(), 3..6)], ..Choice::default() };
    assert!(lines.takes_line("src/main.c", 2) && !lines.takes_line("src/main.c", 5));
}

/// The same, tried out one by one.
fn slowly(pattern: &[char], text: &[char]) -> bool {
    match pattern.split_first() {
        None => text.is_empty(),
        Some(('*', rest)) => (0..=text.len()).any(|skipped| slowly(rest, &text[skipped..])),
        Some(('?', rest)) => !text.is_empty() && slowly(rest, &text[1..]),
        Some((c, rest)) => text.first() == Some(c) && slowly(rest, &text[1..]),
    }
}

proptest! {
    #[test]
    fn matching_agrees_with_trying_out(pattern in "[ab*?]{0,8}", text in "[ab]{0,10}") {
        let chars = |text: &str| text.chars().collect::<Vec<_>>();
        prop_assert_eq!(matches(&pattern, &text), slowly(&chars(&pattern), &chars(&text)));
    }
}

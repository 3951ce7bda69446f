//! What counts, by name.

use super::choice::{Choice, matches};
use super::pieces::{Function, Piece, Pieces};
use super::union::{OtherSource, same_files, source_name};
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
        choice.takes(function, Some(file), None)
    };
    assert!(takes("src/dsp/*", "wave_filter", "/build/src/dsp/filter.c"));
    assert!(takes("filter.c", "wave_filter", "src/dsp/filter.c"));
    assert!(!takes("ilter.c", "wave_filter", "src/dsp/filter.c"));
    let exclude = Choice { exclude: vec!["vendor/*".into()], ..Choice::default() };
    assert!(
        !exclude.takes("sort", Some("vendor/sort.c"), None)
            && exclude.takes("main", Some("src/main.c"), None)
    );
    let lines = Choice { lines: vec![("src/main.c".into(), 3..6)], ..Choice::default() };
    assert!(lines.takes_line("src/main.c", 2) && !lines.takes_line("src/main.c", 5));
    let range = Choice { inside: vec!["0x100..0x200".into()], ..Choice::default() };
    assert!(range.takes("f", None, Some(0x100)) && range.takes("f", None, Some(0x1ff)));
    assert!(!range.takes("f", None, Some(0x200)) && !range.takes("f", None, None));
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

/// Functions in one file, each with one line that ran so often.
fn pieces(file: &str, functions: &[(&str, u32, u64)]) -> Pieces {
    let function = |&(name, line, executions): &(&str, u32, u64)| {
        let mut piece = Piece { executions, ..Piece::default() };
        piece.instructions.add(executions > 0);
        Function {
            name: name.into(),
            place: Some((0, line)),
            address: 0,
            build: 0,
            entries: executions,
            lines: [(Some((0, line + 1)), piece)].into(),
        }
    };
    let functions = functions.iter().map(function).collect();
    Pieces { files: vec![file.into()], functions, branches: true }
}

#[test]
fn moved_functions_are_told_and_many_of_them_refused() {
    let mut all = pieces("src/a.c", &[("one", 10, 1), ("two", 20, 0), ("three", 30, 0)]);
    let other = pieces("/ci/src/a.c", &[("two.part.0", 20, 2), ("three", 31, 1), ("one", 10, 1)]);
    let doubt = all.join(other).unwrap().unwrap();
    assert!(doubt.starts_with("three (src/a.c) begins on line 30"), "{doubt}");
    assert_eq!(all.files, ["src/a.c"]);
    let ran: Vec<u64> = all.functions.iter().map(|function| function.entries).collect();
    assert_eq!(ran, [2, 2, 1]);
    let moved = pieces("src/a.c", &[("one", 11, 1), ("two", 21, 0)]);
    let expected = OtherSource::Moved {
        function: "one".into(),
        file: "src/a.c".into(),
        first: 10,
        second: 11,
        more: 1,
    };
    assert_eq!(all.join(moved), Err(expected));
    assert_eq!(all.join(pieces("src/b.c", &[("one", 10, 1)])), Err(OtherSource::NothingShared));
}

#[test]
fn files_are_the_same_where_only_one_agrees_at_its_end() {
    let same = |known: &[&str], files: &[&str]| {
        let owned = |names: &[&str]| names.iter().map(|&name| name.to_owned()).collect::<Vec<_>>();
        same_files(&owned(known), &owned(files))
    };
    assert_eq!(same(&["src/a.c", "src/b.c"], &["src/b.c", "/ci/src/a.c"]), [Some(1), Some(0)]);
    assert_eq!(same(&["/one/src/main.c"], &["/two/src/main.c"]), [Some(0)]);
    // The name alone is not enough, unless there is no more.
    assert_eq!(same(&["boot/main.c"], &["app/main.c"]), [None]);
    assert_eq!(same(&["main.c"], &["app/main.c"]), [Some(0)]);
    // Two that agree alike, on either side; one that is there already.
    assert_eq!(same(&["/a/x/m.c", "/b/x/m.c"], &["/c/x/m.c"]), [None]);
    assert_eq!(same(&["x/m.c"], &["/a/x/m.c", "/b/x/m.c"]), [None, None]);
    assert_eq!(same(&["/a/x/m.c"], &["/a/x/m.c", "/b/x/m.c"]), [Some(0), None]);
}

#[test]
fn what_a_compiler_adds_to_a_name_goes() {
    for (name, expected) in
        [("filter.part.0", "filter"), ("filter.isra.0.cold", "filter"), (".cold.x", ".cold.x")]
    {
        assert_eq!(source_name(name), expected);
    }
}

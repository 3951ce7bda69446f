//! Limits and budget files. Verdicts on real recordings stand in the program's tests.

use super::limit::Limit;
use super::*;
use crate::time::Unit;
use proptest::prelude::*;

#[test]
fn limits_hold_where_they_say() {
    for (text, unit, inside, outside, edge_margin) in [
        ("<= 18 %", Unit::Share, 0.18, 0.181, 0.0),
        ("< 18 %", Unit::Share, 0.179, 0.18, 0.0),
        (">= 40 %", Unit::Share, 0.4, 0.399, 0.0),
        ("> 10", Unit::Count, 10.5, 10.0, 0.0),
        ("1 ms +- 2 %", Unit::Time, 0.001_019, 0.001_021, 0.0),
        ("50 % +- 5 %", Unit::Share, 0.549, 0.56, 0.0),
        (">= 10_000 samples", Unit::Count, 10_000.0, 9_999.0, 0.0),
    ] {
        let limit = Limit::parse(text, unit).unwrap();
        assert!(limit.holds_for_all(inside, inside), "{text} at {inside}");
        assert!(limit.fails_for_all(outside, outside), "{text} at {outside}");
        assert!(!limit.holds_for_all(inside.min(outside), inside.max(outside)), "{text}");
        assert!(!limit.fails_for_all(inside.min(outside), inside.max(outside)), "{text}");
        assert!(limit.margin(inside) >= edge_margin && limit.margin(outside) <= 0.0, "{text}");
    }
}

#[test]
fn an_interval_around_a_band_neither_holds_nor_fails() {
    let limit = Limit::parse("1 ms +- 10 %", Unit::Time).unwrap();
    assert!(!limit.fails_for_all(0.5e-3, 2e-3) && !limit.holds_for_all(0.5e-3, 2e-3));
    assert!(limit.fails_for_all(1.2e-3, 2e-3) && limit.fails_for_all(0.1e-3, 0.8e-3));
}

#[test]
fn margins_are_parts_of_the_limit() {
    let limit = Limit::parse("<= 20 %", Unit::Share).unwrap();
    assert!((limit.margin(0.15) - 0.25).abs() < 1e-12);
    assert!((limit.margin(0.30) + 0.5).abs() < 1e-12);
    let none = Limit::parse("<= 0 %", Unit::Share).unwrap();
    assert!((none.margin(0.1) + 0.1).abs() < 1e-12, "nothing to be a part of");
}

#[test]
fn reads_a_file_in_its_order() {
    let text = "\
[sleep]
share = '>= 40 %'
[function.wave_filter]
self_share = { limit = '<= 18 %', over = '>= 10000 samples' }
[function.\"src/dsp.c#clamp\"]
self_share = '<= 1 %'
[recording]
samples = '>= 20000'
";
    let file = BudgetFile::parse("budgets.toml", text).unwrap();
    let seen: Vec<(usize, &str, &str)> =
        file.budgets.iter().map(|b| (b.line, b.subject.as_str(), b.key)).collect();
    assert_eq!(
        seen,
        [
            (2, "sleep", "share"),
            (4, "function.wave_filter", "self_share"),
            (6, "function.src/dsp.c#clamp", "self_share"),
            (8, "recording", "samples"),
        ]
    );
    assert_eq!(file.budgets[1].condition.over, Some(10_000));
}

proptest! {
    #[test]
    fn any_text_is_an_answer(text in any::<String>()) {
        let _ = BudgetFile::parse("any", &text).map_err(|fault| fault.to_string());
    }

    #[test]
    fn any_limit_is_an_answer(text in "[<>=+0-9. %a-z-]{0,16}") {
        if let Ok(limit) = Limit::parse(&text, Unit::Share) {
            // Holding for all and failing for all exclude each other.
            prop_assert!(!(limit.holds_for_all(0.2, 0.3) && limit.fails_for_all(0.2, 0.3)));
        }
    }
}

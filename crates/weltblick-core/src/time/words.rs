//! Stretches of time in words: a unit that fits, and enough digits to compare.

/// Nanoseconds as `12.4 us`: three or four significant digits.
#[must_use]
pub fn duration_ns(ns: f64) -> String {
    let (scale, unit) = unit(ns);
    format!("{} {unit}", significant(ns / scale))
}

/// Nanoseconds from one to another, as `3.30..92.5 us`.
#[must_use]
pub fn range_ns(low: f64, high: f64) -> String {
    let (scale, unit) = unit(high);
    format!("{}..{} {unit}", significant(low / scale), significant(high / scale))
}

/// How many nanoseconds the unit that fits has, and its name.
fn unit(ns: f64) -> (f64, &'static str) {
    match ns.abs() {
        // What would round to the next unit is shown in it.
        size if size >= 59.95e9 => (60e9, "min"),
        size if size >= 999.5e6 => (1e9, "s"),
        size if size >= 999.5e3 => (1e6, "ms"),
        size if size >= 999.5 => (1e3, "us"),
        _ => (1.0, "ns"),
    }
}

fn significant(value: f64) -> String {
    let decimals = match value.abs() {
        size if size >= 100.0 => 0,
        size if size >= 10.0 => 1,
        size if size > 0.0 => 2,
        _ => 0,
    };
    format!("{value:.decimals$}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_and_digits_fit() {
        for (ns, text) in [
            (0.0, "0 ns"),
            (7.0, "7.00 ns"),
            (12_412.0, "12.4 us"),
            (1_000_000.0, "1.00 ms"),
            (999_960_000.0, "1.00 s"),
            (999_400_000.0, "999 ms"),
            (3e9, "3.00 s"),
            (120e9, "2.00 min"),
        ] {
            assert_eq!(duration_ns(ns), text);
        }
    }
}

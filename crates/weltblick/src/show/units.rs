//! Numbers with a unit that fits and enough digits to compare.

use weltblick_core::measure::known::Part;
pub(crate) use weltblick_core::time::{duration_ns, range_ns};

/// A fraction as `12.40`, in per cent without the sign.
pub(crate) fn percent(fraction: f64) -> String {
    format!("{:.2}", 100.0 * fraction)
}

/// A fraction as `18.2 %`.
pub(crate) fn share(fraction: f64) -> String {
    format!("{:.1} %", 100.0 * fraction)
}

/// So many stretches, in words.
pub(crate) fn stretch_count(number: u64) -> String {
    match number {
        1 => "1 stretch".to_owned(),
        more => format!("{} stretches", count(more)),
    }
}

/// A count in groups of three: `12 345`.
pub(crate) fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut grouped = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            grouped.push(' ');
        }
        grouped.push(digit);
    }
    grouped
}

/// A value of any size, with five significant digits; whole numbers up to nine digits in full.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Number(pub(crate) f64);

impl std::fmt::Display for Number {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let value = self.0;
        let size = value.abs();
        if size < 1e9 && value.fract() == 0.0 {
            return f.pad(&format!("{value:.0}"));
        }
        if !(1e-4..1e9).contains(&size) {
            return f.pad(&format!("{value:.3e}"));
        }
        let before = size.log10().floor() as i32 + 1;
        let decimals = (5 - before).clamp(0, 8) as usize;
        let text = format!("{value:.decimals$}");
        let short = text.trim_end_matches('0').trim_end_matches('.');
        f.pad(if text.contains('.') { short } else { &text })
    }
}

/// A column's height in eighths; something is never drawn as nothing.
pub(crate) fn level(fraction: f64) -> char {
    const LEVELS: [char; 9] = [
        ' ', '\u{2581}', '\u{2582}', '\u{2583}', '\u{2584}', '\u{2585}', '\u{2586}', '\u{2587}',
        '\u{2588}',
    ];
    if fraction <= 0.0 { ' ' } else { LEVELS[(fraction * 8.0).round().clamp(1.0, 8.0) as usize] }
}

/// A part, as a range where much may be otherwise.
pub(crate) fn part(part: &Part) -> String {
    let &Part { share: seen, share_low, share_high } = part;
    if is_narrow(part) {
        return share(seen);
    }
    // Bounds that wide say less than what was seen.
    if share_high - share_low >= 0.5 {
        return format!("~{}", share(seen));
    }
    format!("{:.1}..{:.1} %", 100.0 * share_low, 100.0 * share_high)
}

/// Whether a part is known well enough for one number.
pub(crate) fn is_narrow(part: &Part) -> bool {
    part.share_high - part.share_low < 0.005
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thousands_stand_apart() {
        assert_eq!(count(1_234_567), "1 234 567");
        assert_eq!(count(999), "999");
    }

    #[test]
    fn values_keep_the_digits_that_tell() {
        for (value, text) in [
            (0.0, "0"),
            (3712.0, "3712"),
            (-5.0, "-5"),
            (123_456_789.0, "123456789"),
            (3.712_34, "3.7123"),
            (0.001_25, "0.00125"),
            (2.5e-7, "2.500e-7"),
            (1.5e12, "1.500e12"),
            (12_345.678, "12346"),
            (0.5, "0.5"),
        ] {
            assert_eq!(Number(value).to_string(), text);
        }
        assert_eq!(format!("{:>5}", Number(1.5)), "  1.5");
    }

    #[test]
    fn something_is_never_drawn_as_nothing() {
        assert_eq!(level(0.0), ' ');
        assert_eq!(level(0.001), '\u{2581}');
        assert_eq!(level(0.5), '\u{2584}');
        assert_eq!(level(1.0), '\u{2588}');
    }
}

//! What an earlier recording of the same firmware says: how busy the core is, and with what.

use std::ops::Range;

/// Shares of time from an earlier recording.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Measured {
    /// The share of time that the core slept.
    pub asleep: f64,
    /// Functions and their shares of all time, largest first: a name that plans and captures find,
    /// where it is, and its share.
    pub functions: Vec<(String, Range<u64>, f64)>,
}

impl Measured {
    /// The share of the time awake that is spent in these ranges.
    pub(super) fn share_inside(&self, ranges: &[Range<u64>]) -> f64 {
        let touches = |code: &Range<u64>| {
            ranges.iter().any(|range| range.start < code.end && code.start < range.end)
        };
        let inside = self.functions.iter().filter(|(_, code, _)| touches(code));
        self.of_awake(inside.map(|(.., share)| share).sum())
    }

    /// A share of all time as one of the time awake.
    pub(super) fn of_awake(&self, share: f64) -> f64 {
        (share / (1.0 - self.asleep).max(1e-9)).clamp(0.0, 1.0)
    }
}

#[cfg(test)]
#[allow(clippy::single_range_in_vec_init, reason = "lists of ranges are what is tested")]
mod tests {
    use super::*;

    #[test]
    fn shares_are_of_the_time_awake() {
        let function = |start, share| (String::new(), start..start + 16, share);
        let measured =
            Measured { asleep: 0.75, functions: vec![function(0, 0.2), function(32, 0.05)] };
        assert!((measured.share_inside(&[8..40]) - 1.0).abs() < 1e-9);
        assert!((measured.share_inside(&[40..48]) - 0.2).abs() < 1e-9);
        assert_eq!(measured.share_inside(&[16..32]), 0.0);
        assert_eq!(Measured { asleep: 1.0, functions: Vec::new() }.of_awake(0.0), 0.0);
    }
}

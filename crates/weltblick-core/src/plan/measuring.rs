//! How long to measure.

use crate::stats::normal_critical;

/// The confidence of the intervals that are planned for.
const CONFIDENCE: f64 = 0.95;

/// Independent samples until a share is known to `within` either way: the normal approximation of
/// the binomial (W. G. Cochran, *Sampling Techniques*, section 4.4).
#[must_use]
pub fn samples_needed(share: f64, within: f64) -> u64 {
    let critical = normal_critical(CONFIDENCE);
    (critical * critical * share * (1.0 - share) / (within * within)).ceil().max(1.0) as u64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn agrees_with_the_formula() {
        assert_eq!(samples_needed(0.5, 0.05), 385);
        assert_eq!(samples_needed(0.05, 0.005), 7299);
        assert_eq!(samples_needed(1.0, 0.01), 1);
    }
}

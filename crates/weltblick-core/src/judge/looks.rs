//! Looking at a recording while it grows.
//!
//! Who looks again and again, and stops when he likes what he sees, sees a wrong verdict some time. So the doubt that is
//! allowed is spent in ever smaller parts: `1 / (k (k + 1))` of it at look `k`, which comes to all of it over any number of
//! looks. The recording's journal counts them, and whoever judges it afterwards spends what the last look spent.

/// The confidence of one look, where all looks together are to have `confidence`; look 0 is a judgement of a recording
/// that nobody looked at.
#[must_use]
pub fn confidence_at_look(confidence: f64, look: u32) -> f64 {
    if look == 0 {
        return confidence;
    }
    let k = f64::from(look);
    1.0 - (1.0 - confidence) / (k * (k + 1.0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_looks_together_keep_the_confidence() {
        let spent: f64 = (1..100_000).map(|look| 1.0 - confidence_at_look(0.95, look)).sum();
        assert!((0.0499..=0.05 + 1e-9).contains(&spent), "{spent}");
        assert_eq!(confidence_at_look(0.95, 0), 0.95);
        assert!((confidence_at_look(0.95, 1) - 0.975).abs() < 1e-12);
    }
}

//! The share of samples in a category, with an interval that knows that samples depend on each
//! other.
//!
//! 1. *Batch means* give the variance of the share as it is, serial dependence included (see
//!    [`super::Batches`], joined here to 16 to 31 long ones). Its ratio to the variance of independent samples is the design effect.
//! 2. The number of samples divided by the design effect is the *effective* number of independent
//!    samples. It is never taken as larger than the real number: where periodic samples spread
//!    more evenly than independent ones would, the interval stays on the safe side.
//! 3. *Wilson's score interval* (E. B. Wilson, "Probable inference, the law of succession, and
//!    statistical inference", JASA 22, 1927) with that effective number, and with the critical
//!    value of Student's t for the number of batches, since the variance itself is an estimate.

use super::t_table::{normal_critical, student_critical};

/// So many batches tell a spread: more are joined into longer ones.
const ENOUGH_BATCHES: usize = 16;
/// Fewer batches than this say nothing about dependence.
const FEWEST_BATCHES: usize = 8;

/// A share between 0 and 1, and where the true one lies with the given confidence.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ShareEstimate {
    /// Samples in the category over all samples.
    pub share: f64,
    /// Lower end of the interval.
    pub low: f64,
    /// Upper end of the interval.
    pub high: f64,
    /// How many independent samples would tell as much.
    pub effective_samples: f64,
    /// The critical value behind the interval, in standard deviations.
    pub critical: f64,
    /// How much samples depend on each other is assumed, not seen: there are too few of them, no hit, or nothing but
    /// hits.
    pub is_assumed: bool,
}

/// Estimates a share: `hits` of `samples`, of which `per_batch` in each full batch of
/// `batch_size`. `None` without samples.
#[must_use]
pub fn estimate_share(
    hits: u64,
    samples: u64,
    per_batch: &[u64],
    batch_size: u32,
    confidence: f64,
) -> Option<ShareEstimate> {
    estimate_share_with(hits, samples, per_batch, batch_size, confidence, None)
}

/// Estimates a share where other rows have at most this design effect.
///
/// Below eight batches nothing says how samples depend on each other: those of a batch are taken to be one. Without a
/// hit, or with nothing but hits, the `borrowed` effect of other rows is taken.
#[must_use]
pub fn estimate_share_with(
    hits: u64,
    samples: u64,
    per_batch: &[u64],
    batch_size: u32,
    confidence: f64,
    borrowed: Option<f64>,
) -> Option<ShareEstimate> {
    if samples == 0 {
        return None;
    }
    let n = samples as f64;
    let share = hits as f64 / n;
    let known = per_batch.len() >= FEWEST_BATCHES;
    let is_assumed = !known || hits == 0 || hits == samples;
    let whole_batches = f64::from(batch_size).min(n);
    let (effect, critical) = if known {
        let (joined, size) = join_to_long_batches(per_batch, batch_size);
        let freedom = joined.len() as f64 - 1.0;
        let seen = design_effect(&joined, size);
        let effect = if is_assumed { borrowed.unwrap_or(1.0).max(seen) } else { seen };
        (effect, student_critical(confidence, freedom))
    } else {
        (borrowed.unwrap_or(1.0).max(whole_batches), normal_critical(confidence))
    };
    let effective = n / effect;
    let (low, high) = wilson(share, effective, critical);
    Some(ShareEstimate { share, low, high, effective_samples: effective, critical, is_assumed })
}

/// Neighbouring batches joined while 16 remain: the longer a batch, the less it depends on its
/// neighbours, and 16 batches or more still tell a spread.
fn join_to_long_batches(per_batch: &[u64], batch_size: u32) -> (Vec<u64>, f64) {
    let mut joined = per_batch.to_vec();
    let mut size = f64::from(batch_size);
    while joined.len() >= 2 * ENOUGH_BATCHES {
        joined = joined.chunks_exact(2).map(|pair| pair.iter().sum()).collect();
        size *= 2.0;
    }
    (joined, size)
}

/// How many dependent samples tell as much as one independent one; at least 1.
fn design_effect(per_batch: &[u64], size: f64) -> f64 {
    let batches = per_batch.len() as f64;
    let mean = per_batch.iter().sum::<u64>() as f64 / (batches * size);
    let independent = mean * (1.0 - mean) / size;
    if independent <= 0.0 {
        return 1.0;
    }
    let spread: f64 = per_batch.iter().map(|&hits| (hits as f64 / size - mean).powi(2)).sum();
    (spread / (batches - 1.0) / independent).max(1.0)
}

/// Wilson's score interval for a share seen in `n` independent samples.
fn wilson(share: f64, n: f64, critical: f64) -> (f64, f64) {
    let z2 = critical * critical;
    let centre = (share + z2 / (2.0 * n)) / (1.0 + z2 / n);
    let half = critical / (1.0 + z2 / n) * (share * (1.0 - share) / n + z2 / (4.0 * n * n)).sqrt();
    ((centre - half).clamp(0.0, share), (centre + half).clamp(share, 1.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::Batches;

    #[test]
    fn wilson_agrees_with_a_printed_example() {
        // 10 of 100 at 95 %: 0.0552 to 0.1744 (Newcombe, Statistics in Medicine 17, 1998).
        let (low, high) = wilson(0.1, 100.0, normal_critical(0.95));
        assert!((low - 0.0552).abs() < 1e-4 && (high - 0.1744).abs() < 1e-4, "{low} {high}");
    }

    #[test]
    fn nothing_and_everything_have_intervals_too() {
        let none = estimate_share(0, 1000, &[], 16, 0.95).unwrap();
        // Nothing says how samples depend on each other: those of a batch are one.
        assert!(none.low == 0.0 && none.high > 0.05 && none.high < 0.06 && none.is_assumed);
        let all = estimate_share(1000, 1000, &[], 16, 0.95).unwrap();
        assert!(all.high == 1.0 && all.low < 0.95);
        assert_eq!(estimate_share(0, 0, &[], 16, 0.95), None);
    }

    /// A source that stays in one of two states for a while: samples depend on their neighbours.
    fn sticky(state: &mut u64, stay: u64, now: &mut usize) -> usize {
        *state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        if (*state >> 33).is_multiple_of(stay) {
            *now = usize::from((*state >> 20).is_multiple_of(4));
        }
        *now
    }

    #[test]
    fn the_true_share_is_inside_about_as_often_as_promised() {
        for stay in [1, 10, 100] {
            let mut inside = 0;
            let runs = 300;
            let mut state = 12_345;
            for _ in 0..runs {
                let (mut batches, mut now) = (Batches::default(), 0);
                for _ in 0..20_000 {
                    batches.add(sticky(&mut state, stay, &mut now));
                }
                let per_batch = batches.per_batch(&[1]);
                let estimate = estimate_share(
                    batches.count(1),
                    batches.total(),
                    &per_batch,
                    batches.batch_size(),
                    0.95,
                )
                .unwrap();
                inside += usize::from(estimate.low <= 0.25 && 0.25 <= estimate.high);
            }
            let rate = inside as f64 / f64::from(runs);
            assert!(rate > 0.90, "dependence over {stay} samples: {rate} inside");
        }
    }
}

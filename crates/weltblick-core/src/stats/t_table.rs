//! Critical values of the normal and Student's t distribution.

use statrs::distribution::{ContinuousCDF, Normal, StudentsT};

/// The two-sided critical value of the normal distribution: 1.96 for a confidence of 0.95.
///
/// `confidence` is clamped to 0.5 ..= 1 - 1e-9.
#[must_use]
pub fn normal_critical(confidence: f64) -> f64 {
    let normal = Normal::new(0.0, 1.0).expect("mean 0 and deviation 1 are valid");
    normal.inverse_cdf(upper_tail(confidence))
}

/// The two-sided critical value of Student's t with so many degrees of freedom (at least 1).
#[must_use]
pub fn student_critical(confidence: f64, freedom: f64) -> f64 {
    let student = StudentsT::new(0.0, 1.0, freedom.max(1.0)).expect("freedom is at least 1");
    student.inverse_cdf(upper_tail(confidence))
}

fn upper_tail(confidence: f64) -> f64 {
    (1.0 + confidence.clamp(0.5, 1.0 - 1e-9)) / 2.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn agrees_with_printed_tables() {
        assert!((normal_critical(0.95) - 1.959_964).abs() < 1e-5);
        assert!((normal_critical(0.99) - 2.575_829).abs() < 1e-5);
        assert!((student_critical(0.95, 10.0) - 2.228_139).abs() < 1e-4);
        assert!((student_critical(0.95, 31.0) - 2.039_513).abs() < 1e-4);
    }
}

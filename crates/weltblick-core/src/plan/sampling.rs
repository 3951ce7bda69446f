//! PC sampling periods of the DWT (DDI 0403E, C1.8.8): a tap of the cycle counter at bit 6 or
//! bit 10, divided by 1 to 16.

/// The shortest period of at least `cycles` that the hardware offers; `None` beyond the longest.
#[must_use]
pub fn next_sampling_period(cycles: u64) -> Option<u64> {
    let fast = (1..=16).map(|reload| 64 * reload);
    let slow = (1..=16).map(|reload| 1024 * reload);
    fast.chain(slow).find(|&period| period >= cycles)
}

/// How many places of something that repeats every `cycles` a sampler of so many cycles visits,
/// if both are exact. `None` where the repetition is no whole number of cycles: then the places
/// wander.
#[must_use]
pub fn sampling_places(period: u64, cycles: f64) -> Option<u64> {
    let whole = cycles.round();
    if !(1.0..=1e15).contains(&whole) || (cycles - whole).abs() > 1e-6 * cycles.max(1.0) {
        return None;
    }
    let whole = whole as u64;
    let (mut a, mut b) = (whole, period);
    while b != 0 {
        (a, b) = (b, a % b);
    }
    Some(whole / a.max(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_the_places_that_samples_land_on() {
        assert_eq!(sampling_places(1024, 48_000.0), Some(375));
        assert_eq!(sampling_places(16_384, 16_384.0 * 4.0), Some(4));
        assert_eq!(sampling_places(1024, 47_972.352), None);
    }

    #[test]
    fn offers_the_next_longer_period() {
        for (wanted, offered) in [
            (1, Some(64)),
            (65, Some(128)),
            (1024, Some(1024)),
            (1025, Some(2048)),
            (16_384, Some(16_384)),
            (16_385, None),
        ] {
            assert_eq!(next_sampling_period(wanted), offered);
        }
    }
}

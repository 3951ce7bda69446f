//! PC sampling periods of the DWT (DDI 0403E, C1.8.8): a tap of the cycle counter at bit 6 or
//! bit 10, divided by 1 to 16.

/// The shortest period of at least `cycles` that the hardware offers; `None` beyond the longest.
#[must_use]
pub fn next_sampling_period(cycles: u64) -> Option<u64> {
    let fast = (1..=16).map(|reload| 64 * reload);
    let slow = (1..=16).map(|reload| 1024 * reload);
    fast.chain(slow).find(|&period| period >= cycles)
}

#[cfg(test)]
mod tests {
    use super::*;

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

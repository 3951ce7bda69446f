//! Whether the cycle counts of an instruction trace agree with its timestamps.
//!
//! Both count time between two timestamps. Where packets vanished without a trace, what was read on may be sound, and
//! still lack cycles that the timestamps have: the formats have no checksums, but they have two clocks.

use crate::flow::{Block, Moment, Sink};

/// Intervals between timestamps that are kept: of more, every second is joined with the next.
const MOST_INTERVALS: usize = 8192;
/// Fewer say no usual ratio.
const FEWEST_INTERVALS: usize = 8;
/// Counts and timestamps belong to slightly different moments: so many cycles may be told one interval later.
const SLACK: f64 = 4096.0;
/// The two clocks may drift apart by this part.
const DRIFT: f64 = 0.005;

/// Follows cycle counts and timestamps.
#[derive(Debug, Default)]
pub struct TimeAgreement {
    cycles: u64,
    /// The last timestamp, and the cycles up to it; absent after a gap.
    last: Option<(u64, u64)>,
    /// Timestamp ticks and cycles of each interval.
    intervals: Vec<(u64, u64)>,
}

impl Sink for TimeAgreement {
    fn ran(&mut self, _: &Block, _: bool) {}

    fn moment(&mut self, _: u64, moment: &Moment) {
        match *moment {
            Moment::Cycles(Some(cycles)) => self.cycles += u64::from(cycles),
            Moment::Cycles(None) | Moment::Gap(_) => self.last = None,
            Moment::Time { value, cycles } if value > 0 => {
                let now = (value, self.cycles + u64::from(cycles.unwrap_or(0)));
                if let Some(last) = self.last.replace(now) {
                    // A timestamp that goes back is a reset, or damage: no interval at all.
                    self.add(now.0.checked_sub(last.0), now.1 - last.1);
                }
            }
            _ => {}
        }
    }
}

impl TimeAgreement {
    fn add(&mut self, ticks: Option<u64>, cycles: u64) {
        let Some(ticks) = ticks else { return self.intervals.push((u64::MAX, cycles)) };
        self.intervals.push((ticks, cycles));
        if self.intervals.len() >= MOST_INTERVALS {
            let join = |pair: &[(u64, u64)]| {
                pair.iter().fold((0, 0), |all: (u64, u64), one| {
                    (all.0.saturating_add(one.0), all.1.saturating_add(one.1))
                })
            };
            self.intervals = self.intervals.chunks(2).map(join).collect();
        }
    }

    /// In how many intervals between timestamps cycles are missing, or too many.
    #[must_use]
    pub fn contradictions(&self) -> u64 {
        let mut ratios: Vec<f64> = self
            .intervals
            .iter()
            .filter(|(ticks, cycles)| *ticks != u64::MAX && *cycles > 0)
            .map(|&(ticks, cycles)| ticks as f64 / cycles as f64)
            .collect();
        if ratios.len() < FEWEST_INTERVALS {
            return 0;
        }
        let middle = ratios.len() / 2;
        let (_, &mut usual, _) = ratios.select_nth_unstable_by(middle, f64::total_cmp);
        let is_off = |&&(ticks, cycles): &&(u64, u64)| {
            let expected = cycles as f64 * usual;
            ticks == u64::MAX || (ticks as f64 - expected).abs() > usual * SLACK + DRIFT * expected
        };
        self.intervals.iter().filter(is_off).count() as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::flow::Gap;

    fn contradictions(counts: &[(u32, u64)], gap_at: usize) -> u64 {
        let (mut agreement, mut now) = (TimeAgreement::default(), 1000);
        for (number, &(cycles, ticks)) in counts.iter().enumerate() {
            if number == gap_at {
                agreement.moment(0, &Moment::Gap(Gap::Missing));
            }
            now += ticks;
            agreement.moment(0, &Moment::Cycles(Some(cycles)));
            agreement.moment(0, &Moment::Time { value: now, cycles: Some(0) });
        }
        agreement.contradictions()
    }

    #[test]
    fn cycles_that_vanish_between_timestamps_are_missed() {
        let mut counts = vec![(100_000, 50_000_u64); 40];
        assert_eq!(contradictions(&counts, usize::MAX), 0);
        counts[20].1 += 30_000; // 60000 cycles that no count has
        assert_eq!(contradictions(&counts, usize::MAX), 1);
        // Across a gap nothing is compared.
        assert_eq!(contradictions(&counts, 20), 0);
        assert_eq!(contradictions(&counts[..4], usize::MAX), 0, "too few to know the ratio");
    }
}

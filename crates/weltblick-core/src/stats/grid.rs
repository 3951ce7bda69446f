//! The grid behind a periodic event that is sometimes late: when it was due.
//!
//! An event that is asked for every period and served late or in time, but never early, lies on or
//! above a straight line over the number of the request. The line that stays below all of them and
//! is nearest to them is an edge of their lower convex hull: the one above their mean number (the
//! linear programme of Moon, Skelly and Towsley, INFOCOM 1999, for clocks that drift apart). What an
//! event lies above it is how late it was, beyond what even the earliest ones waited.

/// Fewer events than this fit any grid.
const FEWEST: usize = 16;
/// An event may lie before its place on the grid by this part of a period.
const EARLY: f64 = 0.1;
/// Half of the events must be in time: not later than this part of a period.
const IN_TIME: f64 = 0.05;

/// When periodic events were due.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid {
    /// When the first was due, on the scale of the times.
    pub origin: f64,
    /// From each to the next.
    pub period: f64,
    /// The number of each event's place, from 0.
    pub places: Vec<u64>,
}

impl Grid {
    /// The grid of these times, which rise; `None` if they follow none.
    #[must_use]
    pub fn fit(times: &[f64]) -> Option<Self> {
        if times.len() < FEWEST {
            return None;
        }
        let mut grid = Self::start(times)?;
        // A period that is known over few places finds the places of four times as many.
        let mut known = FEWEST;
        loop {
            let part = &times[..known.min(times.len())];
            grid.find_places(part);
            grid.lay_below(part)?;
            if known >= times.len() {
                break;
            }
            known *= 4;
        }
        grid.holds(times).then_some(grid)
    }

    /// How late each event was.
    pub fn delays(&self, times: &[f64]) -> impl Iterator<Item = f64> {
        times.iter().zip(&self.places).map(|(time, &place)| (time - self.due(place)).max(0.0))
    }

    /// When the event of a place was due.
    #[must_use]
    pub fn due(&self, place: u64) -> f64 {
        self.origin + self.period * place as f64
    }

    fn start(times: &[f64]) -> Option<Self> {
        let mut between: Vec<f64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let middle = between.len() / 2;
        let (_, &mut period, _) = between.select_nth_unstable_by(middle, f64::total_cmp);
        (period > 0.0).then(|| Self {
            origin: times[0],
            period,
            places: Vec::with_capacity(times.len()),
        })
    }

    fn find_places(&mut self, times: &[f64]) {
        self.places.clear();
        let per_place = 1.0 / self.period;
        for &time in times {
            let place = ((time - self.origin) * per_place + EARLY) as u64;
            // One that was late by almost a period takes the place before it.
            if let [.., before, last] = *self.places.as_slice()
                && last == place
                && last > before + 1
            {
                let at = self.places.len() - 1;
                self.places[at] -= 1;
            }
            self.places.push(place);
        }
    }

    /// Lays the line below all points.
    fn lay_below(&mut self, times: &[f64]) -> Option<()> {
        // Two events in one place: they follow no grid.
        if self.places.windows(2).any(|pair| pair[0] >= pair[1]) {
            return None;
        }
        let mean = self.places.iter().sum::<u64>() as f64 / self.places.len() as f64;
        let mut hull: Vec<(f64, f64)> = Vec::new();
        for (&place, &time) in self.places.iter().zip(times) {
            let point = (place as f64, time);
            while let [.., a, b] = *hull.as_slice()
                && (b.0 - a.0) * (point.1 - a.1) <= (point.0 - a.0) * (b.1 - a.1)
            {
                hull.pop();
            }
            hull.push(point);
        }
        let edge = hull.windows(2).find(|edge| edge[1].0 >= mean)?;
        self.period = (edge[1].1 - edge[0].1) / (edge[1].0 - edge[0].0);
        self.origin = edge[0].1 - self.period * edge[0].0;
        (self.period > 0.0).then_some(())
    }

    fn holds(&self, times: &[f64]) -> bool {
        let in_time = self.delays(times).filter(|delay| *delay <= IN_TIME * self.period).count();
        2 * in_time >= times.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn few_and_irregular_events_follow_no_grid() {
        let few: Vec<f64> = (0..15).map(|n| f64::from(n) * 100.0).collect();
        assert_eq!(Grid::fit(&few), None);
        let squares: Vec<f64> = (0..200).map(|n| f64::from(n * n)).collect();
        assert_eq!(Grid::fit(&squares), None);
        assert_eq!(Grid::fit(&[5.0; 40]), None);
    }

    #[test]
    fn one_that_is_almost_a_period_late_is_seen_as_that() {
        let mut times: Vec<f64> = (0..500).map(|n| f64::from(n) * 12_000.0).collect();
        times[317] += 11_500.0;
        let grid = Grid::fit(&times).unwrap();
        let delays: Vec<f64> = grid.delays(&times).collect();
        assert!((delays[317] - 11_500.0).abs() < 1.0, "{}", delays[317]);
        assert!(delays.iter().filter(|delay| **delay > 1.0).count() == 1);
        assert!(grid.places.iter().copied().eq(0..500));
    }

    proptest! {
        /// Late ones, missed ones and drift: the grid is where it was.
        #[test]
        fn finds_the_grid_below(
            period in 500.0..50_000.0_f64,
            drift in -50e-6..50e-6_f64,
            late in prop::collection::vec((0_u8..10, 0.0..0.8_f64, any::<bool>()), 40..1200),
        ) {
            let mut times = Vec::new();
            let (mut due, mut places) = (Vec::new(), Vec::new());
            for (place, &(dice, part, missed)) in late.iter().enumerate() {
                if missed && dice == 9 && place > 0 {
                    continue;
                }
                let when = 1000.0 + period * (1.0 + drift) * place as f64;
                let is_late = dice >= 8 && place > 0;
                due.push(when);
                places.push(place as u64);
                times.push(when + if is_late { part * period } else { f64::from(dice % 8) });
            }
            let grid = Grid::fit(&times).unwrap();
            for ((time, due), found) in times.iter().zip(&due).zip(grid.delays(&times)) {
                prop_assert!((time - due - found).abs() < 10.0, "{} {found}", time - due);
            }
            prop_assert_eq!(&grid.places, &places);
        }
    }
}

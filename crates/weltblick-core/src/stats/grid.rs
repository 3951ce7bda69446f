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

/// A grid that covers more places than this part of its events is not that of the events before.
const SPARSE: f64 = 1.5;

/// So many events in a row, most of them late, may follow another grid.
const ROW: usize = 32;
/// Periods that differ by no more than this part are one: clocks drift, and few events tell no more.
const SAME_PERIOD: f64 = 5e-4;

/// When periodic events were due, without an end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Line {
    /// When the first was due, on the scale of the times.
    pub origin: f64,
    /// From each to the next.
    pub period: f64,
}

impl Line {
    /// When the event of a place was due.
    #[must_use]
    pub fn due(&self, place: u32) -> f64 {
        self.origin + self.period * f64::from(place)
    }

    /// The same line where the first event was due shortly before `time`.
    #[must_use]
    pub fn from(self, time: f64) -> Self {
        let places = ((time - self.origin) / self.period + EARLY).floor();
        Self { origin: self.origin + self.period * places, ..self }
    }
}

/// When these periodic events were due.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid {
    /// The line below all of them.
    pub line: Line,
    /// The number of each event's place, from 0.
    pub places: Vec<u32>,
}

impl Grid {
    /// Events around a change of the period that lie on no grid.
    pub const TURN: usize = 3 * ROW;

    /// The grid of these times, which rise; `None` if they follow none. Mostly events go on as those
    /// `before` them.
    #[must_use]
    pub fn fit(times: &[f64], before: Option<Line>) -> Option<Self> {
        if times.len() < FEWEST {
            return None;
        }
        before.and_then(|before| Self::go_on(times, before)).or_else(|| Self::begin(times))
    }

    /// The grid of events that nothing is known of.
    fn begin(times: &[f64]) -> Option<Self> {
        let mut between: Vec<f64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let middle = between.len() / 2;
        let (_, &mut period, _) = between.select_nth_unstable_by(middle, f64::total_cmp);
        if period <= 0.0 {
            return None;
        }
        let places = Vec::with_capacity(times.len());
        let mut grid = Self { line: Line { origin: times[0], period }, places };
        // A period that is known over few places finds the places of four times as many.
        let mut known = FEWEST;
        loop {
            let part = &times[..known.min(times.len())];
            grid.find_places(part)?;
            grid.lay_below(part)?;
            if known >= times.len() {
                break;
            }
            known *= 4;
        }
        grid.holds(times).then_some(grid)
    }

    /// The grid of events that may follow the line of those before them.
    fn go_on(times: &[f64], before: Line) -> Option<Self> {
        let places = Vec::with_capacity(times.len());
        let mut grid = Self { line: before.from(times[0]), places };
        grid.find_places(times)?;
        grid.lay_below(times)?;
        let covered = grid.places.last().map_or(0, |last| last + 1);
        let dense = f64::from(covered) <= SPARSE * times.len() as f64;
        (dense && grid.holds(times)).then_some(grid)
    }

    /// How late each event was.
    pub fn delays(&self, times: &[f64]) -> impl Iterator<Item = f64> {
        times.iter().zip(&self.places).map(|(time, &place)| (time - self.line.due(place)).max(0.0))
    }

    /// The grid of the first of these events, and of how many: all, unless the period is set anew midway. Then the
    /// events around that lie on neither grid, and [`Self::TURN`] of those that come next on none that is known.
    #[must_use]
    pub fn fit_first(times: &[f64], before: Option<Line>) -> (Option<Self>, usize) {
        let whole = Self::fit(times, before);
        let mut covers = match &whole {
            Some(grid) => grid.departs(times).unwrap_or(times.len()),
            None => 0,
        };
        if covers == times.len() {
            return (whole, covers);
        }
        if whole.is_none() {
            let ends = (2 * ROW..times.len()).step_by(ROW);
            let is_one = |end: &usize| {
                let grid = Self::fit(&times[..*end], before);
                grid.is_some_and(|grid| grid.departs(&times[..*end]).is_none())
            };
            let last = ends.take_while(is_one).last();
            covers = last.map_or(times.len(), |last| last - ROW);
        }
        (Self::fit(&times[..covers], before), covers)
    }

    /// Where events leave this grid for one with another period, or a little before.
    ///
    /// A timer whose period goes from 1000 to 1100 makes events that lie 100, 200, ... above the line of before. What
    /// gives it away is that they lie on a line of their own. Events that only are late lie on none, or on one with the
    /// same period.
    fn departs(&self, times: &[f64]) -> Option<usize> {
        let latest = IN_TIME * self.line.period;
        let late: Vec<bool> = self.delays(times).map(|delay| delay > latest).collect();
        if !late.contains(&true) {
            return None;
        }
        let rows = (0..times.len() / ROW).map(|row| row * ROW..(row + 1) * ROW);
        let last = times.len().saturating_sub(FEWEST)..times.len();
        let other = rows.chain([last]).find(|row| {
            let count = late[row.clone()].iter().filter(|is| **is).count();
            let other = (2 * count > row.len()).then(|| Self::begin(&times[row.clone()])).flatten();
            other.is_some_and(|other| {
                (other.line.period / self.line.period - 1.0).abs() > SAME_PERIOD
            })
        })?;
        // A few of the row before may lie on the other, too.
        Some(other.start.saturating_sub(ROW))
    }

    /// `None` if two events share a place: they follow no grid.
    fn find_places(&mut self, times: &[f64]) -> Option<()> {
        self.places.clear();
        let Line { origin, period } = self.line;
        let per_place = 1.0 / period;
        let (mut before, mut last) = (-1, -1);
        for &time in times {
            let place = ((time - origin) * per_place + EARLY) as i64;
            // One that was late by almost a period takes the place before it.
            if place == last && last > before + 1 {
                last -= 1;
                *self.places.last_mut()? -= 1;
            }
            if place <= last {
                return None;
            }
            self.places.push(u32::try_from(place).ok()?);
            (before, last) = (last, place);
        }
        Some(())
    }

    /// Lays the line below all points.
    fn lay_below(&mut self, times: &[f64]) -> Option<()> {
        let sum: u64 = self.places.iter().map(|&place| u64::from(place)).sum();
        let mean = sum as f64 / self.places.len() as f64;
        let mut hull: Vec<(f64, f64)> = Vec::with_capacity(64);
        for (&place, &time) in self.places.iter().zip(times) {
            let point = (f64::from(place), time);
            while let [.., a, b] = *hull.as_slice()
                && (b.0 - a.0) * (point.1 - a.1) <= (point.0 - a.0) * (b.1 - a.1)
            {
                hull.pop();
            }
            hull.push(point);
        }
        let edge = hull.windows(2).find(|edge| edge[1].0 >= mean)?;
        let period = (edge[1].1 - edge[0].1) / (edge[1].0 - edge[0].0);
        self.line = Line { origin: edge[0].1 - period * edge[0].0, period };
        (period > 0.0).then_some(())
    }

    fn holds(&self, times: &[f64]) -> bool {
        let latest = IN_TIME * self.line.period;
        let in_time: usize = self.delays(times).map(|delay| usize::from(delay <= latest)).sum();
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
        assert_eq!(Grid::fit(&few, None), None);
        let squares: Vec<f64> = (0..200).map(|n| f64::from(n * n)).collect();
        assert_eq!(Grid::fit(&squares, None), None);
        assert_eq!(Grid::fit(&[5.0; 40], None), None);
    }

    #[test]
    fn one_that_is_almost_a_period_late_is_seen_as_that() {
        let mut times: Vec<f64> = (0..500).map(|n| f64::from(n) * 12_000.0).collect();
        times[317] += 11_500.0;
        let grid = Grid::fit(&times, None).unwrap();
        let delays: Vec<f64> = grid.delays(&times).collect();
        assert!((delays[317] - 11_500.0).abs() < 1.0, "{}", delays[317]);
        assert!(delays.iter().filter(|delay| **delay > 1.0).count() == 1);
        assert!(grid.places.iter().copied().eq(0..500));
    }

    /// Multiples of a period, some of them late.
    fn late_times(from: f64, period: f64, late: &[(u8, f64)]) -> Vec<f64> {
        let time = |(place, &(dice, part)): (usize, &(u8, f64))| {
            let is_late = dice == 0 && place > 0;
            from + period * place as f64 + if is_late { part * period } else { 0.0 }
        };
        late.iter().enumerate().map(time).collect()
    }

    #[test]
    fn a_period_that_changes_is_a_new_grid() {
        let before = Some(Line { origin: -48_000.0, period: 48_000.0 });
        for period in [12_000.0, 24_000.0, 48_100.0, 96_000.0, 144_000.0] {
            let times: Vec<f64> = (0..200).map(|n| f64::from(n) * period).collect();
            let grid = Grid::fit(&times, before).unwrap();
            assert!((grid.line.period - period).abs() < 1e-6, "{period}: {grid:?}");
        }
    }

    #[test]
    fn a_period_that_is_set_anew_midway_ends_the_grid() {
        let changes = [
            (1100.0, 700),
            (1010.0, 500),
            (2500.0, 990),
            (1002.0, 300),
            (1300.0, 80),
            (900.0, 512),
        ];
        for (period, change) in changes {
            let mut times = vec![0.0];
            for n in 1..1024 {
                let step = if n > change { period } else { 1000.0 };
                times.push(times[n - 1] + step);
            }
            // Some of them are late, as they are.
            for late in [10, 350, 800, 801, 802, 1000] {
                times[late] += 400.0;
            }
            let (grid, covers) = Grid::fit_first(&times, None);
            assert!(covers <= change && covers + Grid::TURN > change, "{period}: {covers}");
            let grid = grid.unwrap();
            assert!((grid.line.period - 1000.0).abs() < 1e-6, "{period}: {:?}", grid.line);
            let rest = &times[(covers + Grid::TURN).min(1024)..];
            assert!(rest.len() < FEWEST || Grid::fit(rest, None).is_some(), "{period}");
        }
    }

    #[test]
    fn events_that_wait_for_long_stay_on_their_grid() {
        let mut times: Vec<f64> = (0..1024).map(|n| f64::from(n) * 1000.0).collect();
        for (n, time) in times[400..440].iter_mut().enumerate() {
            *time += 200.0 + f64::from((n as u32 * 7919) % 600);
        }
        assert_eq!(Grid::fit_first(&times, None).1, 1024);
        // All of them by the same: that a timer did not just begin anew nobody knows, and they are told as late.
        times[600..700].iter_mut().for_each(|time| *time += 300.0);
        let (grid, covers) = Grid::fit_first(&times, None);
        assert_eq!((grid.unwrap().delays(&times).nth(650).unwrap() as u64, covers), (300, 1024));
    }

    proptest! {
        /// What is known from before spares work and changes nothing.
        #[test]
        fn events_that_go_on_have_the_grid_that_they_have_by_themselves(
            period in 500.0..50_000.0_f64,
            before in -1e9..0.0_f64,
            off in -10e-6..10e-6_f64,
            late in prop::collection::vec((0_u8..5, 0.0..0.8_f64), 40..1024),
        ) {
            let times = late_times(1000.0, period, &late);
            let places_before = (before / period).floor();
            let line = Line {
                origin: 1000.0 + places_before * period,
                period: period * (1.0 + off / places_before.abs().max(1.0)),
            };
            // Where most of the first are late nothing is found that begins with them.
            let Some(alone) = Grid::fit(&times, None) else { return Ok(()) };
            let on = Grid::fit(&times, Some(line)).unwrap();
            prop_assert_eq!(&alone.places, &on.places);
            prop_assert!((alone.line.period - on.line.period).abs() < 1e-6);
            prop_assert!((alone.line.origin - on.line.origin).abs() < 1e-3);
        }

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
                places.push(place as u32);
                times.push(when + if is_late { part * period } else { f64::from(dice % 8) });
            }
            let grid = Grid::fit(&times, None).unwrap();
            for ((time, due), found) in times.iter().zip(&due).zip(grid.delays(&times)) {
                prop_assert!((time - due - found).abs() < 10.0, "{} {found}", time - due);
            }
            prop_assert_eq!(&grid.places, &places);
        }
    }
}

//! What a lane did over time in fixed memory: columns that double their width when there are too
//! many.

use super::lane::Doing;

/// Columns at most.
const MOST: usize = 2048;

/// Ticks of a column, by what the lane did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Cell {
    /// It had the core, or was there.
    pub runs: u64,
    /// It had begun and not ended, whoever had the core.
    pub open: u64,
    /// It wanted to run: pending, or ready.
    pub wants: u64,
    /// It waited for something else.
    pub waits: u64,
    /// Marks at a moment.
    pub marks: u64,
}

impl Cell {
    fn of(doing: Doing, ticks: u64) -> Self {
        let mut cell = Self::default();
        match doing {
            Doing::Runs => cell.runs = ticks,
            Doing::Open => cell.open = ticks,
            Doing::Wants => cell.wants = ticks,
            Doing::Waits => cell.waits = ticks,
            Doing::Mark => cell.marks = 1,
        }
        cell
    }

    /// Adds what another part of the time saw.
    pub fn add(&mut self, other: Self) {
        let Self { runs, open, wants, waits, marks } = other;
        self.runs += runs;
        self.open += open;
        self.wants += wants;
        self.waits += waits;
        self.marks += marks;
    }
}

/// The columns of one lane, from a tick on.
#[derive(Debug, Clone, Default)]
pub struct Columns {
    shift: u32,
    cells: Vec<Cell>,
}

impl Columns {
    /// The lane did this from one tick after the start to another.
    pub fn add(&mut self, doing: Doing, from: u64, until: u64) {
        while until >> self.shift >= MOST as u64 {
            self.halve();
        }
        let (first, last) = ((from >> self.shift) as usize, (until >> self.shift) as usize);
        if self.cells.len() <= last {
            self.cells.resize(last + 1, Cell::default());
        }
        if doing == Doing::Mark {
            return self.cells[first].add(Cell::of(doing, 0));
        }
        for (at, cell) in (first as u64..).zip(&mut self.cells[first..=last]) {
            let (start, end) = (at << self.shift, (at + 1) << self.shift);
            cell.add(Cell::of(doing, until.min(end).saturating_sub(from.max(start))));
        }
    }

    /// A sample at a tick: something ran, or the core was asleep. Counted as `runs` and `open`.
    pub fn sample(&mut self, at: u64, awake: bool) {
        self.add(Doing::Mark, at, at);
        let cell = &mut self.cells[(at >> self.shift) as usize];
        cell.marks -= 1;
        cell.open += 1;
        cell.runs += u64::from(awake);
    }

    fn halve(&mut self) {
        let joined = self.cells.chunks(2).map(|pair| {
            let mut cell = pair[0];
            pair.get(1).into_iter().for_each(|next| cell.add(*next));
            cell
        });
        self.cells = joined.collect();
        self.shift += 1;
    }

    /// What happened in each of `count` equal parts of the ticks from `start` to `end`. A column on an
    /// edge is shared by both sides in proportion.
    #[must_use]
    pub fn parts(&self, start: u64, end: u64, count: usize) -> Vec<Cell> {
        let mut parts = vec![Cell::default(); count];
        let width = (end.saturating_sub(start)).max(1) as f64 / count.max(1) as f64;
        let column = (1_u64 << self.shift) as f64;
        for (at, cell) in (0_u64..).zip(&self.cells) {
            let from = (at << self.shift) as f64 - start as f64;
            let (low, high) = (from / width, (from + column) / width);
            let first = low.floor().max(0.0) as usize;
            for (number, part) in parts.iter_mut().enumerate().skip(first) {
                let inside = high.min(number as f64 + 1.0) - low.max(number as f64);
                if inside <= 0.0 {
                    break;
                }
                let share = inside / (high - low);
                let scaled = |ticks: u64| (ticks as f64 * share).round() as u64;
                let Cell { runs, open, wants, waits, marks } = *cell;
                // A mark is in one place only.
                let marks = if number == first { marks } else { 0 };
                part.add(Cell {
                    // However short: what ran is never nothing.
                    runs: scaled(runs).max(u64::from(runs > 0 && number == first)),
                    open: scaled(open),
                    wants: scaled(wants).max(u64::from(wants > 0 && number == first)),
                    waits: scaled(waits),
                    marks,
                });
            }
        }
        parts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn no_tick_gets_lost(
            stretches in prop::collection::vec((0_u64..1 << 30, 0_u64..1 << 20), 1..100),
            count in 1_usize..200,
        ) {
            let mut columns = Columns::default();
            let mut end = 0;
            for &(from, long) in &stretches {
                columns.add(Doing::Runs, from, from + long);
                end = end.max(from + long);
            }
            prop_assert!(columns.cells.len() <= MOST);
            let all: u64 = stretches.iter().map(|(_, long)| long).sum();
            let kept: u64 = columns.cells.iter().map(|cell| cell.runs).sum();
            prop_assert_eq!(kept, all);
            let whole = (columns.cells.len() as u64) << columns.shift;
            let parts = columns.parts(0, whole, count);
            let told: u64 = parts.iter().map(|cell| cell.runs).sum();
            // Rounded once in every part that a column reaches into.
            let slack = (columns.cells.len() + count) as u64;
            prop_assert!(told.abs_diff(all) <= slack, "{told} {all}");
        }
    }
}

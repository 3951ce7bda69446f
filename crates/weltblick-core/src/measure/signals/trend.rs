//! A value over time in fixed memory: columns that double their width when there are too many.

/// Columns at most.
const MOST: usize = 2048;

/// The values of one column.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Column {
    /// How many there were.
    pub count: u64,
    /// The first.
    pub first: f64,
    /// The last.
    pub last: f64,
    /// The smallest.
    pub min: f64,
    /// The largest.
    pub max: f64,
}

impl Column {
    fn of(value: f64) -> Self {
        Self { count: 1, first: value, last: value, min: value, max: value }
    }

    /// This column and the one after it as one.
    fn joined(self, next: Self) -> Self {
        Self {
            count: self.count + next.count,
            first: self.first,
            last: next.last,
            min: self.min.min(next.min),
            max: self.max.max(next.max),
        }
    }
}

fn join(a: Option<Column>, b: Option<Column>) -> Option<Column> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.joined(b)),
        (one, other) => one.or(other),
    }
}

/// Values in columns of equal width, from tick 0 on.
#[derive(Debug, Clone, Default)]
pub struct Trend {
    /// Ticks in a column are two to this power.
    shift: u32,
    columns: Vec<Option<Column>>,
}

impl Trend {
    /// A value at a tick.
    #[inline]
    pub fn add(&mut self, tick: u64, value: f64) {
        let at = self.make_room(tick);
        let slot = &mut self.columns[at];
        *slot = join(*slot, Some(Column::of(value)));
    }

    fn make_room(&mut self, tick: u64) -> usize {
        while tick >> self.shift >= MOST as u64 {
            self.columns = self
                .columns
                .chunks(2)
                .map(|pair| join(pair[0], pair.get(1).copied().flatten()))
                .collect();
            self.shift += 1;
        }
        let at = (tick >> self.shift) as usize;
        if self.columns.len() <= at {
            self.columns.resize(at + 1, None);
        }
        at
    }

    /// Ticks in a column.
    #[must_use]
    pub const fn width(&self) -> u64 {
        1 << self.shift
    }

    /// The columns in which there are values: the tick at which each starts, and it.
    pub fn columns(&self) -> impl Iterator<Item = (u64, Column)> + '_ {
        let columns = (0_u64..).zip(&self.columns);
        columns.filter_map(|(at, column)| Some((at << self.shift, (*column)?)))
    }
}

/// Stretches of time in which something may be missing, in fixed memory: those that lie closest
/// together become one.
#[derive(Debug, Clone, Default)]
pub struct Gaps {
    list: Vec<(u64, u64)>,
}

impl Gaps {
    /// Something may be missing between two ticks.
    pub fn add(&mut self, from: u64, until: u64) {
        if let Some(last) = self.list.last_mut()
            && from <= last.1
        {
            last.1 = last.1.max(until);
            return;
        }
        self.list.push((from, until.max(from)));
        if self.list.len() > MOST {
            let between = |pair: &[(u64, u64)]| pair[1].0 - pair[0].1;
            let mut spaces: Vec<u64> = self.list.windows(2).map(between).collect();
            let middle = spaces.len() / 2;
            let limit = *spaces.select_nth_unstable(middle).1;
            self.list.dedup_by(|next, before| {
                let close = next.0 - before.1 <= limit;
                if close {
                    before.1 = next.1;
                }
                close
            });
        }
    }

    /// From tick to tick, in order.
    #[must_use]
    pub fn list(&self) -> &[(u64, u64)] {
        &self.list
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn nothing_gets_lost_in_columns(
            mut values in prop::collection::vec((0_u64..1 << 40, -1e6_f64..1e6), 1..300),
        ) {
            values.sort_by_key(|(tick, _)| *tick);
            let mut trend = Trend::default();
            for &(tick, value) in &values {
                trend.add(tick, value);
            }
            prop_assert!(trend.columns.len() <= MOST);
            let mut rest = values.as_slice();
            for (start, column) in trend.columns() {
                let (inside, after) = rest.split_at(column.count as usize);
                rest = after;
                prop_assert!(inside.iter().all(|(tick, _)| tick & !(trend.width() - 1) == start));
                let plain = inside.iter().map(|(_, value)| *value);
                prop_assert_eq!(column.min, plain.clone().fold(f64::INFINITY, f64::min));
                prop_assert_eq!(column.max, plain.fold(f64::NEG_INFINITY, f64::max));
                prop_assert_eq!((column.first, column.last), (inside[0].1, inside.last().unwrap().1));
            }
            prop_assert!(rest.is_empty());
        }

        #[test]
        fn gaps_only_grow(
            steps in prop::collection::vec((1_u64..1000, 0_u64..1000), 1..6000),
        ) {
            let mut gaps = Gaps::default();
            let (mut now, mut all) = (0, Vec::new());
            for (before, long) in steps {
                all.push((now + before, now + before + long));
                now += before + long;
                gaps.add(all.last().unwrap().0, now);
            }
            prop_assert!(gaps.list().len() <= MOST);
            prop_assert!(gaps.list().windows(2).all(|pair| pair[0].1 < pair[1].0));
            let covered = |gap: &(u64, u64)| {
                gaps.list().iter().any(|(from, until)| *from <= gap.0 && gap.1 <= *until)
            };
            prop_assert!(all.iter().all(covered));
        }
    }
}

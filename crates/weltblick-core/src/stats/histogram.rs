//! Counts of whole numbers in fixed memory, to three digits: a high dynamic range histogram, as
//! G. Tene describes it: the columns of every octave are as wide as its size asks.
//!
//! It stands in the innermost loop of every figure in time; the tests hold it against the crate of
//! that name, which keeps extremes and totals that [`Spread`](super::Spread) has already and took
//! five times as long for it.

/// Bits of an octave's columns: 1024, so that a column is at most a 1024th of its numbers wide.
const BITS: u32 = 10;
const COLUMNS: u64 = 1 << BITS;

/// Longer numbers count as this: it bounds the memory to 168 kB.
pub(super) const LARGEST: u64 = 1 << 50;

/// Grows with what it sees, unless it is off.
#[derive(Debug, Clone)]
pub(super) struct Histogram {
    counts: Vec<u32>,
    is_off: bool,
}

/// The column of a number: the numbers below 2048 have one each.
#[inline]
const fn column(number: u64) -> usize {
    let octave = u64::BITS - (number | (2 * COLUMNS - 1)).leading_zeros() - BITS - 1;
    ((octave as u64) << BITS) as usize + (number >> octave) as usize
}

/// The first number of a column, and the last.
const fn bounds(column: usize) -> (u64, u64) {
    let column = column as u64;
    if column < 2 * COLUMNS {
        return (column, column);
    }
    let octave = (column >> BITS) - 1;
    let first = ((column & (COLUMNS - 1)) | COLUMNS) << octave;
    (first, first + (1 << octave) - 1)
}

impl Histogram {
    /// Nothing counted, and no memory taken; one that is not `on` never counts anything.
    pub(super) const fn new(on: bool) -> Self {
        Self { counts: Vec::new(), is_off: !on }
    }

    /// Counts a number.
    #[inline(always)]
    pub(super) fn record(&mut self, number: u64) {
        match self.counts.get_mut(column(number)) {
            Some(count) => *count = count.saturating_add(1),
            None => self.grow(number),
        }
    }

    /// Counts a number that has no column yet.
    #[cold]
    #[inline(never)]
    fn grow(&mut self, number: u64) {
        if self.is_off {
            return;
        }
        let column = column(number.min(LARGEST));
        if column >= self.counts.len() {
            self.counts.resize(column + 1, 0);
        }
        self.counts[column] = self.counts[column].saturating_add(1);
    }

    /// The columns that are not empty: their first and last numbers, and their counts.
    pub(super) fn columns(&self) -> impl Iterator<Item = (u64, u64, u64)> + '_ {
        let filled = self.counts.iter().enumerate().filter(|(_, count)| **count > 0);
        filled.map(|(column, count)| {
            let (first, last) = bounds(column);
            (first, last, u64::from(*count))
        })
    }

    /// The bounds of the column that holds the number of this rank among all of `parts`, from 1; the
    /// last column, if there are not so many.
    pub(super) fn at_rank<'a>(
        parts: impl Iterator<Item = &'a Self> + Clone,
        rank: u64,
    ) -> (u64, u64) {
        let columns = parts.clone().map(|part| part.counts.len()).max().unwrap_or(0);
        let (mut seen, mut found) = (0, 0);
        for column in 0..columns {
            let counts = parts.clone().filter_map(|part| part.counts.get(column));
            let count: u64 = counts.map(|count| u64::from(*count)).sum();
            if count > 0 {
                (seen, found) = (seen + count, column);
                if seen >= rank {
                    break;
                }
            }
        }
        bounds(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn columns_follow_each_other_without_gap() {
        let mut next = 0;
        for number in 0..45 * COLUMNS as usize {
            let (first, last) = bounds(number);
            assert_eq!(first, next, "{number}");
            assert_eq!((column(first), column(last)), (number, number));
            next = last + 1;
        }
    }

    proptest! {
        #[test]
        fn ranks_are_those_of_the_well_known_one(
            numbers in prop::collection::vec(prop_oneof![0..5000_u64, 0..LARGEST], 1..300),
            part in 0.0_f64..1.0,
        ) {
            let mut mine = Histogram::new(true);
            let mut other = hdrhistogram::Histogram::<u32>::new(3).unwrap();
            other.auto(true);
            for &number in &numbers {
                mine.record(number);
                other.record(number).unwrap();
            }
            let rank = (part * numbers.len() as f64).ceil().max(1.0) as u64;
            let value = other.value_at_quantile(part);
            let expected = (other.lowest_equivalent(value), other.highest_equivalent(value));
            prop_assert_eq!(Histogram::at_rank([&mine].into_iter(), rank), expected);
            // However they are dealt out.
            let mut dealt = [Histogram::new(true), Histogram::new(true)];
            numbers.iter().zip([0, 1, 1].into_iter().cycle()).for_each(|(n, to)| dealt[to].record(*n));
            prop_assert_eq!(Histogram::at_rank(dealt.iter(), rank), expected);
            prop_assert_eq!(mine.columns().map(|(.., count)| count).sum::<u64>(), numbers.len() as u64);
        }
    }
}

//! Counts per category in consecutive batches of equal size, in fixed memory.
//!
//! Batch means (Law and Kelton, *Simulation Modeling and Analysis*, section 9.5.3): consecutive
//! observations depend on each other, but the means of long enough batches hardly do, so their
//! spread tells how uncertain the overall mean is. Here there are 32 to 64 batches whatever the
//! length: when the 64th is full, neighbours are joined and the batch size doubles.

/// Batches are joined when there are so many.
const MOST_BATCHES: usize = 64;
/// Observations in a batch at first.
const FIRST_SIZE: u32 = 16;
/// Batches that are kept of a recording that is done with.
const SETTLED_BATCHES: usize = 16;
/// Batches are not joined beyond this size, so that a count fits in 32 bits.
const LARGEST_SIZE: u32 = 1 << 31;

/// How often each category (a small number) was observed, batch by batch.
#[derive(Debug, Clone)]
pub struct Batches {
    size: u32,
    open: Vec<u32>,
    filled: u32,
    closed: Vec<Vec<u32>>,
}

impl Default for Batches {
    fn default() -> Self {
        Self { size: FIRST_SIZE, open: Vec::new(), filled: 0, closed: Vec::new() }
    }
}

impl Batches {
    /// Counts one observation of `category`.
    #[inline]
    pub fn add(&mut self, category: usize) {
        if category >= self.open.len() {
            self.open.resize(category + 1, 0);
        }
        self.open[category] += 1;
        self.filled += 1;
        if self.filled >= self.size {
            self.close();
        }
    }

    #[cold]
    fn close(&mut self) {
        self.closed.push(self.open.clone());
        self.open.fill(0);
        self.filled = 0;
        if self.closed.len() >= MOST_BATCHES && self.size < LARGEST_SIZE {
            self.join_neighbours();
        }
    }

    fn join_neighbours(&mut self) {
        let mut joined = Vec::with_capacity(MOST_BATCHES);
        let mut batches = std::mem::take(&mut self.closed).into_iter();
        while let Some(earlier) = batches.next() {
            // Later batches know at least as many categories.
            let mut sum = batches.next().unwrap_or_default();
            if sum.len() < earlier.len() {
                sum.resize(earlier.len(), 0);
            }
            for (total, count) in sum.iter_mut().zip(&earlier) {
                *total += count;
            }
            joined.push(sum);
        }
        self.closed = joined;
        self.size *= 2;
    }

    /// Joins batches until few are left: a quarter of the memory, and still enough for an interval.
    pub fn settle(&mut self) {
        while self.closed.len() > SETTLED_BATCHES && self.size < LARGEST_SIZE {
            // An odd one out would be half a batch: it goes back to the open one.
            if self.closed.len() % 2 == 1
                && let Some(last) = self.closed.pop()
            {
                self.reopen(&last);
            }
            self.join_neighbours();
        }
        self.closed.iter_mut().for_each(Vec::shrink_to_fit);
        self.open.shrink_to_fit();
    }

    /// Takes a closed batch back into the open one, which may hold up to two of them for a while.
    fn reopen(&mut self, batch: &[u32]) {
        if self.open.len() < batch.len() {
            self.open.resize(batch.len(), 0);
        }
        for (total, count) in self.open.iter_mut().zip(batch) {
            *total += count;
        }
        self.filled += self.size;
    }

    /// Observations of one category in all.
    #[must_use]
    pub fn count(&self, category: usize) -> u64 {
        let closed = self.closed.iter().map(|batch| at(batch, category)).sum::<u64>();
        closed + at(&self.open, category)
    }

    /// Observations of all categories.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.closed.len() as u64 * u64::from(self.size) + u64::from(self.filled)
    }

    /// Observations in one full batch.
    #[must_use]
    pub const fn batch_size(&self) -> u32 {
        self.size
    }

    /// How often any of `categories` was observed in each full batch, in order.
    #[must_use]
    pub fn per_batch(&self, categories: &[usize]) -> Vec<u64> {
        let in_batch = |batch: &Vec<u32>| categories.iter().map(|&c| at(batch, c)).sum();
        self.closed.iter().map(in_batch).collect()
    }
}

fn at(batch: &[u32], category: usize) -> u64 {
    batch.get(category).copied().map_or(0, u64::from)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn settling_keeps_every_observation(seen in proptest::collection::vec(0_usize..9, 0..5000), more in 0_usize..300) {
            let mut batches = Batches::default();
            seen.iter().for_each(|&category| batches.add(category));
            batches.settle();
            prop_assert!(batches.closed.len() <= SETTLED_BATCHES);
            prop_assert_eq!(batches.total(), seen.len() as u64);
            (0..more).for_each(|_| batches.add(3));
            prop_assert_eq!(batches.total(), (seen.len() + more) as u64);
            for category in 0..9 {
                let plain = seen.iter().filter(|&&c| c == category).count() + if category == 3 { more } else { 0 };
                prop_assert_eq!(batches.count(category), plain as u64);
            }
        }

        #[test]
        fn loses_no_observation(seen in proptest::collection::vec(0_usize..9, 0..5000)) {
            let mut batches = Batches::default();
            for &category in &seen {
                batches.add(category);
            }
            prop_assert_eq!(batches.total(), seen.len() as u64);
            prop_assert!(batches.closed.len() < MOST_BATCHES);
            for category in 0..9 {
                let expected = seen.iter().filter(|&&c| c == category).count() as u64;
                prop_assert_eq!(batches.count(category), expected);
            }
            for (index, count) in batches.per_batch(&[2, 3]).into_iter().enumerate() {
                let size = batches.batch_size() as usize;
                let slow = seen[index * size..][..size].iter().filter(|&&c| c == 2 || c == 3).count();
                prop_assert_eq!(count, slow as u64);
            }
        }
    }
}

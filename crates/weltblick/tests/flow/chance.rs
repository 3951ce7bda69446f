//! Chance that is the same each time: a recording goes by its number.

/// A generator of numbers (xorshift64*).
pub(crate) struct Chance(u64);

impl Chance {
    pub(crate) fn new(number: u64) -> Self {
        Self(number.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    /// From `low` up to, but not including, `high`.
    pub(crate) fn within(&mut self, low: u64, high: u64) -> u64 {
        low + self.next() % (high - low).max(1)
    }

    /// Whether something happens that does so once in `many` times.
    pub(crate) fn once_in(&mut self, many: u64) -> bool {
        self.next().is_multiple_of(many)
    }

    pub(crate) fn one_of<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.within(0, all.len() as u64) as usize]
    }
}

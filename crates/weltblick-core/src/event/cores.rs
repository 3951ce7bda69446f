//! Several cores in one recording: a set of them, and what is kept of each.

/// Cores, by number.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct CoreSet([u64; 4]);

impl CoreSet {
    /// None.
    pub const NONE: Self = Self([0; 4]);

    /// Adds one.
    #[inline(always)]
    pub const fn add(&mut self, core: u8) {
        self.0[(core >> 6) as usize] |= 1 << (core & 63);
    }

    /// Takes one away.
    pub const fn remove(&mut self, core: u8) {
        self.0[(core >> 6) as usize] &= !(1 << (core & 63));
    }

    /// Whether it is in there.
    #[must_use]
    pub const fn has(&self, core: u8) -> bool {
        self.0[(core >> 6) as usize] >> (core & 63) & 1 == 1
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> u32 {
        self.0.iter().map(|word| word.count_ones()).sum()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0 == [0; 4]
    }

    /// All of them, in order.
    pub fn iter(&self) -> impl Iterator<Item = u8> {
        (0..=u8::MAX).filter(|core| self.has(*core))
    }
}

/// What is kept of each core whose events do not come just now, in the order of their first.
///
/// Whoever follows one core keeps its state in a field, where the hot path finds it. Only where the next event is
/// of another core do the two change places.
#[derive(Debug, Clone)]
pub struct Parked<T>(Vec<(u8, T)>);

impl<T> Default for Parked<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T> Parked<T> {
    /// Whether there was no other core.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Puts the state of core `from` away, and takes that of core `to` in its place; a new one, if there is none.
    pub fn exchange(&mut self, from: u8, now: &mut T, to: u8, new: impl FnOnce() -> T) {
        let place = self.0.iter().position(|(core, _)| *core == to);
        let mut parked = place.map_or_else(|| (to, new()), |place| self.0.swap_remove(place));
        std::mem::swap(now, &mut parked.1);
        self.0.push((from, parked.1));
    }

    /// The states of the other cores.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = &mut T> {
        self.0.iter_mut().map(|(_, state)| state)
    }

    /// The states of the other cores, with the numbers of these.
    pub fn numbered_mut(&mut self) -> impl Iterator<Item = (u8, &mut T)> {
        self.0.iter_mut().map(|(core, state)| (*core, state))
    }

    /// The states of the other cores, with their numbers.
    pub fn iter(&self) -> impl Iterator<Item = (u8, &T)> {
        self.0.iter().map(|(core, state)| (*core, state))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_has_what_was_added() {
        let mut set = CoreSet::default();
        assert!(set.is_empty());
        [0, 63, 64, 255, 255].into_iter().for_each(|core| set.add(core));
        assert_eq!((set.count(), set.iter().collect::<Vec<_>>()), (4, vec![0, 63, 64, 255]));
        set.remove(64);
        assert_eq!((set.has(64), set.has(63), set.count()), (false, true, 3));
    }

    #[test]
    fn states_change_places() {
        let (mut parked, mut now) = (Parked::default(), "zero");
        parked.exchange(0, &mut now, 7, || "seven");
        assert_eq!(now, "seven");
        parked.exchange(7, &mut now, 9, || "nine");
        parked.exchange(9, &mut now, 0, || "not that");
        assert_eq!(now, "zero");
        let mut others: Vec<_> = parked.iter().collect();
        others.sort_unstable();
        assert_eq!(others, [(7, &"seven"), (9, &"nine")]);
    }
}

//! The hot half: samples per address, in batches.

use crate::event::{Event, Position, Sink};
use crate::stats::Batches;
use rustc_hash::FxHashMap;

/// Distinct addresses that are told apart: more are counted together, so that memory is bounded
/// (64 batches of 4 bytes each: 32 MiB).
pub(super) const MOST_ADDRESSES: usize = 1 << 17;

/// Samples per address. Category numbers are dense, so that a batch is a plain array.
#[derive(Debug)]
pub struct SampleCounts {
    categories: FxHashMap<u64, u32>,
    /// The address of each category from [`Self::FIRST_ADDRESS`] on.
    addresses: Vec<u64>,
    batches: Batches,
    /// Addresses that were sampled lately: loops are sampled at few places. Empty once settled.
    recent: Vec<(u64, u32)>,
    most: usize,
}

/// Slots of the small table in front of the hash map; a power of two.
const RECENT: usize = 256;

impl Default for SampleCounts {
    fn default() -> Self {
        Self::with_most(MOST_ADDRESSES)
    }
}

impl SampleCounts {
    /// The category of samples that found the core asleep.
    pub const ASLEEP: usize = 0;
    /// The category of samples at which the core may not be observed.
    pub const UNOBSERVABLE: usize = 1;
    /// The category of samples beyond the number of addresses that are told apart.
    pub const BEYOND: usize = 2;
    /// The category of samples in code that nobody asked for.
    pub const ELSEWHERE: usize = 3;
    /// The first category that stands for one address.
    pub const FIRST_ADDRESS: usize = 4;

    /// Counts that tell so many addresses apart, and no more.
    pub(super) fn with_most(most: usize) -> Self {
        Self {
            categories: FxHashMap::default(),
            addresses: Vec::new(),
            batches: Batches::default(),
            recent: Vec::new(),
            most,
        }
    }

    /// Gives up what only counting needs; more may still be counted. Returns how many addresses
    /// there are.
    pub(super) fn settle(&mut self) -> usize {
        self.recent = Vec::new();
        self.batches.settle();
        self.addresses.len()
    }

    #[inline]
    fn category(&mut self, pc: u64) -> usize {
        let slot = (pc >> 1) as usize % RECENT;
        match self.recent.get(slot) {
            Some(&(address, category)) if address == pc => category as usize,
            _ => self.look_up(pc, slot),
        }
    }

    fn look_up(&mut self, pc: u64, slot: usize) -> usize {
        let category = match self.categories.get(&pc) {
            Some(&category) => category,
            None if self.addresses.len() == self.most => Self::BEYOND as u32,
            None => {
                let category = (Self::FIRST_ADDRESS + self.addresses.len()) as u32;
                self.addresses.push(pc);
                self.categories.insert(pc, category);
                category
            }
        };
        if self.recent.is_empty() {
            self.recent = vec![(u64::MAX, 0); RECENT];
        }
        self.recent[slot] = (pc, category);
        category as usize
    }

    /// Every address that was sampled, with its category.
    pub fn addresses(&self) -> impl Iterator<Item = (u64, usize)> + '_ {
        self.addresses.iter().copied().zip(Self::FIRST_ADDRESS..)
    }

    /// The counts.
    #[must_use]
    pub const fn batches(&self) -> &Batches {
        &self.batches
    }
}

impl Sink for SampleCounts {
    #[inline(always)]
    fn event(&mut self, _: Position, event: &Event) {
        let category = match *event {
            Event::Sample { pc } => self.category(pc),
            Event::Asleep => Self::ASLEEP,
            Event::Unobservable => Self::UNOBSERVABLE,
            Event::Elsewhere => Self::ELSEWHERE,
            _ => return,
        };
        self.batches.add(category);
    }
}

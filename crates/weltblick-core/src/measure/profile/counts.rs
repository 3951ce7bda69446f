//! The hot half: samples per address, in batches.

use crate::event::{Event, Position, Sink};
use crate::stats::Batches;
use rustc_hash::FxHashMap;

/// Distinct addresses that are told apart: more are counted together, so that memory is bounded
/// (64 batches of 4 bytes each: 32 MiB).
const MOST_ADDRESSES: usize = 1 << 17;

/// Samples per address. Category numbers are dense, so that a batch is a plain array.
#[derive(Debug)]
pub struct SampleCounts {
    categories: FxHashMap<u64, u32>,
    /// The address of each category from [`Self::FIRST_ADDRESS`] on.
    addresses: Vec<u64>,
    batches: Batches,
    /// The last address and its category: loops are sampled at few places.
    recent: [(u64, u32); RECENT],
}

/// Slots of the small table in front of the hash map; a power of two.
const RECENT: usize = 256;

impl Default for SampleCounts {
    fn default() -> Self {
        Self {
            categories: FxHashMap::default(),
            addresses: Vec::new(),
            batches: Batches::default(),
            recent: [(u64::MAX, 0); RECENT],
        }
    }
}

impl SampleCounts {
    /// The category of samples that found the core asleep.
    pub const ASLEEP: usize = 0;
    /// The category of samples at which the core may not be observed.
    pub const UNOBSERVABLE: usize = 1;
    /// The category of samples beyond the number of addresses that are told apart.
    pub const BEYOND: usize = 2;
    /// The first category that stands for one address.
    pub const FIRST_ADDRESS: usize = 3;

    #[inline]
    fn category(&mut self, pc: u64) -> usize {
        let slot = (pc >> 1) as usize % RECENT;
        let (address, category) = self.recent[slot];
        if address == pc {
            return category as usize;
        }
        let category = self.look_up(pc);
        self.recent[slot] = (pc, category);
        category as usize
    }

    fn look_up(&mut self, pc: u64) -> u32 {
        if let Some(&category) = self.categories.get(&pc) {
            return category;
        }
        if self.addresses.len() == MOST_ADDRESSES {
            return Self::BEYOND as u32;
        }
        let category = (Self::FIRST_ADDRESS + self.addresses.len()) as u32;
        self.addresses.push(pc);
        self.categories.insert(pc, category);
        category
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
            _ => return,
        };
        self.batches.add(category);
    }
}

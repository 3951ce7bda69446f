//! Where time went, instruction by instruction: an estimate between cycle counts.

use super::interval::Pace;
use super::listing::Listing;
use crate::flow::{Block, BlockId, Code, Moment, Sink};
use crate::isa::thumb::Kind;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Blocks between two cycle counts at most; where time is told so seldom, it is not known.
const MOST_BLOCKS: usize = 1 << 16;
/// Parts of a tick that are told apart.
const PARTS: u64 = 1 << 20;

/// Shares the cycles between two counts out among the blocks that ran, by instructions; where code waits, what
/// is left after the usual pace is the time that it waited.
#[derive(Debug, Default)]
pub struct Times {
    /// What ran since the last count: blocks, how far, and how many instructions.
    stretch: Vec<(BlockId, u64, u32)>,
    instructions: u64,
    waits: Option<BlockId>,
    /// More ran than is kept.
    lost: bool,
    /// Ticks in which nothing ran: they passed in what ran next.
    before: u64,
    pace: Pace,
    /// All ticks that were told.
    ticks: u64,
    /// By block and how far it ran: parts of ticks.
    ran: FxHashMap<(BlockId, u64), u64>,
    /// The same of waiting.
    waited: FxHashMap<BlockId, u64>,
}

/// Ticks by instruction of a listing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InstructionTimes {
    /// By instruction: parts of ticks.
    parts: Vec<u64>,
}

impl InstructionTimes {
    /// About how many ticks an instruction of the listing took, all its runs together.
    #[must_use]
    pub fn ticks(&self, place: usize) -> f64 {
        self.parts.get(place).map_or(0.0, |&parts| parts as f64 / PARTS as f64)
    }
}

impl Times {
    /// By instruction.
    #[must_use]
    pub fn into_instructions(self, code: &Code<'_>, listing: &Listing) -> InstructionTimes {
        // Where it changes how long each instruction took.
        let mut changes: BTreeMap<u64, i128> = BTreeMap::new();
        let mut at: FxHashMap<u64, u64> = FxHashMap::default();
        for ((id, until), parts) in self.ran {
            let block = code.block(id);
            let instructions = match until == block.after() {
                true => u64::from(block.instructions),
                false => code.instructions(block, until).count() as u64,
            };
            let each = i128::from(parts / instructions.max(1));
            *changes.entry(block.start).or_default() += each;
            *changes.entry(until).or_default() -= each;
        }
        for (id, parts) in self.waited {
            let block = code.block(id);
            let mut instructions = code.instructions(block, block.after());
            let waits = instructions.find(|(_, instruction)| instruction.kind == Kind::Wait);
            *at.entry(waits.map_or(block.start, |(address, _)| address)).or_default() += parts;
        }
        let mut changes = changes.into_iter().peekable();
        let mut now = 0;
        let parts = listing.instructions.iter().map(|listed| {
            while let Some((_, by)) = changes.next_if(|&(at, _)| at <= listed.address) {
                now += by;
            }
            let waited = at.get(&listed.address).copied().unwrap_or(0);
            u64::try_from(now).unwrap_or(0).saturating_add(waited)
        });
        InstructionTimes { parts: parts.collect() }
    }

    /// Ticks that were told, in all.
    #[must_use]
    pub const fn ticks(&self) -> u64 {
        self.ticks
    }

    fn push(&mut self, block: &Block, until: u64, instructions: u32) {
        self.instructions += u64::from(instructions);
        if block.waits {
            self.waits.get_or_insert(block.id);
        }
        if self.stretch.len() < MOST_BLOCKS {
            self.stretch.push((block.id, until, instructions));
        } else {
            self.lost = true;
        }
    }

    fn settle(&mut self, ticks: Option<u64>) {
        let total = std::mem::take(&mut self.instructions);
        let waits = self.waits.take();
        self.ticks = self.ticks.saturating_add(ticks.unwrap_or(0));
        let before = std::mem::take(&mut self.before);
        let Some(ticks) = ticks.filter(|_| !std::mem::take(&mut self.lost)) else {
            return self.stretch.clear();
        };
        let ticks = before.saturating_add(ticks);
        if total == 0 {
            self.before = ticks;
            return;
        }
        let busy = if waits.is_some() { self.pace.of(total).min(ticks) } else { ticks };
        let busy = u128::from(busy) * u128::from(PARTS);
        for (id, until, instructions) in self.stretch.drain(..) {
            let parts = busy * u128::from(instructions) / u128::from(total);
            let sum = self.ran.entry((id, until)).or_default();
            *sum = sum.saturating_add(u64::try_from(parts).unwrap_or(u64::MAX));
        }
        match waits {
            None => self.pace.learn(ticks, total),
            Some(id) => {
                let left = u128::from(ticks) * u128::from(PARTS) - busy;
                let sum = self.waited.entry(id).or_default();
                *sum = sum.saturating_add(u64::try_from(left).unwrap_or(u64::MAX));
            }
        }
    }
}

impl Sink for Times {
    fn ran(&mut self, block: &Block, _: bool) {
        self.push(block, block.after(), block.instructions);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.push(block, until, instructions);
    }

    fn moment(&mut self, _: u64, moment: &Moment) {
        match *moment {
            Moment::Cycles(cycles) => self.settle(cycles.map(u64::from)),
            Moment::Gap(_) => self.settle(None),
            _ => {}
        }
    }
}

//! How often each block ran.

use crate::flow::{Block, BlockId, Code, Gap, Mismatch, Moment, Sink};
use crate::wire::Malformed;
use rustc_hash::FxHashMap;

/// Runs of every block, and what is not known: the counting figure behind exact profiles and coverage.
///
/// It counts by block number while reading, by address when results are added up: numbers depend on
/// the order in which blocks were reached.
#[derive(Debug, Clone, Default)]
pub struct BlockCounts {
    /// By block number: how often its last instruction did not branch, and did.
    ran: Vec<[u64; 2]>,
    /// Those of blocks that ran before `compact`.
    compact: Vec<(u32, [u64; 2])>,
    /// Beginnings of blocks, by number and the address before which it ended.
    parts: FxHashMap<(BlockId, u64), u64>,
    /// By address: how often an instruction was passed over, since its condition failed.
    skipped: FxHashMap<u64, u64>,
    /// What is not known.
    pub gaps: Gaps,
    /// What was counted before what no synchronisation confirms.
    confirmed: Option<Box<Self>>,
}

/// What is not known of a recording.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Gaps {
    /// The trace unit's buffer was full, so often.
    pub overflows: u64,
    /// Stretches that were not traced by choice.
    pub unwatched: u64,
    /// Stretches of bytes that could not be read, or that contradicted each other.
    pub damaged: u64,
    /// How many bytes these were.
    pub damaged_bytes: u64,
    /// Bytes before the first synchronisation.
    pub head: u64,
    /// Stretches for which the trace unit only counted, or dropped what it had.
    pub untold: u64,
    /// Contradictions between packets and image.
    pub mismatches: u64,
    /// The first of them that is no code outside the image, and the first that is: where in the
    /// origin's bytes.
    pub first_mismatch: Option<(u64, Mismatch)>,
    /// The same for code outside the image.
    pub first_outside: Option<(u64, u64)>,
    /// Times that execution was in code outside the image.
    pub outside: u64,
    /// What ran last was told before a synchronisation agreed with it: there came none for too long.
    pub overdue: bool,
    /// So often it was told before, and then contradicted.
    pub told_wrong: u64,
    /// From this byte on no synchronisation agrees with what ran: the recording ends.
    pub unconfirmed: Option<u64>,
}

impl Gaps {
    fn moment(&mut self, offset: u64, moment: &Moment) {
        match *moment {
            Moment::Gap(gap) => self.note(offset, gap),
            Moment::Unconfirmed => self.unconfirmed = Some(offset),
            Moment::Overdue => self.overdue = true,
            Moment::Confirmed => self.overdue = false,
            _ => {}
        }
    }

    fn note(&mut self, offset: u64, gap: Gap) {
        if gap.contradicts() {
            self.told_wrong += u64::from(std::mem::take(&mut self.overdue));
        }
        match gap {
            Gap::Unwatched => self.unwatched += 1,
            Gap::Overflow => self.overflows += 1,
            Gap::Discarded | Gap::Uncounted(_) => self.untold += 1,
            Gap::Damaged { why: Malformed::StartsInside, bytes } => self.head += bytes,
            Gap::Damaged { bytes, .. } => {
                self.damaged += 1;
                self.damaged_bytes += bytes;
            }
            // Behind all that ran.
            Gap::CutOff { .. } => {}
            Gap::Missing => self.damaged += 1,
            Gap::Mismatch(Mismatch::Outside(address)) => {
                self.outside += 1;
                self.first_outside.get_or_insert((offset, address));
            }
            Gap::Mismatch(mismatch) => {
                self.mismatches += 1;
                self.first_mismatch.get_or_insert((offset, mismatch));
            }
        }
    }

    /// Whether everything that was to be traced is known.
    #[must_use]
    pub const fn is_whole(&self) -> bool {
        self.places() == 0 && self.head == 0
    }

    /// In how many places instructions are missing, what comes before the first synchronisation aside.
    #[must_use]
    pub const fn places(&self) -> u64 {
        self.overflows + self.damaged + self.untold + self.mismatches + self.outside
    }

    /// Whether synchronisations are too far apart to confirm in time what ran.
    #[must_use]
    pub const fn is_seldom_confirmed(&self) -> bool {
        self.overdue || self.told_wrong > 0
    }

    /// Adds what is not known of what was recorded later.
    pub fn merge(&mut self, later: Self) {
        let Self {
            overflows,
            unwatched,
            damaged,
            damaged_bytes,
            head,
            untold,
            mismatches,
            first_mismatch,
            first_outside,
            outside,
            overdue,
            told_wrong,
            unconfirmed,
        } = later;
        self.overflows += overflows;
        self.unwatched += unwatched;
        self.damaged += damaged;
        self.damaged_bytes += damaged_bytes;
        self.head += head;
        self.untold += untold;
        self.mismatches += mismatches;
        self.outside += outside;
        self.overdue |= overdue;
        self.told_wrong += told_wrong;
        self.unconfirmed = self.unconfirmed.or(unconfirmed);
        self.first_mismatch = self.first_mismatch.or(first_mismatch);
        self.first_outside = self.first_outside.or(first_outside);
    }
}

impl BlockCounts {
    #[cold]
    fn seldom(&mut self, offset: u64, moment: &Moment) {
        if *moment == Moment::Unconfirmed {
            self.confirmed = Some(Box::new(self.clone()));
        }
        self.gaps.moment(offset, moment);
    }

    #[cold]
    fn first_run(&mut self, id: BlockId, taken: bool) {
        self.ran.resize((id.0 as usize + 1).next_power_of_two().max(256), [0; 2]);
        self.ran[id.0 as usize][usize::from(taken)] += 1;
    }

    /// Little more is to come: what was counted takes room for the blocks that ran alone.
    pub fn compact(&mut self) {
        let dense = (0..).zip(std::mem::take(&mut self.ran));
        self.compact.extend(dense.filter(|(_, ways)| *ways != [0; 2]));
        self.compact.shrink_to_fit();
    }

    /// What is not known so far.
    #[must_use]
    pub const fn gaps(&self) -> &Gaps {
        &self.gaps
    }

    /// By address, so that it can be added to what was read elsewhere.
    #[must_use]
    pub fn into_tally(self, code: &Code<'_>) -> Tally {
        let skipped = code.tells_conditions().then_some(self.skipped);
        let confirmed = self.confirmed.map(|counts| Box::new(counts.into_tally(code)));
        let mut tally = Tally { gaps: self.gaps, skipped, confirmed, ..Tally::default() };
        let blocks = code.blocks();
        let dense = (0..).zip(self.ran).filter(|(_, ways)| *ways != [0; 2]);
        for (number, ways) in self.compact.into_iter().chain(dense) {
            if let Some(block) = blocks.get(number as usize) {
                let run = Run {
                    start: block.start,
                    until: block.after(),
                    last: block.last,
                    instructions: u64::from(block.instructions),
                };
                let counted = tally.runs.entry(run).or_default();
                counted.iter_mut().zip(ways).for_each(|(count, more)| *count += more);
            }
        }
        for ((id, until), count) in self.parts {
            let block = code.block(id);
            let instructions = code.instructions(block, until);
            let (last, instructions) = instructions
                .fold((block.start, 0), |(_, number), (address, _)| (address, number + 1));
            let run = Run { start: block.start, until, last, instructions };
            *tally.parts.entry(run).or_default() += count;
        }
        tally
    }
}

impl Sink for BlockCounts {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        match self.ran.get_mut(block.id.0 as usize) {
            Some(ran) => ran[usize::from(taken)] += 1,
            None => self.first_run(block.id, taken),
        }
    }

    fn ran_part(&mut self, block: &Block, until: u64, _instructions: u32) {
        *self.parts.entry((block.id, until)).or_default() += 1;
    }

    fn skipped(&mut self, address: u64) {
        *self.skipped.entry(address).or_default() += 1;
    }

    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        if !matches!(moment, Moment::Cycles(_)) {
            self.seldom(offset, moment);
        }
    }
}

/// Instructions that ran one after the other: a block, or the beginning of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Run {
    /// The address of its first instruction.
    pub start: u64,
    /// The address behind it.
    pub until: u64,
    /// The address of its last instruction.
    pub last: u64,
    /// How many instructions.
    pub instructions: u64,
}

/// How often code ran, by address: what is left when all is read.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Tally {
    /// How often the last instruction of a block did not branch, and did.
    pub runs: FxHashMap<Run, [u64; 2]>,
    /// How often beginnings of blocks ran, up to where an exception came in.
    pub parts: FxHashMap<Run, u64>,
    /// By address: how often an instruction was passed over, since its condition failed. It counts as
    /// run above. `None` where the trace does not tell.
    pub skipped: Option<FxHashMap<u64, u64>>,
    /// What is not known.
    pub gaps: Gaps,
    /// What was counted without what no synchronisation confirms, where there is such.
    pub confirmed: Option<Box<Self>>,
}

impl Tally {
    /// Adds what was counted of a later part.
    pub fn merge(&mut self, later: Self) {
        let Self { runs, parts, skipped, gaps, confirmed } = later;
        self.confirmed = confirmed.map(|later| {
            let mut confirmed = Box::new(self.clone());
            confirmed.merge(*later);
            confirmed
        });
        for (run, [stayed, branched]) in runs {
            let counts = self.runs.entry(run).or_default();
            *counts = [counts[0] + stayed, counts[1] + branched];
        }
        for (run, count) in parts {
            *self.parts.entry(run).or_default() += count;
        }
        if let Some(skipped) = skipped {
            let all = self.skipped.get_or_insert_default();
            skipped.into_iter().for_each(|(at, count)| *all.entry(at).or_default() += count);
        }
        self.gaps.merge(gaps);
    }

    /// How many instructions ran.
    #[must_use]
    pub fn instructions(&self) -> u64 {
        let whole =
            self.runs.iter().map(|(run, counts)| run.instructions * (counts[0] + counts[1]));
        let parts = self.parts.iter().map(|(run, count)| run.instructions * count);
        whole.chain(parts).fold(0, u64::saturating_add)
    }
}

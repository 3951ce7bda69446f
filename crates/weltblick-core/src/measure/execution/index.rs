//! What ran where in a recording: so that one place in it is found without reading all of it.
//!
//! The recording is taken in pieces of equal length. Of each, an index knows how many cycles had passed when
//! it began, and how often each block ran in it. Whoever looks for the thousandth time that an instruction
//! runs knows then in which piece that is, and reads from shortly before it.

use crate::flow::{Block, Code, Moment, Sink};
use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};

/// Bytes of a piece.
const PIECE: u64 = 1 << 20;

/// An index of a recording's instruction trace.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct FlowIndex {
    /// First address, and the one behind the last, of what ran without a branch.
    runs: Vec<(u64, u64)>,
    pieces: Vec<Piece>,
}

/// One piece of a recording.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
struct Piece {
    /// Its first byte.
    offset: u64,
    /// Cycles up to its first packet.
    cycles: u64,
    /// What ran in it, by number, and how often.
    ran: Vec<(u32, u32)>,
}

/// Where to read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Found {
    /// What is looked for lies at or behind this byte.
    pub offset: u64,
    /// Cycles up to the first packet from there on.
    pub cycles: u64,
    /// How often it ran from there on before the time that is looked for.
    pub skip: u64,
}

impl FlowIndex {
    /// The piece in which the instruction at `address` runs for the time `number`, from 0.
    #[must_use]
    pub fn nth(&self, address: u64, number: u64) -> Option<Found> {
        let holds = |&(run, _): &(u32, u32)| {
            self.runs
                .get(run as usize)
                .is_some_and(|&(start, until)| (start..until).contains(&address))
        };
        let mut skip = number;
        for piece in &self.pieces {
            let ran = piece.ran.iter().filter(|ran| holds(ran)).map(|&(_, count)| u64::from(count));
            let ran = ran.sum();
            if skip < ran {
                return Some(Found { offset: piece.offset, cycles: piece.cycles, skip });
            }
            skip -= ran;
        }
        None
    }

    /// The piece in which so many cycles have passed.
    #[must_use]
    pub fn at_cycles(&self, cycles: u64) -> Option<Found> {
        let after = self.pieces.partition_point(|piece| piece.cycles < cycles);
        let piece = self.pieces.get(after.saturating_sub(1))?;
        Some(Found { offset: piece.offset, cycles: piece.cycles, skip: 0 })
    }
}

/// Makes an index.
#[derive(Debug, Default)]
pub struct Indexing {
    pieces: Vec<Piece>,
    /// By block number: how often it ran in this piece.
    counts: Vec<u32>,
    /// Beginnings of blocks: first address, and where they ended.
    parts: FxHashMap<(u64, u64), u32>,
    /// How often each of those ran in this piece.
    part_counts: FxHashMap<u32, u32>,
    /// Where the piece ends.
    end: u64,
    cycles: u64,
}

impl Indexing {
    #[cold]
    fn next_piece(&mut self, offset: u64) {
        self.close();
        let start = offset / PIECE * PIECE;
        self.end = start + PIECE;
        let first = self.pieces.is_empty();
        let offset = if first { 0 } else { start };
        self.pieces.push(Piece { offset, cycles: self.cycles, ran: Vec::new() });
    }

    /// What ran in the piece that ends. Parts are numbered from the end until all blocks are known.
    fn close(&mut self) {
        let Some(piece) = self.pieces.last_mut() else { return };
        for (number, count) in (0..).zip(&mut self.counts) {
            if *count > 0 {
                piece.ran.push((number, std::mem::take(count)));
            }
        }
        let parts = self.part_counts.drain();
        piece.ran.extend(parts.map(|(part, count)| (u32::MAX - part, count)));
    }

    #[cold]
    fn grow(&mut self, block: &Block) {
        self.counts.resize((block.id.0 as usize + 1).next_power_of_two().max(256), 0);
    }

    /// The recording has ended.
    #[must_use]
    pub fn finish(mut self, code: &Code<'_>) -> FlowIndex {
        self.close();
        let mut runs: Vec<(u64, u64)> =
            code.blocks().iter().map(|block| (block.start, block.after())).collect();
        let blocks = runs.len() as u32;
        let mut parts: Vec<((u64, u64), u32)> = self.parts.into_iter().collect();
        parts.sort_unstable_by_key(|&(_, number)| number);
        runs.extend(parts.iter().map(|&(part, _)| part));
        for (run, _) in self.pieces.iter_mut().flat_map(|piece| &mut piece.ran) {
            if *run >= blocks {
                *run = blocks + (u32::MAX - *run);
            }
        }
        FlowIndex { runs, pieces: self.pieces }
    }
}

impl Sink for Indexing {
    #[inline(always)]
    fn ran(&mut self, block: &Block, _: bool) {
        if block.id.0 as usize >= self.counts.len() {
            self.grow(block);
        }
        let count = &mut self.counts[block.id.0 as usize];
        *count = count.saturating_add(1);
    }

    fn ran_part(&mut self, block: &Block, until: u64, _: u32) {
        let next = self.parts.len() as u32;
        let part = *self.parts.entry((block.start, until)).or_insert(next);
        *self.part_counts.entry(part).or_default() += 1;
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        if offset >= self.end {
            self.next_piece(offset);
        }
    }

    fn moment(&mut self, _: u64, moment: &Moment) {
        if let Moment::Cycles(Some(cycles)) = moment {
            self.cycles += u64::from(*cycles);
        }
    }
}

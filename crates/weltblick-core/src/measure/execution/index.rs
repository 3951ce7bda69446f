//! What ran where in a recording: so that one place in it is found without reading all of it.
//!
//! The recording is taken in pieces of equal length. Of each, an index knows how many cycles had passed when
//! it began, and how often each block ran in it. Whoever looks for the thousandth time that an instruction
//! runs knows then in which piece that is, and reads from shortly before it.

use crate::capture::Anchor;
use crate::event::{self, FlowEvents, Origin};
use crate::flow::{Block, Clocking, Code, Moment, Sink, Slowest};
use crate::measure::interrupts::{Nesting, Run, Watcher};
use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Bytes of a piece.
const PIECE: u64 = 1 << 20;

/// An index of a recording's instruction trace.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct FlowIndex {
    /// First address, and the one behind the last, of what ran without a branch.
    runs: Vec<(u64, u64)>,
    pieces: Vec<Piece>,
    /// Where reading may begin, if the recording lies in frames.
    anchors: Vec<Anchor>,
}

/// One piece of a recording.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
struct Piece {
    /// Its first byte.
    offset: u64,
    /// Cycles up to its first packet.
    cycles: u64,
    /// How slow instructions were before it.
    slowest: Slowest,
    /// What ran in it, by number, and how often.
    ran: Vec<(u32, u32)>,
    /// Runs of handlers that ended in it, by exception.
    handlers: Vec<(u16, HandlerRuns)>,
}

/// Runs of an exception's handler that ended in a piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
struct HandlerRuns {
    count: u64,
    /// When the first of them ended at the latest.
    first: Option<u64>,
}

/// Where to look for the run of a handler.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FoundRun {
    /// Where to read from: so many runs end from there on before the one that is looked for.
    pub found: Found,
    /// Cycles after which it has certainly ended.
    pub until: u64,
    /// When the first run that ends from there on ends at the latest.
    pub first: Option<u64>,
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

    /// The piece in which the run `number` of an exception's handler ends, from 0, or the last one.
    #[must_use]
    pub fn nth_run(&self, exception: u16, number: Option<u64>) -> Option<FoundRun> {
        let runs_in = |piece: &Piece| {
            let runs = piece.handlers.iter().find(|(number, _)| *number == exception);
            runs.map_or_else(HandlerRuns::default, |(_, runs)| *runs)
        };
        let all: u64 = self.pieces.iter().map(|piece| runs_in(piece).count).sum();
        let mut skip = number.unwrap_or(all.checked_sub(1)?);
        for (number, piece) in self.pieces.iter().enumerate() {
            let HandlerRuns { count, first } = runs_in(piece);
            if skip < count {
                let found = Found { offset: piece.offset, cycles: piece.cycles, skip };
                let until = self.pieces.get(number + 1).map_or(u64::MAX, |next| next.cycles);
                return Some(FoundRun { found, until, first });
            }
            skip -= count;
        }
        None
    }

    /// Events from a place that was found until so many cycles have passed: with the times that they have if
    /// all is read.
    pub fn events_from<S: event::Sink>(
        &self,
        found: Found,
        until: u64,
        origin: Origin,
        sink: S,
    ) -> FlowEvents<S> {
        let events = FlowEvents::new(origin, Clocking::Cycles, sink)
            .between((found.offset, found.cycles), until);
        match self.pieces.iter().find(|piece| piece.offset == found.offset) {
            Some(piece) => events.knowing(piece.slowest.clone()),
            None => events,
        }
    }

    /// The same; the recording lies in frames, and reading may begin at these places of it, in order.
    #[must_use]
    pub fn anchored(self, anchors: Vec<Anchor>) -> Self {
        Self { anchors, ..self }
    }

    /// Where to begin to read what lies from a byte of the source on, in frames.
    #[must_use]
    pub fn anchor(&self, byte: u64) -> Option<Anchor> {
        let after = self.anchors.partition_point(|anchor| anchor.source <= byte);
        self.anchors.get(after.checked_sub(1)?).copied()
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
    /// What learns how slow instructions are, and sees handlers run.
    events: FlowEvents<Nesting<Handlers>>,
}

/// Runs of handlers in the piece that is read.
#[derive(Debug, Default)]
struct Handlers(BTreeMap<u16, HandlerRuns>);

impl Watcher for Handlers {
    fn ran(&mut self, run: &Run) {
        let runs = self.0.entry(run.exception).or_default();
        if runs.count == 0 {
            runs.first = run.ended.map(|ended| ended.latest);
        }
        runs.count += 1;
    }
}

impl Default for Indexing {
    fn default() -> Self {
        Self {
            pieces: Vec::new(),
            counts: Vec::new(),
            parts: FxHashMap::default(),
            part_counts: FxHashMap::default(),
            end: 0,
            cycles: 0,
            events: FlowEvents::new(
                Origin(0),
                Clocking::Cycles,
                Nesting::new(1.0, Handlers::default()),
            ),
        }
    }
}

impl Indexing {
    #[cold]
    fn next_piece(&mut self, offset: u64) {
        self.close();
        let start = offset / PIECE * PIECE;
        self.end = start + PIECE;
        let first = self.pieces.is_empty();
        let offset = if first { 0 } else { start };
        let slowest = self.events.slowest().clone();
        let cycles = self.cycles;
        self.pieces.push(Piece { offset, cycles, slowest, ..Piece::default() });
    }

    /// What ran in the piece that ends. Parts are numbered from the end until all blocks are known.
    fn close(&mut self) {
        let Some(piece) = self.pieces.last_mut() else { return };
        for (number, count) in (0..).zip(&mut self.counts) {
            if *count > 0 {
                piece.ran.push((number, std::mem::take(count)));
            }
        }
        let handlers = std::mem::take(&mut self.events.sink_mut().watcher.0);
        piece.handlers = handlers.into_iter().collect();
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
        self.events.finish();
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
        FlowIndex { runs, pieces: self.pieces, anchors: Vec::new() }
    }
}

impl Sink for Indexing {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.events.ran(block, taken);
        if block.id.0 as usize >= self.counts.len() {
            self.grow(block);
        }
        let count = &mut self.counts[block.id.0 as usize];
        *count = count.saturating_add(1);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.events.ran_part(block, until, instructions);
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

    fn arrived(&mut self, block: &Block) {
        self.events.arrived(block);
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.at(offset);
        self.events.moment(offset, moment);
        if let Moment::Cycles(Some(cycles)) = moment {
            self.cycles += u64::from(*cycles);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::capture::{FlowLine, Manifest};
    use crate::image::Image;

    /// Cycles that a count at this byte, and what follows, come after.
    fn told(indexing: &mut Indexing, offset: u64, cycles: u32) {
        indexing.moment(offset, &Moment::Cycles(Some(cycles)));
    }

    #[test]
    fn a_count_belongs_to_the_piece_in_which_it_lies() {
        let bytes = include_bytes!("../../../../../demo/buoy-flow/wave-buoy.elf");
        let image = Image::parse(bytes).unwrap();
        let text = "format = 1\n[[stream]]\nfile = \"a\"\nprotocol = \"etmv4\"\n[stream.settings]\ntrcconfigr = 0x1811\n";
        let manifest = Manifest::parse("capture.toml", text).unwrap();
        let line = FlowLine::new(&manifest.streams[0], 0, &image).unwrap();
        let mut indexing = Indexing::default();
        indexing.at(0);
        told(&mut indexing, 100, 40);
        told(&mut indexing, PIECE - 1, 7);
        // No instruction is told first.
        told(&mut indexing, PIECE, 1000);
        // A handler that runs across the border counts where its end has a time.
        let entered = Moment::Entered { exception: Some(16), returns_to: 0 };
        indexing.moment(3 * PIECE - 9, &entered);
        indexing.moment(3 * PIECE - 8, &Moment::Left);
        told(&mut indexing, 3 * PIECE + 5, 20);
        indexing.moment(3 * PIECE + 6, &entered);
        told(&mut indexing, 3 * PIECE + 7, 30);
        indexing.moment(3 * PIECE + 8, &Moment::Left);
        told(&mut indexing, 3 * PIECE + 9, 40);
        let anchor = |stream, source| Anchor { stream, source, id: Some(2) };
        let anchors = vec![anchor(0, 0), anchor(900, 700), anchor(1900, 1400)];
        let index = indexing.finish(&line.finish(&mut ())).anchored(anchors);
        let found = |offset, cycles| Some(Found { offset, cycles, skip: 0 });
        assert_eq!(index.at_cycles(40), found(0, 0));
        assert_eq!(index.at_cycles(48), found(PIECE, 47));
        assert_eq!(index.at_cycles(1048), found(3 * PIECE, 1047));
        let run = |skip| {
            let found = Found { offset: 3 * PIECE, cycles: 1047, skip };
            Some(FoundRun { found, until: u64::MAX, first: Some(1067) })
        };
        assert_eq!([index.nth_run(16, Some(0)), index.nth_run(16, Some(1))], [run(0), run(1)]);
        assert_eq!([index.nth_run(16, None), index.nth_run(16, Some(2))], [run(1), None]);
        assert_eq!(index.nth_run(17, None), None);
        assert_eq!(index.anchor(699), Some(anchor(0, 0)));
        assert_eq!(index.anchor(5000), Some(anchor(1900, 1400)));
        assert_eq!(FlowIndex::default().anchor(3), None);
    }
}

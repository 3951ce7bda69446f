//! An image as blocks, made as they are reached.

use super::block::{Block, BlockId, End, next};
use crate::image::Image;
use crate::isa::thumb::{self, IfThen, Indirect, Instruction, Kind};
use std::ops::Range;

/// Instructions in a block at most: a bound on what a crafted image can cost, since a block may begin
/// at every address.
const LONGEST: u32 = 512;
/// How far before an address the `it` stands that makes its instruction conditional.
const IT_REACH: u64 = 14;

/// An image, cut into blocks.
#[derive(Debug)]
pub struct Code<'a> {
    image: &'a Image,
    /// `wfi` and `wfe` are told by the trace.
    waits_end_blocks: bool,
    /// Whether conditions of `it` blocks held is told.
    tells_conditions: bool,
    /// Where blocks begin in any case, in order.
    cuts: Vec<u64>,
    /// Every instruction is a block.
    single: bool,
    blocks: Vec<Block>,
    sections: Vec<Section>,
}

/// A stretch of executable memory, and which block starts at which of its halfwords.
#[derive(Debug)]
struct Section {
    range: Range<u64>,
    /// Block numbers and 1; 0 where none was made. Made when it is first needed.
    starts: Vec<u32>,
}

impl<'a> Code<'a> {
    /// No block yet.
    #[must_use]
    pub fn new(image: &'a Image, waits_end_blocks: bool) -> Self {
        let section = |(range, _)| Section { range, starts: Vec::new() };
        let sections = image.code().map(section).collect();
        Self {
            image,
            waits_end_blocks,
            tells_conditions: false,
            cuts: Vec::new(),
            single: false,
            blocks: Vec::new(),
            sections,
        }
    }

    /// The same, for a trace that tells of every instruction whether its condition held.
    #[must_use]
    pub fn with_conditions(self) -> Self {
        Self { tells_conditions: true, ..self }
    }

    /// Blocks begin at these addresses, and none runs across them: so whoever waits for an instruction
    /// need only look at the beginnings of blocks. Before any block was made.
    pub fn cut_at(&mut self, addresses: &[u64]) {
        self.cuts = addresses.to_vec();
        self.cuts.sort_unstable();
    }

    /// Every instruction is a block of its own: whoever counts time by blocks counts it by instructions. Before any
    /// block was made.
    pub const fn cut_everywhere(&mut self) {
        self.single = true;
    }

    /// Whether it is told which instructions of `it` blocks were passed over.
    #[must_use]
    pub const fn tells_conditions(&self) -> bool {
        self.tells_conditions
    }

    /// The image.
    #[must_use]
    pub const fn image(&self) -> &'a Image {
        self.image
    }

    /// Every block that was reached, by number.
    #[must_use]
    pub fn blocks(&self) -> &[Block] {
        &self.blocks
    }

    /// The block with this number.
    #[must_use]
    pub fn block(&self, id: BlockId) -> &Block {
        &self.blocks[id.0 as usize]
    }

    #[inline(always)]
    pub(super) fn get(&self, number: u32) -> Option<&Block> {
        self.blocks.get(number as usize)
    }

    /// The block that starts at `address`; `None` where nothing can be executed.
    pub fn block_at(&mut self, address: u64) -> Option<BlockId> {
        let section = self.sections.iter_mut().find(|section| section.range.contains(&address))?;
        if !address.is_multiple_of(2) {
            return None;
        }
        if section.starts.is_empty() {
            let halves = (section.range.end - section.range.start).div_ceil(2) as usize + 1;
            section.starts = vec![0; halves];
        }
        let slot = ((address - section.range.start) / 2) as usize;
        if let Some(number) = section.starts[slot].checked_sub(1) {
            return Some(BlockId(number));
        }
        let id = BlockId(self.blocks.len() as u32);
        // No block runs into the next function either: its instructions are of one function alone.
        let function = self.image.function_after(address).unwrap_or(u64::MAX);
        let cut = self.cuts.partition_point(|&cut| cut <= address);
        let until = self.cuts.get(cut).copied().unwrap_or(u64::MAX).min(function);
        let until = if self.single { address + 1 } else { until };
        let block = walk(self.image, address..until, id, self.waits_end_blocks)?;
        section.starts[slot] = id.0 + 1;
        self.blocks.push(block);
        Some(id)
    }

    /// The block after this one, whose last instruction branched to a fixed address or did not
    /// branch; `Err` says to where, if nothing can be executed there.
    pub(super) fn successor(&mut self, id: BlockId, taken: bool) -> Result<BlockId, u64> {
        let block = *self.block(id);
        let address =
            if taken { self.target(&block).unwrap_or(block.after()) } else { block.after() };
        let found = self.block_at(address).ok_or(address)?;
        let slot = &mut self.blocks[id.0 as usize].next[usize::from(taken)];
        if *slot == next::UNKNOWN {
            *slot = found.0;
        }
        Ok(found)
    }

    /// Where the block's last instruction branches to, if that is fixed.
    #[must_use]
    pub fn target(&self, block: &Block) -> Option<u64> {
        let bytes = self.image.instructions_from(block.last)?;
        thumb::decode(block.last, bytes)?.kind.target()
    }

    /// The instructions of a block up to `until`, and their addresses.
    pub fn instructions(
        &self,
        block: &Block,
        until: u64,
    ) -> impl Iterator<Item = (u64, Instruction)> + use<'a> {
        let bytes = self.image.instructions_from(block.start).unwrap_or(&[]);
        let (start, end) = (block.start, until.min(block.after()));
        let mut at = start;
        std::iter::from_fn(move || {
            let rest = bytes.get((at - start) as usize..)?;
            let instruction = (at < end).then(|| thumb::decode(at, rest)).flatten()?;
            let address = at;
            at += u64::from(instruction.length);
            Some((address, instruction))
        })
    }

    /// The address of the block's instruction with this number, counted from 0, if an `it` makes it
    /// conditional.
    #[must_use]
    pub(super) fn conditional(&self, block: &Block, number: u32) -> Option<u64> {
        let mut state = it_state(self.image, block.start);
        for (place, (address, instruction)) in (0..).zip(self.instructions(block, block.after())) {
            if place == number {
                return state.is_conditional().then_some(address);
            }
            state = match instruction.kind {
                Kind::IfThen(begins) => begins,
                _ => state.advance(),
            };
        }
        None
    }

    /// The address of the block's instruction with this number, counted from 0.
    pub(super) fn nth(&self, block: &Block, number: u32) -> Option<u64> {
        self.instructions(block, block.after()).nth(number as usize).map(|(address, _)| address)
    }

    /// Whether `address` is the first byte of one of the block's instructions.
    #[must_use]
    pub fn holds(&self, block: &Block, address: u64) -> bool {
        (block.start..=block.last).contains(&address)
            && self.instructions(block, address + 1).any(|(at, _)| at == address)
    }
}

/// Walks from the start of a range to the first instruction that ends a block, or to the range's end.
fn walk(image: &Image, within: Range<u64>, id: BlockId, waits: bool) -> Option<Block> {
    let start = within.start;
    let bytes = image.instructions_from(start)?;
    let mut state = it_state(image, start);
    let mut block = Block {
        start,
        last: start,
        instructions: 0,
        id,
        next: [next::UNKNOWN; 2],
        last_length: 0,
        end: End::Edge,
        conditional: false,
        links: false,
        waits: false,
        wait: 0,
        sets_stack: false,
    };
    let mut at = start;
    while let Some(instruction) =
        bytes.get((at - start) as usize..).and_then(|rest| thumb::decode(at, rest))
    {
        block.last = at;
        block.last_length = instruction.length;
        block.instructions += 1;
        if instruction.kind == Kind::Wait && !block.waits {
            (block.waits, block.wait) = (true, (at - start) as u16);
        }
        block.sets_stack |= instruction.kind == Kind::SetsStack;
        at += u64::from(instruction.length);
        if let Some(end) = end_of(instruction.kind, waits) {
            finish(&mut block, instruction.kind, end, state.is_conditional());
            return Some(block);
        }
        if block.instructions == LONGEST || at >= within.end {
            block.end = End::Through;
            block.next[1] = next::SPECIAL;
            block.next[0] = next::SPECIAL;
            return Some(block);
        }
        state = match instruction.kind {
            Kind::IfThen(begins) => begins,
            _ => state.advance(),
        };
    }
    block.next = [next::SPECIAL; 2];
    (block.instructions > 0).then_some(block)
}

fn end_of(kind: Kind, waits: bool) -> Option<End> {
    Some(match kind {
        Kind::Jump { .. } => End::Jump,
        Kind::Call { .. } => End::Call,
        Kind::Indirect(indirect) => End::Indirect(indirect),
        Kind::Barrier => End::Marked,
        Kind::Wait if waits => End::Marked,
        _ => return None,
    })
}

fn finish(block: &mut Block, kind: Kind, end: End, in_it: bool) {
    block.end = end;
    block.links = kind.links();
    block.conditional = in_it || matches!(kind, Kind::Jump { conditional: true, .. });
    if !block.conditional {
        block.next[0] = next::SPECIAL;
    }
    if matches!(end, End::Indirect(_)) {
        block.next[1] = next::SPECIAL;
    }
}

/// The IT state at `address`: an `it` shortly before it that reaches so far. Where code before it only
/// looks like one, branches count as conditional that are not: the check is weaker then, nothing else.
fn it_state(image: &Image, address: u64) -> IfThen {
    for distance in (2..=IT_REACH).step_by(2) {
        let Some(from) = address.checked_sub(distance) else { break };
        let Some(bytes) = image.instructions_from(from) else { break };
        let Some(Instruction { kind: Kind::IfThen(mut state), .. }) = thumb::decode(from, bytes)
        else {
            continue;
        };
        let mut at = from + 2;
        while at < address && state.is_active() {
            let rest = bytes.get((at - from) as usize..);
            let Some(instruction) = rest.and_then(|rest| thumb::decode(at, rest)) else { break };
            at += u64::from(instruction.length);
            state = state.advance();
        }
        if at == address && state.is_active() {
            return state;
        }
    }
    IfThen::NONE
}

impl Block {
    /// Whether something waited, if execution left the block before this address.
    #[must_use]
    pub const fn waits_before(&self, until: u64) -> bool {
        self.waits && self.start + (self.wait as u64) < until
    }

    /// Whether a branch at its end is a return, as functions and handlers return.
    #[must_use]
    pub const fn returns(&self) -> bool {
        matches!(self.end, End::Indirect(Indirect::Return))
    }
}

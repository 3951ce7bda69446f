//! Every instruction of an image's functions, with its line and what matters of it.

use crate::image::{FunctionId, Image};
use crate::isa::thumb::{self, IfThen, Kind};
use crate::isa::{Isa, instruction_length};
use rustc_hash::FxHashMap;
use std::ops::Range;

/// Everything that could run.
#[derive(Debug, Default)]
pub struct Listing {
    /// By address.
    pub instructions: Vec<Listed>,
    /// By address.
    pub functions: Vec<ListedFunction>,
    /// Source files.
    pub files: Vec<String>,
}

/// A function.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedFunction {
    /// Its number in the image.
    pub id: FunctionId,
    /// Its instructions, in [`Listing::instructions`].
    pub instructions: Range<usize>,
    /// Where the source declares it: file and line. Else where its first instruction stands.
    pub place: Option<(u32, u32)>,
}

/// An instruction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listed {
    /// Its address.
    pub address: u64,
    /// Its length in bytes.
    pub length: u8,
    /// Its source file, by number, and line.
    pub line: Option<(u32, u32)>,
    /// What matters of it.
    pub role: Role,
}

/// What matters of an instruction to coverage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// It runs or it does not.
    Plain,
    /// A branch that may go two ways.
    Branch,
    /// A call.
    Call,
    /// In an IT block: it may run without effect.
    Conditional,
}

impl Listing {
    /// Lists an image's functions. Data between instructions is left out, and so is what fills up to it.
    #[must_use]
    pub fn of(image: &Image) -> Self {
        let mut listing = Self::default();
        let mut files = FxHashMap::default();
        for (number, function) in (0..).zip(image.functions()) {
            let first = listing.instructions.len();
            walk(image, function.range.clone(), &mut listing.instructions);
            for listed in &mut listing.instructions[first..] {
                let location = image.location_at(listed.address);
                listed.line = location.and_then(|location| {
                    let next = files.len() as u32;
                    let file = *files.entry(location.file).or_insert(next);
                    Some((file, location.line?))
                });
            }
            let instructions = first..listing.instructions.len();
            if instructions.is_empty() {
                continue;
            }
            let begins = listing.instructions[first];
            let declared = image
                .declaration_of(begins.address)
                .and_then(|location| Some((*files.get(&location.file)?, location.line?)));
            let place = declared.or(begins.line);
            listing.functions.push(ListedFunction { id: FunctionId(number), instructions, place });
        }
        let mut named: Vec<(String, u32)> = files.into_iter().collect();
        named.sort_by_key(|&(_, number)| number);
        listing.files = named.into_iter().map(|(file, _)| file).collect();
        listing
    }

    /// The number of the instruction at `address`.
    #[must_use]
    pub fn position(&self, address: u64) -> Option<usize> {
        self.instructions.binary_search_by_key(&address, |listed| listed.address).ok()
    }

    /// The name of an instruction's file.
    #[must_use]
    pub fn file(&self, number: u32) -> &str {
        &self.files[number as usize]
    }
}

/// Lists the instructions in a range.
fn walk(image: &Image, range: Range<u64>, out: &mut Vec<Listed>) {
    let mut at = range.start;
    while at < range.end {
        let Some(bytes) = image.instructions_from(at) else {
            match image.after_literal(at) {
                Some(next) => at = next,
                None => return,
            }
            continue;
        };
        let until = (bytes.len() as u64).min(range.end - at) as usize;
        let first = out.len();
        list(image.isa(), at, &bytes[..until], out);
        drop_filling(image, out, first);
        at += until as u64;
    }
}

/// Lists instructions that stand one after the other.
fn list(isa: Isa, start: u64, bytes: &[u8], out: &mut Vec<Listed>) {
    let mut state = IfThen::NONE;
    let mut at = 0;
    while let Some(rest) = bytes.get(at..).filter(|rest| !rest.is_empty()) {
        let address = start + at as u64;
        let (length, kind) = match isa {
            Isa::Thumb => match thumb::decode(address, rest) {
                Some(instruction) => (instruction.length, instruction.kind),
                None => return,
            },
            Isa::Riscv32 | Isa::Riscv64 => match instruction_length(isa, rest) {
                Some(length) => (length as u8, Kind::Plain),
                None => return,
            },
        };
        let role = role(kind, state.is_conditional());
        out.push(Listed { address, length, line: None, role });
        state = match kind {
            Kind::IfThen(begins) => begins,
            _ => state.advance(),
        };
        at += usize::from(length);
    }
}

const fn role(kind: Kind, conditional: bool) -> Role {
    match kind {
        Kind::Jump { conditional: true, .. } => Role::Branch,
        _ if conditional && kind.branches() => Role::Branch,
        _ if kind.links() => Role::Call,
        _ if conditional => Role::Conditional,
        _ => Role::Plain,
    }
}

/// What an assembler puts between the last branch and data, so that the data is aligned, never runs.
fn drop_filling(image: &Image, out: &mut Vec<Listed>, first: usize) {
    let kind = |listed: &Listed| {
        let bytes = image.instructions_from(listed.address)?;
        Some((thumb::decode(listed.address, bytes)?.kind, u16::from_le_bytes([bytes[0], bytes[1]])))
    };
    if image.isa() != Isa::Thumb {
        return;
    }
    let nops = out[first..]
        .iter()
        .rev()
        .take_while(|listed| matches!(kind(listed), Some((Kind::Plain, 0xbf00 | 0x0000 | 0x46c0))))
        .count();
    let before = out.len() - nops;
    let ends = before > first
        && matches!(
            kind(&out[before - 1]),
            Some((Kind::Jump { conditional: false, .. } | Kind::Indirect(_) | Kind::Trap, _))
        )
        && out[before - 1].role != Role::Branch;
    if ends {
        out.truncate(before);
    }
}

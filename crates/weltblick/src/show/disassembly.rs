//! Instructions as text.

use super::plain;
use anyhow::{Result, anyhow};
use capstone::arch::arm::{ArchExtraMode, ArchMode};
use capstone::prelude::*;
use weltblick_core::image::{Image, Place};
use weltblick_core::isa::instruction_length;
use weltblick_core::isa::thumb::{Kind, decode};

/// Instructions of an `it` block at most.
const LONGEST_BLOCK: usize = 4;
/// Bytes between an `it` and the last instruction of its block at most.
const MOST_BEFORE: u64 = 2 + 3 * 4;

/// Turns instructions of M-profile cores into text.
pub(crate) struct Disassembler(Capstone);

impl Disassembler {
    pub(crate) fn new() -> Result<Self> {
        Capstone::new()
            .arm()
            .mode(ArchMode::Thumb)
            .extra_mode([ArchExtraMode::MClass, ArchExtraMode::V8].into_iter())
            .build()
            .map(Self)
            .map_err(|error| anyhow!("the disassembler does not start: {error}"))
    }

    /// The instruction at `address`, whose bytes are these; the bytes where the disassembler does not know it. Within an
    /// `it` block it has its condition: `addmi`, where alone it would be `adds`.
    pub(crate) fn text(&self, image: &Image, address: u64, bytes: &[u8]) -> String {
        let start = block_around(image, address).unwrap_or(address);
        let from_start = image.instructions_from(start).filter(|_| start != address);
        let code = from_start.unwrap_or(bytes);
        let found = self.0.disasm_count(code, start, LONGEST_BLOCK + 1).ok();
        let mut found = found.iter().flat_map(|found| found.iter());
        let text = found.find(|one| one.address() == address).map(|one| {
            let mnemonic = one.mnemonic().unwrap_or("?");
            let operands = one.op_str().unwrap_or("");
            format!("{mnemonic:<8}{operands}").trim_end().to_owned()
        });
        text.map_or_else(|| format!(".inst   {}", opcode(bytes)), |text| plain(&text).into_owned())
    }
}

/// The `it` instruction whose block this instruction is in.
fn block_around(image: &Image, address: u64) -> Option<u64> {
    let reaches = |start: &u64| {
        let count = block_length(image, *start);
        let mut at = start + 2;
        (0..count).any(|_| {
            let here = at == address;
            let bytes = image.instructions_from(at).unwrap_or_default();
            at += instruction_length(image.isa(), bytes).unwrap_or(2);
            here
        })
    };
    let before = (2..=MOST_BEFORE).step_by(2).filter_map(|back| address.checked_sub(back));
    before.filter(|&at| image.place(at) == Place::Instruction).find(reaches)
}

/// How many instructions the `it` at this address makes conditional; 0: it is none.
fn block_length(image: &Image, address: u64) -> u32 {
    let code = image.instructions_from(address).unwrap_or_default();
    match decode(address, code).map(|instruction| instruction.kind) {
        Some(Kind::IfThen(state)) => state.left(),
        _ => 0,
    }
}

/// An instruction's halfwords in hexadecimal.
pub(crate) fn opcode(bytes: &[u8]) -> String {
    let half = |pair: &[u8]| match *pair {
        [low, high] => format!("{:04x}", u16::from_le_bytes([low, high])),
        _ => String::new(),
    };
    bytes.chunks(2).map(half).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instructions_of_an_it_block_have_their_conditions() {
        let image = Image::parse(include_bytes!("../../../../demo/buoy/wave-buoy.elf")).unwrap();
        let disassembler = Disassembler::new().unwrap();
        let (mut blocks, mut conditional) = (0, 0);
        for (range, bytes) in image.code() {
            for at in range.step_by(2).filter(|&at| image.place(at) == Place::Instruction) {
                blocks += usize::from(block_length(&image, at) > 0);
                let Some(code) = image.instructions_from(at) else { continue };
                let text = disassembler.text(&image, at, &code[..code.len().min(4)]);
                let is_inside = block_around(&image, at).is_some();
                let mnemonic = text.split([' ', '.']).next().unwrap();
                let condition = &mnemonic[mnemonic.len().saturating_sub(2)..];
                let has = CONDITIONS.contains(&condition);
                assert!(!is_inside || has, "{at:#x}: {text}");
                conditional += usize::from(is_inside);
            }
            assert!(!bytes.is_empty());
        }
        assert!(
            blocks > 10 && conditional >= blocks,
            "{blocks} blocks, {conditional} instructions"
        );
    }

    const CONDITIONS: [&str; 16] = [
        "eq", "ne", "hs", "lo", "mi", "pl", "vs", "vc", "hi", "ls", "ge", "lt", "gt", "le", "cs",
        "cc",
    ];
}

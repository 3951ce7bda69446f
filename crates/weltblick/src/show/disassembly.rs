//! Instructions as text.

use super::plain;
use anyhow::{Result, anyhow};
use capstone::arch::arm::{ArchExtraMode, ArchMode};
use capstone::prelude::*;

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

    /// One instruction; its bytes where the disassembler does not know it.
    pub(crate) fn text(&self, address: u64, bytes: &[u8]) -> String {
        let found = self.0.disasm_count(bytes, address, 1).ok();
        let text = found.as_ref().and_then(|found| found.iter().next()).map(|one| {
            let mnemonic = one.mnemonic().unwrap_or("?");
            let operands = one.op_str().unwrap_or("");
            format!("{mnemonic:<8}{operands}").trim_end().to_owned()
        });
        text.map_or_else(|| format!(".inst   {}", opcode(bytes)), |text| plain(&text).into_owned())
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

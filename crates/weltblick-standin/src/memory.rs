//! What the core sees of the world outside: reads and writes.

use crate::core::{Instruction, decode};
use thiserror::Error;

/// An access that nothing answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("{what} of address {address:#010x}, where there is nothing")]
pub struct BusFault {
    /// `read` or `write`.
    pub what: &'static str,
    /// Where.
    pub address: u32,
}

/// Memory and peripherals as the core accesses them: little-endian, unaligned allowed.
pub trait Bus {
    /// Reads 1, 2 or 4 bytes, zero-extended.
    ///
    /// # Errors
    ///
    /// If nothing answers.
    fn read(&mut self, address: u32, bytes: u32) -> Result<u32, BusFault>;

    /// Writes the low 1, 2 or 4 bytes.
    ///
    /// # Errors
    ///
    /// If nothing answers.
    fn write(&mut self, address: u32, bytes: u32, value: u32) -> Result<(), BusFault>;
}

/// A stretch of plain memory.
#[derive(Debug, Clone)]
pub struct Memory {
    base: u32,
    bytes: Vec<u8>,
}

impl Memory {
    /// Zeroed memory of `size` bytes at `base`.
    #[must_use]
    pub fn new(base: u32, size: u32) -> Self {
        Self { base, bytes: vec![0; size as usize] }
    }

    fn offset(&self, address: u32, bytes: u32) -> Option<usize> {
        let offset = address.wrapping_sub(self.base) as usize;
        (offset + bytes as usize <= self.bytes.len()).then_some(offset)
    }

    /// Reads 1, 2 or 4 bytes, if they lie in here.
    #[inline]
    #[must_use]
    pub fn read(&self, address: u32, bytes: u32) -> Option<u32> {
        let at = self.offset(address, bytes)?;
        let b = &self.bytes[at..];
        Some(match bytes {
            1 => u32::from(b[0]),
            2 => u32::from(u16::from_le_bytes([b[0], b[1]])),
            _ => u32::from_le_bytes([b[0], b[1], b[2], b[3]]),
        })
    }

    /// Writes 1, 2 or 4 bytes, if they lie in here.
    #[inline]
    pub fn write(&mut self, address: u32, bytes: u32, value: u32) -> Option<()> {
        let at = self.offset(address, bytes)?;
        let len = bytes as usize;
        self.bytes[at..at + len].copy_from_slice(&value.to_le_bytes()[..len]);
        Some(())
    }

    /// Copies `data` to `address`; `None` if it does not fit.
    pub fn load(&mut self, address: u32, data: &[u8]) -> Option<()> {
        let at = self.offset(address, data.len() as u32)?;
        self.bytes[at..at + data.len()].copy_from_slice(data);
        Some(())
    }

    /// The first address.
    #[must_use]
    pub const fn base(&self) -> u32 {
        self.base
    }

    /// How many bytes.
    #[must_use]
    pub fn size(&self) -> u32 {
        self.bytes.len() as u32
    }
}

/// Flash: plain memory whose instructions are decoded once.
#[derive(Debug)]
pub struct Flash {
    memory: Memory,
    /// By halfword: not looked at yet, no instruction, or the instruction.
    decoded: Vec<Slot>,
}

#[derive(Debug, Clone, Copy)]
enum Slot {
    Unseen,
    Undefined,
    Known(Instruction),
}

impl Flash {
    /// Erased flash of `size` bytes at `base`.
    #[must_use]
    pub fn new(base: u32, size: u32) -> Self {
        Self { memory: Memory::new(base, size), decoded: vec![Slot::Unseen; size as usize / 2] }
    }

    /// The bytes.
    #[must_use]
    pub const fn memory(&self) -> &Memory {
        &self.memory
    }

    /// Programs `data` at `address`; `None` if it does not fit.
    pub fn program(&mut self, address: u32, data: &[u8]) -> Option<()> {
        self.decoded.fill(Slot::Unseen);
        self.memory.load(address, data)
    }

    /// The instruction at `address`; `None` if there is none.
    #[inline]
    pub fn fetch(&mut self, address: u32) -> Option<Instruction> {
        let slot = (address.wrapping_sub(self.memory.base) / 2) as usize;
        match *self.decoded.get(slot)? {
            Slot::Known(instruction) => Some(instruction),
            Slot::Undefined => None,
            Slot::Unseen => self.decode(address, slot),
        }
    }

    #[cold]
    fn decode(&mut self, address: u32, slot: usize) -> Option<Instruction> {
        let first = self.memory.read(address, 2)? as u16;
        let second = self.memory.read(address + 2, 2).unwrap_or(0) as u16;
        let instruction = decode(address, first, second);
        self.decoded[slot] = instruction.map_or(Slot::Undefined, Slot::Known);
        instruction
    }
}

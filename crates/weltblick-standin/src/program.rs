//! Firmware: an ELF file as a loader sees it.

use object::read::elf::{FileHeader as _, ProgramHeader as _};
use object::{Object as _, ObjectSymbol as _, elf};
use thiserror::Error;

/// Loadable pieces of an ELF file, and its symbols.
#[derive(Debug, Clone)]
pub struct Program {
    /// Load address (not run address) and bytes of each segment.
    pub segments: Vec<(u32, Vec<u8>)>,
    symbols: Vec<(String, u32, u32)>,
}

/// Why a file cannot be loaded.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ProgramError {
    /// No ELF file, or a damaged one.
    #[error("not a sound 32-bit ELF file: {0}")]
    Unreadable(String),
    /// For another machine.
    #[error("the ELF file is not for Arm")]
    NotArm,
    /// A segment where the stand-in has no flash.
    #[error("a segment of {size} bytes at {address:#010x} does not fit the flash")]
    DoesNotFit {
        /// Where it should go.
        address: u32,
        /// How long it is.
        size: usize,
    },
}

impl Program {
    /// Reads an ELF file.
    ///
    /// # Errors
    ///
    /// If it is none, damaged, or not for Arm.
    pub fn parse(bytes: &[u8]) -> Result<Self, ProgramError> {
        let bad = |error: object::read::Error| ProgramError::Unreadable(error.to_string());
        let header = elf::FileHeader32::<object::LittleEndian>::parse(bytes).map_err(bad)?;
        let endian = header.endian().map_err(bad)?;
        if header.e_machine(endian) != elf::EM_ARM {
            return Err(ProgramError::NotArm);
        }
        let mut segments = Vec::new();
        for segment in header.program_headers(endian, bytes).map_err(bad)? {
            if segment.p_type(endian) != elf::PT_LOAD || segment.p_filesz(endian) == 0 {
                continue;
            }
            let data = segment
                .data(endian, bytes)
                .map_err(|()| ProgramError::Unreadable("a segment lies outside the file".into()))?;
            segments.push((segment.p_paddr(endian), data.to_vec()));
        }
        let file = object::File::parse(bytes).map_err(bad)?;
        let symbols = file
            .symbols()
            .filter_map(|symbol| {
                let name = symbol.name().ok()?.to_owned();
                Some((name, symbol.address() as u32, symbol.size() as u32))
            })
            .collect();
        Ok(Self { segments, symbols })
    }

    /// A program of one segment, without symbols.
    #[must_use]
    pub fn from_bytes(address: u32, bytes: Vec<u8>) -> Self {
        Self { segments: vec![(address, bytes)], symbols: Vec::new() }
    }

    /// Address (thumb bit clear) and size of a symbol.
    #[must_use]
    pub fn symbol(&self, name: &str) -> Option<(u32, u32)> {
        let (_, address, size) = self.symbols.iter().find(|(symbol, ..)| symbol == name)?;
        Some((address & !1, *size))
    }

    /// Where the lowest segment goes: there the vector table is.
    #[must_use]
    pub fn base(&self) -> u32 {
        self.segments.iter().map(|(address, _)| *address).min().unwrap_or(0)
    }
}

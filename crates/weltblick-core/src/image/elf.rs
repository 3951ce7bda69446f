//! From the bytes of an ELF file to an [`Image`].

use super::functions::{Functions, Rank, Symbol};
use super::{Code, Image, lines::Lines, names::demangle, vectors::Vectors};
use crate::isa::Isa;
use object::read::elf::ElfFile;
use object::{
    Architecture, Object as _, ObjectSection as _, ObjectSymbol as _, SectionFlags, SymbolKind, elf,
};
use std::ops::Range;
use std::sync::Mutex;
use thiserror::Error;

/// The largest section that is unpacked or copied: a header may claim any size.
const LARGEST_SECTION: u64 = 1 << 30;

/// Why a file is no usable image.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ImageError {
    /// Not an ELF file at all.
    #[error("this is no ELF file (it does not start with 7F 45 4C 46)")]
    NotElf,
    /// An ELF file that ends early or contradicts itself.
    #[error("the ELF file is damaged or cut off: {0}")]
    Damaged(String),
    /// An ELF file for another machine.
    #[error("the ELF file is for {0}; Weltblick reads images for Arm (Thumb) and RISC-V")]
    OtherMachine(String),
    /// An ELF file without anything to execute.
    #[error(
        "the ELF file has no executable sections; give the linked firmware, not an object file"
    )]
    NoCode,
}

pub(super) fn parse(bytes: &[u8]) -> Result<Image, ImageError> {
    if !bytes.starts_with(b"\x7fELF") {
        return Err(ImageError::NotElf);
    }
    match bytes.get(4) {
        Some(1) => parse_class::<elf::FileHeader32<object::Endianness>>(bytes),
        Some(2) => parse_class::<elf::FileHeader64<object::Endianness>>(bytes),
        _ => Err(ImageError::Damaged("it names neither the 32-bit nor the 64-bit class".into())),
    }
}

fn parse_class<H: object::read::elf::FileHeader>(bytes: &[u8]) -> Result<Image, ImageError> {
    let file = ElfFile::<H>::parse(bytes).map_err(|error| damaged(&error))?;
    let isa = isa_of(&file)?;
    let (code, overlays) = code_of(&file)?;
    let sections: Vec<Range<u64>> = code.iter().map(|code| code.range.clone()).collect();
    let (symbols, literals) = symbols_of(&file, isa, &sections)?;
    let functions = Functions::new(symbols, &sections);
    let vectors = match isa {
        Isa::Thumb => find_vectors(&file, &code, &functions),
        Isa::Riscv32 | Isa::Riscv64 => Vectors::default(),
    };
    let lines = Lines::new(file.is_little_endian(), |name| debug_section(&file, name));
    Ok(Image {
        isa,
        data: data_of(&file),
        build_id: file.build_id().ok().flatten().map(<[u8]>::to_vec),
        code,
        overlays,
        literals,
        functions,
        lines: lines.map(Mutex::new),
        vectors,
    })
}

pub(super) fn damaged(error: &object::read::Error) -> ImageError {
    ImageError::Damaged(error.to_string())
}

fn isa_of<'data>(file: &impl object::Object<'data>) -> Result<Isa, ImageError> {
    match file.architecture() {
        Architecture::Arm => Ok(Isa::Thumb),
        Architecture::Riscv32 => Ok(Isa::Riscv32),
        Architecture::Riscv64 => Ok(Isa::Riscv64),
        other => Err(ImageError::OtherMachine(format!("{other:?}"))),
    }
}

/// Executable sections with their bytes, sorted; of those that overlap the first, and where they do.
fn code_of<'data>(
    file: &impl object::Object<'data>,
) -> Result<(Vec<Code>, Vec<Range<u64>>), ImageError> {
    let mut code = Vec::new();
    for section in file.sections() {
        if !has_flags(&section, elf::SHF_EXECINSTR | elf::SHF_ALLOC) || section.size() == 0 {
            continue;
        }
        let bytes = section.data().map_err(|error| damaged(&error))?;
        let start = section.address();
        let end = start
            .checked_add(section.size())
            .ok_or_else(|| ImageError::Damaged("a section reaches past the last address".into()))?;
        code.push(Code { range: start..end, bytes: bytes.to_vec() });
    }
    code.sort_by_key(|code| code.range.start);
    let mut overlays = Vec::new();
    code.dedup_by(|later: &mut Code, earlier| {
        let overlaps = later.range.start < earlier.range.end;
        if overlaps {
            overlays.push(later.range.clone());
        }
        overlaps
    });
    if code.is_empty() { Err(ImageError::NoCode) } else { Ok((code, overlays)) }
}

/// Other sections that are loaded, with their bytes; what is damaged is left out.
fn data_of<'data>(file: &impl object::Object<'data>) -> Vec<Code> {
    let mut data = Vec::new();
    for section in file.sections() {
        if !has_flags(&section, elf::SHF_ALLOC) || has_flags(&section, elf::SHF_EXECINSTR) {
            continue;
        }
        let Ok(bytes) = section.data() else { continue };
        let start = section.address();
        let Some(end) = start.checked_add(bytes.len() as u64).filter(|&end| end > start) else {
            continue;
        };
        data.push(Code { range: start..end, bytes: bytes.to_vec() });
    }
    data.sort_by_key(|data| data.range.start);
    data.dedup_by(|later, earlier| later.range.start < earlier.range.end);
    data
}

fn has_flags<'data>(
    section: &impl object::ObjectSection<'data>,
    wanted: elf::SectionFlags,
) -> bool {
    matches!(section.flags(), SectionFlags::Elf { sh_flags, .. } if sh_flags & wanted == wanted)
}

/// Function symbols, and the stretches that mapping symbols call data.
fn symbols_of<'data>(
    file: &impl object::Object<'data>,
    isa: Isa,
    sections: &[Range<u64>],
) -> Result<(Vec<Symbol>, Vec<Range<u64>>), ImageError> {
    let mut symbols = Vec::new();
    let mut mapping = Vec::new();
    for symbol in file.symbols() {
        let Ok(name) = symbol.name_bytes() else {
            return Err(ImageError::Damaged("a symbol's name lies outside the file".into()));
        };
        if let [b'$', kind @ (b't' | b'a' | b'd' | b'x'), rest @ ..] = name
            && (rest.is_empty() || rest[0] == b'.')
        {
            mapping.push((symbol.address(), *kind == b'd'));
            continue;
        }
        let rank = match symbol.kind() {
            _ if symbol.is_undefined() || name.is_empty() || name.starts_with(b".L") => continue,
            SymbolKind::Text if symbol.is_weak() => Rank::WeakFunction,
            SymbolKind::Text if symbol.is_global() => Rank::GlobalFunction,
            SymbolKind::Text => Rank::LocalFunction,
            SymbolKind::Label | SymbolKind::Unknown => Rank::Label,
            _ => continue,
        };
        let thumb_bit = u64::from(isa == Isa::Thumb);
        symbols.push(Symbol {
            address: symbol.address() & !thumb_bit,
            size: symbol.size(),
            name: demangle(&String::from_utf8_lossy(name)),
            rank,
        });
    }
    Ok((symbols, literal_ranges(mapping, sections)))
}

/// Mapping symbols (*ELF for the Arm Architecture*, section 5.5.5) to stretches of data.
fn literal_ranges(mut mapping: Vec<(u64, bool)>, sections: &[Range<u64>]) -> Vec<Range<u64>> {
    mapping.sort_unstable();
    let mut literals = Vec::new();
    for (index, &(start, is_data)) in mapping.iter().enumerate() {
        let Some(section) = super::range_holding(sections, start) else { continue };
        let next = mapping.get(index + 1).map_or(section.end, |&(next, _)| next);
        if is_data && next.min(section.end) > start {
            literals.push(start..next.min(section.end));
        }
    }
    literals
}

/// The vector table: in a section named for it, else where the lowest loaded section starts.
fn find_vectors<'data>(
    file: &impl object::Object<'data>,
    code: &[Code],
    functions: &Functions,
) -> Vectors {
    let named = file.sections().filter(|section| {
        section.name().is_ok_and(|name| name.contains("vector") || name.contains("isr"))
    });
    let lowest = file
        .sections()
        .filter(|section| section.address() & 0x7f == 0 && section.size() >= 64)
        .filter(|section| has_flags(section, elf::SHF_ALLOC))
        .min_by_key(|section| section.address());
    named
        .chain(lowest)
        .filter_map(|section| section.data().ok())
        .find_map(|bytes| Vectors::read(bytes, code, functions))
        .unwrap_or_default()
}

/// A debug section, unpacked; `None` if absent, damaged or absurdly large.
pub(super) fn debug_section<'data>(
    file: &impl object::Object<'data>,
    name: &str,
) -> Option<Vec<u8>> {
    let section = file.section_by_name(name)?;
    let data = section.compressed_data().ok()?;
    if data.uncompressed_size > LARGEST_SECTION {
        return None;
    }
    data.decompress().ok().map(std::borrow::Cow::into_owned)
}

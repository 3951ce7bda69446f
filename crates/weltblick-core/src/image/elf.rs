//! From the bytes of an ELF file to an [`Image`].

use super::debug::{DebugFiles, Lookup, Sections};
use super::functions::{Functions, Rank, Symbol};
use super::{Code, Image, names::Names, vectors::Vectors};
use crate::isa::Isa;
use object::read::elf::ElfFile;
use object::{
    Architecture, Object as _, ObjectSection as _, ObjectSymbol as _, SectionFlags, SectionIndex,
    SymbolKind, SymbolSection, elf,
};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Mutex;
use thiserror::Error;

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
    /// An Arm ELF file with code that Thumb decoders would misread.
    #[error(
        "the ELF file has code in Arm state (A32) at {0:#x}; Weltblick knows Thumb only, and would count it wrongly"
    )]
    ArmState(u64),
    /// A big-endian Arm ELF file that was not linked with `--be8`.
    #[error(
        "the ELF file has big-endian instructions (BE32); cores of the M profile execute little-endian ones: link with `--be8`"
    )]
    BigEndianCode,
}

pub(super) fn parse(bytes: &[u8], files: Box<dyn DebugFiles>) -> Result<Image, ImageError> {
    if !bytes.starts_with(b"\x7fELF") {
        return Err(ImageError::NotElf);
    }
    match bytes.get(4) {
        Some(1) => parse_class::<elf::FileHeader32<object::Endianness>>(bytes, files),
        Some(2) => parse_class::<elf::FileHeader64<object::Endianness>>(bytes, files),
        _ => Err(ImageError::Damaged("it names neither the 32-bit nor the 64-bit class".into())),
    }
}

fn parse_class<H: object::read::elf::FileHeader>(
    bytes: &[u8],
    files: Box<dyn DebugFiles>,
) -> Result<Image, ImageError> {
    let file = ElfFile::<H>::parse(bytes).map_err(|error| damaged(&error))?;
    check_names(&file, bytes.len())?;
    let isa = isa_of(&file)?;
    let mut room = bytes.len() as u64;
    let Executable { code, sections, overlays } = code_of(&file, &mut room)?;
    let extents: Vec<Range<u64>> = code.iter().map(|code| code.range.clone()).collect();
    let Symbols { functions, mapping, ends, mut objects } = symbols_of(&file, isa, &sections)?;
    drop_objects_with_functions(&mut objects, &functions);
    if isa == Isa::Thumb {
        refuse_other_states(&file, &functions, &mapping, &extents)?;
    }
    let functions = Functions::new(functions, &ends, &extents);
    let vectors = match isa {
        Isa::Thumb => find_vectors(&file, &code, &functions),
        Isa::Riscv32 | Isa::Riscv64 => Vectors::default(),
    };
    let debug = Sections::of(&file, bytes.len());
    Ok(Image {
        isa,
        data: data_of(&file, &mut room),
        build_id: file.build_id().ok().flatten().map(<[u8]>::to_vec),
        code,
        overlays,
        literals: literal_ranges(&mapping, &objects, &extents),
        functions,
        debug: debug.map(|sections| Mutex::new(Lookup::new(sections, files))),
        vectors,
        links: links_of(&file),
    })
}

/// An ELF file of either class, whose names were checked.
pub(super) fn opened(bytes: &[u8]) -> Result<object::File<'_>, ImageError> {
    let file = object::File::parse(bytes).map_err(|error| damaged(&error))?;
    check_names(&file, bytes.len())?;
    Ok(file)
}

/// Refuses a file whose names are longer altogether than it is by far, since they lie within each other: whoever looks
/// for a section or a symbol reads them all, each up to its end.
fn check_names<'data>(file: &impl object::Object<'data>, length: usize) -> Result<(), ImageError> {
    let sections = file.sections().map(|section| section.name_bytes().map_or(0, <[u8]>::len));
    let symbols = file.symbols().map(|symbol| symbol.name_bytes().map_or(0, <[u8]>::len));
    let most = length.saturating_mul(4);
    let mut read = 0_usize;
    for name in sections.chain(symbols) {
        read += name;
        if read > most {
            let message = "the names of its symbols and sections are longer than the file itself";
            return Err(ImageError::Damaged(message.into()));
        }
    }
    Ok(())
}

/// Files that tools moved debug information to: no reader here follows them.
fn links_of<'data>(file: &impl object::Object<'data>) -> Vec<String> {
    let stripped = file.gnu_debuglink().ok().flatten().map(|(name, _)| name);
    let shared = file.gnu_debugaltlink().ok().flatten().map(|(name, _)| name);
    let names = stripped.into_iter().chain(shared);
    names.map(|name| String::from_utf8_lossy(name).into_owned()).collect()
}

fn damaged(error: &object::read::Error) -> ImageError {
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

/// What can be executed.
struct Executable {
    /// Sorted, not overlapping.
    code: Vec<Code>,
    /// Its sections, and whether `code` has their bytes.
    sections: HashMap<SectionIndex, bool>,
    /// Where sections were left out, because another has the addresses.
    overlays: Vec<Range<u64>>,
}

/// Executable sections with their bytes; of those that overlap the first.
///
/// `room` is how many bytes may be copied: section headers may claim the same bytes many times.
fn code_of<'data>(
    file: &impl object::Object<'data>,
    room: &mut u64,
) -> Result<Executable, ImageError> {
    let mut found = Vec::new();
    for section in file.sections() {
        if !has_flags(&section, elf::SHF_EXECINSTR | elf::SHF_ALLOC) || section.size() == 0 {
            continue;
        }
        let bytes = section.data().map_err(|error| damaged(&error))?;
        let start = section.address();
        let end = start
            .checked_add(section.size())
            .ok_or_else(|| ImageError::Damaged("a section reaches past the last address".into()))?;
        *room = room
            .checked_sub(bytes.len() as u64)
            .ok_or_else(|| ImageError::Damaged("its sections overlap in the file".into()))?;
        found.push((section.index(), Code { range: start..end, bytes: bytes.to_vec() }));
    }
    found.sort_by_key(|(_, code)| code.range.start);
    let mut sections: HashMap<SectionIndex, bool> =
        found.iter().map(|(index, _)| (*index, false)).collect();
    let mut overlays = Vec::new();
    found.dedup_by(|(_, later), (_, earlier)| {
        let overlaps = later.range.start < earlier.range.end;
        if overlaps {
            overlays.push(later.range.clone());
        }
        overlaps
    });
    if found.is_empty() {
        return Err(ImageError::NoCode);
    }
    sections.extend(found.iter().map(|(index, _)| (*index, true)));
    Ok(Executable { code: found.into_iter().map(|(_, code)| code).collect(), sections, overlays })
}

/// Other sections that are loaded, with their bytes; what is damaged is left out.
fn data_of<'data>(file: &impl object::Object<'data>, room: &mut u64) -> Vec<Code> {
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
        let Some(left) = room.checked_sub(bytes.len() as u64) else { break };
        *room = left;
        data.push(Code { range: start..end, bytes: bytes.to_vec() });
    }
    data.sort_by_key(|data| data.range.start);
    data.dedup_by(|later, earlier| later.range.start < earlier.range.end);
    data
}

pub(super) fn has_flags<'data>(
    section: &impl object::ObjectSection<'data>,
    wanted: elf::SectionFlags,
) -> bool {
    matches!(section.flags(), SectionFlags::Elf { sh_flags, .. } if sh_flags & wanted == wanted)
}

/// What mapping symbols say begins (*ELF for the Arm Architecture*, section 5.5.5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum State {
    Data,
    Thumb,
    /// `$a`, and `$x` of other architectures.
    Other,
}

impl State {
    /// What a symbol of this name says, if it is a mapping symbol: `$d`, or `$d.` and anything. Those of RISC-V may
    /// name the extensions that the code is for (`$xrv32imac`; *RISC-V ELF psABI*, mapping symbols).
    fn of(name: &[u8], isa: Isa) -> Option<Self> {
        let (b'$', [kind, rest @ ..]) = name.split_first().map(|(first, rest)| (*first, rest))?
        else {
            return None;
        };
        let is_riscv = matches!(isa, Isa::Riscv32 | Isa::Riscv64);
        let ends = rest.is_empty() || rest[0] == b'.';
        match kind {
            b'd' if ends => Some(Self::Data),
            b't' if ends => Some(Self::Thumb),
            b'a' if ends => Some(Self::Other),
            b'x' if ends || is_riscv && rest.starts_with(b"rv") => Some(Self::Other),
            _ => None,
        }
    }
}

/// What the symbol table says about the executable sections.
#[derive(Default)]
struct Symbols {
    functions: Vec<Symbol>,
    /// Where mapping symbols stand; sorted.
    mapping: Vec<(u64, State)>,
    /// Where anything with a name begins; sorted.
    ends: Vec<u64>,
    /// Data with a name and a size; sorted.
    objects: Vec<Range<u64>>,
}

/// The symbols of the executable sections: what others say (of debug sections, say, whose addresses begin at 0)
/// means nothing there.
fn symbols_of<'data>(
    file: &impl object::Object<'data>,
    isa: Isa,
    sections: &HashMap<SectionIndex, bool>,
) -> Result<Symbols, ImageError> {
    let (mut symbols, mut names) = (Symbols::default(), Names::default());
    let thumb_bit = u64::from(isa == Isa::Thumb);
    for symbol in file.symbols() {
        let Ok(name) = symbol.name_bytes() else {
            return Err(ImageError::Damaged("a symbol's name lies outside the file".into()));
        };
        let section = symbol.section_index().and_then(|index| sections.get(&index));
        // Of code that is laid over other code, what is an instruction is not known; what it is called is.
        let (is_here, has_bytes) = (section.is_some(), section == Some(&true));
        if let Some(state) = State::of(name, isa) {
            if has_bytes {
                symbols.mapping.push((symbol.address(), state));
            }
            continue;
        }
        // Functions of a ROM have addresses without a section; absolute labels are sizes and limits.
        let is_rom =
            symbol.section() == SymbolSection::Absolute && symbol.kind() == SymbolKind::Text;
        if !(is_here || is_rom) || name.is_empty() || name.starts_with(b".L") {
            continue;
        }
        let rank = match symbol.kind() {
            SymbolKind::Text if symbol.is_weak() => Rank::WeakFunction,
            SymbolKind::Text if symbol.is_global() => Rank::GlobalFunction,
            SymbolKind::Text => Rank::LocalFunction,
            SymbolKind::Label | SymbolKind::Unknown => Rank::Label,
            SymbolKind::Data => {
                let (start, size) = (symbol.address(), symbol.size());
                symbols.ends.push(start);
                let end = start.checked_add(size).filter(|_| has_bytes);
                symbols.objects.extend(end.map(|end| start..end));
                continue;
            }
            _ => continue,
        };
        symbols.ends.push(symbol.address() & !thumb_bit);
        symbols.functions.push(Symbol {
            address: symbol.address() & !thumb_bit,
            size: symbol.size(),
            name: names.of(&String::from_utf8_lossy(name)),
            rank,
            is_thumb: symbol.address() & thumb_bit == 1,
        });
    }
    symbols.mapping.sort_unstable();
    symbols.ends.sort_unstable();
    symbols.objects.sort_unstable_by_key(|object| (object.start, object.end));
    Ok(symbols)
}

/// Whether all code is in Thumb state: `$a` says where it is not. Where there are no mapping symbols, functions do,
/// whose addresses have the lowest bit set in Thumb state (*ELF for the Arm Architecture*, section 5.5.3).
fn refuse_other_states<'data>(
    file: &impl object::Object<'data>,
    functions: &[Symbol],
    mapping: &[(u64, State)],
    sections: &[Range<u64>],
) -> Result<(), ImageError> {
    let is_be8 = matches!(file.flags(), object::FileFlags::Elf { e_flags, .. } if e_flags.contains(elf::EF_ARM_BE8));
    if !file.is_little_endian() && !is_be8 {
        return Err(ImageError::BigEndianCode);
    }
    let arm = extents(mapping, sections).find(|(state, _)| *state == State::Other);
    if let Some((_, range)) = arm {
        return Err(ImageError::ArmState(range.start));
    }
    let mut typed = functions.iter().filter(|symbol| symbol.rank != Rank::Label).peekable();
    if mapping.is_empty()
        && let Some(first) = typed.peek().map(|symbol| symbol.address)
        && typed.all(|symbol| !symbol.is_thumb)
    {
        return Err(ImageError::ArmState(first));
    }
    Ok(())
}

/// From each mapping symbol to the next, or to the end of its section; empty ones are left out.
fn extents<'a>(
    mapping: &'a [(u64, State)],
    sections: &'a [Range<u64>],
) -> impl Iterator<Item = (State, Range<u64>)> + 'a {
    mapping.iter().enumerate().filter_map(|(index, &(start, state))| {
        let section = super::range_holding(sections, start)?;
        let next = mapping.get(index + 1).map_or(section.end, |&(next, _)| next);
        let range = start..next.min(section.end);
        (!range.is_empty()).then_some((state, range))
    })
}

/// A symbol of data that spans functions names a region, not an object.
fn drop_objects_with_functions(objects: &mut Vec<Range<u64>>, functions: &[Symbol]) {
    let typed = functions.iter().filter(|symbol| symbol.rank != Rank::Label);
    let mut starts: Vec<u64> = typed.map(|symbol| symbol.address).collect();
    starts.sort_unstable();
    objects.retain(|object| {
        let from = starts.partition_point(|&start| start < object.start);
        starts.get(from).is_none_or(|&start| start >= object.end)
    });
}

/// Data between instructions: from `$d` on, and objects with no instruction in them. Compilers leave `$d` out of
/// sections that hold nothing but data, and linkers put these among the code.
fn literal_ranges(
    mapping: &[(u64, State)],
    objects: &[Range<u64>],
    sections: &[Range<u64>],
) -> Vec<Range<u64>> {
    let has_code = |object: &Range<u64>| {
        let from = mapping.partition_point(|&(at, _)| at < object.start);
        let inside = mapping[from..].iter().take_while(|&&(at, _)| at < object.end);
        inside.into_iter().any(|(_, state)| *state != State::Data)
    };
    let objects = objects.iter().filter(|object| !object.is_empty() && !has_code(object)).cloned();
    let data = extents(mapping, sections).filter(|(state, _)| *state == State::Data);
    let mut ranges: Vec<Range<u64>> = data.map(|(_, range)| range).chain(objects).collect();
    ranges.sort_unstable_by_key(|range| (range.start, range.end));
    ranges.dedup_by(|later, earlier| {
        let overlaps = later.start <= earlier.end;
        if overlaps {
            earlier.end = earlier.end.max(later.end);
        }
        overlaps
    });
    ranges
}

/// Sections that are looked at for a vector table.
const MOST_TABLES: usize = 16;

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
        .take(MOST_TABLES)
        .chain(lowest)
        .filter_map(|section| section.data().ok())
        .find_map(|bytes| Vectors::read(bytes, file.is_little_endian(), code, functions))
        .unwrap_or_default()
}

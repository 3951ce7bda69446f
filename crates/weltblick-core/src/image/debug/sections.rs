//! The debug sections of a file, unpacked.

use super::units::Slice;
use crate::image::elf::opened;
use gimli::{RunTimeEndian, SectionId};
use object::{Object, ObjectSection as _};
use std::sync::Arc;

/// All sections together are unpacked up to here.
pub(super) const MOST_BYTES: u64 = 256 << 20;

/// Sections together are unpacked to so many times the size of their file, and [`LEAST_ROOM`]: debug information
/// packs to a third or a tenth.
const MOST_TIMES: u64 = 32;

/// What even a small file may unpack to.
const LEAST_ROOM: u64 = 1 << 20;

/// What lookups read; others would only take room.
const WANTED: [SectionId; 13] = [
    SectionId::DebugAbbrev,
    SectionId::DebugAddr,
    SectionId::DebugCuIndex,
    SectionId::DebugInfo,
    SectionId::DebugLine,
    SectionId::DebugLineStr,
    SectionId::DebugRanges,
    SectionId::DebugRngLists,
    SectionId::DebugStr,
    SectionId::DebugStrOffsets,
    SectionId::DebugTuIndex,
    SectionId::DebugTypes,
    SectionId::DebugLoc,
];

/// Debug sections with their bytes.
#[derive(Debug)]
pub(in crate::image) struct Sections {
    pub(super) dwarf: gimli::Dwarf<Slice>,
    /// What may still be unpacked of other files.
    pub(super) room: u64,
}

impl Sections {
    /// Unpacks the debug sections of a file of `length` bytes. `None` if it has no `.debug_info`; a section that is
    /// damaged, or larger than any that such a file would have, is left out.
    pub(in crate::image) fn of<'data>(file: &impl Object<'data>, length: usize) -> Option<Self> {
        let mut room = MOST_BYTES;
        let dwarf =
            gimli::Dwarf::load(loader(file, length, &mut room, |id| Some(id.name()))).ok()?;
        let info = gimli::Section::reader(&dwarf.debug_info);
        (!info.bytes().is_empty()).then_some(Self { dwarf, room })
    }
}

/// What the compiler put into a file beside the object file (DWARF 5, 7.3.2), or a linker together from such files
/// (7.3.5).
pub(super) enum Split {
    File(Box<gimli::Dwarf<Slice>>),
    Package(Box<gimli::DwarfPackage<Slice>>),
}

impl Split {
    /// Reads a file; `None` if it is none of these.
    pub(super) fn read(bytes: &[u8], room: &mut u64) -> Option<Self> {
        let file = opened(bytes).ok()?;
        let name = |id: SectionId| match id {
            SectionId::DebugCuIndex | SectionId::DebugTuIndex => Some(id.name()),
            _ => id.dwo_name(),
        };
        let mut load = loader(&file, bytes.len(), room, name);
        if file.section_by_name(".debug_cu_index").is_none() {
            return Some(Self::File(Box::new(gimli::Dwarf::load(load).ok()?)));
        }
        let empty = load(SectionId::DebugAranges).ok()?;
        Some(Self::Package(Box::new(gimli::DwarfPackage::load(load, empty).ok()?)))
    }
}

/// Gives the sections of a file.
fn loader<'f, 'data>(
    file: &'f impl Object<'data>,
    length: usize,
    room: &'f mut u64,
    name: impl Fn(SectionId) -> Option<&'static str> + 'f,
) -> impl FnMut(SectionId) -> Result<Slice, gimli::Error> + 'f {
    let endian = match file.is_little_endian() {
        true => RunTimeEndian::Little,
        false => RunTimeEndian::Big,
    };
    let mut own = (length as u64).saturating_mul(MOST_TIMES).saturating_add(LEAST_ROOM);
    move |id| {
        let name = name(id).filter(|_| WANTED.contains(&id));
        let bytes = name.and_then(|name| unpacked(file, name, &mut own, room));
        Ok(Slice::new(Arc::from(bytes.unwrap_or_default()), endian))
    }
}

/// A section's bytes; `None` if it is absent, damaged or too large.
fn unpacked<'data>(
    file: &impl Object<'data>,
    name: &str,
    own: &mut u64,
    room: &mut u64,
) -> Option<Vec<u8>> {
    let data = file.section_by_name(name)?.compressed_data().ok()?;
    (*own, *room) =
        (own.checked_sub(data.uncompressed_size)?, room.checked_sub(data.uncompressed_size)?);
    data.decompress().ok().map(std::borrow::Cow::into_owned)
}

//! Units of debug information, opened when they are asked for, and references between their entries.

use super::abbreviations::Tables;
use super::split::{DebugFiles, SplitFile, Splits};
use super::tree::Tree;
use super::{Entry, Sections, Value};
use gimli::{
    DebugLineOffset, EndianArcSlice, Operation, RunTimeEndian, Section as _, UnitHeader,
    UnitOffset, UnitType, constants as dw,
};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

pub(in crate::image) type Slice = EndianArcSlice<RunTimeEndian>;

/// A unit's number, in the order of `.debug_info`, then of `.debug_types`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(in crate::image) struct UnitId(u32);

/// An entry's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(in crate::image) struct Reference {
    pub(in crate::image) unit: UnitId,
    pub(in crate::image) offset: UnitOffset,
}

/// A unit, opened.
#[derive(Debug)]
pub(in crate::image) struct Unit {
    pub(in crate::image) id: UnitId,
    pub(in crate::image) unit: gimli::Unit<Slice>,
    file: usize,
    /// Where its line program is, in the main file.
    pub(super) lines: Option<DebugLineOffset>,
    /// Where the compiler ran.
    pub(super) folder: Option<String>,
    /// What its root says of addresses.
    pub(super) extent: Extent,
    /// The file that has the rest of it.
    pub(super) split: Option<SplitFile>,
}

/// What an entry says of its addresses.
#[derive(Debug, Clone, Default)]
pub(in crate::image) struct Extent {
    low: Option<u64>,
    high: Option<Value>,
    ranges: Option<Value>,
}

impl Extent {
    fn new(entry: &Entry, dwarf: &gimli::Dwarf<Slice>, unit: &gimli::Unit<Slice>) -> Self {
        let low = entry.attr_value(gimli::DW_AT_low_pc);
        Self {
            low: low.and_then(|low| dwarf.attr_address(unit, low).ok().flatten()),
            high: entry.attr_value(gimli::DW_AT_high_pc),
            ranges: entry.attr_value(gimli::DW_AT_ranges),
        }
    }
}

/// Origins and specifications are followed so far: a crafted file may chain them in a circle.
const MOST_STEPS: usize = 16;

/// Texts are read so far.
const LONGEST_TEXT: usize = 4096;

/// Bytes of texts that are read in all: any number of entries may have the same one, or texts within each other.
const MOST_TEXTS: usize = 128 << 20;

/// Entries of range lists that are read in all: lists may be shared by any number of entries.
const MOST_RANGES: u64 = 1 << 22;

/// All units of an image: those of its own file, and of files that it was split into.
#[derive(Debug)]
pub(in crate::image) struct Units {
    /// The image's own first.
    files: Vec<File>,
    headers: Vec<(usize, UnitHeader<Slice>)>,
    /// How many of `headers` are of the image's own file.
    own: usize,
    splits: Splits,
    /// Type units, by signature.
    signatures: HashMap<u64, Reference>,
    opened: HashMap<UnitId, Option<Arc<Unit>>>,
    whole: HashMap<UnitId, Option<Arc<Unit>>>,
    trees: HashMap<UnitId, Arc<Tree>>,
    range_room: u64,
    text_room: usize,
}

/// A file's debug sections.
#[derive(Debug)]
struct File {
    dwarf: gimli::Dwarf<Slice>,
    /// Where the units of `.debug_info` begin, in order.
    offsets: Vec<(usize, UnitId)>,
    abbreviations: Tables,
}

impl Units {
    /// The units of a file, and of those that `finder` has of what it was split into.
    pub(in crate::image) fn new(sections: Sections, finder: Box<dyn DebugFiles>) -> Self {
        let mut units = Self {
            files: Vec::new(),
            headers: Vec::new(),
            own: 0,
            splits: Splits::new(finder, sections.room),
            signatures: HashMap::new(),
            opened: HashMap::new(),
            whole: HashMap::new(),
            trees: HashMap::new(),
            range_room: MOST_RANGES,
            text_room: MOST_TEXTS,
        };
        units.add(sections.dwarf);
        units.own = units.headers.len();
        units
    }

    /// Adds a file; gives the numbers of its units.
    fn add(&mut self, dwarf: gimli::Dwarf<Slice>) -> Range<usize> {
        let (file, first) = (self.files.len(), self.headers.len());
        let mut units = dwarf.units();
        while let Ok(Some(header)) = units.next() {
            self.headers.push((file, header));
        }
        let mut types = dwarf.type_units();
        while let Ok(Some(header)) = types.next() {
            self.headers.push((file, header));
        }
        let mut offsets = Vec::new();
        for (id, (_, header)) in (0..).map(UnitId).zip(&self.headers).skip(first) {
            offsets.extend(header.debug_info_offset().map(|offset| (offset.0, id)));
            if let UnitType::Type { type_signature, type_offset }
            | UnitType::SplitType { type_signature, type_offset } = header.type_()
            {
                self.signatures
                    .insert(type_signature.0, Reference { unit: id, offset: type_offset });
            }
        }
        let abbreviations = Tables::of(dwarf.debug_abbrev.clone());
        self.files.push(File { dwarf, offsets, abbreviations });
        first..self.headers.len()
    }

    /// The sections of the image's own file.
    pub(super) fn main(&self) -> &gimli::Dwarf<Slice> {
        &self.files[0].dwarf
    }

    fn dwarf(&self, unit: &Unit) -> &gimli::Dwarf<Slice> {
        &self.files[unit.file].dwarf
    }

    /// Files that the image was split into and that were not found, are of another build, or too large: their names.
    pub(in crate::image) fn missing(&mut self) -> Vec<String> {
        for id in self.ids() {
            self.whole(id);
        }
        self.splits.missing().iter().cloned().collect()
    }

    /// The numbers of the units of the image's own file.
    pub(in crate::image) fn ids(&self) -> impl Iterator<Item = UnitId> + use<> {
        (0..self.own as u32).map(UnitId)
    }

    /// Opens a unit; `None` if it is damaged.
    pub(in crate::image) fn open(&mut self, id: UnitId) -> Option<Arc<Unit>> {
        if let Some(opened) = self.opened.get(&id) {
            return opened.clone();
        }
        let unit = self.read(id).map(Arc::new);
        self.opened.insert(id, unit.clone());
        unit
    }

    /// Opens a unit; if the compiler put the most of it into another file, that: `None` only if it is damaged.
    pub(in crate::image) fn whole(&mut self, id: UnitId) -> Option<Arc<Unit>> {
        if let Some(whole) = self.whole.get(&id) {
            return whole.clone();
        }
        let unit = self.open(id);
        let split = unit.as_ref().and_then(|unit| self.split(unit));
        let whole = split.or(unit);
        self.whole.insert(id, whole.clone());
        whole
    }

    fn split(&mut self, skeleton: &Arc<Unit>) -> Option<Arc<Unit>> {
        let wanted = skeleton.split.as_ref()?;
        let dwarf = self.splits.read(wanted, &self.files[0].dwarf)?;
        for index in self.add(dwarf) {
            let Some(mut unit) = self.read(UnitId(index as u32)) else { continue };
            if unit.unit.dwo_id.is_some_and(|id| id.0 == wanted.id) {
                unit.unit.copy_relocated_attributes(&skeleton.unit);
                unit.lines = skeleton.lines;
                unit.folder.clone_from(&skeleton.folder);
                // Its entries refer to each other by its number.
                let unit = Arc::new(unit);
                self.opened.insert(unit.id, Some(unit.clone()));
                return Some(unit);
            }
        }
        self.splits.note_missing(wanted);
        None
    }

    /// Reads a unit's root. Without its line program: many units may refer to one.
    fn read(&mut self, id: UnitId) -> Option<Unit> {
        let (file, header) = self.headers.get(id.0 as usize)?.clone();
        let abbreviations = self.files[file].abbreviations.at(header.debug_abbrev_offset())?;
        let dwarf = &self.files[file].dwarf;
        let (encoding, file_type) = (header.encoding(), dwarf.file_type);
        let dwo_id = match header.type_() {
            UnitType::Skeleton(id) | UnitType::SplitCompilation(id) => Some(id),
            _ => None,
        };
        let mut unit = gimli::Unit {
            abbreviations,
            name: None,
            comp_dir: None,
            low_pc: 0,
            str_offsets_base: gimli::DebugStrOffsetsBase::default_for_encoding_and_file(
                encoding, file_type,
            ),
            addr_base: gimli::DebugAddrBase(0),
            loclists_base: gimli::DebugLocListsBase::default_for_encoding_and_file(
                encoding, file_type,
            ),
            rnglists_base: gimli::DebugRngListsBase::default_for_encoding_and_file(
                encoding, file_type,
            ),
            line_program: None,
            dwo_id,
            header,
        };
        let root = unit.entry(unit.header.root_offset()).ok()?;
        for attribute in root.attrs() {
            match (attribute.name(), attribute.value()) {
                (dw::DW_AT_str_offsets_base, Value::DebugStrOffsetsBase(base)) => {
                    unit.str_offsets_base = base;
                }
                (dw::DW_AT_addr_base | dw::DW_AT_GNU_addr_base, Value::DebugAddrBase(base)) => {
                    unit.addr_base = base;
                }
                (dw::DW_AT_loclists_base, Value::DebugLocListsBase(base)) => {
                    unit.loclists_base = base;
                }
                (
                    dw::DW_AT_rnglists_base | dw::DW_AT_GNU_ranges_base,
                    Value::DebugRngListsBase(base),
                ) => unit.rnglists_base = base,
                (dw::DW_AT_GNU_dwo_id, Value::DwoId(id)) => unit.dwo_id = unit.dwo_id.or(Some(id)),
                _ => {}
            }
        }
        let extent = Extent::new(&root, dwarf, &unit);
        unit.low_pc = extent.low.unwrap_or(0);
        let lines = match root.attr_value(gimli::DW_AT_stmt_list) {
            Some(Value::DebugLineRef(offset)) => Some(offset),
            _ => None,
        };
        let text = |name| Some(with_slashes(text_of(dwarf, &unit, &root.attr_value(name)?)?));
        let folder = text(gimli::DW_AT_comp_dir);
        let is_skeleton =
            file == 0 && !matches!(unit.header.type_(), UnitType::SplitCompilation(_));
        let split = text(gimli::DW_AT_dwo_name).or_else(|| text(gimli::DW_AT_GNU_dwo_name));
        let split = split.filter(|_| is_skeleton).zip(unit.dwo_id);
        let split = split.map(|(name, id)| SplitFile { name, folder: folder.clone(), id: id.0 });
        let kept = folder.iter().chain(split.iter().map(|split| &split.name)).map(String::len);
        self.text_room = self.text_room.checked_sub(kept.sum())?;
        Some(Unit { id, unit, file, lines, folder, extent, split })
    }

    /// What an attribute of `unit` refers to.
    pub(in crate::image) fn referred(&self, unit: UnitId, value: &Value) -> Option<Reference> {
        match value {
            Value::UnitRef(offset) => Some(Reference { unit, offset: *offset }),
            Value::DebugInfoRef(offset) => {
                let (file, _) = self.headers.get(unit.0 as usize)?;
                let offsets = &self.files[*file].offsets;
                let after = offsets.partition_point(|(start, _)| *start <= offset.0);
                let (_, unit) = *offsets.get(after.checked_sub(1)?)?;
                let offset = offset.to_unit_offset(&self.headers[unit.0 as usize].1)?;
                Some(Reference { unit, offset })
            }
            Value::DebugTypesRef(signature) => self.signatures.get(&signature.0).copied(),
            _ => None,
        }
    }

    /// The entry at a place.
    pub(in crate::image) fn entry(&mut self, at: Reference) -> Option<(Arc<Unit>, Entry)> {
        let unit = self.open(at.unit)?;
        let entry = unit.unit.entry(at.offset).ok()?;
        Some((unit, entry))
    }

    /// All entries of a unit.
    pub(in crate::image) fn tree(&mut self, unit: &Unit) -> Arc<Tree> {
        self.trees.entry(unit.id).or_insert_with(|| Arc::new(Tree::of(unit))).clone()
    }

    /// An attribute of an entry, or of what it completes or is a copy of (`DW_AT_specification`,
    /// `DW_AT_abstract_origin`), with the unit that has it.
    pub(in crate::image) fn attribute(
        &mut self,
        unit: &Arc<Unit>,
        entry: &Entry,
        name: gimli::DwAt,
    ) -> Option<(Arc<Unit>, Value)> {
        if let Some(value) = entry.attr_value(name) {
            return Some((unit.clone(), value));
        }
        let (mut unit, mut next) = (unit.clone(), origin(entry)?);
        for _ in 0..MOST_STEPS {
            let at = self.referred(unit.id, &next)?;
            let (there, entry) = self.entry(at)?;
            if let Some(value) = entry.attr_value(name) {
                return Some((there, value));
            }
            (unit, next) = (there, origin(&entry)?);
        }
        None
    }

    /// The entry that is completed or copied, and that no other stands behind: the declaration.
    pub(in crate::image) fn declaration(&mut self, at: Reference) -> Reference {
        let mut at = at;
        for _ in 0..MOST_STEPS {
            let next = self.entry(at).and_then(|(_, entry)| origin(&entry));
            match next.and_then(|next| self.referred(at.unit, &next)) {
                Some(next) => at = next,
                None => break,
            }
        }
        at
    }

    /// A text that an attribute says, up to [`LONGEST_TEXT`]; what is no UTF-8 is replaced. None once [`MOST_TEXTS`]
    /// are read.
    pub(in crate::image) fn text(&mut self, unit: &Unit, value: &Value) -> Option<String> {
        let text = text_of(self.dwarf(unit), &unit.unit, value)?;
        self.text_room = self.text_room.checked_sub(text.len())?;
        Some(text)
    }

    /// Name of an entry as the source has it, or of what it completes or is a copy of.
    pub(in crate::image) fn name(&mut self, unit: &Arc<Unit>, entry: &Entry) -> Option<String> {
        self.named(unit, entry, gimli::DW_AT_name)
    }

    /// Name of an entry as the linker knows it; absent where that is the source's.
    pub(in crate::image) fn linkage_name(
        &mut self,
        unit: &Arc<Unit>,
        entry: &Entry,
    ) -> Option<String> {
        let names = [gimli::DW_AT_linkage_name, gimli::DW_AT_MIPS_linkage_name];
        names.into_iter().find_map(|name| self.named(unit, entry, name))
    }

    fn named(&mut self, unit: &Arc<Unit>, entry: &Entry, name: gimli::DwAt) -> Option<String> {
        let (unit, name) = self.attribute(unit, entry, name)?;
        self.text(&unit, &name)
    }

    /// What an attribute says that is an address.
    pub(in crate::image) fn address(&self, unit: &Unit, value: Value) -> Option<u64> {
        self.dwarf(unit).attr_address(&unit.unit, value).ok().flatten()
    }

    /// What an entry says of its addresses.
    pub(super) fn extent(&self, unit: &Unit, entry: &Entry) -> Extent {
        Extent::new(entry, self.dwarf(unit), &unit.unit)
    }

    /// The ranges of an extent. Empty ones are left out, and what is beyond [`MOST_RANGES`].
    pub(super) fn ranges(&mut self, unit: &Unit, extent: &Extent, ranges: &mut Vec<Range<u64>>) {
        if let Some(list) = extent.ranges.clone() {
            let Ok(Some(mut list)) = self.dwarf(unit).attr_ranges(&unit.unit, list) else { return };
            while let Ok(Some(range)) = list.next()
                && self.range_room > 0
            {
                self.range_room -= 1;
                ranges.push(range.begin..range.end);
            }
            return;
        }
        let Some((low, high)) = extent.low.zip(extent.high.clone()) else { return };
        let high = match high {
            Value::Udata(length) => low.checked_add(length),
            high => self.address(unit, high),
        };
        ranges.extend(high.filter(|&high| high > low).map(|high| low..high));
    }
}

/// The number that an expression stands for, if nothing of the running target takes part in it: an address, or a
/// distance from `base`.
pub(in crate::image) fn constant(
    units: &Units,
    unit: &Unit,
    expression: gimli::Expression<Slice>,
    base: Option<u64>,
) -> Option<u64> {
    let mut operations = expression.operations(unit.unit.encoding());
    let mut stack: Vec<u64> = base.into_iter().collect();
    for _ in 0..MOST_STEPS {
        let Some(operation) = operations.next().ok()? else { break };
        let pushed = match operation {
            Operation::Address { address } => address,
            Operation::AddressIndex { index } => {
                units.dwarf(unit).address(&unit.unit, index).ok()?
            }
            Operation::UnsignedConstant { value } => value,
            Operation::SignedConstant { value } => value as u64,
            Operation::PlusConstant { value } => stack.pop()?.wrapping_add(value),
            Operation::Plus => stack.pop()?.wrapping_add(stack.pop()?),
            Operation::Nop => continue,
            _ => return None,
        };
        stack.push(pushed);
    }
    let mask = match unit.unit.encoding().address_size {
        4 => u64::from(u32::MAX),
        _ => u64::MAX,
    };
    match (operations.next(), stack.as_slice()) {
        (Ok(None), [one]) => Some(one & mask),
        _ => None,
    }
}

fn text_of(
    dwarf: &gimli::Dwarf<Slice>,
    unit: &gimli::Unit<Slice>,
    value: &Value,
) -> Option<String> {
    let (strings, lines) = (dwarf.debug_str.reader(), dwarf.debug_line_str.reader());
    match value {
        Value::String(own) => text_in(own, 0),
        Value::DebugStrRef(offset) => text_in(strings, offset.0),
        Value::DebugLineStrRef(offset) => text_in(lines, offset.0),
        Value::DebugStrOffsetsIndex(index) => {
            text_in(strings, dwarf.string_offset(unit, *index).ok()?.0)
        }
        _ => None,
    }
}

/// The text at an offset of a section, up to its zero or to [`LONGEST_TEXT`].
pub(super) fn text_in(section: &Slice, offset: usize) -> Option<String> {
    let bytes = section.bytes().get(offset..)?;
    let bytes = &bytes[..bytes.len().min(LONGEST_TEXT)];
    let end = bytes.iter().position(|&byte| byte == 0).unwrap_or(bytes.len());
    Some(String::from_utf8_lossy(&bytes[..end]).into_owned())
}

/// A path as compilers for Windows write it, with the separators that all others have.
pub(in crate::image) fn with_slashes(path: String) -> String {
    if path.contains('\\') { path.replace('\\', "/") } else { path }
}

/// What an entry completes, or is a copy of.
fn origin(entry: &Entry) -> Option<Value> {
    let names = [gimli::DW_AT_abstract_origin, gimli::DW_AT_specification];
    names.into_iter().find_map(|name| entry.attr_value(name))
}

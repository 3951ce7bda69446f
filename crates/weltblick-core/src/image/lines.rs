//! Source lines and inlined frames, from DWARF, for addresses that are asked for.

use super::names::demangle;
use addr2line::Context;
use gimli::{AttributeValue, EndianArcSlice, Reader as _, RunTimeEndian};
use std::sync::Arc;

type Slice = EndianArcSlice<RunTimeEndian>;

/// Inlined frames kept per address: deeper ones are cut.
const DEEPEST: usize = 64;

/// A place in the source.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Location {
    /// The file, as the compiler named it, without a leading `./`.
    pub file: String,
    /// The line, from 1; absent where the compiler invented the code.
    pub line: Option<u32>,
}

/// A function that is active at an address, by call or by inlining.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Frame {
    /// Its name, demangled.
    pub function: Option<String>,
    /// Where in it the address is.
    pub location: Option<Location>,
}

/// The line tables of an image.
pub(super) struct Lines {
    context: Context<Slice>,
}

impl std::fmt::Debug for Lines {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Lines")
    }
}

impl Lines {
    /// Takes the debug sections through `section`. `None` if they are absent or damaged.
    pub(super) fn new(
        little_endian: bool,
        mut section: impl FnMut(&str) -> Option<Vec<u8>>,
    ) -> Option<Self> {
        let endian = if little_endian { RunTimeEndian::Little } else { RunTimeEndian::Big };
        if section(".debug_info").is_none_or(|bytes| bytes.is_empty()) {
            return None;
        }
        let load = |id: gimli::SectionId| -> Result<Slice, gimli::Error> {
            let bytes = section(id.name()).unwrap_or_default();
            Ok(EndianArcSlice::new(Arc::from(bytes), endian))
        };
        let dwarf = gimli::Dwarf::load(load).ok()?;
        Some(Self { context: Context::from_dwarf(dwarf).ok()? })
    }

    pub(super) fn location(&self, address: u64) -> Option<Location> {
        place(self.context.find_location(address).ok()??)
    }

    /// Addresses at which a line of the file starts, in code that lies in `range`, and the line.
    pub(super) fn of_file(&self, file: &str, range: std::ops::Range<u64>) -> Vec<(u64, u32)> {
        let Ok(rows) = self.context.find_location_range(range.start, range.end) else {
            return Vec::new();
        };
        let row = |(address, _, location): (u64, u64, addr2line::Location<'_>)| {
            let place = place(location)?;
            let whole = ends_with_path(&place.file, file);
            whole.then_some((address, place.line?))
        };
        rows.filter_map(row).collect()
    }

    pub(super) fn frames(&self, address: u64) -> Vec<Frame> {
        let Ok(mut found) = self.context.find_frames(address).skip_all_loads() else {
            return Vec::new();
        };
        let mut frames = Vec::new();
        while frames.len() < DEEPEST
            && let Ok(Some(frame)) = found.next()
        {
            let function = frame
                .function
                .as_ref()
                .and_then(|function| function.raw_name().ok().map(|name| demangle(&name)));
            frames.push(Frame { function, location: frame.location.and_then(place) });
        }
        frames
    }
}

impl Lines {
    /// Where the source declares the function that `address` belongs to, whatever was inlined there.
    pub(super) fn declaration(&self, address: u64) -> Option<Location> {
        let mut frames = self.context.find_frames(address).skip_all_loads().ok()?;
        let mut outermost = None;
        for _ in 0..DEEPEST {
            let Some(frame) = frames.next().ok()? else { break };
            outermost = frame.dw_die_offset;
        }
        let unit = self.context.find_dwarf_and_unit(address).skip_all_loads()?;
        declared(unit, outermost?, MOST_STEPS)
    }
}

/// Entries of debug information that lead from a function to its declaration, at most.
const MOST_STEPS: u32 = 4;

/// Where an entry, or what it stands for, is declared.
fn declared(
    unit: gimli::UnitRef<'_, Slice>,
    offset: gimli::UnitOffset,
    steps: u32,
) -> Option<Location> {
    let entry = unit.entry(offset).ok()?;
    if let Some(line) = entry.attr_value(gimli::DW_AT_decl_line).and_then(|line| line.udata_value())
        && let Some(AttributeValue::FileIndex(file)) = entry.attr_value(gimli::DW_AT_decl_file)
    {
        return Some(Location { file: file_name(unit, file)?, line: line.try_into().ok() });
    }
    let origin = [gimli::DW_AT_abstract_origin, gimli::DW_AT_specification].into_iter();
    let origin = origin.filter_map(|name| entry.attr_value(name)).next()?;
    match origin {
        AttributeValue::UnitRef(offset) => declared(unit, offset, steps.checked_sub(1)?),
        _ => None,
    }
}

/// A file of a unit, called as its lines call it.
fn file_name(unit: gimli::UnitRef<'_, Slice>, number: u64) -> Option<String> {
    let header = unit.line_program.as_ref()?.header();
    let file = header.file(number)?;
    let text = |value: AttributeValue<Slice>| {
        Some(unit.attr_string(value).ok()?.to_string_lossy().ok()?.into_owned())
    };
    let folder = unit.comp_dir.as_ref().and_then(|folder| folder.to_string_lossy().ok());
    let mut parts: Vec<String> = folder.into_iter().map(std::borrow::Cow::into_owned).collect();
    if file.directory_index() != 0 {
        parts.extend(file.directory(header).and_then(text));
    }
    parts.push(text(file.path_name())?);
    let rooted = parts.iter().rposition(|part| part.starts_with('/')).unwrap_or(0);
    let whole = parts[rooted..].iter().map(|part| part.trim_end_matches('/'));
    let path = whole.collect::<Vec<_>>().join("/");
    Some(path.strip_prefix("./").unwrap_or(&path).to_owned())
}

fn place(location: addr2line::Location<'_>) -> Option<Location> {
    let file = location.file?;
    Some(Location {
        file: file.strip_prefix("./").unwrap_or(file).to_owned(),
        line: location.line.filter(|&line| line > 0),
    })
}

/// Whether `path` is `end`, or ends with it after a separator.
pub(crate) fn ends_with_path(path: &str, end: &str) -> bool {
    path.strip_suffix(end).is_some_and(|before| before.is_empty() || before.ends_with('/'))
}

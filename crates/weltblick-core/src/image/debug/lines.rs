//! Line tables, each read once, whoever refers to it.

use super::units::{Slice, Unit, Units, text_in, with_slashes};
use gimli::{AttributeValue, Reader as _, Section as _};
use std::ops::Range;

/// Rows that are kept in all: some two hundred times what a large firmware has.
pub(super) const MOST_ROWS: usize = 1 << 23;

/// The longest header that is read: its files take a byte each at least, and many times that in memory.
const LONGEST_HEADER: u64 = 1 << 20;

/// One line table.
#[derive(Debug, Default)]
pub(super) struct LineTable {
    /// By their first address.
    pub(super) sequences: Vec<Sequence>,
    rows: Vec<Row>,
    files: Vec<File>,
    folders: Vec<Text>,
    /// Numbers of files and folders count from the unit's own since DWARF 5, before from 1.
    first: usize,
}

/// A run of code without gaps.
#[derive(Debug, Clone)]
pub(super) struct Sequence {
    pub(super) range: Range<u64>,
    rows: Range<usize>,
}

/// The code from `address` to that of the next row.
#[derive(Debug, Clone, Copy)]
pub(super) struct Row {
    pub(super) address: u64,
    pub(super) file: u32,
    pub(super) line: u32,
}

#[derive(Debug, Clone, Copy)]
struct File {
    folder: u32,
    name: Text,
}

/// A text, by the section that it is in: tables of many units name the same files.
#[derive(Debug, Clone, Copy)]
enum Text {
    Line(u32),
    Str(u32),
    LineStr(u32),
}

impl LineTable {
    /// Reads the table that a unit refers to. `room`: rows that may still be kept.
    pub(super) fn read(units: &Units, unit: &Unit, room: &mut usize) -> Option<Self> {
        let section = units.main().debug_line.reader();
        let offset = unit.lines?;
        if header_length(section, offset.0).ok()? > LONGEST_HEADER {
            return None;
        }
        let address_size = unit.unit.encoding().address_size;
        let program = units.main().debug_line.program(offset, address_size, None, None).ok()?;
        let mut table = Self::default();
        let mut rows = program.rows();
        let mut began = 0;
        while let Ok(Some((_, row))) = rows.next_row() {
            let address = row.address();
            if row.end_sequence() {
                table.end_sequence(began, address);
                began = table.rows.len();
                continue;
            }
            let file = u32::try_from(row.file_index()).unwrap_or(u32::MAX);
            let line = row.line().and_then(|line| u32::try_from(line.get()).ok()).unwrap_or(0);
            // Of several rows of one address the last counts: the others have no code.
            if table.rows.len() > began
                && let Some(last) = table.rows.last_mut().filter(|last| last.address == address)
            {
                (last.file, last.line) = (file, line);
                continue;
            }
            *room = room.checked_sub(1)?;
            table.rows.push(Row { address, file, line });
        }
        table.rows.truncate(began);
        table.sequences.sort_by_key(|sequence| (sequence.range.start, sequence.range.end));
        table.name_files(rows.header(), section);
        Some(table)
    }

    fn end_sequence(&mut self, began: usize, end: u64) {
        let start = self.rows.get(began).map(|row| row.address);
        let rows = began..self.rows.len();
        // Addresses only rise within a sequence.
        let is_sorted = self.rows[rows.clone()].is_sorted_by_key(|row| row.address);
        match start.filter(|&start| start < end && is_sorted) {
            Some(start) => self.sequences.push(Sequence { range: start..end, rows }),
            None => self.rows.truncate(began),
        }
    }

    fn name_files(&mut self, header: &gimli::LineProgramHeader<Slice>, section: &Slice) {
        let text = |value: &AttributeValue<Slice>| {
            Some(match value {
                AttributeValue::String(own) => Text::Line(own.offset_from(section) as u32),
                AttributeValue::DebugStrRef(offset) => Text::Str(offset.0 as u32),
                AttributeValue::DebugLineStrRef(offset) => Text::LineStr(offset.0 as u32),
                _ => return None,
            })
        };
        let nothing = Text::Line(u32::MAX);
        let folder = |folder| text(folder).unwrap_or(nothing);
        self.folders = header.include_directories().iter().map(folder).collect();
        let file = |file: &gimli::FileEntry<Slice>| File {
            folder: u32::try_from(file.directory_index()).unwrap_or(u32::MAX),
            name: text(&file.path_name()).unwrap_or(nothing),
        };
        self.files = header.file_names().iter().map(file).collect();
        self.first = usize::from(header.version() < 5);
    }

    /// The row that an address of a sequence belongs to.
    pub(super) fn row_at(&self, sequence: &Sequence, address: u64) -> Option<Row> {
        let rows = &self.rows[sequence.rows.clone()];
        let after = rows.partition_point(|row| row.address <= address);
        Some(rows[after.checked_sub(1)?])
    }

    /// Rows of a sequence.
    pub(super) fn rows(&self, sequence: &Sequence) -> &[Row] {
        &self.rows[sequence.rows.clone()]
    }

    /// Numbers of the files there are.
    pub(super) fn files(&self) -> Range<u32> {
        self.first as u32..(self.first + self.files.len()) as u32
    }

    /// A file's path, as the compiler named it, with `/` and without `./`.
    pub(super) fn path(&self, units: &Units, unit: &Unit, file: u32) -> Option<String> {
        let file = self.files.get((file as usize).checked_sub(self.first)?)?;
        // Relative folders begin at the unit's, which is the one with the number 0.
        let base = match self.first {
            1 => unit.folder.clone(),
            _ => self.folders.first().and_then(|folder| text(units, *folder)),
        };
        let folder = match file.folder as usize {
            0 => None,
            number => self.folders.get(number - self.first),
        };
        let folder = folder.and_then(|folder| text(units, *folder));
        let parts = [base, folder, text(units, file.name)].into_iter().flatten();
        let parts: Vec<String> = parts.collect();
        let rooted = parts.iter().rposition(|part| is_rooted(part)).unwrap_or(0);
        let whole = parts[rooted..].iter().map(|part| part.trim_end_matches(['/', '\\']));
        let path = whole.collect::<Vec<_>>().join("/");
        let path = with_slashes(path).replace("/./", "/");
        Some(path.strip_prefix("./").unwrap_or(&path).to_owned())
    }
}

fn text(units: &Units, text: Text) -> Option<String> {
    let dwarf = units.main();
    let (section, offset) = match text {
        Text::Line(offset) => (dwarf.debug_line.reader(), offset),
        Text::Str(offset) => (dwarf.debug_str.reader(), offset),
        Text::LineStr(offset) => (dwarf.debug_line_str.reader(), offset),
    };
    text_in(section, offset as usize)
}

/// Whether a path begins at a root, of whatever system the compiler ran on.
fn is_rooted(path: &str) -> bool {
    path.starts_with(['/', '\\']) || path.get(1..2) == Some(":")
}

/// How long the header of a line program says that it is (DWARF 5, 6.2.4).
fn header_length(section: &Slice, offset: usize) -> gimli::Result<u64> {
    let mut program = section.clone();
    program.skip(offset)?;
    let (_, format) = program.read_initial_length()?;
    if program.read_u16()? >= 5 {
        program.skip(2)?; // the sizes of addresses and of segment selectors
    }
    Ok(program.read_length(format)? as u64)
}

//! The functions of a unit, and what was inlined into them.

use super::units::{Reference, Unit, Units};
use super::{Entry, Value};
use gimli::UnitOffset;
use std::ops::Range;

/// Functions inlined deeper than this are left out.
const DEEPEST: usize = 1024;

/// A range of code that a function has.
#[derive(Debug, Clone)]
pub(super) struct FunctionRange {
    pub(super) range: Range<u64>,
    pub(super) entry: UnitOffset,
}

/// The ranges of all functions of a unit, by their first address.
pub(super) fn functions_of(units: &mut Units, unit: &Unit) -> Vec<FunctionRange> {
    let mut found = Vec::new();
    let Ok(mut entries) = unit.unit.entries_raw(None) else { return found };
    let mut ranges = Vec::new();
    while !entries.is_empty() {
        let offset = entries.next_offset();
        let abbreviation = match entries.read_abbreviation() {
            Ok(Some(abbreviation)) => abbreviation,
            Ok(None) => continue,
            Err(_) => break,
        };
        if abbreviation.tag() == gimli::DW_TAG_subprogram
            && let Ok(entry) = unit.unit.entry(offset)
        {
            let extent = units.extent(unit, &entry);
            units.ranges(unit, &extent, &mut ranges);
            let ranges = ranges.drain(..).filter(|range| !range.is_empty());
            found.extend(ranges.map(|range| FunctionRange { range, entry: offset }));
        }
        if entries.skip_attributes(abbreviation.attributes()).is_err() {
            break;
        }
    }
    found.sort_by_key(|function| (function.range.start, function.range.end));
    found
}

/// A function that was inlined.
#[derive(Debug, Clone)]
pub(super) struct Inlined {
    pub(super) entry: UnitOffset,
    /// Where it was called: the file's number and the line.
    pub(super) call: Option<(u32, u32)>,
}

/// What was inlined into one function: by depth, and by address within.
#[derive(Debug, Default)]
pub(super) struct Inlining {
    all: Vec<Inlined>,
    /// Ranges at each depth, and which of `all` has them.
    depths: Vec<Vec<(Range<u64>, usize)>>,
}

impl Inlining {
    /// Reads what was inlined into the function at `entry`.
    pub(super) fn of(units: &mut Units, unit: &Unit, entry: UnitOffset) -> Self {
        let mut read = Self::default();
        let _ = read.read(units, unit, entry);
        for ranges in &mut read.depths {
            ranges.sort_by_key(|(range, _)| range.start);
        }
        read
    }

    fn read(&mut self, units: &mut Units, unit: &Unit, function: UnitOffset) -> gimli::Result<()> {
        let mut entries = unit.unit.entries_raw(Some(function))?;
        let (outside, mut entry, mut ranges) = (entries.next_depth(), Entry::null(), Vec::new());
        entries.read_entry(&mut entry)?;
        // Depths in the tree of the functions that are open: this says how deep one is inlined.
        let mut open: Vec<isize> = Vec::new();
        // A function within the function is another one.
        let mut other: Option<isize> = None;
        while !entries.is_empty() && entries.next_depth() > outside {
            let depth = entries.next_depth();
            if !entries.read_entry(&mut entry)? {
                continue;
            }
            open.truncate(open.partition_point(|&outer| outer < depth));
            other = other.filter(|&outer| outer < depth);
            match entry.tag() {
                gimli::DW_TAG_subprogram => other = other.or(Some(depth)),
                gimli::DW_TAG_inlined_subroutine if other.is_none() => {
                    if open.len() < DEEPEST {
                        let extent = units.extent(unit, &entry);
                        units.ranges(unit, &extent, &mut ranges);
                        self.add(&entry, open.len(), ranges.drain(..));
                    }
                    open.push(depth);
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn add(&mut self, entry: &Entry, depth: usize, ranges: impl Iterator<Item = Range<u64>>) {
        let number = |name| {
            let value = entry.attr_value(name)?;
            let number = match value {
                Value::FileIndex(file) => file,
                value => value.udata_value()?,
            };
            u32::try_from(number).ok()
        };
        let call = number(gimli::DW_AT_call_file).zip(number(gimli::DW_AT_call_line));
        let index = self.all.len();
        self.all.push(Inlined { entry: entry.offset(), call });
        if self.depths.len() <= depth {
            self.depths.resize_with(depth + 1, Vec::new);
        }
        self.depths[depth].extend(ranges.map(|range| (range, index)));
    }

    /// What is inlined at an address, outermost first.
    pub(super) fn at(&self, address: u64) -> impl Iterator<Item = &Inlined> {
        self.depths.iter().map_while(move |ranges| {
            let after = ranges.partition_point(|(range, _)| range.start <= address);
            let (range, index) = ranges.get(after.checked_sub(1)?)?;
            range.contains(&address).then(|| &self.all[*index])
        })
    }
}

impl Unit {
    /// A reference to one of its entries.
    pub(super) const fn at(&self, offset: UnitOffset) -> Reference {
        Reference { unit: self.id, offset }
    }
}

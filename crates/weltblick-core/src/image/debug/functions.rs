//! The functions of a unit, and what was inlined into them.

use super::units::{Reference, Unit, Units};
use super::{Entry, Value};
use gimli::UnitOffset;
use std::collections::BTreeMap;
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
    /// What it was inlined into, if that was inlined itself.
    outer: Option<usize>,
}

/// What was inlined into one function.
#[derive(Debug, Default)]
pub(super) struct Inlining {
    all: Vec<Inlined>,
    /// From each address on, which of `all` is innermost.
    innermost: Vec<(u64, Option<usize>)>,
}

/// A range of `Inlining::all[index]`, which is inlined that deep.
struct Nested {
    range: Range<u64>,
    depth: usize,
    index: usize,
}

impl Inlining {
    /// Reads what was inlined into the function at `entry`.
    pub(super) fn of(units: &mut Units, unit: &Unit, entry: UnitOffset) -> Self {
        let (mut all, mut nested) = (Vec::new(), Vec::new());
        let _ = read_inlined(units, unit, entry, &mut all, &mut nested);
        Self { all, innermost: innermost(&nested) }
    }

    /// What is inlined at an address, innermost first.
    ///
    /// What encloses it in the tree counts as well where it has no range of its own: before DWARF 3 an entry could
    /// have one range only, and compilers wrote none where there would be several.
    pub(super) fn at(&self, address: u64) -> impl Iterator<Item = &Inlined> {
        let after = self.innermost.partition_point(|(from, _)| *from <= address);
        let first = after.checked_sub(1).and_then(|at| self.innermost[at].1);
        std::iter::successors(first.map(|index| &self.all[index]), |inlined| {
            inlined.outer.map(|outer| &self.all[outer])
        })
    }
}

/// Walks the entries below a function.
fn read_inlined(
    units: &mut Units,
    unit: &Unit,
    function: UnitOffset,
    all: &mut Vec<Inlined>,
    nested: &mut Vec<Nested>,
) -> gimli::Result<()> {
    let mut entries = unit.unit.entries_raw(Some(function))?;
    let (outside, mut entry, mut ranges) = (entries.next_depth(), Entry::null(), Vec::new());
    entries.read_entry(&mut entry)?;
    // What is open: its depth in the tree, and its number.
    let mut open: Vec<(isize, usize)> = Vec::new();
    // A function within the function is another one.
    let mut other: Option<isize> = None;
    while !entries.is_empty() && entries.next_depth() > outside {
        let depth = entries.next_depth();
        if !entries.read_entry(&mut entry)? {
            continue;
        }
        open.truncate(open.partition_point(|&(outer, _)| outer < depth));
        other = other.filter(|&outer| outer < depth);
        match entry.tag() {
            gimli::DW_TAG_subprogram => other = other.or(Some(depth)),
            gimli::DW_TAG_inlined_subroutine if other.is_none() && open.len() < DEEPEST => {
                let extent = units.extent(unit, &entry);
                units.ranges(unit, &extent, &mut ranges);
                let (at, index) = (open.len(), all.len());
                nested.extend(ranges.drain(..).map(|range| Nested { range, depth: at, index }));
                let outer = open.last().map(|&(_, outer)| outer);
                all.push(Inlined { entry: entry.offset(), call: call_of(&entry), outer });
                open.push((depth, index));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Where an inlined function was called: the file's number and the line.
fn call_of(entry: &Entry) -> Option<(u32, u32)> {
    let number = |name| {
        let number = match entry.attr_value(name)? {
            Value::FileIndex(file) => file,
            value => value.udata_value()?,
        };
        u32::try_from(number).ok()
    };
    number(gimli::DW_AT_call_file).zip(number(gimli::DW_AT_call_line))
}

/// Which is innermost from each address on, where any range begins or ends.
fn innermost(nested: &[Nested]) -> Vec<(u64, Option<usize>)> {
    let mut edges: Vec<(u64, bool, usize, usize)> = Vec::new();
    for Nested { range, depth, index } in nested.iter().filter(|one| !one.range.is_empty()) {
        edges.push((range.start, true, *depth, *index));
        edges.push((range.end, false, *depth, *index));
    }
    // Of one address ends come first.
    edges.sort_unstable();
    let mut open: BTreeMap<(usize, usize), usize> = BTreeMap::new();
    let mut found: Vec<(u64, Option<usize>)> = Vec::new();
    for (address, begins, depth, index) in edges {
        // Ranges of one entry may touch or overlap, in what is damaged.
        let often = open.entry((depth, index)).or_default();
        *often = if begins { *often + 1 } else { often.saturating_sub(1) };
        if *often == 0 {
            open.remove(&(depth, index));
        }
        let inner = open.last_key_value().map(|(&(_, index), _)| index);
        match found.last_mut() {
            Some(last) if last.0 == address => last.1 = inner,
            _ => found.push((address, inner)),
        }
    }
    found
}

impl Unit {
    /// A reference to one of its entries.
    pub(super) const fn at(&self, offset: UnitOffset) -> Reference {
        Reference { unit: self.id, offset }
    }
}

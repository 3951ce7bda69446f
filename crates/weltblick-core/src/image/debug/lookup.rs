//! Source lines and inlined functions of addresses.

use super::claims::{Claim, Claims, MOST_CANDIDATES};
use super::functions::{FunctionRange, Inlining, functions_of};
use super::lines::{LineTable, MOST_ROWS, Sequence};
use super::linked::{Fit, Linked};
use super::units::{Reference, Unit, UnitId, Units};
use super::{DebugFiles, Sections, SplitFile, Value};
use crate::image::names::Names;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Inlined frames kept per address: outer ones are cut.
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

/// The debug information of an image, with what was found in it before.
#[derive(Debug)]
pub(in crate::image) struct Lookup {
    units: Units,
    /// Made when the first address is asked for.
    claims: Option<Claims>,
    lines: HashMap<usize, Option<Arc<LineTable>>>,
    rows: usize,
    functions: HashMap<UnitId, Arc<[FunctionRange]>>,
    inlining: HashMap<Reference, Arc<Inlining>>,
    names: HashMap<Reference, Option<Arc<str>>>,
    /// Names by what the linker calls them: a function has an entry for each place that it was inlined into.
    demangled: HashMap<String, Arc<str>>,
    demangler: Names,
}

/// What debug information has for an address.
struct Found {
    unit: Arc<Unit>,
    function: Option<FunctionRange>,
}

impl Lookup {
    pub(in crate::image) fn new(sections: Sections, finder: Box<dyn DebugFiles>) -> Self {
        Self {
            units: Units::new(sections, finder),
            claims: None,
            lines: HashMap::new(),
            rows: MOST_ROWS,
            functions: HashMap::new(),
            inlining: HashMap::new(),
            names: HashMap::new(),
            demangled: HashMap::new(),
            demangler: Names::default(),
        }
    }

    /// The files that the image was split into.
    pub(in crate::image) fn split_files(&mut self) -> Vec<SplitFile> {
        let mut files = Vec::new();
        for id in self.units.ids() {
            files.extend(self.units.open(id).and_then(|unit| unit.split.clone()));
        }
        files
    }

    /// Files that the image was split into and that were not found: their names.
    pub(in crate::image) fn missing_files(&mut self) -> Vec<String> {
        self.units.missing()
    }

    /// The source line of the instruction at `address`.
    pub(in crate::image) fn location(
        &mut self,
        linked: Linked<'_>,
        address: u64,
    ) -> Option<Location> {
        let found = self.find(linked, address)?;
        self.location_in(&found, linked, address)
    }

    /// The functions that are active at `address`, innermost first.
    pub(in crate::image) fn frames(&mut self, linked: Linked<'_>, address: u64) -> Vec<Frame> {
        let Some(found) = self.find(linked, address) else { return Vec::new() };
        let mut location = self.location_in(&found, linked, address);
        let Some(function) = found.function.as_ref().map(|function| found.unit.at(function.entry))
        else {
            return vec![Frame { function: None, location }];
        };
        let inlining = self.inlining_of(&found.unit, function);
        let mut frames = Vec::new();
        for inlined in inlining.at(address).take(DEEPEST) {
            let name = self.name_of(found.unit.at(inlined.entry));
            let call = inlined.call.and_then(|(file, line)| {
                let file = self.table_of(&found.unit)?.path(&self.units, &found.unit, file)?;
                Some(Location { file, line: Some(line).filter(|&line| line > 0) })
            });
            frames.push(Frame { function: name, location: std::mem::replace(&mut location, call) });
        }
        frames.push(Frame { function: self.name_of(function), location });
        frames
    }

    /// Where the source declares the function that `address` belongs to, whatever was inlined there.
    pub(in crate::image) fn declaration(
        &mut self,
        linked: Linked<'_>,
        address: u64,
    ) -> Option<Location> {
        let found = self.find(linked, address)?;
        let line = self.declared_line(&found)?;
        let (unit, entry) = self.units.entry(found.unit.at(found.function?.entry))?;
        let (unit, file) = self.units.attribute(&unit, &entry, gimli::DW_AT_decl_file)?;
        let Value::FileIndex(file) = file else { return None };
        let file = self.table_of(&unit)?.path(&self.units, &unit, u32::try_from(file).ok()?)?;
        Some(Location { file, line: Some(line) })
    }

    /// Addresses at which a line of the file starts, and the line.
    pub(in crate::image) fn of_file(&mut self, linked: Linked<'_>, file: &str) -> Vec<(u64, u32)> {
        let mut found = Vec::new();
        let mut seen = HashSet::new();
        for id in self.units.ids() {
            let Some(unit) = self.units.open(id) else { continue };
            let Some(table) = self.table_of(&unit) else { continue };
            if !unit.lines.is_some_and(|lines| seen.insert(lines.0)) {
                continue;
            }
            let wanted: Vec<u32> = table
                .files()
                .filter(|&number| {
                    let path = table.path(&self.units, &unit, number);
                    path.is_some_and(|path| ends_with_path(&path, file))
                })
                .collect();
            if wanted.is_empty() {
                continue;
            }
            for sequence in &table.sequences {
                if !self.is_linked(linked, &table, sequence) {
                    continue;
                }
                let rows = table.rows(sequence).iter();
                let rows = rows.filter(|row| row.line > 0 && wanted.contains(&row.file));
                found.extend(rows.map(|row| (row.address, row.line)));
            }
        }
        found.sort_unstable();
        found
    }

    /// Whether a sequence is what stands at its address, not one of code that was dropped.
    fn is_linked(&mut self, linked: Linked<'_>, table: &LineTable, sequence: &Sequence) -> bool {
        let start = sequence.range.start;
        let Some(found) = self.find(linked, start) else { return false };
        let Some(own) = self.table_of(&found.unit) else { return false };
        let chosen = self.sequence_in(&own, &found, linked, start);
        std::ptr::eq(&*own, table) && chosen.is_some_and(|own| own.range == sequence.range)
    }

    /// The unit, and its function, that an address belongs to: of several that say so the one that fits best what
    /// the linker left.
    fn find(&mut self, linked: Linked<'_>, address: u64) -> Option<Found> {
        let claims = self.claims_to(linked, address);
        if let [claim] = claims.as_slice()
            && !Linked::is_doubtful(claim.range.start)
        {
            let unit = self.units.whole(claim.unit)?;
            let function = self.function_in(&unit, linked, address).map(|(_, function)| function);
            return Some(Found { unit, function });
        }
        let mut best: Option<(Fit, Found)> = None;
        for claim in claims {
            let Some(unit) = self.units.whole(claim.unit) else { continue };
            let function = self.function_in(&unit, linked, address);
            let names = self.names_at(&unit, claim.range.start);
            let fit = linked.fit(&claim.range, &names);
            // A function's name says more than what its unit's range begins with.
            let fit = match &function {
                Some((own, _)) if fit != Fit::Dead => (*own).max(fit),
                Some((own, _)) => *own,
                None => fit,
            };
            if fit > best.as_ref().map_or(Fit::Dead, |(fit, _)| *fit) {
                best =
                    Some((fit, Found { unit, function: function.map(|(_, function)| function) }));
            }
        }
        best.map(|(_, found)| found)
    }

    /// Claims to an address, later ones first.
    fn claims_to(&mut self, linked: Linked<'_>, address: u64) -> Vec<Claim> {
        self.claim();
        loop {
            let Some(claims) = &mut self.claims else { return Vec::new() };
            let found: Vec<Claim> = claims.to(address).cloned().collect();
            let starts = found.iter().map(|claim| claim.range.start);
            let Some(start) = claims.crowd_among(starts) else { return found };
            self.thin_out(linked, start);
        }
    }

    /// Takes back the claims of dropped code to one address.
    fn thin_out(&mut self, linked: Linked<'_>, start: u64) {
        let Some(mut claims) = self.claims.take() else { return };
        claims.retain_at(start, |claim| self.is_linked_claim(linked, claim));
        self.claims = Some(claims);
    }

    /// Whether anything of what a unit claims may have been linked.
    fn is_linked_claim(&mut self, linked: Linked<'_>, claim: &Claim) -> bool {
        let Some(unit) = self.units.whole(claim.unit) else { return false };
        if linked.fit(&claim.range, &self.names_at(&unit, claim.range.start)) != Fit::Dead {
            return true;
        }
        let functions = self.functions_of(&unit);
        let from = functions.partition_point(|other| other.range.start <= claim.range.start);
        let inside =
            functions[from..].iter().take_while(|other| other.range.start < claim.range.end);
        inside.take(MOST_CANDIDATES).any(|function| {
            let name = self.name_of(unit.at(function.entry));
            linked.fit(&function.range, name.as_slice()) != Fit::Dead
        })
    }

    /// Asks all units for their ranges.
    fn claim(&mut self) {
        if self.claims.is_some() {
            return;
        }
        let mut all = Vec::new();
        let mut ranges = Vec::new();
        for id in self.units.ids() {
            let Some(unit) = self.units.open(id) else { continue };
            self.units.ranges(&unit, &unit.extent, &mut ranges);
            if ranges.is_empty()
                && let Some(table) = self.table_of(&unit)
            {
                ranges.extend(table.sequences.iter().map(|sequence| sequence.range.clone()));
            }
            let ranges = ranges.drain(..).filter(|range| !range.is_empty());
            all.extend(ranges.map(|range| Claim { range, unit: id }));
        }
        self.claims = Some(Claims::new(all));
    }

    /// The function of a unit that has an address: of several the one that fits best, then that which begins last.
    fn function_in(
        &mut self,
        unit: &Arc<Unit>,
        linked: Linked<'_>,
        address: u64,
    ) -> Option<(Fit, FunctionRange)> {
        let functions = self.functions_of(unit);
        let after = functions.partition_point(|function| function.range.start <= address);
        let holds = |function: &&FunctionRange| function.range.contains(&address);
        let mut holding = functions[..after].iter().rev().filter(holds).take(MOST_CANDIDATES);
        let first = holding.next()?;
        let rest: Vec<&FunctionRange> = holding.collect();
        if rest.is_empty() && !Linked::is_doubtful(first.range.start) {
            return Some((Fit::Possible, first.clone()));
        }
        let mut best: Option<(Fit, FunctionRange)> = None;
        for function in std::iter::once(first).chain(rest) {
            let name = self.name_of(unit.at(function.entry));
            let fit = linked.fit(&function.range, name.as_slice());
            if fit > best.as_ref().map_or(Fit::Dead, |(fit, _)| *fit) {
                best = Some((fit, function.clone()));
            }
        }
        best
    }

    /// Names of the functions of a unit that begin at an address.
    fn names_at(&mut self, unit: &Arc<Unit>, address: u64) -> Vec<String> {
        let functions = self.functions_of(unit);
        let from = functions.partition_point(|function| function.range.start < address);
        let here = functions[from..].iter().take_while(|function| function.range.start == address);
        let names = here.take(MOST_CANDIDATES).map(|function| unit.at(function.entry));
        names.filter_map(|at| self.name_of(at)).collect()
    }

    fn location_in(&mut self, found: &Found, linked: Linked<'_>, address: u64) -> Option<Location> {
        let table = self.table_of(&found.unit)?;
        let sequence = self.sequence_in(&table, found, linked, address)?;
        let row = table.row_at(sequence, address)?;
        let file = table.path(&self.units, &found.unit, row.file)?;
        Some(Location { file, line: Some(row.line).filter(|&line| line > 0) })
    }

    /// The sequence of a table that an address belongs to: of several the one that ends like the function.
    fn sequence_in<'t>(
        &mut self,
        table: &'t LineTable,
        found: &Found,
        linked: Linked<'_>,
        address: u64,
    ) -> Option<&'t Sequence> {
        let after = table.sequences.partition_point(|sequence| sequence.range.start <= address);
        let holds = |sequence: &&Sequence| sequence.range.contains(&address);
        let mut holding: Vec<&Sequence> = table.sequences[..after]
            .iter()
            .rev()
            .filter(holds)
            .filter(|sequence| linked.fit(&sequence.range, &[]) != Fit::Dead)
            .take(MOST_CANDIDATES)
            .collect();
        if let Some(function) = &found.function {
            let is_around = |sequence: &&Sequence| {
                sequence.range.start <= function.range.start
                    && function.range.end <= sequence.range.end
            };
            if holding.iter().any(is_around) {
                holding.retain(is_around);
            }
        }
        if holding.len() < 2 {
            return holding.pop();
        }
        // Linkers fold functions that are the same: each has lines of its own for the one that is left.
        let declared = self.declared_line(found).unwrap_or(0);
        holding.into_iter().min_by_key(|sequence| {
            let first = table.rows(sequence).first().map_or(0, |row| row.line);
            (sequence.range.end - sequence.range.start, first.abs_diff(declared))
        })
    }

    /// The line in which a function's declaration is.
    fn declared_line(&mut self, found: &Found) -> Option<u32> {
        let (unit, entry) = self.units.entry(found.unit.at(found.function.as_ref()?.entry))?;
        let (_, line) = self.units.attribute(&unit, &entry, gimli::DW_AT_decl_line)?;
        line.udata_value()?.try_into().ok()
    }

    fn table_of(&mut self, unit: &Unit) -> Option<Arc<LineTable>> {
        let offset = unit.lines?.0;
        if let Some(known) = self.lines.get(&offset) {
            return known.clone();
        }
        let table = LineTable::read(&self.units, unit, &mut self.rows).map(Arc::new);
        self.lines.insert(offset, table.clone());
        table
    }

    fn functions_of(&mut self, unit: &Unit) -> Arc<[FunctionRange]> {
        if let Some(known) = self.functions.get(&unit.id) {
            return known.clone();
        }
        let functions: Arc<[FunctionRange]> = functions_of(&mut self.units, unit).into();
        self.functions.insert(unit.id, functions.clone());
        functions
    }

    fn inlining_of(&mut self, unit: &Unit, function: Reference) -> Arc<Inlining> {
        if let Some(known) = self.inlining.get(&function) {
            return known.clone();
        }
        let inlining = Arc::new(Inlining::of(&mut self.units, unit, function.offset));
        self.inlining.insert(function, inlining.clone());
        inlining
    }

    /// A function's name, demangled.
    fn name_of(&mut self, at: Reference) -> Option<String> {
        if let Some(known) = self.names.get(&at) {
            return known.as_deref().map(str::to_owned);
        }
        let linked = self.units.entry(at).and_then(|(unit, entry)| {
            let linked = self.units.linkage_name(&unit, &entry);
            linked.or_else(|| self.units.name(&unit, &entry))
        });
        let name = linked.map(|linked| self.demangle(linked));
        self.names.insert(at, name.clone());
        name.as_deref().map(str::to_owned)
    }

    fn demangle(&mut self, linked: String) -> Arc<str> {
        if let Some(known) = self.demangled.get(&linked) {
            return known.clone();
        }
        let name: Arc<str> = self.demangler.of(&linked).into();
        self.demangled.insert(linked, name.clone());
        name
    }
}

/// Whether `path` is `end`, or ends with it after a separator.
pub(crate) fn ends_with_path(path: &str, end: &str) -> bool {
    path.strip_suffix(end).is_some_and(|before| before.is_empty() || before.ends_with('/'))
}

//! What was seen, named and added up.

use super::choice::Choice;
use super::evidence::evidence;
use super::rows::{
    CoverageReport, FileRow, FunctionRow, LineRow, Measures, NeverRow, OneWayRow, Part,
};
use crate::image::Image;
use crate::measure::execution::{Listed, ListedFunction, Listing, Role, Seen};
use std::collections::BTreeMap;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/coverage/1";

/// Names and adds up what was seen of an image, as far as it was chosen.
#[must_use]
pub fn report(image: &Image, listing: &Listing, seen: &Seen, choice: &Choice) -> CoverageReport {
    let mut gather =
        Gather { listing, seen, choice, files: BTreeMap::new(), lines: BTreeMap::new() };
    let mut functions = Vec::new();
    let mut never = Vec::new();
    let mut one_way = Vec::new();
    for function in &listing.functions {
        let name = &image.function(function.id).name;
        let file = function.place.map(|(file, _)| listing.file(file));
        if !choice.takes(name, file) {
            continue;
        }
        functions.extend(gather.function(function, name));
        gather.never(function, name, &mut never);
        gather.one_way(function, name, &mut one_way);
    }
    gather.finish(functions, never, one_way)
}

struct Gather<'a> {
    listing: &'a Listing,
    seen: &'a Seen,
    choice: &'a Choice,
    files: BTreeMap<Option<u32>, Measures>,
    lines: BTreeMap<(u32, u32), LineSeen>,
}

#[derive(Default)]
struct LineSeen {
    executions: u64,
    instructions: Part,
    branches: Vec<[u64; 2]>,
}

impl Gather<'_> {
    fn nothing(&self) -> Measures {
        let branches = (!self.seen.lower_bound).then(Part::default);
        Measures { branches, ..Measures::default() }
    }

    /// The instructions of a function that count, and how often each ran.
    fn instructions<'s>(
        &'s self,
        function: &ListedFunction,
    ) -> impl Iterator<Item = (&'s Listed, u64)> + use<'s> {
        let range = function.instructions.clone();
        let listed = self.listing.instructions[range.clone()].iter();
        let counted = listed.zip(self.seen.executed[range].iter().copied());
        counted.filter(|(listed, _)| {
            listed.line.is_none_or(|(file, line)| {
                self.choice.lines.is_empty()
                    || self.choice.takes_line(self.listing.file(file), line)
            })
        })
    }

    /// How often an instruction went each of its two ways, if it has two and that is told.
    fn ways(&self, listed: &Listed) -> Option<[u64; 2]> {
        let told = match listed.role {
            Role::Branch => !self.seen.lower_bound,
            Role::Conditional => self.seen.conditions,
            Role::Plain | Role::Call => false,
        };
        told.then(|| self.seen.ways.get(&listed.address).copied().unwrap_or_default())
    }

    /// One function's row; what it has is added to its files and lines.
    fn function(&mut self, function: &ListedFunction, name: &str) -> Option<FunctionRow> {
        let mut measures = self.nothing();
        let mut lines: BTreeMap<(u32, u32), LineSeen> = BTreeMap::new();
        let mut ran_at_all = false;
        let instructions: Vec<(Listed, u64)> =
            self.instructions(function).map(|(listed, count)| (*listed, count)).collect();
        let (first, _) = *instructions.first()?;
        for &(listed, count) in &instructions {
            ran_at_all |= count > 0;
            let ways = self.ways(&listed);
            add(&mut measures, &listed, count, ways);
            let file = listed.line.map(|(file, _)| file);
            let nothing = self.nothing();
            add(self.files.entry(file).or_insert(nothing), &listed, count, ways);
            let Some(place) = listed.line else { continue };
            let line = lines.entry(place).or_default();
            line.executions = line.executions.max(count);
            line.instructions.add(count > 0);
            line.branches.extend(ways);
        }
        measures.functions.add(ran_at_all);
        let home = function.place.map(|(file, _)| file);
        if let Some(file) = self.files.get_mut(&home) {
            file.functions.add(ran_at_all);
        }
        for (place, seen) in lines {
            measures.lines.add(seen.executions > 0);
            let line = self.lines.entry(place).or_default();
            line.executions = line.executions.max(seen.executions);
            line.instructions.join(seen.instructions);
            line.branches.extend(seen.branches);
        }
        let entries = self.seen.executed[function.instructions.start];
        Some(FunctionRow {
            function: name.to_owned(),
            file: function.place.map(|(file, _)| self.listing.file(file).to_owned()),
            line: function.place.map(|(_, line)| line),
            address: format!("{:#010x}", first.address),
            entries,
            measures,
        })
    }

    /// Lines of a function that never ran, file by file; one row for a function that never did.
    fn never(&self, function: &ListedFunction, name: &str, out: &mut Vec<NeverRow>) {
        // By file and line: how many instructions, and whether any ran.
        let mut lines: BTreeMap<Option<(u32, u32)>, (u64, bool)> = BTreeMap::new();
        for (listed, count) in self.instructions(function) {
            let (instructions, ran) = lines.entry(listed.line).or_default();
            *instructions += 1;
            *ran |= count > 0;
        }
        let whole = lines.values().all(|&(_, ran)| !ran);
        let mut rows: BTreeMap<Option<u32>, NeverRow> = BTreeMap::new();
        let mut last = None;
        for (&place, &(instructions, ran)) in &lines {
            let file = place.map(|(file, _)| file);
            let goes_on = last == Some(file);
            last = (!ran).then_some(file);
            if ran {
                continue;
            }
            let row = rows.entry(file).or_insert_with(|| NeverRow {
                function: name.to_owned(),
                whole,
                file: file.map(|file| self.listing.file(file).to_owned()),
                lines: Vec::new(),
                instructions: 0,
            });
            row.instructions += instructions;
            match (place, row.lines.last_mut()) {
                (Some((_, line)), Some(stretch)) if goes_on => stretch[1] = line,
                (Some((_, line)), _) => row.lines.push([line, line]),
                (None, _) => {}
            }
        }
        if !whole {
            return out.extend(rows.into_values());
        }
        // The function's own lines stand for what was inlined into it, too.
        let instructions = rows.values().map(|row| row.instructions).sum();
        let own = rows.remove(&function.place.map(|(file, _)| file));
        out.extend(own.map(|own| NeverRow { instructions, ..own }));
    }

    fn one_way(&self, function: &ListedFunction, name: &str, out: &mut Vec<OneWayRow>) {
        for (listed, _) in self.instructions(function) {
            let Some([not_taken, taken]) = self.ways(listed) else { continue };
            if (not_taken == 0) != (taken == 0) {
                out.push(OneWayRow {
                    function: name.to_owned(),
                    file: listed.line.map(|(file, _)| self.listing.file(file).to_owned()),
                    line: listed.line.map(|(_, line)| line),
                    address: format!("{:#010x}", listed.address),
                    conditional: listed.role == Role::Conditional,
                    taken,
                    not_taken,
                });
            }
        }
    }

    fn finish(
        self,
        mut functions: Vec<FunctionRow>,
        mut never: Vec<NeverRow>,
        mut one_way: Vec<OneWayRow>,
    ) -> CoverageReport {
        let Self { listing, seen, mut files, lines, .. } = self;
        for ((file, _), line) in &lines {
            if let Some(file) = files.get_mut(&Some(*file)) {
                file.lines.add(line.executions > 0);
            }
        }
        let mut total =
            Measures { branches: (!seen.lower_bound).then(Part::default), ..Measures::default() };
        files.values().for_each(|measures| total.join(measures));
        let mut files: Vec<FileRow> = files
            .into_iter()
            .map(|(file, measures)| FileRow {
                file: file.map(|file| listing.file(file).to_owned()),
                measures,
            })
            .collect();
        files.sort_by_key(|row| row.measures.order());
        functions.sort_by_key(|row| row.measures.order());
        let rank: BTreeMap<Option<String>, usize> =
            files.iter().enumerate().map(|(rank, row)| (row.file.clone(), rank)).collect();
        let rank = |file: &Option<String>| rank.get(file).copied();
        never.sort_by_key(|row| (!row.whole, rank(&row.file), row.lines.first().copied()));
        one_way.sort_by_key(|row| (rank(&row.file), row.line, row.address.clone()));
        let conditional = listing.instructions.iter().zip(&seen.executed);
        let told = |l: &Listed| seen.ways.get(&l.address).map_or(0, |ways| ways[0] + ways[1]);
        let untold =
            conditional.filter(|(l, count)| l.role == Role::Conditional && **count > told(l));
        let evidence = evidence(seen, untold.count() as u64);
        let lines = lines.into_iter().map(|((file, line), seen)| LineRow {
            file: listing.file(file).to_owned(),
            line,
            executions: seen.executions,
            instructions: seen.instructions,
            branches: seen.branches,
        });
        let mut lines: Vec<LineRow> = lines.collect();
        lines.sort_by(|a, b| (&a.file, a.line).cmp(&(&b.file, b.line)));
        CoverageReport {
            schema: SCHEMA.into(),
            captures: 1,
            evidence,
            total,
            files,
            functions,
            never,
            one_way,
            lines,
        }
    }
}

/// Adds one instruction.
fn add(measures: &mut Measures, listed: &Listed, count: u64, ways: Option<[u64; 2]>) {
    measures.instructions.add(count > 0);
    if listed.role == Role::Call {
        measures.calls.add(count > 0);
    }
    if let (Some(branches), Some(ways)) = (&mut measures.branches, ways) {
        ways.iter().for_each(|&way| branches.add(way > 0));
    }
}

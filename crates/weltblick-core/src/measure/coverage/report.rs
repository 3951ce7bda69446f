//! What was seen, named and added up.

use super::choice::{Choice, Covered};
use super::evidence::{evidence, missing_declarations};
use super::pieces::{Build, Function, Pieces, Place};
use super::rows::{
    CoverageReport, Evidence, FileRow, FunctionRow, LineRow, Measures, NeverRow, OneWayRow, Part,
};
use super::union::OtherSource;
use crate::measure::execution::{Executed, Seen};
use crate::measure::known::Against;
use std::collections::BTreeMap;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/coverage/1";

/// Names and adds up what was seen of an image, as far as it was chosen.
#[must_use]
pub fn report(build: &Build<'_>, choice: &Choice) -> CoverageReport {
    let mut evidence = evidence(build.seen, build.untold_conditions());
    evidence.doubts.extend(missing_declarations(build.image));
    Gather::new(Pieces::of(build, 0, choice)).finish(evidence, 1)
}

/// The same of several builds of one source, added up by file and line.
///
/// # Errors
///
/// The number of the first build that is none of the same source as those before it, and how that shows.
pub fn report_of_builds(
    builds: &[Build<'_>],
    choice: &Choice,
) -> Result<CoverageReport, (usize, OtherSource)> {
    let mut all = Pieces::default();
    let mut whole = Seen::default();
    let (mut conditions, mut doubts) = (0, Vec::new());
    for (number, build) in builds.iter().enumerate() {
        let pieces = Pieces::of(build, number as u32, choice);
        if number == 0 {
            all = pieces;
        } else {
            doubts.extend(all.join(pieces).map_err(|why| (number, why))?);
        }
        conditions += build.untold_conditions();
        whole.add_evidence(build.seen);
        doubts.extend(missing_declarations(build.image));
    }
    let mut evidence = evidence(&whole, conditions);
    evidence.doubts.extend(doubts);
    Ok(Gather::new(all).finish(evidence, builds.len() as u64))
}

impl CoverageReport {
    /// Adds what is known of the totals: their bounds, and what speaks against them.
    pub fn weigh(&mut self, executed: &Executed<'_>, choice: &Choice) {
        let mut against = Against::default();
        for (measure, figure) in executed.covered(choice, &self.total) {
            against.note(measure.key(), "", &figure);
            let total = &mut self.total;
            let part = match measure {
                Covered::Functions => Some(&mut total.functions),
                Covered::Lines => Some(&mut total.lines),
                Covered::Instructions => Some(&mut total.instructions),
                Covered::Branches => total.branches.as_mut(),
                Covered::Calls => Some(&mut total.calls),
            };
            if let Some(part) = part {
                (part.share_low, part.share_high) = (Some(figure.low), Some(figure.high));
                self.evidence.lower_bound |= figure.high > figure.seen.high;
            }
        }
        self.evidence.objections = against.rows();
    }
}

struct Gather {
    pieces: Pieces,
    files: BTreeMap<Option<u32>, Measures>,
    lines: BTreeMap<(u32, u32), LineSeen>,
}

#[derive(Default)]
struct LineSeen {
    executions: u64,
    instructions: Part,
    branches: Vec<[u64; 2]>,
}

impl Gather {
    const fn new(pieces: Pieces) -> Self {
        Self { pieces, files: BTreeMap::new(), lines: BTreeMap::new() }
    }

    fn nothing(&self) -> Measures {
        Measures { branches: self.pieces.branches.then(Part::default), ..Measures::default() }
    }

    fn file_of(&self, place: Place) -> Option<String> {
        place.map(|(file, _)| self.pieces.files[file as usize].clone())
    }

    /// One function's row; what it has is added to its files and lines.
    fn function(&mut self, function: &Function, builds: bool) -> FunctionRow {
        let nothing = self.nothing();
        let mut measures = nothing;
        for (&place, piece) in &function.lines {
            let file = self.files.entry(place.map(|(file, _)| file)).or_insert(nothing);
            piece.add_to(&mut measures);
            piece.add_to(file);
            let Some(place) = place else { continue };
            measures.lines.add(piece.executions > 0);
            let line = self.lines.entry(place).or_default();
            line.executions = line.executions.max(piece.executions);
            line.instructions.join(piece.instructions);
            line.branches.extend(piece.branches.iter().map(|branch| branch.ways));
        }
        measures.functions.add(function.ran());
        if let Some(file) = self.files.get_mut(&function.file()) {
            file.functions.add(function.ran());
        }
        FunctionRow {
            function: function.name.clone(),
            file: self.file_of(function.place),
            line: function.place.map(|(_, line)| line),
            address: format!("{:#010x}", function.address),
            build: builds.then_some(u64::from(function.build) + 1),
            entries: function.entries,
            measures,
        }
    }

    /// Lines of a function that never ran, file by file; one row for a function that never did.
    fn never(&self, function: &Function, out: &mut Vec<NeverRow>) {
        let whole = !function.ran();
        let mut rows: BTreeMap<Option<u32>, NeverRow> = BTreeMap::new();
        let mut last = None;
        for (&place, piece) in &function.lines {
            let file = place.map(|(file, _)| file);
            let goes_on = last == Some(file);
            let ran = piece.executions > 0;
            last = (!ran).then_some(file);
            if ran {
                continue;
            }
            let row = rows.entry(file).or_insert_with(|| NeverRow {
                function: function.name.clone(),
                whole,
                file: self.file_of(place),
                lines: Vec::new(),
                instructions: 0,
            });
            row.instructions += piece.instructions.total;
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
        let own = rows.remove(&function.file());
        out.extend(own.map(|own| NeverRow { instructions, ..own }));
    }

    fn one_way(&self, function: &Function, builds: bool, out: &mut Vec<OneWayRow>) {
        for (&place, piece) in &function.lines {
            for branch in &piece.branches {
                let [not_taken, taken] = branch.ways;
                if (not_taken == 0) == (taken == 0) {
                    continue;
                }
                out.push(OneWayRow {
                    function: function.name.clone(),
                    file: self.file_of(place),
                    line: place.map(|(_, line)| line),
                    address: format!("{:#010x}", branch.address),
                    build: builds.then_some(u64::from(branch.build) + 1),
                    conditional: branch.conditional,
                    taken,
                    not_taken,
                });
            }
        }
    }

    fn finish(mut self, evidence: Evidence, builds: u64) -> CoverageReport {
        let (mut functions, mut never, mut one_way) = (Vec::new(), Vec::new(), Vec::new());
        for function in std::mem::take(&mut self.pieces.functions) {
            functions.push(self.function(&function, builds > 1));
            self.never(&function, &mut never);
            self.one_way(&function, builds > 1, &mut one_way);
        }
        let mut total = self.nothing();
        let Self { pieces, mut files, lines } = self;
        let name = |file: u32| pieces.files[file as usize].clone();
        for ((file, _), line) in &lines {
            if let Some(file) = files.get_mut(&Some(*file)) {
                file.lines.add(line.executions > 0);
            }
        }
        files.values().for_each(|measures| total.join(measures));
        let mut files: Vec<FileRow> = files
            .into_iter()
            .map(|(file, measures)| FileRow { file: file.map(name), measures })
            .collect();
        files.sort_by_key(|row| row.measures.order());
        functions.sort_by_key(|row| row.measures.order());
        let rank: BTreeMap<Option<String>, usize> =
            files.iter().enumerate().map(|(rank, row)| (row.file.clone(), rank)).collect();
        let rank = |file: &Option<String>| rank.get(file).copied();
        never.sort_by_key(|row| (!row.whole, rank(&row.file), row.lines.first().copied()));
        one_way.sort_by_key(|row| (rank(&row.file), row.line, row.address.clone()));
        let lines = lines.into_iter().map(|((file, line), seen)| LineRow {
            file: name(file),
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
            builds,
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

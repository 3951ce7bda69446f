//! Faces of coverage.

use super::{Align, Paint, Table, cell, count, evidence, path_end, plain, stretch_count};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::coverage::{CoverageReport, Measures, NeverRow, OneWayRow, Part};

/// What the text face shows beside the report.
#[derive(Debug)]
pub(crate) struct Look<'a> {
    pub(crate) paint: Paint,
    /// Rows of each table shown at most.
    pub(crate) top: usize,
    /// What to call the captures.
    pub(crate) captures: &'a [String],
    /// Which build each of them is of, from 1.
    pub(crate) builds: &'a [usize],
    /// Rows are functions instead of files.
    pub(crate) by_function: bool,
}

/// For people.
pub(crate) fn text(report: &CoverageReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    head(report, look, out)?;
    total(report, look.paint, out)?;
    writeln!(out)?;
    rows(report, look, out)?;
    never(&report.never, report.evidence.lower_bound, look, out)?;
    one_way(report, look, out)
}

fn head(report: &CoverageReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let names: Vec<_> = look.captures.iter().map(|name| plain(name)).collect();
    writeln!(out, "{}", look.paint.strong(&names.join(", ")))?;
    if report.builds > 1 {
        writeln!(out, "{} builds, added up by file and line:", report.builds)?;
        for (number, name) in look.builds.iter().zip(&names) {
            writeln!(out, "  build {number}: {name}")?;
        }
    }
    let facts = &report.evidence;
    let observed = count(facts.observed);
    match facts.basis.as_str() {
        "instruction_flow" => writeln!(out, "{observed} instructions, from the instruction trace")?,
        _ => writeln!(out, "{observed} samples of the program counter")?,
    }
    if facts.unwatched > 0 {
        writeln!(
            out,
            "not traced by choice: {}; what ran in them is not counted",
            stretch_count(facts.unwatched)
        )?;
    }
    evidence::doubts(&[], &[], &facts.doubts, look.paint, out)?;
    writeln!(out)?;
    Ok(())
}

fn total(report: &CoverageReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let at_least = if report.evidence.lower_bound { "at least" } else { "" };
    let mut table = Table::new(
        paint,
        &[
            ("", Align::Left),
            ("covered %", Align::Right),
            ("", Align::Left),
            ("covered", Align::Right),
            ("of", Align::Right),
            ("", Align::Left),
        ],
    );
    let Measures { functions, lines, instructions, branches, calls } = &report.total;
    let conditional = report.evidence.conditional_instructions;
    let conditional = match conditional {
        0 => String::new(),
        _ if report.evidence.lower_bound && report.total.branches.is_none() => String::new(),
        some => format!("{} may have run without effect (`it` blocks)", count(some)),
    };
    for (name, part, note) in [
        ("functions", Some(functions), String::new()),
        ("lines", Some(lines), String::new()),
        ("instructions", Some(instructions), conditional),
        ("ways of branches", branches.as_ref(), String::new()),
        ("calls", Some(calls), String::new()),
    ] {
        let Some(part) = part else { continue };
        table.row([
            format!("{at_least:<8} {name}").trim_start().to_owned(),
            share(part),
            paint.accent(&bar(part)),
            count(part.covered),
            count(part.total),
            paint.faint(&note),
        ]);
    }
    table.write(out)?;
    let row = ("totals", report.evidence.objections.as_slice());
    evidence::objections(std::iter::once(row), &[], paint, out)
}

/// Tenths of a percent, never rounded up to all or down to nothing.
pub(crate) fn share(part: &Part) -> String {
    let Some(share) = part.share else { return "-".into() };
    let tenths = 1000.0 * share;
    let tenths = if part.covered < part.total { tenths.floor() } else { tenths };
    let tenths = if part.covered > 0 { tenths.max(1.0) } else { tenths };
    format!("{:.1}", tenths / 10.0)
}

/// Ten cells: what is covered, and what is not.
fn bar(part: &Part) -> String {
    const CELLS: usize = 10;
    let Some(share) = part.share else { return String::new() };
    let full = (share * CELLS as f64).floor() as usize;
    "\u{2588}".repeat(full) + &"\u{2591}".repeat(CELLS - full.min(CELLS))
}

fn rows(report: &CoverageReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let paint = look.paint;
    let (what, length) = if look.by_function {
        ("function", report.functions.len())
    } else {
        ("file", report.files.len())
    };
    let mut columns = vec![("lines %", Align::Right), ("", Align::Left), ("lines", Align::Right)];
    if report.total.branches.is_some() {
        columns.extend([("branches %", Align::Right), ("ways", Align::Right)]);
    }
    columns.extend([("instr. %", Align::Right), ("instr.", Align::Right)]);
    columns.extend(if look.by_function {
        [("entries", Align::Right), (what, Align::Name), ("line", Align::Left)].to_vec()
    } else {
        [("functions", Align::Right), (what, Align::Name)].to_vec()
    });
    let mut table = Table::new(paint, &columns);
    let measures = |measures: &Measures| {
        let Measures { lines, instructions, branches, .. } = measures;
        let mut cells = vec![share(lines), paint.accent(&bar(lines)), of(lines)];
        if let Some(branches) = branches {
            cells.extend([share(branches), of(branches)]);
        }
        cells.extend([share(instructions), of(instructions)]);
        cells
    };
    if look.by_function {
        for row in report.functions.iter().take(look.top) {
            let mut cells = measures(&row.measures);
            let name = plain(&row.function).into_owned();
            let place = place(row.file.as_deref(), row.line);
            cells.extend([count(row.entries), name, paint.faint(&place)]);
            table.row(cells);
        }
    } else {
        for row in report.files.iter().take(look.top) {
            let mut cells = measures(&row.measures);
            let name = row.file.as_deref().map_or("[no line data]".into(), |f| path_end(&plain(f)));
            cells.extend([of(&row.measures.functions), name]);
            table.row(cells);
        }
    }
    table.write(out)?;
    more(length, look, out)
}

fn of(part: &Part) -> String {
    format!("{}/{}", count(part.covered), count(part.total))
}

fn place(file: Option<&str>, line: Option<u32>) -> String {
    let file = file.map_or(String::new(), |file| path_end(&plain(file)));
    line.map_or(file.clone(), |line| format!("{file}:{line}"))
}

/// Stretches of lines, as many as fit.
fn stretches(lines: &[[u32; 2]]) -> String {
    const MOST: usize = 6;
    let stretch = |&[first, last]: &[u32; 2]| {
        if first == last { first.to_string() } else { format!("{first}..{last}") }
    };
    let shown: Vec<String> = lines.iter().take(MOST).map(stretch).collect();
    let more = if lines.len() > MOST { ", ..." } else { "" };
    format!("{}{more}", shown.join(", "))
}

fn more(length: usize, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let hidden = length.saturating_sub(look.top);
    if hidden > 0 {
        let text = format!("  {} more; --top 0 shows all", count(hidden as u64));
        writeln!(out, "{}", look.paint.faint(&text))?;
    }
    Ok(())
}

fn never(rows: &[NeverRow], lower_bound: bool, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let (whole, parts): (Vec<_>, Vec<_>) = rows.iter().partition(|row| row.whole);
    let titles = if lower_bound {
        ["functions not seen to run", "lines not seen to run in other functions"]
    } else {
        ["functions that never ran", "lines that never ran in other functions"]
    };
    for (title, rows) in titles.into_iter().zip([whole, parts]) {
        let Some(first) = rows.first() else { continue };
        let number = if first.whole { format!(": {}", rows.len()) } else { String::new() };
        writeln!(out, "\n{}", look.paint.strong(&format!("{title}{number}")))?;
        let mut table = Table::new(
            look.paint,
            &[
                ("instr.", Align::Right),
                ("function", Align::Name),
                ("file", Align::Left),
                ("lines", Align::Left),
            ],
        );
        for row in rows.iter().take(look.top) {
            table.row([
                count(row.instructions),
                plain(&row.function).into_owned(),
                path_end(&plain(row.file.as_deref().unwrap_or_default())),
                stretches(&row.lines),
            ]);
        }
        table.write(out)?;
        more(rows.len(), look, out)?;
    }
    Ok(())
}

fn one_way(report: &CoverageReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let rows = &report.one_way;
    if rows.is_empty() {
        return Ok(());
    }
    let title = format!("branches that went only one way: {}", rows.len());
    writeln!(out, "\n{}", look.paint.strong(&title))?;
    let mut table = Table::new(
        look.paint,
        &[
            ("branch", Align::Left),
            ("times", Align::Right),
            ("function", Align::Name),
            ("line", Align::Left),
            ("address", Align::Left),
        ],
    );
    for row in rows.iter().take(look.top) {
        let (way, times) = way(row);
        table.row([
            way.to_owned(),
            count(times),
            plain(&row.function).into_owned(),
            place(row.file.as_deref(), row.line),
            look.paint.faint(&address(&row.address, row.build)),
        ]);
    }
    table.write(out)?;
    more(rows.len(), look, out)
}

/// An address, and the build that it is of where there are several.
fn address(address: &str, build: Option<u64>) -> String {
    build.map_or(address.into(), |build| format!("{address} (build {build})"))
}

/// Where a branch went, always.
fn way(row: &OneWayRow) -> (&'static str, u64) {
    match (row.conditional, row.taken > 0) {
        (false, true) => ("always taken", row.taken),
        (false, false) => ("never taken", row.not_taken),
        (true, true) => ("condition held", row.taken),
        (true, false) => ("condition failed", row.not_taken),
    }
}

/// For spreadsheets: files or functions.
pub(crate) fn csv(report: &CoverageReport, by_function: bool, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let mut columns = vec!["function", "file", "line", "address", "entries"];
    columns.extend([
        "functions_covered",
        "functions_total",
        "lines_covered",
        "lines_total",
        "instructions_covered",
        "instructions_total",
        "branches_covered",
        "branches_total",
        "calls_covered",
        "calls_total",
    ]);
    csv.write_record(columns)?;
    let numbers = |measures: &Measures| {
        let Measures { functions, lines, instructions, branches, calls } = measures;
        let parts =
            [Some(functions), Some(lines), Some(instructions), branches.as_ref(), Some(calls)];
        parts.map(|part| {
            part.map_or([String::new(), String::new()], |part| {
                [part.covered.to_string(), part.total.to_string()]
            })
        })
    };
    let text = |field: &Option<String>| {
        field.as_deref().map(|text| cell(text).into_owned()).unwrap_or_default()
    };
    if by_function {
        for row in &report.functions {
            let line = row.line.map(|line| line.to_string()).unwrap_or_default();
            let first = [
                cell(&row.function).into_owned(),
                text(&row.file),
                line,
                row.address.clone(),
                row.entries.to_string(),
            ];
            csv.write_record(
                first.into_iter().chain(numbers(&row.measures).into_iter().flatten()),
            )?;
        }
    } else {
        for row in &report.files {
            let empty = String::new;
            let first = [empty(), text(&row.file), empty(), empty(), empty()];
            csv.write_record(
                first.into_iter().chain(numbers(&row.measures).into_iter().flatten()),
            )?;
        }
    }
    csv.flush()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nearly_all_is_not_all_and_little_is_not_nothing() {
        let part = |covered: u64, total: u64| Part {
            share_low: None,
            share_high: None,
            covered,
            total,
            share: (total > 0).then(|| covered as f64 / total as f64),
        };
        for (covered, total, shown) in [
            (9999, 10_000, "99.9"),
            (1, 10_000, "0.1"),
            (0, 7, "0.0"),
            (7, 7, "100.0"),
            (0, 0, "-"),
        ] {
            assert_eq!(share(&part(covered, total)), shown);
        }
        assert_eq!(bar(&part(999, 1000)).chars().filter(|&c| c == '\u{2588}').count(), 9);
        assert_eq!(bar(&part(5, 5)).chars().count(), 10);
    }
}

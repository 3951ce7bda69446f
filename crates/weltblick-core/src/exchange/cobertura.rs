//! Coverage as Cobertura XML (`coverage-04.dtd`), as continuous integration reads it. A source file is
//! one class, a folder one package.

use crate::measure::coverage::{CoverageReport, FileRow, LineRow, Part};
use quick_xml::escape::escape;
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// The document. `seconds`: when it was made, since 1970.
#[must_use]
pub fn document(report: &CoverageReport, seconds: u64) -> String {
    let mut lines: BTreeMap<&str, Vec<&LineRow>> = BTreeMap::new();
    for row in &report.lines {
        lines.entry(&row.file).or_default().push(row);
    }
    let mut packages: BTreeMap<&str, Vec<(&str, &FileRow)>> = BTreeMap::new();
    for row in &report.files {
        if let Some(file) = &row.file {
            let folder = file.rsplit_once('/').map_or(".", |(folder, _)| folder);
            packages.entry(folder).or_default().push((file, row));
        }
    }
    let total = &report.total;
    let branches = total.branches.unwrap_or_default();
    let mut xml = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    xml += "<!DOCTYPE coverage SYSTEM \"http://cobertura.sourceforge.net/xml/coverage-04.dtd\">\n";
    let _ = writeln!(
        xml,
        "<coverage line-rate=\"{}\" branch-rate=\"{}\" lines-covered=\"{}\" lines-valid=\"{}\" \
         branches-covered=\"{}\" branches-valid=\"{}\" complexity=\"0\" version=\"{}\" timestamp=\"{seconds}\">",
        rate(&total.lines),
        rate(&branches),
        total.lines.covered,
        total.lines.total,
        branches.covered,
        branches.total,
        env!("CARGO_PKG_VERSION"),
    );
    xml += "<sources><source>.</source></sources>\n<packages>\n";
    for (folder, mut files) in packages {
        files.sort_by_key(|(file, _)| *file);
        let (mut of_lines, mut of_branches) = ((0, 0), (0, 0));
        for (_, row) in &files {
            let branches = row.measures.branches.unwrap_or_default();
            of_lines.0 += row.measures.lines.covered;
            of_lines.1 += row.measures.lines.total;
            of_branches.0 += branches.covered;
            of_branches.1 += branches.total;
        }
        let _ = writeln!(
            xml,
            "<package name=\"{}\" line-rate=\"{}\" branch-rate=\"{}\" complexity=\"0\"><classes>",
            attribute(folder),
            fraction(of_lines),
            fraction(of_branches)
        );
        for (file, row) in files {
            class(&mut xml, file, row, lines.get(file).map_or(&[], Vec::as_slice));
        }
        xml += "</classes></package>\n";
    }
    xml += "</packages>\n</coverage>\n";
    xml
}

fn class(xml: &mut String, file: &str, row: &FileRow, lines: &[&LineRow]) {
    let name = file.rsplit('/').next().unwrap_or(file);
    let _ = writeln!(
        xml,
        "<class name=\"{}\" filename=\"{}\" line-rate=\"{}\" branch-rate=\"{}\" complexity=\"0\"><methods/><lines>",
        attribute(name),
        attribute(file),
        rate(&row.measures.lines),
        rate(&row.measures.branches.unwrap_or_default())
    );
    for row in lines {
        let LineRow { line, executions, branches, .. } = row;
        let gone = branches.iter().flatten().filter(|&&way| way > 0).count();
        let ways = 2 * branches.len();
        let _ = match gone.saturating_mul(100).checked_div(ways) {
            None => {
                writeln!(xml, "<line number=\"{line}\" hits=\"{executions}\" branch=\"false\"/>")
            }
            Some(percent) => writeln!(
                xml,
                "<line number=\"{line}\" hits=\"{executions}\" branch=\"true\" \
                 condition-coverage=\"{percent}% ({gone}/{ways})\"/>"
            ),
        };
    }
    *xml += "</lines></class>\n";
}

fn rate(part: &Part) -> String {
    fraction((part.covered, part.total))
}

/// Nothing to cover is covered.
fn fraction((covered, total): (u64, u64)) -> String {
    if total == 0 { "1".into() } else { format!("{:.4}", covered as f64 / total as f64) }
}

/// Text in an attribute: control characters are none in XML.
fn attribute(text: &str) -> String {
    escape(text.replace(|c: char| c.is_control(), "?")).into_owned()
}

//! Coverage as an LCOV tracefile, as many tools of the trade read it (`man geninfo`, "FILES").

use crate::measure::coverage::{CoverageReport, FunctionRow, LineRow};
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// The tracefile: one record for each source file. Code without line data is in none.
#[must_use]
pub fn tracefile(report: &CoverageReport) -> String {
    let mut files: BTreeMap<&str, (Vec<&FunctionRow>, Vec<&LineRow>)> = BTreeMap::new();
    for row in &report.functions {
        if let Some(file) = &row.file {
            files.entry(file).or_default().0.push(row);
        }
    }
    for row in &report.lines {
        files.entry(&row.file).or_default().1.push(row);
    }
    let mut text = String::from("TN:\n");
    for (file, (functions, lines)) in files {
        record(&mut text, file, functions, &lines);
    }
    text
}

fn record(text: &mut String, file: &str, mut functions: Vec<&FunctionRow>, lines: &[&LineRow]) {
    functions.sort_by_key(|row| (row.line, &row.function));
    let _ = writeln!(text, "SF:{}", plain(file));
    for row in &functions {
        let _ = writeln!(text, "FN:{},{}", row.line.unwrap_or(0), plain(&row.function));
    }
    for row in &functions {
        // One that ran without being entered, from the start of the trace, ran all the same.
        let ran = row.entries.max(row.measures.functions.covered);
        let _ = writeln!(text, "FNDA:{ran},{}", plain(&row.function));
    }
    let hit = functions.iter().filter(|row| row.measures.functions.covered > 0).count();
    let _ = writeln!(text, "FNF:{}\nFNH:{hit}", functions.len());
    let (mut found, mut gone) = (0, 0);
    for row in lines {
        for (number, ways) in row.branches.iter().enumerate() {
            let reached = ways.iter().any(|&way| way > 0);
            for (way, &times) in ways.iter().enumerate() {
                let times_text = if reached { times.to_string() } else { "-".into() };
                let _ = writeln!(text, "BRDA:{},{number},{way},{times_text}", row.line);
                found += 1;
                gone += u64::from(times > 0);
            }
        }
    }
    let _ = writeln!(text, "BRF:{found}\nBRH:{gone}");
    for row in lines {
        let _ = writeln!(text, "DA:{},{}", row.line, row.executions);
    }
    let hit = lines.iter().filter(|row| row.executions > 0).count();
    let _ = writeln!(text, "LF:{}\nLH:{hit}\nend_of_record", lines.len());
}

/// Names never end a line.
fn plain(name: &str) -> String {
    name.replace(|c: char| c.is_control(), "?")
}

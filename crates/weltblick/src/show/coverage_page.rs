//! Coverage as one page: figures, then the source of each file with what ran in its margin. No script,
//! nothing from elsewhere.

use super::{count, path_end, plain};
use crate::sources::SourceText;
use quick_xml::escape::escape;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use weltblick_core::measure::coverage::{CoverageReport, LineRow, Part};

/// How it looks: see `docs/looks.md`.
const STYLE: &str = "body{background:#fbfaf7;color:#222;font:15px/1.45 sans-serif;margin:2em auto;max-width:76em;\
padding:0 1em}h1{font-size:1.4em}h2{font-size:1.1em;margin:2.2em 0 .4em}table{border-collapse:collapse}\
td,th{padding:.1em .8em .1em 0;text-align:right;font-variant-numeric:tabular-nums}th{color:#777;font-weight:normal}\
td.n,th.n{text-align:left}pre{margin:0;font:13px/1.5 monospace;overflow-x:auto}\
.never{background:repeating-linear-gradient(135deg,#fbfaf7 0 6px,#f3dfcc 6px 8px)}.part{border-left:3px dashed #d75f00}\
.m{color:#777}.w{color:#d75f00}a{color:#1f5fa8}.bar{display:inline-block;width:8em;height:.7em;border:1px solid #1f5fa8}\
.bar i{display:block;height:100%;background:#1f5fa8}.doubt{color:#d75f00}";

/// The page.
pub(crate) fn page(report: &CoverageReport, title: &str, texts: &mut SourceText) -> String {
    let mut html =
        String::from("<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">");
    html += "<meta name=\"viewport\" content=\"width=device-width\">";
    let _ = write!(
        html,
        "<title>Coverage of {}</title><style>{STYLE}</style></head><body>",
        safe(title)
    );
    let _ = writeln!(html, "<h1>Coverage of {}</h1>", safe(title));
    head(&mut html, report);
    files(&mut html, report);
    let mut lines: BTreeMap<&str, BTreeMap<u32, &LineRow>> = BTreeMap::new();
    for row in &report.lines {
        lines.entry(&row.file).or_default().insert(row.line, row);
    }
    for (number, row) in report.files.iter().enumerate() {
        if let Some(file) = &row.file {
            listing(&mut html, number, file, lines.get(file.as_str()), texts);
        }
    }
    html += "</body></html>\n";
    html
}

fn safe(text: &str) -> String {
    escape(plain(text).as_ref()).into_owned()
}

fn head(html: &mut String, report: &CoverageReport) {
    let what = if report.evidence.basis == "pc_samples" {
        "samples of the program counter"
    } else {
        "instructions, from the instruction trace"
    };
    let _ = writeln!(html, "<p>{} {what}</p>", count(report.evidence.observed));
    for doubt in &report.evidence.doubts {
        let _ = writeln!(html, "<p class=\"doubt\">? {}</p>", safe(doubt));
    }
    let at_least = if report.evidence.lower_bound { "at least " } else { "" };
    *html += "<table>";
    let total = &report.total;
    for (name, part) in [
        ("functions", Some(total.functions)),
        ("lines", Some(total.lines)),
        ("instructions", Some(total.instructions)),
        ("ways of branches", total.branches),
        ("calls", Some(total.calls)),
    ] {
        let Some(part) = part else { continue };
        let _ = writeln!(
            html,
            "<tr><td class=\"n\">{at_least}{name}</td><td>{}</td><td>{}</td><td>{} of {}</td></tr>",
            percent(&part),
            bar(&part),
            count(part.covered),
            count(part.total)
        );
    }
    *html += "</table>\n";
}

/// Never rounded up to all.
fn percent(part: &Part) -> String {
    part.share.map_or("-".into(), |share| {
        let tenths = (1000.0 * share).floor() / 10.0;
        format!("{tenths:.1} %")
    })
}

fn bar(part: &Part) -> String {
    let width = 100.0 * part.share.unwrap_or(0.0);
    format!("<span class=\"bar\"><i style=\"width:{width:.1}%\"></i></span>")
}

fn files(html: &mut String, report: &CoverageReport) {
    *html += "<h2>Files, the least covered first</h2><table><tr><th>lines</th><th></th><th></th><th>ways of branches</th><th class=\"n\">file</th></tr>";
    for (number, row) in report.files.iter().enumerate() {
        let measures = &row.measures;
        let branches = measures.branches.unwrap_or_default();
        let file =
            row.file.as_deref().map_or("[no line data]".into(), |file| path_end(&plain(file)));
        let _ = writeln!(
            html,
            "<tr><td>{}</td><td>{}</td><td>{} of {}</td><td>{} of {}</td><td class=\"n\"><a href=\"#f{number}\">{}</a></td></tr>",
            percent(&measures.lines),
            bar(&measures.lines),
            count(measures.lines.covered),
            count(measures.lines.total),
            count(branches.covered),
            count(branches.total),
            safe(&file)
        );
    }
    *html += "</table>\n";
}

fn listing(
    html: &mut String,
    number: usize,
    file: &str,
    lines: Option<&BTreeMap<u32, &LineRow>>,
    texts: &mut SourceText,
) {
    let Some(lines) = lines else { return };
    let _ = writeln!(html, "<h2 id=\"f{number}\">{}</h2><pre>", safe(file));
    match texts.text(file) {
        Some(text) => {
            for (line, text) in (1..).zip(text.lines()) {
                row(html, line, lines.get(&line).copied(), text);
            }
        }
        None => {
            *html +=
                "<span class=\"m\">its text is not known; name the folder with --sources</span>\n";
            for (&line, seen) in lines {
                row(html, line, Some(seen), "");
            }
        }
    }
    *html += "</pre>\n";
}

fn row(html: &mut String, line: u32, seen: Option<&LineRow>, text: &str) {
    let (class, mark, runs) = match seen {
        None => ("", " ", String::new()),
        Some(row) if row.executions == 0 => (" class=\"never\"", "-", "0".into()),
        Some(row) if row.instructions.covered < row.instructions.total => {
            (" class=\"part\"", "~", count(row.executions))
        }
        Some(row) => ("", " ", count(row.executions)),
    };
    let one_way = seen.map_or(0, |row| {
        row.branches.iter().filter(|ways| (ways[0] == 0) != (ways[1] == 0)).count()
    });
    let note = match one_way {
        0 => String::new(),
        1 => "<span class=\"w\">   &lt;- a branch goes only one way</span>".into(),
        more => format!("<span class=\"w\">   &lt;- {more} branches go only one way</span>"),
    };
    let _ = writeln!(
        html,
        "<span{class}><span class=\"m\">{runs:>12} {line:>5} {mark} </span>{}{note}</span>",
        safe(&text.replace('\t', "    "))
    );
}

//! Faces of a profile.

use super::evidence::doubts;
use super::{Align, Paint, Table, cell, count, duration_ns, path_end, percent, plain, share};
use anyhow::Result;
use std::io::Write;
use weltblick_core::figure::Objection;
use weltblick_core::measure::profile::{ProfileReport, ReportRow};

/// Cells of the widest bar.
const BAR: f64 = 12.0;

/// What the text face shows beside the report.
#[derive(Debug)]
pub(crate) struct Look<'a> {
    pub(crate) paint: Paint,
    /// Rows shown at most.
    pub(crate) top: usize,
    /// Only some code is asked for.
    pub(crate) chosen: bool,
    /// What to call the capture.
    pub(crate) capture: &'a str,
    /// What to call the image.
    pub(crate) image: &'a str,
}

/// For people.
pub(crate) fn text(report: &ProfileReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    head(report, look, out)?;
    let (name, place) = match report.by.as_str() {
        "function" => ("function", "file"),
        "file" => ("file", ""),
        "line" => ("line", "function"),
        "task" => ("task", ""),
        "interrupt" => ("interrupt", ""),
        _ => ("address", "function, line"),
    };
    let mut table = Table::new(
        look.paint,
        &[
            ("share %", Align::Right),
            ("+-", Align::Right),
            ("", Align::Left),
            ("sum %", Align::Right),
            ("time", Align::Right),
            ("samples", Align::Right),
            (name, Align::Name),
            (place, Align::Name),
        ],
    );
    for row in report.rows.iter().take(look.top) {
        table.row(text_row(row, &report.by, look.paint));
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    let method = format!(
        "  +- is half of the {:.0} % interval, with what is missing\n  {}",
        100.0 * report.evidence.confidence,
        report.evidence.method
    );
    writeln!(out, "{}", look.paint.faint(&method))?;
    let shown = report.rows.iter().take(look.top);
    for row in shown.filter(|row| !row.objections.is_empty()) {
        let whys: Vec<&str> = row.objections.iter().map(|o| o.why.as_str()).collect();
        let text = format!("? {}: {}", names(row, &report.by).0, whys.join("; "));
        writeln!(out, "{}", look.paint.alarm(&text))?;
    }
    if report.rows.iter().any(|row| row.share_low <= 0.0 && row.share_high >= 1.0) {
        let text = "  ?: nothing bounds it; the head says why";
        writeln!(out, "{}", look.paint.faint(text))?;
    }
    let hidden = report.rows.len().saturating_sub(look.top);
    if look.chosen {
        let all: f64 = report.rows.iter().map(|row| row.share).sum();
        let text =
            format!("  {} of all samples together; other rows are not asked for", share(all));
        writeln!(out, "{}", look.paint.faint(&text))?;
    }
    if hidden > 0 {
        let rest: f64 = report.rows[look.top..].iter().map(|row| row.share).sum();
        let text = format!("  {hidden} more rows with {} together; --top 0 shows all", share(rest));
        writeln!(out, "{}", look.paint.faint(&text))?;
    }
    Ok(())
}

fn head(report: &ProfileReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let paint = look.paint;
    let title = format!("{}, image {}", plain(look.capture), plain(look.image));
    writeln!(out, "{}", paint.strong(&title))?;
    let recording = &report.recording;
    let mut line = format!("{} samples", count(recording.samples));
    if let Some(period) = recording.sampling_period_cycles {
        line += &format!(", one in {} cycles", count(period.round() as u64));
        if recording.sampling_period_measured {
            line += " (measured)";
        }
    }
    if let Some(duration) = &recording.duration {
        let at_least = if duration.ns_high.is_none() { "at least " } else { "" };
        line += &format!(", over {at_least}{}", duration_ns(duration.ns));
    }
    if let Some(hertz) = recording.core_clock_hz {
        line += &format!(" at {} MHz", hertz / 1e6);
    }
    writeln!(out, "{line}")?;
    if let (Some(from), Some(until)) = (report.from_ns, report.until_ns) {
        let window = format!("from {} to {}", duration_ns(from), duration_ns(until));
        let cut = report.evidence.samples_cut;
        let cut = if cut > 0 { format!(", {cut} samples cut at its edges") } else { String::new() };
        writeln!(out, "window: {window}{cut}")?;
    }
    for loss in &report.evidence.losses {
        let bytes =
            if loss.bytes > 0 { format!(", {} bytes", count(loss.bytes)) } else { String::new() };
        let text = format!("! lost: {}, {} times{bytes}", loss.reason, count(loss.count));
        writeln!(out, "{}", paint.alarm(&text))?;
    }
    // What the sentences below say, with more detail, is not said twice.
    let evidence = &report.evidence;
    let said = |objection: &&Objection| {
        !matches!(objection.code.as_str(), "in_step" | "unwatched_time" | "samples_uncounted")
    };
    let against: Vec<Objection> = evidence.objections.iter().filter(said).cloned().collect();
    doubts(&[], &against, &evidence.doubts, paint, out)?;
    writeln!(out)?;
    Ok(())
}

fn text_row(row: &ReportRow, by: &str, paint: Paint) -> Vec<String> {
    let is_unbounded = row.share_low <= 0.0 && row.share_high >= 1.0;
    let half = (row.share_high - row.share_low) / 2.0;
    let (name, place) = names(row, by);
    vec![
        percent(row.share),
        if is_unbounded { "?".to_owned() } else { percent(half) },
        paint.accent(&bar(row.share)),
        percent(row.cumulative_share),
        row.time.as_ref().map_or_else(String::new, |time| duration_ns(time.ns)),
        count(row.samples),
        name,
        paint.faint(&place),
    ]
}

/// A bar in eighths of a cell.
fn bar(fraction: f64) -> String {
    const EIGHTHS: [char; 8] =
        [' ', '\u{258f}', '\u{258e}', '\u{258d}', '\u{258c}', '\u{258b}', '\u{258a}', '\u{2589}'];
    let eighths = (fraction * BAR * 8.0).round() as usize;
    let mut bar = "\u{2588}".repeat(eighths / 8);
    if !eighths.is_multiple_of(8) {
        bar.push(EIGHTHS[eighths % 8]);
    }
    bar
}

/// What a row is called, and where it is.
fn names(row: &ReportRow, by: &str) -> (String, String) {
    let text = |field: &Option<String>| {
        field.as_deref().map_or_else(String::new, |t| plain(t).into_owned())
    };
    let line = match (&row.file, row.line) {
        (Some(file), Some(line)) => format!("{}:{line}", path_end(&plain(file))),
        (Some(file), None) => path_end(&plain(file)),
        _ => String::new(),
    };
    match row.kind.as_str() {
        "asleep" => ("[asleep]".into(), String::new()),
        "unobservable" => ("[observation prohibited]".into(), String::new()),
        "beyond" => ("[further addresses]".into(), String::new()),
        "elsewhere" => ("[code that was not asked for]".into(), String::new()),
        "outside" => ("[outside the image]".into(), text(&row.address)),
        "unnamed" => ("[code without a name]".into(), String::new()),
        "handlers" => ("[handlers]".into(), String::new()),
        "kernel" => ("[kernel]".into(), String::new()),
        "thread" => ("[thread mode]".into(), String::new()),
        "unknown" => ("[unknown whose]".into(), String::new()),
        _ => match by {
            "function" => {
                (text(&row.function), if line.is_empty() { text(&row.address) } else { line })
            }
            "file" => (line, String::new()),
            "line" if line.is_empty() => ("[no line]".into(), text(&row.function)),
            "line" => (line, text(&row.function)),
            "task" => (text(&row.task), String::new()),
            "interrupt" => (text(&row.interrupt), String::new()),
            _ => (text(&row.address), [text(&row.function), line].join("  ").trim().to_owned()),
        },
    }
}

/// For spreadsheets: one table for all reports.
pub(crate) fn csv(reports: &[ProfileReport], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "from_ns",
        "until_ns",
        "kind",
        "function",
        "file",
        "line",
        "address",
        "task",
        "interrupt",
        "samples",
        "share",
        "share_low",
        "share_high",
        "cumulative_share",
        "time_ns",
        "time_ns_low",
        "time_ns_high",
        "objections",
    ])?;
    for report in reports {
        for row in &report.rows {
            let text = |field: &Option<String>| {
                field.as_deref().map(|t| cell(t).into_owned()).unwrap_or_default()
            };
            let number = |field: Option<f64>| field.map(|n| n.to_string()).unwrap_or_default();
            csv.write_record([
                number(report.from_ns),
                number(report.until_ns),
                row.kind.clone(),
                text(&row.function),
                text(&row.file),
                row.line.map(|line| line.to_string()).unwrap_or_default(),
                text(&row.address),
                text(&row.task),
                text(&row.interrupt),
                row.samples.to_string(),
                row.share.to_string(),
                row.share_low.to_string(),
                row.share_high.to_string(),
                row.cumulative_share.to_string(),
                number(row.time.and_then(|time| time.known_ns())),
                number(row.time.map(|time| time.ns_low)),
                number(row.time.and_then(|time| time.ns_high)),
                codes(report.evidence.objections.iter().chain(&row.objections)),
            ])?;
        }
    }
    csv.flush()?;
    Ok(())
}

/// Objections by their words for programs.
fn codes<'o>(objections: impl Iterator<Item = &'o Objection>) -> String {
    objections.map(|objection| objection.code.as_str()).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_are_as_long_as_their_share() {
        assert_eq!(bar(1.0).chars().count(), BAR as usize);
        assert_eq!(bar(0.5), "\u{2588}".repeat(6));
        assert_eq!(bar(1.0 / 96.0), "\u{258f}");
        assert_eq!(bar(0.001), "");
        for eighths in 0..=96 {
            let cells = bar(f64::from(eighths) / 96.0).chars().count();
            assert_eq!(cells, (eighths as usize).div_ceil(8));
        }
    }

    #[test]
    fn rows_are_named_by_what_they_stand_for() {
        let row = |kind: &str| ReportRow {
            kind: kind.into(),
            function: Some("wave_filter".into()),
            file: Some("src/dsp/filter.c".into()),
            line: Some(80),
            address: Some("0x08000748".into()),
            task: None,
            interrupt: None,
            samples: 1,
            share: 0.1,
            share_low: 0.0,
            share_high: 0.2,
            cumulative_share: 0.1,
            time: None,
            objections: Vec::new(),
        };
        let names = |kind: &str, by: &str| names(&row(kind), by);
        assert_eq!(names("code", "line"), ("src/dsp/filter.c:80".into(), "wave_filter".into()));
        assert_eq!(names("code", "address").0, "0x08000748");
        assert_eq!(names("asleep", "function"), ("[asleep]".into(), String::new()));
        assert_eq!(names("outside", "address").1, "0x08000748");
        assert_eq!(names("unnamed", "file").0, "[code without a name]");
    }
}

//! Faces of an inspection.

use super::{Align, Paint, Table, cell, count, duration_ns, level, plain, share, wrapped};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::inspection::{Finding, InspectReport, Weight};

/// Kinds of events that are listed at most.
const MOST_KINDS: usize = 60;
/// Fields of an event that are listed by name at most.
const MOST_FIELDS: usize = 6;

/// What the text face shows beside the report.
pub(crate) struct Look<'a> {
    pub(crate) paint: Paint,
    pub(crate) capture: &'a str,
    pub(crate) streams: &'a [String],
    pub(crate) image: Option<String>,
}

/// For people: findings first, they decide whether the rest is worth reading.
pub(crate) fn text(report: &InspectReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    title(report, look, out)?;
    findings(&report.findings, look.paint, out)?;
    kinds(report, look.paint, out)?;
    global_timestamps(report, out)?;
    shared_timestamps(report, out)?;
    events(report, look.paint, out)?;
    losses(report, look.paint, out)?;
    rate(report, look.paint, out)?;
    image(report, look, out)
}

fn title(report: &InspectReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let mut line = format!("{}: {} bytes", plain(look.capture), count(report.bytes));
    if let Some(duration) = report.duration.as_ref().filter(|duration| duration.ns > 0.0) {
        let at_least = if duration.ns_high.is_none() { "at least " } else { "" };
        let per_second = report.bytes as f64 / (duration.ns / 1e9);
        line +=
            &format!(" over {at_least}{}, {:.1} kB/s", duration_ns(duration.ns), per_second / 1e3);
    } else if let Some(cycles) = report.duration_cycles {
        line += &format!(" over {} cycles", count(cycles));
    }
    writeln!(out, "{}", look.paint.strong(&line))?;
    for stream in look.streams {
        writeln!(out, "{}", plain(stream))?;
    }
    if report.samples > 0 {
        let asleep = share(report.samples_asleep as f64 / report.samples as f64);
        let mut line = format!("{} samples, {asleep} of them asleep", count(report.samples));
        let cycles = |cycles: f64| count(cycles.round() as u64);
        match (report.sampling_period_stated, report.sampling_period_measured) {
            (Some(stated), Some(measured)) => {
                line +=
                    &format!(", every {} cycles (measured {})", count(stated), cycles(measured));
            }
            (Some(stated), None) => line += &format!(", every {} cycles as stated", count(stated)),
            (None, Some(measured)) => {
                line += &format!(", every {} cycles as measured", cycles(measured))
            }
            (None, None) => {}
        }
        writeln!(out, "{line}")?;
    }
    Ok(())
}

/// What speaks against a recording, and what to do.
pub(crate) fn findings(findings: &[Finding], paint: Paint, out: &mut dyn Write) -> Result<()> {
    writeln!(out)?;
    if findings.is_empty() {
        writeln!(out, "= nothing speaks against this recording")?;
    }
    for finding in findings {
        let mark = match finding.weight {
            Weight::Fault => "!",
            Weight::Doubt => "?",
        };
        for (number, line) in wrapped(&finding.finding).into_iter().enumerate() {
            let lead = if number == 0 { mark } else { " " };
            writeln!(out, "{}", paint.alarm(&format!("{lead} {}", plain(&line))))?;
        }
        for (number, line) in wrapped(&finding.advice).into_iter().enumerate() {
            let lead = if number == 0 { "->" } else { "  " };
            writeln!(out, "  {lead} {}", plain(&line))?;
        }
    }
    Ok(())
}

fn kinds(report: &InspectReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if report.kinds.is_empty() && report.unread_sources.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let columns = [
        ("bytes %", Align::Right),
        ("bytes", Align::Right),
        ("packets", Align::Right),
        ("kind", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    let part = |bytes: u64| format!("{:.1}", 100.0 * bytes as f64 / report.bytes.max(1) as f64);
    for row in &report.kinds {
        table.row([part(row.bytes), count(row.bytes), count(row.packets), row.kind.clone()]);
    }
    for row in &report.unread_sources {
        let name = match row.trace_id {
            0 => "[padding of the framing]".to_owned(),
            id => format!("[source {id}, which nothing reads]"),
        };
        table.row([part(row.bytes), count(row.bytes), String::new(), name]);
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    if let Some(byte) = report.first_sync_byte {
        writeln!(out, "first synchronisation at byte {byte}")?;
    }
    Ok(())
}

/// What the clock of global timestamps is.
fn global_timestamps(report: &InspectReport, out: &mut dyn Write) -> Result<()> {
    let Some(global) = &report.global_timestamps else { return Ok(()) };
    let rate = global.hertz.map_or_else(String::new, |hertz| {
        format!(": {:.6} MHz by the local timestamps", hertz / 1e6)
    });
    let stamps = if global.count == 1 { "timestamp" } else { "timestamps" };
    let (first, last) = (count(global.first), count(global.last));
    writeln!(out, "{} global {stamps}, {first} to {last} ticks{rate}", count(global.count))?;
    Ok(())
}

/// How much sharper times would be if each timestamp dated all packets before it.
fn shared_timestamps(report: &InspectReport, out: &mut dyn Write) -> Result<()> {
    let Some(shared) = &report.shared_timestamps else { return Ok(()) };
    let time = |time: f64| match report.duration {
        Some(_) => duration_ns(time),
        None => format!("{} ticks", count(time.round() as u64)),
    };
    let mut words = format!(
        "{} of {} events share a timestamp with a later one, and may have been up to {} before it, {} on average.",
        count(shared.events),
        count(shared.of),
        time(shared.before_max),
        time(shared.before_mean),
    );
    words += if shared.excluded {
        " Some of these cannot be of one tick: this trace unit sends one timestamp for several."
    } else {
        " If the trace unit sends a synchronous timestamp only for packets of one tick, these times are exact: set timestamp_dates_group = true (or --timestamp-dates-group)."
    };
    wrapped(&words).into_iter().try_for_each(|line| writeln!(out, "{line}"))?;
    Ok(())
}

/// The kinds of events: those that mean nothing yet are what the reader has to do.
fn events(report: &InspectReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if report.events.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let columns = [
        ("count", Align::Right),
        ("event", Align::Left),
        ("means", Align::Left),
        ("fields", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    let (came, never): (Vec<_>, Vec<_>) = report.events.iter().partition(|row| row.count > 0);
    for row in came.iter().take(MOST_KINDS) {
        let means = if row.means.is_empty() { "-".to_owned() } else { row.means.join(", ") };
        let (shown, left) = row.fields.split_at(row.fields.len().min(MOST_FIELDS));
        let more = if left.is_empty() { String::new() } else { format!(", {} more", left.len()) };
        let fields = format!("{}{more}", shown.join(", "));
        table.row([count(row.count), plain(&row.event).into(), means, plain(&fields).into()]);
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    let more = came.len().saturating_sub(MOST_KINDS);
    for (kinds, what) in [(more, "came less often"), (never.len(), "never came")] {
        if kinds > 0 {
            let noun = if kinds == 1 { "kind" } else { "kinds" };
            let line = format!("{kinds} more {noun} {what}; all of them: --format json");
            writeln!(out, "{}", paint.faint(&line))?;
        }
    }
    Ok(())
}

fn losses(report: &InspectReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if report.losses.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let columns = [("times", Align::Right), ("bytes", Align::Right), ("lost", Align::Left)];
    let mut table = Table::new(paint, &columns);
    for row in &report.losses {
        let bytes = if row.bytes == 0 { String::new() } else { count(row.bytes) };
        table.row([count(row.count), bytes, row.reason.clone()]);
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    let first: Vec<String> = report
        .loss_places
        .iter()
        .take(8)
        .map(|place| match place.until_byte - place.from_byte {
            0 => place.from_byte.to_string(),
            _ => format!("{}..{}", place.from_byte, place.until_byte),
        })
        .collect();
    writeln!(out, "{}", paint.faint(&format!("first at byte {}", first.join(", "))))?;
    Ok(())
}

/// Columns of the small chart.
const COLUMNS: usize = 64;

fn rate(report: &InspectReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let Some(duration) = &report.duration else { return Ok(()) };
    if report.rate.len() < 4 {
        return Ok(());
    }
    let joined = report.rate.len().div_ceil(COLUMNS);
    let columns: Vec<(u64, u64)> = report
        .rate
        .chunks(joined)
        .map(|rows| (rows.iter().map(|r| r.bytes).sum(), rows.iter().map(|r| r.overflows).sum()))
        .collect();
    let width = report.rate_width * joined as f64;
    // The last column is seldom whole; the less there is of it, the less its rate says.
    let last = (duration.ns - width * (columns.len() - 1) as f64).clamp(width * 0.5, width);
    let per_second = |(index, &(bytes, _)): (usize, &(u64, u64))| {
        let ns = if index + 1 == columns.len() { last } else { width };
        bytes as f64 / ns * 1e9
    };
    let rates: Vec<f64> = columns.iter().enumerate().map(per_second).collect();
    let most = rates.iter().copied().fold(0.0, f64::max);
    let chart: String = rates.iter().map(|rate| level(rate / most.max(1e-9))).collect();
    writeln!(out)?;
    writeln!(
        out,
        "bytes over time, highest {:.1} kB/s, {} a column",
        most / 1e3,
        duration_ns(width)
    )?;
    writeln!(out, " {}", paint.accent(&chart))?;
    if columns.iter().any(|&(_, overflows)| overflows > 0) {
        let marks: String =
            columns.iter().map(|&(_, overflows)| if overflows > 0 { 'o' } else { ' ' }).collect();
        writeln!(out, " {}  {}", paint.alarm(marks.trim_end()), paint.faint("o: overflow"))?;
    }
    Ok(())
}

fn image(report: &InspectReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let (Some(facts), Some(name)) = (&report.image, &look.image) else { return Ok(()) };
    writeln!(out)?;
    let lines = if facts.lines { "with source lines" } else { "without source lines" };
    let build = facts.build_id.as_deref().map_or("none", |id| &id[..id.len().min(12)]);
    writeln!(
        out,
        "image {}: {}, {} functions {lines}, build ID {build}",
        plain(name),
        facts.isa,
        count(facts.functions),
    )?;
    let agreement = &facts.agreement;
    let total = agreement.total();
    if total == 0 {
        return Ok(());
    }
    let seen = if report.samples > 0 { "awake samples" } else { "branch targets" };
    for (samples, what) in [
        (agreement.at_instruction, "at an instruction"),
        (agreement.in_unnamed_code, "in code without a symbol"),
        (agreement.inside_instruction, "inside an instruction"),
        (agreement.in_literal, "in data between instructions"),
        (agreement.outside, "outside the image"),
    ] {
        if samples > 0 || what == "at an instruction" {
            let part = 100.0 * samples as f64 / total as f64;
            writeln!(out, "{part:>7.2} % of the {seen} {what}")?;
        }
    }
    Ok(())
}

/// For spreadsheets: packets and bytes by kind.
pub(crate) fn csv(report: &InspectReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record(["kind", "packets", "bytes"])?;
    for row in &report.kinds {
        csv.write_record([
            cell(&row.kind).as_ref(),
            &row.packets.to_string(),
            &row.bytes.to_string(),
        ])?;
    }
    for row in &report.losses {
        csv.write_record([
            format!("lost: {}", row.reason),
            row.count.to_string(),
            row.bytes.to_string(),
        ])?;
    }
    csv.flush()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_wrap_between_words_and_lose_none() {
        let text = "The sampling period beats with SysTick: ".repeat(9);
        let lines = wrapped(text.trim());
        assert!(lines.len() > 2 && lines.iter().all(|line| line.chars().count() <= 96));
        assert_eq!(lines.join(" "), text.trim());
        assert_eq!(wrapped(""), [""]);
        let long = "x".repeat(200);
        assert_eq!(wrapped(&long).len(), 1, "a word is never cut");
    }
}

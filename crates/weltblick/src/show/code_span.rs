//! Faces of ways through the code, as an instruction trace tells them.

use super::evidence::{doubts, objections};
use super::moment::moment;
use super::statistic::{csv_cells, csv_columns, distribution, figure, spread as spread_of, stated};
use super::{Align, Paint, Table, cell, count, level, plain, shell};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::duration::Duration;
use weltblick_core::measure::execution::Numbers;
use weltblick_core::measure::span::{CodeCase, CodeLeg, CodeSpanReport, CodeTook};
use weltblick_core::measure::statistic::Statistic;

/// For people: figures of each leg, how they are spread, the first one and the longest with the place to look
/// at. `again` is the capture as a shell takes it, `stream` what the instruction trace is called.
pub(crate) fn text(
    report: &CodeSpanReport,
    [capture, again]: [&str; 2],
    stream: &str,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    head(report, capture, paint, out)?;
    figures(report, paint, out)?;
    spread(report, paint, out)?;
    let row = ("the whole way", report.evidence.objections.as_slice());
    objections(std::iter::once(row), &[], paint, out)?;
    cases(report, again, stream, paint, out)
}

fn head(report: &CodeSpanReport, capture: &str, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let way = report.points.join(" .. ");
    writeln!(out, "{}", paint.strong(&format!("{}: {}", plain(capture), plain(&way))))?;
    let times = report.total.instructions.map_or(0, |numbers| numbers.count);
    let across = if report.across { ", across threads and handlers" } else { "" };
    let how = match report.evidence.time.as_str() {
        "cycle_counts" => "by cycle counts",
        "timestamps" => "by timestamps",
        _ => "in instructions: this trace has no times",
    };
    let times = if times == 1 { "once".into() } else { format!("{} times", count(times)) };
    let inside = report.inside.iter().map(|name| format!(", inside {}", plain(name)));
    let exclude = report.exclude.iter().map(|name| format!(", not inside {}", plain(name)));
    let callers: String = inside.chain(exclude).collect();
    writeln!(out, "gone {times}{callers}, {how}{across}")?;
    if !callers.is_empty() {
        let elsewhere = count(report.evidence.elsewhere);
        writeln!(out, "begun {elsewhere} times elsewhere, which is left out")?;
    }
    if let Some(start_up) = &report.start_up {
        let instructions = count(start_up.instructions);
        let text = match &start_up.elapsed {
            Some(elapsed) => {
                format!(
                    "start-up: {} from reset to main, {instructions} instructions",
                    stated(elapsed)
                )
            }
            None => format!("start-up: {instructions} instructions from reset to main"),
        };
        writeln!(out, "{text}")?;
    }
    doubts(&[], &[], &report.evidence.doubts, paint, out)?;
    writeln!(out)?;
    Ok(())
}

/// Whether anything has a time.
fn is_timed(report: &CodeSpanReport) -> bool {
    report.total.elapsed.max.is_some()
}

fn figures(report: &CodeSpanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let timed = is_timed(report);
    let right = |name| (name, Align::Right);
    let mut columns = Vec::new();
    if timed {
        columns.extend(["elapsed max", "p95", "p50", "mean", "min", "own max", "mean"].map(right));
    }
    columns.extend([right("instr. max"), right("min"), ("from .. until", Align::Left)]);
    let mut table = Table::new(paint, &columns);
    let row = |leg: &CodeLeg| {
        let CodeLeg { from, until, elapsed, own, instructions } = leg;
        let mut cells = Vec::new();
        if timed {
            let Statistic { min, mean, p50, p95, max, .. } = elapsed;
            cells.extend([max, p95, p50, mean, min].map(|duration| figure(duration.as_ref())));
            cells.extend([&own.max, &own.mean].map(|duration| figure(duration.as_ref())));
        }
        let number = |of: fn(&Numbers) -> u64| {
            instructions.as_ref().map_or_else(String::new, |numbers| count(of(numbers)))
        };
        cells.extend([number(|numbers| numbers.max), number(|numbers| numbers.min)]);
        cells.push(format!("{} .. {}", plain(from), plain(until)));
        cells
    };
    let legs = report.legs.iter();
    // The first leg is the first running total.
    let running = report.running.iter().skip(1);
    for leg in legs.chain(running).chain([&report.total]) {
        table.row(row(leg));
    }
    table.write(out)?;
    if timed && report.total.elapsed.p95.is_none() {
        let text = "  p95 takes 20 occurrences: fewer say no more than the maximum";
        writeln!(out, "{}", paint.faint(text))?;
    }
    Ok(())
}

fn spread(report: &CodeSpanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if report.distribution.is_empty() {
        return Ok(());
    }
    if is_timed(report) {
        writeln!(out)?;
        let name = "the whole way";
        return distribution(
            name,
            &spread_of(&report.distribution, &report.total.elapsed),
            paint,
            out,
        );
    }
    let Some(numbers) = report.total.instructions.filter(|n| n.max > n.min) else {
        return Ok(());
    };
    let highest = report.distribution.iter().max().copied().unwrap_or(0).max(1);
    let bars: String =
        report.distribution.iter().map(|&n| level(n as f64 / highest as f64)).collect();
    let (min, max) = (count(numbers.min), count(numbers.max));
    let title = format!("the whole way from {min} to {max} instructions");
    writeln!(out, "\n{title}, up to {} in a column", count(highest))?;
    writeln!(out, " {}", paint.accent(bars.trim_end()))?;
    Ok(())
}

fn cases(
    report: &CodeSpanReport,
    again: &str,
    stream: &str,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let several = !report.legs.is_empty();
    let place = |case: &CodeCase| {
        format!("    -> weltblick flow {} --around {}@{}", again, shell(stream), case.from_byte)
    };
    let title = if is_timed(report) { "the longest" } else { "those with the most instructions" };
    writeln!(out, "\n{title}")?;
    for case in &report.worst {
        writeln!(out, "  {}", one(case))?;
        if several {
            let legs = case.legs.iter().zip(&report.legs);
            let legs = legs.map(|(took, leg)| format!("{} to {}", time(took), plain(&leg.until)));
            writeln!(out, "    {}", legs.collect::<Vec<_>>().join(", "))?;
        }
        writeln!(out, "{}", paint.faint(&place(case)))?;
    }
    if let Some(first) = &report.first {
        writeln!(out, "\nthe first")?;
        writeln!(out, "  {}", one(first))?;
    }
    Ok(())
}

/// How long it took, or how many instructions.
fn time(took: &CodeTook) -> String {
    match &took.elapsed {
        Some(elapsed) => stated(elapsed),
        None => format!("{} instructions", count(took.instructions)),
    }
}

fn one(case: &CodeCase) -> String {
    let CodeTook { elapsed, own, instructions } = &case.total;
    let mut parts = Vec::new();
    if elapsed.is_some() {
        parts.push(format!("{} instructions", count(*instructions)));
    }
    let interrupted = elapsed.as_ref().zip(own.as_ref());
    if let Some((elapsed, own)) = interrupted.filter(|(elapsed, own)| differ(elapsed, own)) {
        parts.push(format!("{} of its own", stated(own)));
        // What is certain of it.
        let least = elapsed.ns_low - own.ns_high.unwrap_or(f64::INFINITY);
        if least > 0.0 {
            parts.push(format!("interrupted for {} or more", super::duration_ns(least)));
        }
    }
    let at = case.began_ns.map_or_else(String::new, |ns| format!(" at {}", moment(ns)));
    let more = if parts.is_empty() { String::new() } else { format!(": {}", parts.join(", ")) };
    format!("{} #{}{at}{more}", time(&case.total), case.number)
}

fn differ(one: &Duration, other: &Duration) -> bool {
    (one.ns_low - other.ns_low).abs() > 0.5
        || one.ns_high.zip(other.ns_high).is_some_and(|(a, b)| (a - b).abs() > 0.5)
}

/// For spreadsheets: one row per leg, running totals behind them, the whole way last.
pub(crate) fn csv(report: &CodeSpanReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let mut heading = ["kind", "from", "until", "count"].map(str::to_owned).to_vec();
    heading.extend(csv_columns("elapsed"));
    heading.extend(csv_columns("own"));
    heading
        .extend(["instructions_min", "instructions_mean", "instructions_max"].map(str::to_owned));
    csv.write_record(heading)?;
    let legs = report.legs.iter().map(|leg| ("leg", leg));
    let running = report.running.iter().map(|leg| ("running", leg));
    for (kind, leg) in legs.chain(running).chain([("total", &report.total)]) {
        let numbers = leg.instructions;
        let mut record = vec![
            kind.to_owned(),
            cell(&leg.from).into_owned(),
            cell(&leg.until).into_owned(),
            numbers.map_or(0, |numbers| numbers.count).to_string(),
        ];
        record.extend(csv_cells(Some(&leg.elapsed)));
        record.extend(csv_cells(Some(&leg.own)));
        record.extend(match numbers {
            Some(numbers) => {
                [numbers.min.to_string(), numbers.mean.to_string(), numbers.max.to_string()]
            }
            None => Default::default(),
        });
        csv.write_record(record)?;
    }
    csv.flush()?;
    Ok(())
}

//! Faces of the figures of interrupts.

use super::evidence::{doubts, objections};
use super::moment::{self, moment};
use super::picture::Histograms;
use super::statistic::{
    Marks, bars, csv_heading, csv_often, csv_part, csv_tail, distribution, figure, max, mean,
    number, stated, table, wait_cells, wait_columns,
};
pub(crate) use super::timing::Look;
use super::timing::{Regular, look_closer, regularity, right, worst_heading};
use super::units::{is_narrow, part};
use super::{Align, Paint, Table, cell, count, duration_ns, plain, share};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::interrupts::{
    Case, Cause, CausePart, FigureName, InterruptReport, InterruptRow, RunRow,
};
use weltblick_core::measure::known::KnownBy;

/// For people: who is late, who runs long, who holds up whom, and why.
pub(crate) fn text(report: &InterruptReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    head(report, look, out)?;
    let mut marks = Marks::default();
    overview(report, look, &mut marks, out)?;
    let names: Vec<String> =
        report.interrupts.iter().map(|row| called(&row.name, row.core)).collect();
    if look.detailed {
        for row in &report.interrupts {
            details(row, &mut marks, look.paint, out)?;
        }
    } else {
        let rows = report.interrupts.iter().zip(&names).map(|(row, name)| Regular {
            name,
            period: &row.period,
            jitter: &row.jitter,
            missed: row.grid.as_ref().map(|grid| grid.missed),
        });
        regularity("from start to start", "interrupt", rows, &mut marks, look.paint, out)?;
    }
    let rows = report.interrupts.iter().zip(&names);
    let rows = rows.map(|(row, name)| (name.as_str(), row.objections.as_slice()));
    objections(rows, &report.evidence.objections, look.paint, out)?;
    preemptions(report, look, out)?;
    cases(report, look, out)
}

fn head(report: &InterruptReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let paint = look.paint;
    let runs: u64 = report.interrupts.iter().map(|row| row.often.count).sum();
    let names = report.interrupts.len();
    let title = format!(
        "{}: {names} {}, {} runs",
        plain(look.capture),
        if names == 1 { "interrupt" } else { "interrupts" },
        count(runs)
    );
    writeln!(out, "{}", paint.strong(&title))?;
    let duration = report
        .duration
        .map_or_else(String::new, |duration| format!("{} of trace, ", stated(&duration)));
    writeln!(
        out,
        "{duration}{} of the time in handlers, up to {} at once",
        in_handlers(report),
        report.deepest
    )?;
    let evidence = &report.evidence;
    doubts(&evidence.losses, &evidence.objections, &evidence.doubts, paint, out)?;
    writeln!(out)?;
    Ok(())
}

/// The part of the time in handlers: as it was seen, where their loads are known between bounds only.
fn in_handlers(report: &InterruptReport) -> String {
    let is_known = report.interrupts.iter().all(|row| is_narrow(&row.load));
    format!("{}{}", if is_known { "" } else { "~" }, share(report.load))
}

/// What an interrupt is called; of several cores with the one that took it.
fn called(name: &str, core: Option<u8>) -> String {
    let name = plain(name);
    core.map_or_else(|| name.clone().into_owned(), |core| format!("{name} (core {core})"))
}

fn basis(basis: Option<KnownBy>) -> &'static str {
    match basis {
        Some(KnownBy::Stated) => "stated",
        Some(KnownBy::Grid) => "grid",
        Some(KnownBy::Chained) => "chained",
        None => "",
    }
}

fn overview(
    report: &InterruptReport,
    look: &Look<'_>,
    marks: &mut Marks,
    out: &mut dyn Write,
) -> Result<()> {
    let name = ("interrupt", Align::Left);
    let columns = [
        right("response max"),
        right("pending max"),
        ("by", Align::Left),
        right("elapsed max"),
        right("mean"),
        right("own max"),
        right("load"),
        right("runs"),
    ];
    let has_priorities = report.interrupts.iter().any(|row| row.priority.is_some());
    let priority = has_priorities.then(|| right("prio"));
    let columns: Vec<_> = columns.into_iter().chain(priority).chain([name]).collect();
    let mut table = Table::new(look.paint, &columns);
    for row in &report.interrupts {
        let priority = row.priority.map_or_else(String::new, |priority| priority.to_string());
        let cells = [
            row.response.as_ref().map_or_else(String::new, max),
            row.pending.as_ref().map_or_else(String::new, max),
            basis(row.basis).to_owned(),
            max(&row.elapsed),
            mean(&row.elapsed),
            max(&row.own),
            part(&row.load),
            number(row.often),
        ];
        let priority = has_priorities.then_some(priority);
        let name = called(&row.name, row.core);
        table.row(cells.into_iter().chain(priority).chain([name]));
    }
    table.write(out)?;
    let waits = |row: &'_ InterruptRow| [row.response.clone(), row.pending.clone()];
    let shown: Vec<_> = report
        .interrupts
        .iter()
        .flat_map(|row| {
            waits(row).into_iter().flatten().chain([row.elapsed.clone(), row.own.clone()])
        })
        .filter_map(|statistic| statistic.max)
        .collect();
    marks.explain(shown.iter(), look.paint, out)?;
    for (used, text) in [
        (KnownBy::Stated, "stated: the firmware said when the hardware had asked"),
        (KnownBy::Grid, "grid: beyond what even the earliest starts of a periodic request waited"),
        (KnownBy::Chained, "chained: only runs that followed another handler; between two bounds"),
    ] {
        if report.interrupts.iter().any(|row| row.basis == Some(used)) {
            writeln!(out, "{}", look.paint.faint(&format!("  {text}")))?;
        }
    }
    Ok(())
}

fn details(row: &InterruptRow, marks: &mut Marks, paint: Paint, out: &mut dyn Write) -> Result<()> {
    writeln!(
        out,
        "\n{}",
        paint.strong(&format!("{} (exception {})", called(&row.name, row.core), row.exception))
    )?;
    writeln!(
        out,
        "{} runs, {:.1} a second; {} followed another handler, {} were interrupted; {} without a duration",
        number(row.often),
        row.often.rate,
        count(row.chained),
        count(row.preempted),
        count(row.cut),
    )?;
    if let Some(grid) = &row.grid {
        writeln!(
            out,
            "requested every {} ({:+.1} ppm from the first grid to the last), {} missed; {} runs lie on no grid",
            stated(&grid.period),
            grid.drift_ppm,
            count(grid.missed),
            count(grid.unfitted)
        )?;
    }
    let by = basis(row.basis);
    let rows = [
        (format!("response ({by})"), row.response.as_ref()),
        (format!("pending ({by})"), row.pending.as_ref()),
        ("elapsed".to_owned(), Some(&row.elapsed)),
        ("own".to_owned(), Some(&row.own)),
        ("period".to_owned(), Some(&row.period)),
        ("jitter".to_owned(), Some(&row.jitter)),
    ];
    table(&rows, marks, paint, out)?;
    distribution("elapsed", &row.distribution, paint, out)
}

/// How long each was pending, and ran, as a picture.
pub(crate) fn histograms(report: &InterruptReport) -> Histograms {
    let panels = report.interrupts.iter().flat_map(|row| {
        let elapsed = bars(
            &format!("{}: elapsed", called(&row.name, row.core)),
            &row.distribution,
            &row.elapsed,
        );
        let name = called(&row.name, row.core);
        let title = format!("{name}: pending ({})", basis(row.basis));
        let pending = row.pending.as_ref();
        let spread = row.pending_distribution.as_ref();
        let pending = pending.zip(spread).and_then(|(many, spread)| bars(&title, spread, many));
        [pending, elapsed].into_iter().flatten()
    });
    Histograms(panels.collect())
}

fn preemptions(report: &InterruptReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    if report.preemptions.is_empty() {
        return Ok(());
    }
    writeln!(out, "\nwho held up whom")?;
    let columns = [
        right("time"),
        right("interrupted"),
        right("followed"),
        ("which", Align::Left),
        ("over", Align::Left),
    ];
    let mut table = Table::new(look.paint, &columns);
    for row in &report.preemptions {
        table.row([
            stated(&row.duration),
            count(row.count),
            count(row.followed),
            called(&row.above, row.core),
            plain(&row.below).into_owned(),
        ]);
    }
    table.write(out)
}

fn cases(report: &InterruptReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    worst_heading(look, out)?;
    for row in &report.interrupts {
        let figures = [FigureName::Response, FigureName::Pending, FigureName::Elapsed];
        let first = row.worst.first().map(|case| case.figure);
        for figure in figures {
            // The response holds pending and elapsed; with detail each is shown.
            if !look.detailed && Some(figure) != first {
                continue;
            }
            for case in row.worst.iter().filter(|case| case.figure == figure) {
                self::case(row, case, look, out)?;
            }
        }
    }
    Ok(())
}

fn case(row: &InterruptRow, case: &Case, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let figure = match case.figure {
        FigureName::Elapsed => "elapsed",
        FigureName::Pending => "pending",
        FigureName::Response => "response",
    };
    let start = case.requested_ns.unwrap_or(case.began_ns);
    let name = called(&row.name, row.core);
    writeln!(
        out,
        "  {} {figure} of {name} #{} at {}",
        look.paint.strong(&stated(&case.duration)),
        case.number,
        moment(start),
    )?;
    moment::parts(&parts(&case.parts), out)?;
    look_closer(look, start, case.ended_ns, out)
}

fn parts(parts: &[CausePart]) -> Vec<String> {
    let part = |part: &CausePart| {
        let who = part.interrupt.as_deref().map(plain).unwrap_or_default();
        let times = if part.times > 1 { format!(" ({} x)", part.times) } else { String::new() };
        let length = duration_ns(part.duration.ns);
        match part.cause {
            Cause::Own => format!("{length} own"),
            Cause::Preempted => format!("{length} interrupted by {who}{times}"),
            Cause::Behind => format!("{length} behind {who}{times}"),
            Cause::Masked => format!("{length} masked while {who} ran{times}"),
            Cause::Switching => format!("{length} entering and leaving"),
        }
    };
    parts.iter().map(part).collect()
}

/// Every run, for people.
pub(crate) fn each(rows: &[RunRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    let columns = [
        right("began"),
        right("response"),
        right("pending"),
        right("elapsed"),
        ("interrupt", Align::Left),
        right("number"),
        ("what the time went to", Align::Left),
    ];
    // A part at a time, so that a long list takes little memory in its text form.
    for part in rows.chunks(4096) {
        let mut table = Table::new(paint, &columns);
        for row in part {
            table.row([
                moment(row.began_ns),
                figure(row.response.as_ref()),
                figure(row.pending.as_ref()),
                stated(&row.elapsed),
                called(&row.interrupt, row.core),
                format!("#{}", row.number),
                parts(&row.parts).join(", "),
            ]);
        }
        table.write(out)?;
    }
    Ok(())
}

/// Every run, for spreadsheets.
pub(crate) fn each_csv(rows: &[RunRow], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let heading = ["interrupt", "number", "requested_ns", "began_ns", "ended_ns"].map(String::from);
    csv.write_record(
        heading.into_iter().chain(wait_columns()).chain(["parts".into(), "core".into()]),
    )?;
    for row in rows {
        let who = [
            cell(&row.interrupt).into_owned(),
            row.number.to_string(),
            row.requested_ns.map_or_else(String::new, |ns| ns.to_string()),
            row.began_ns.to_string(),
            row.ended_ns.to_string(),
        ];
        let waits = wait_cells(row.pending, row.elapsed, row.response);
        let others = parts(&row.parts).join(", ");
        let core = row.core.map_or_else(String::new, |core| core.to_string());
        csv.write_record(who.into_iter().chain(waits).chain([others, core]))?;
    }
    csv.flush()?;
    Ok(())
}

/// For spreadsheets: one row per interrupt.
pub(crate) fn csv(report: &InterruptReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let names = [
        "exception",
        "name",
        "count",
        "count_high",
        "rate",
        "rate_low",
        "rate_high",
        "load",
        "load_low",
        "load_high",
        "cut",
        "chained",
        "preempted",
        "depth",
        "basis",
        "core",
    ];
    let statistics = ["own", "elapsed", "pending", "response", "period", "jitter"];
    csv.write_record(csv_heading(&names, &statistics))?;
    for row in &report.interrupts {
        let mut record = vec![row.exception.to_string(), cell(&row.name).into_owned()];
        record.extend(csv_often(row.often));
        record.extend(csv_part(Some(row.load)));
        record.extend([
            row.cut.to_string(),
            row.chained.to_string(),
            row.preempted.to_string(),
            row.depth.to_string(),
            basis(row.basis).to_owned(),
            row.core.map_or_else(String::new, |core| core.to_string()),
        ]);
        let statistics = [Some(&row.own), Some(&row.elapsed), row.pending.as_ref()];
        let rest = [row.response.as_ref(), Some(&row.period), Some(&row.jitter)];
        record.extend(csv_tail(statistics.into_iter().chain(rest), &row.objections));
        csv.write_record(&record)?;
    }
    csv.flush()?;
    Ok(())
}

//! Faces of spans that the firmware states.

use super::evidence::{doubts, objections};
use super::moment::moment;
use super::statistic::{
    Marks, csv_heading, csv_often, csv_tail, distribution, number, stated, table,
};
pub(crate) use super::timing::Look;
use super::timing::{Regular, look_closer, regularity};
use super::{cell, plain};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::span::StatedReport;

/// For people: the longest first, how regular, how they are spread if they are named, and when.
pub(crate) fn text(report: &StatedReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let (paint, detailed) = (look.paint, look.detailed);
    let names = report.spans.len();
    let noun = if names == 1 { "span" } else { "spans" };
    let title = match report.evidence.basis.as_str() {
        "events" => format!("{}: from one mark to the next, each time", plain(look.capture)),
        _ => format!("{}: {names} {noun} that the firmware states", plain(look.capture)),
    };
    writeln!(out, "{}", paint.strong(&title))?;
    if let Some(duration) = &report.duration {
        writeln!(out, "{} of trace", stated(duration))?;
    }
    let evidence = &report.evidence;
    doubts(&evidence.losses, &evidence.objections, &evidence.doubts, paint, out)?;
    writeln!(out)?;
    let elapsed = report.spans.iter().map(|span| {
        let times = format!("{} ({} times)", plain(&span.name), number(span.often));
        (times, Some(&span.elapsed))
    });
    let mut marks = Marks::default();
    table(&elapsed.collect::<Vec<_>>(), &mut marks, paint, out)?;
    for span in report.spans.iter().filter(|_| detailed) {
        writeln!(out)?;
        distribution(&plain(&span.name), &span.distribution, paint, out)?;
    }
    let rows = report.spans.iter().map(|span| Regular {
        name: &span.name,
        period: &span.period,
        jitter: &span.jitter,
        missed: None,
    });
    regularity("from begin to begin", "span", rows, &mut marks, paint, out)?;
    let rows = report.spans.iter().map(|span| (span.name.as_str(), span.objections.as_slice()));
    objections(rows, &evidence.objections, paint, out)?;
    writeln!(out, "\nthe longest of each")?;
    for span in &report.spans {
        let shown = if detailed { span.worst.len() } else { 1 };
        for case in span.worst.iter().take(shown) {
            let (took, when) = (stated(&case.elapsed), moment(case.began_ns));
            writeln!(out, "  {took} {} #{} at {when}", plain(&span.name), case.number)?;
            look_closer(look, case.began_ns, case.ended_ns, out)?;
        }
    }
    Ok(())
}

/// For spreadsheets: one row per span.
pub(crate) fn csv(report: &StatedReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let names =
        ["id", "name", "count", "count_high", "rate", "rate_low", "rate_high", "cut", "unfinished"];
    csv.write_record(csv_heading(&names, &["elapsed", "period", "jitter"]))?;
    for span in &report.spans {
        let mut record = vec![span.id.to_string(), cell(&span.name).into_owned()];
        record.extend(csv_often(span.often));
        record.extend([span.cut, span.unfinished].map(|number| number.to_string()));
        let statistics = [&span.elapsed, &span.period, &span.jitter].map(Some);
        record.extend(csv_tail(statistics, &span.objections));
        csv.write_record(record)?;
    }
    csv.flush()?;
    Ok(())
}

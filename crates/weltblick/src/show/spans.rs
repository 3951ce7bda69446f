//! Faces of spans that the firmware states.

use super::evidence::doubts;
use super::moment::moment;
use super::statistic::{csv_cells, csv_columns, distribution, stated, table};
pub(crate) use super::timing::Look;
use super::timing::{Regular, look_closer, regularity};
use super::{cell, count, plain};
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
    doubts(&report.evidence.losses, &report.evidence.doubts, paint, out)?;
    writeln!(out)?;
    let elapsed = report.spans.iter().map(|span| {
        let times = format!("{} ({} times)", plain(&span.name), count(span.count));
        (times, Some(&span.elapsed))
    });
    table(&elapsed.collect::<Vec<_>>(), paint, out)?;
    for span in report.spans.iter().filter(|_| detailed) {
        writeln!(out)?;
        distribution(&plain(&span.name), &span.distribution, &span.elapsed, paint, out)?;
    }
    let rows = report.spans.iter().map(|span| Regular {
        name: &span.name,
        period: &span.period,
        jitter: &span.jitter,
        missed: None,
    });
    regularity("from begin to begin", "span", rows, paint, out)?;
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
    let mut heading = ["number", "name", "count", "cut", "unfinished"].map(str::to_owned).to_vec();
    for name in ["elapsed", "period", "jitter"] {
        heading.extend(csv_columns(name));
    }
    csv.write_record(heading)?;
    for span in &report.spans {
        let mut record = vec![span.number.to_string(), cell(&span.name).into_owned()];
        record.extend([span.count, span.cut, span.unfinished].map(|number| number.to_string()));
        for statistic in [&span.elapsed, &span.period, &span.jitter] {
            record.extend(csv_cells(Some(statistic)));
        }
        csv.write_record(record)?;
    }
    csv.flush()?;
    Ok(())
}

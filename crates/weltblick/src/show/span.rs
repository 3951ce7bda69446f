//! Faces of a span.

use super::evidence::doubts;
use super::statistic::{csv_cells, csv_columns, distribution, figure, spread, stated};
use super::{Align, Paint, Table, cell, count, duration_ns, plain};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::span::{Leg, SpanReport};
use weltblick_core::measure::statistic::Statistic;

/// For people: figures with the worst first, how they are spread, the longest one by one.
pub(crate) fn text(
    report: &SpanReport,
    capture: &str,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    head(report, capture, paint, out)?;
    figures(report, paint, out)?;
    if !report.distribution.is_empty() {
        writeln!(out)?;
        let drawn = spread(&report.distribution, &report.total.elapsed);
        distribution("the whole way", &drawn, paint, out)?;
    }
    worst(report, paint, out)
}

fn head(report: &SpanReport, capture: &str, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let way = report.points.join(" .. ");
    writeln!(out, "{}", paint.strong(&format!("{}: {}", plain(capture), plain(&way))))?;
    let how = match (report.evidence.basis.as_str(), report.core_clock_hz) {
        ("lap_cycles", Some(hertz)) => {
            format!("by the core's cycle counter at {} MHz", hertz / 1e6)
        }
        _ => "by the host's clock".to_owned(),
    };
    writeln!(out, "passed {} times, {how}", count(report.total.elapsed.count))?;
    doubts(&[], &[], &report.evidence.doubts, paint, out)?;
    writeln!(out)?;
    Ok(())
}

fn figures(report: &SpanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let right = |name| (name, Align::Right);
    let columns = [
        right("max"),
        right("cycles"),
        right("p99"),
        right("p95"),
        right("p50"),
        right("mean"),
        right("min"),
        right("stddev"),
        ("from .. until", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    let legs = report.legs.iter().chain([&report.total]);
    for Leg { from, until, elapsed } in legs {
        let Statistic { min, mean, p50, p95, p99, max, stddev, .. } = elapsed;
        let cycles = max.and_then(|max| max.cycles).map_or_else(String::new, count);
        let mut cells = vec![figure(max.as_ref()), cycles];
        cells.extend([p99, p95, p50, mean, min, stddev].map(|d| figure(d.as_ref())));
        cells.push(format!("{} .. {}", plain(from), plain(until)));
        table.row(cells);
    }
    table.write(out)?;
    if report.total.elapsed.p99.is_none() {
        let text = "  p95 takes 20 occurrences, p99 takes 100: fewer say no more than the maximum";
        writeln!(out, "{}", paint.faint(text))?;
    }
    Ok(())
}

fn worst(report: &SpanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    writeln!(out)?;
    writeln!(out, "the longest")?;
    let mut columns = vec![("elapsed", Align::Right), ("cycles", Align::Right)];
    columns.extend(report.legs.iter().map(|leg| (leg.until.as_str(), Align::Right)));
    columns.extend([("number", Align::Right), ("after the start", Align::Right)]);
    // Names come from the user and the image.
    let columns: Vec<(String, Align)> =
        columns.into_iter().map(|(name, align)| (plain(name).into_owned(), align)).collect();
    let columns: Vec<(&str, Align)> = columns.iter().map(|(name, a)| (name.as_str(), *a)).collect();
    let mut table = Table::new(paint, &columns);
    for row in &report.worst {
        let mut cells =
            vec![stated(&row.elapsed), row.elapsed.cycles.map_or_else(String::new, count)];
        if !report.legs.is_empty() {
            cells.extend(row.legs.iter().map(stated));
        }
        cells.push(format!("#{}", row.number));
        cells.push(row.host_ns.map_or_else(String::new, |ns| duration_ns(ns as f64)));
        table.row(cells);
    }
    table.write(out)?;
    Ok(())
}

/// For spreadsheets: one row per leg, the whole way last.
pub(crate) fn csv(report: &SpanReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let mut heading = ["from", "until", "count"].map(str::to_owned).to_vec();
    heading.extend(csv_columns("elapsed"));
    csv.write_record(heading)?;
    for Leg { from, until, elapsed } in report.legs.iter().chain([&report.total]) {
        let mut record =
            vec![cell(from).into_owned(), cell(until).into_owned(), elapsed.count.to_string()];
        record.extend(csv_cells(Some(elapsed)));
        csv.write_record(record)?;
    }
    csv.flush()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use weltblick_core::measure::span::{Context, Passage, Passages, Way, report};
    use weltblick_core::time::Window;

    #[test]
    fn names_steer_neither_terminal_nor_spreadsheet() {
        use weltblick_core::event::{Event, Origin, Position, Sink as _};
        let mut passages = Passages::new(vec![0, 1], Way::new(2, None, 5));
        for (lap, at) in [(0, 1000), (1, 3000)] {
            let position = Position::new(Origin(0), 0, Some(Window::exact(at)));
            passages.event(position, &Event::Lap { lap, cycles: None });
        }
        let first = passages.way.worst[0].from;
        assert_eq!(first, Passage { cycles: None, time: Some(Window::exact(1000)), offset: 0 });
        let points = ["=cmd()".to_owned(), "\u{1b}[31mred".to_owned()];
        let report = report(&passages.way, &Context { points: &points, clock: None });
        let (mut screen, mut sheet) = (Vec::new(), Vec::new());
        text(&report, "run", Paint::new(crate::cli::Color::Never), &mut screen).unwrap();
        csv(&report, &mut sheet).unwrap();
        let (screen, sheet) =
            (String::from_utf8(screen).unwrap(), String::from_utf8(sheet).unwrap());
        assert!(!screen.contains('\u{1b}') && screen.contains("\\u{1b}[31mred"), "{screen}");
        assert!(!sheet.lines().any(|line| line.starts_with('=')), "{sheet}");
    }
}

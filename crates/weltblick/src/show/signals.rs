//! Faces of values over time.

use super::course::{Plot, Stroke, USUAL, plot};
use super::evidence::{doubts, objections};
use super::moment::moment;
use super::picture::{Course, Curve, Waveform};
use super::statistic::{Marks, csv_cells, csv_columns, figure, table};
use super::units::part;
use super::{Align, Number, Paint, Table, cell, count, duration_ns, level, plain, shell};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::counters::CounterRow;
use weltblick_core::measure::losses::GapRow;
use weltblick_core::measure::signals::{
    ChartRow, LevelRow, MomentRow, PlaceRow, RateRow, ReadingRow, SignalReport, SignalRow,
    ThresholdRow, ValueRow,
};

/// Cells of a course in the overview.
const CELLS: usize = 24;
/// Names longer than this are cut in the overview.
const LONGEST_NAME: usize = 32;

/// How to show it.
pub(crate) struct Look<'a> {
    pub(crate) paint: Paint,
    pub(crate) capture: &'a str,
    /// It, and the options that it was read with, as a shell takes them.
    pub(crate) again: &'a str,
    pub(crate) detailed: bool,
}

/// For people.
pub(crate) fn text(report: &SignalReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let paint = look.paint;
    let signals = report.signals.len();
    let values: u64 = report.signals.iter().map(|row| row.count).sum();
    let noun = if signals == 1 { "signal" } else { "signals" };
    let title = format!("{}: {signals} {noun}, {} values", plain(look.capture), count(values));
    writeln!(out, "{}", paint.strong(&title))?;
    let evidence = &report.evidence;
    doubts(&evidence.losses, &evidence.objections, &evidence.doubts, paint, out)?;
    writeln!(out)?;
    if !look.detailed {
        overview(report, paint, out)?;
        counters(&report.counters, paint, out)?;
        against(report, paint, out)?;
        writeln!(out)?;
        let line = format!(
            "-> weltblick signals {} {}   shows one in detail",
            look.again,
            report.signals.first().map_or_else(String::new, |row| shell(&row.name)),
        );
        writeln!(out, "{}", paint.faint(&line))?;
        return Ok(());
    }
    for (number, row) in report.signals.iter().enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        detail(row, &report.gaps, look, out)?;
    }
    against(report, paint, out)
}

/// What speaks against figures of single signals.
fn against(report: &SignalReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let rows = report.signals.iter().map(|row| (row.name.as_str(), row.objections.as_slice()));
    objections(rows, &report.evidence.objections, paint, out)
}

fn overview(report: &SignalReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let right = |name| (name, Align::Right);
    let columns = [
        right("last"),
        right("min"),
        right("mean"),
        right("max"),
        ("unit", Align::Left),
        right("interval max"),
        right("mean"),
        right("count"),
        ("course", Align::Left),
        ("signal", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    for row in &report.signals {
        let value = row.value.as_ref();
        table.row([
            value.map_or_else(String::new, |value| last(&value.last)),
            value.map_or_else(String::new, least),
            value.map_or_else(String::new, mean),
            value.map_or_else(String::new, most),
            row.unit.as_deref().map_or_else(String::new, |unit| plain(unit).into_owned()),
            figure(row.interval.max.as_ref()),
            row.interval.mean.map_or_else(String::new, |mean| duration_ns(mean.ns)),
            count(row.count),
            paint.accent(&course(row)),
            name(row),
        ]);
    }
    table.write(out)
}

/// What counters of the debug block have counted.
fn counters(rows: &[CounterRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    if rows.is_empty() {
        return Ok(());
    }
    let right = |name| (name, Align::Right);
    let columns = [
        right("wraps"),
        right("events"),
        right("a second"),
        right("share"),
        ("counter", Align::Left),
        ("counts", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    for row in rows {
        let events = match (row.events, row.events_low, row.events_high) {
            (Some(events), Some(low), Some(high)) if high - events == events - low.min(events) => {
                format!("{} +-{}", count(events), high - events)
            }
            (Some(_), Some(low), Some(high)) => format!("{}..{}", count(low), count(high)),
            (_, Some(low), None) => format!(">= {}", count(low)),
            _ => String::new(),
        };
        table.row([
            count(row.wraps),
            events,
            rate(row),
            row.share.as_ref().map_or_else(String::new, part),
            row.counter.clone(),
            row.counts.clone(),
        ]);
    }
    writeln!(out)?;
    table.write(out)
}

/// How often a second; as it was seen, where nothing bounds what is missing.
fn rate(row: &CounterRow) -> String {
    let Some(rate) = row.rate else { return String::new() };
    let is_open = row.rate_high.is_none_or(|high| high > 2.0 * rate);
    format!("{}{}", if is_open { "~" } else { "" }, count(rate.round() as u64))
}

/// The least value that was seen, and whether there may have been a lesser one.
pub(super) fn least(value: &ValueRow) -> String {
    let mark = if value.min_low.is_none() { "<= " } else { "" };
    format!("{mark}{}", Number(value.min.value))
}

/// The largest value that was seen, and whether there may have been a larger one.
pub(super) fn most(value: &ValueRow) -> String {
    let mark = if value.max_high.is_none() { ">= " } else { "" };
    format!("{mark}{}", Number(value.max.value))
}

/// The mean over time, where there are times: as it was seen, if nothing bounds the true one.
fn mean(value: &ValueRow) -> String {
    let Some(over_time) = value.mean_over_time else { return Number(value.mean).to_string() };
    let is_bounded = value.mean_over_time_low.is_some() && value.mean_over_time_high.is_some();
    format!("{}{}", if is_bounded { "" } else { "~" }, Number(over_time))
}

/// A value, or what it is called.
fn last(moment: &MomentRow) -> String {
    match &moment.label {
        Some(label) => plain(label).into_owned(),
        None => Number(moment.value).to_string(),
    }
}

/// A name, and which accesses of it.
fn name(row: &SignalRow) -> String {
    let name = plain(&row.name);
    let short: String = match name.char_indices().nth(LONGEST_NAME) {
        Some((end, _)) => format!("{}...", &name[..end]),
        None => name.into_owned(),
    };
    match row.shows.as_deref() {
        Some(shows) => format!("{short} ({shows})"),
        None => short,
    }
}

/// A course in one line: the largest value of each part of the time.
fn course(row: &SignalRow) -> String {
    let Some((low, high)) = row.value.as_ref().map(|v| (v.min.value, v.max.value)) else {
        return String::new();
    };
    let (Some(first), Some(end)) = (row.course.first(), row.course.last()) else {
        return String::new();
    };
    let mut cells: Vec<Option<f64>> = vec![None; CELLS];
    let width = (end.at - first.at).max(f64::MIN_POSITIVE);
    for part in &row.course {
        let at = ((part.at - first.at) / width * (CELLS - 1) as f64).round() as usize;
        let slot = &mut cells[at.min(CELLS - 1)];
        *slot = Some(slot.map_or(part.max, |max| max.max(part.max)));
    }
    let height = |value: f64| if high > low { (value - low) / (high - low) } else { 0.5 };
    let mut held = None;
    let drawn = cells.into_iter().map(|value| {
        held = value.or(held);
        // The smallest value is still something.
        held.map_or(' ', |value| level(height(value).max(0.01)))
    });
    drawn.collect()
}

fn detail(row: &SignalRow, gaps: &[GapRow], look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let paint = look.paint;
    let access = row.access.as_deref().map_or_else(String::new, |access| format!(", {access}s"));
    let unit = row.unit.as_deref().map_or_else(String::new, |unit| format!(" in {}", plain(unit)));
    let rate = row.rate.map_or_else(String::new, |rate| format!(", {rate:.1} per second"));
    let title = format!("{}{unit}", plain(&row.name));
    writeln!(
        out,
        "{} {}",
        paint.strong(&title),
        paint.faint(&format!("{}{access}, {}{rate}", row.source, count(row.count)))
    )?;
    if row.elements.is_empty() {
        chart(row, gaps, paint, out)?;
    } else {
        array(row, paint, out)?;
    }
    values(row, paint, out)?;
    if row.interval.max.is_some() {
        let rows = [
            ("from one to the next".to_owned(), Some(&row.interval)),
            ("jitter of that".to_owned(), Some(&row.jitter)),
        ];
        table(&rows, &mut Marks::default(), paint, out)?;
    }
    levels(&row.levels, paint, out)?;
    thresholds(&row.thresholds, out)?;
    places(&row.places, paint, out)
}

fn chart(row: &SignalRow, gaps: &[GapRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    let (strokes, gaps) = (strokes(row), gaps_of(row, gaps));
    let by_number = undated(row);
    plot(&Plot { strokes: &strokes, gaps: &gaps, by_number, middle: "", size: USUAL }, paint, out)
}

/// The course of a signal, to be drawn.
pub(super) fn strokes(row: &SignalRow) -> Vec<Stroke> {
    let stroke = |part: &ChartRow| {
        let &ChartRow { at, first, min, max, last, .. } = part;
        Stroke { at, first, min, max, last }
    };
    row.course.iter().map(stroke).collect()
}

pub(super) fn undated(row: &SignalRow) -> bool {
    row.value.as_ref().is_some_and(|value| value.last.time_ns.is_none())
}

/// Gaps are in the trace's time: they say nothing of what the host dates.
pub(super) fn gaps_of(row: &SignalRow, gaps: &[GapRow]) -> Vec<(f64, f64)> {
    let shown = gaps.iter().filter(|_| !row.host_times && !undated(row));
    shown.map(|gap| (gap.from_ns, gap.until_ns)).collect()
}

/// An array as a waveform over its index.
fn array(row: &SignalRow, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let stroke = |element: &weltblick_core::measure::signals::ElementRow| {
        let value = element.value;
        Stroke { at: element.index as f64, first: value, min: value, max: value, last: value }
    };
    let strokes: Vec<Stroke> = row.elements.iter().map(stroke).collect();
    let newest = row.elements.iter().filter_map(|element| element.time_ns).reduce(f64::max);
    let oldest = row.elements.iter().filter_map(|element| element.time_ns).reduce(f64::min);
    let middle = match oldest.zip(newest) {
        Some((old, new)) if old == new => format!("as of {}", moment(new)),
        Some((old, new)) => format!("as of {} (oldest {})", moment(new), moment(old)),
        None => String::new(),
    };
    let whole =
        Plot { strokes: &strokes, gaps: &[], by_number: true, middle: &middle, size: USUAL };
    plot(&whole, paint, out)
}

fn values(row: &SignalRow, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let Some(value) = &row.value else {
        writeln!(out, "{}", paint.faint("no value was traced, only that it was accessed"))?;
        return Ok(());
    };
    let unit = row.unit.as_deref().map_or_else(String::new, |unit| format!(" {}", plain(unit)));
    let at = |ns: Option<f64>| ns.map_or_else(String::new, |ns| format!("at {}", moment(ns)));
    let plainly = |number: f64| format!("{}{unit}", Number(number));
    let mut table = Table::new(
        paint,
        &[("", Align::Left), ("value", Align::Right), ("", Align::Left), ("when", Align::Left)],
    );
    let mut line = |name: &str, number: String, label: Option<&str>, when: String| {
        let label = label.map_or_else(String::new, |label| plain(label).into_owned());
        table.row([name.to_owned(), number, label, when]);
    };
    let MomentRow { value: number, time_ns, label } = &value.max;
    let mark = if value.max_high.is_none() { ">= " } else { "" };
    line("max", format!("{mark}{}", plainly(*number)), label.as_deref(), at(*time_ns));
    let MomentRow { value: number, time_ns, label } = &value.min;
    let mark = if value.min_low.is_none() { "<= " } else { "" };
    line("min", format!("{mark}{}", plainly(*number)), label.as_deref(), at(*time_ns));
    line("mean", plainly(value.mean), None, String::new());
    let is_known = value.mean_over_time_low.is_some() && value.mean_over_time_high.is_some();
    let mark = if is_known { "" } else { "~" };
    if let Some(mean) = value.mean_over_time {
        line("mean over time", format!("{mark}{}", plainly(mean)), None, String::new());
    }
    if let Some(deviation) = value.stddev {
        line("stddev", format!("{mark}{}", plainly(deviation)), None, String::new());
    }
    for (name, step) in [("largest step up", &value.rise), ("largest step down", &value.fall)] {
        if let Some(step) = step {
            line(name, plainly(step.value), None, at(step.time_ns));
        }
    }
    for (name, rate) in [("fastest up", &value.rise_rate), ("fastest down", &value.fall_rate)] {
        if let Some(RateRow { per_second, time_ns }) = rate {
            line(name, format!("{}/s", plainly(*per_second)), None, at(*time_ns));
        }
    }
    let MomentRow { value: number, time_ns, label } = &value.last;
    line("last", plainly(*number), label.as_deref(), at(*time_ns));
    table.write(out)?;
    if value.not_finite > 0 {
        let note = format!("! {} values are no numbers (NaN, infinite)", count(value.not_finite));
        writeln!(out, "{}", paint.alarm(&note))?;
    }
    Ok(())
}

/// Values with names always, others if there are no more than a few.
fn levels(levels: &[LevelRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    const FEW: usize = 8;
    let named = levels.iter().any(|level| level.label.is_some());
    if levels.len() < 2 || (levels.len() > FEW && !named) {
        return Ok(());
    }
    let right = |name| (name, Align::Right);
    let columns = [right("held for"), right("count"), right("value"), ("", Align::Left)];
    let mut table = Table::new(paint, &columns);
    for level in levels {
        table.row([
            figure(level.held.as_ref()),
            count(level.count),
            Number(level.value).to_string(),
            level.label.as_deref().map_or_else(String::new, |label| plain(label).into_owned()),
        ]);
    }
    table.write(out)
}

fn thresholds(rows: &[ThresholdRow], out: &mut dyn Write) -> Result<()> {
    for row in rows {
        let mut parts =
            vec![format!("rose {} x above {}, fell {} x", row.up, Number(row.level), row.down)];
        if let Some(above) = &row.above {
            parts.push(format!("{} above", super::statistic::stated(above)));
        }
        if let (Some(longest), Some(at)) = (&row.longest, row.longest_ns) {
            let longest = super::statistic::stated(longest);
            parts.push(format!("at longest {longest} from {}", moment(at)));
        }
        if row.unseen > 0 {
            parts.push(format!("{} x on the other side after a gap", row.unseen));
        }
        writeln!(out, "{}", parts.join(", "))?;
    }
    Ok(())
}

fn places(rows: &[PlaceRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    if rows.is_empty() {
        return Ok(());
    }
    let mut table = Table::new(paint, &[("count", Align::Right), ("accessed by", Align::Left)]);
    for row in rows {
        table.row([count(row.count), place(row)]);
    }
    table.write(out)
}

fn place(row: &PlaceRow) -> String {
    let function = row.function.as_deref().unwrap_or("[outside the image]");
    let line = match (&row.file, row.line) {
        (Some(file), Some(line)) => format!(" {file}:{line}"),
        _ => String::new(),
    };
    plain(&format!("{} {function}{line}", row.address)).into_owned()
}

/// What of a report is drawn as curves.
pub(crate) fn curves(report: &SignalReport, title: &str, right: &dyn Fn(&str) -> bool) -> Course {
    let drawn: Vec<&SignalRow> =
        report.signals.iter().filter(|row| !row.course.is_empty()).collect();
    let gaps: Vec<(f64, f64)> = drawn.first().map_or_else(Vec::new, |row| {
        let (start, end) = (row.course[0].at, row.course[row.course.len() - 1].at);
        gaps_of(row, &report.gaps).into_iter().filter(|g| g.1 >= start && g.0 <= end).collect()
    });
    let curve = |row: &&SignalRow| {
        let mut pieces: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
        let mut before: Option<f64> = None;
        for part in &row.course {
            let apart = |since: f64| gaps.iter().any(|gap| gap.1 > since && gap.0 < part.at);
            if before.is_some_and(apart) {
                pieces.push(Vec::new());
            }
            before = Some(part.at);
            let points = [part.first, part.min, part.max, part.last].map(|v| (part.at, v));
            if let Some(piece) = pieces.last_mut() {
                piece.extend(points);
                piece.dedup();
            }
        }
        let unit = row.unit.as_deref().map_or_else(String::new, |unit| format!(" ({unit})"));
        Curve { name: format!("{}{unit}", name(row)), pieces, right: right(&row.name) }
    };
    Course {
        title: title.to_owned(),
        curves: drawn.iter().map(curve).collect(),
        by_number: drawn.iter().all(|row| undated(row)),
        gaps,
    }
}

/// An array as a picture.
pub(crate) fn waveform(row: &SignalRow, title: &str) -> Waveform {
    let newest = row.elements.iter().filter_map(|element| element.time_ns).reduce(f64::max);
    let when = newest.map_or_else(String::new, |ns| format!(" as of {}", moment(ns)));
    Waveform {
        title: format!("{title}: {}{when}", row.name),
        elements: row.elements.iter().map(|element| (element.index, element.value)).collect(),
    }
}

/// For spreadsheets.
pub(crate) fn csv(report: &SignalReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let mut head: Vec<String> = ["name", "source", "access", "unit", "count", "rate"]
        .into_iter()
        .chain(["value_last", "value_min", "value_mean", "value_max", "value_stddev"])
        .map(str::to_owned)
        .collect();
    head.extend(csv_columns("interval").chain(csv_columns("jitter")));
    csv.write_record(head)?;
    for row in &report.signals {
        let value = row.value.as_ref();
        let number = |of: Option<f64>| of.map_or_else(String::new, |value| value.to_string());
        let text = |of: Option<&str>| of.map_or_else(String::new, |text| cell(text).into_owned());
        let mut record = vec![
            cell(&row.name).into_owned(),
            row.source.clone(),
            text(row.access.as_deref()),
            text(row.unit.as_deref()),
            row.count.to_string(),
            number(row.rate),
            number(value.map(|value| value.last.value)),
            number(value.map(|value| value.min.value)),
            number(value.map(|value| value.mean)),
            number(value.map(|value| value.max.value)),
            number(value.and_then(|value| value.stddev)),
        ];
        record.extend(csv_cells(Some(&row.interval)).chain(csv_cells(Some(&row.jitter))));
        csv.write_record(record)?;
    }
    csv.flush()?;
    Ok(())
}

/// Every access, for people.
pub(crate) fn each(rows: &[ReadingRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    let right = |name| (name, Align::Right);
    let columns = [
        right("time"),
        right("value"),
        ("", Align::Left),
        ("signal", Align::Left),
        ("", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    for row in rows {
        let value = row.value.map_or_else(String::new, |value| Number(value).to_string());
        let tail = row.label.as_deref().or(row.unit.as_deref()).unwrap_or_default();
        let element = row.element.map_or_else(String::new, |index| format!("[{index}]"));
        let access = row.access.as_deref().map_or_else(String::new, |text| format!(" ({text})"));
        table.row([
            row.time_ns.map_or_else(String::new, moment),
            value,
            plain(tail).into_owned(),
            format!("{}{element}{access}", plain(&row.signal)),
            row.place.as_ref().map_or_else(String::new, place),
        ]);
    }
    table.write(out)
}

/// Every access, for spreadsheets.
pub(crate) fn each_csv(rows: &[ReadingRow], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "time_ns",
        "time_ns_low",
        "signal",
        "element",
        "access",
        "value",
        "label",
        "unit",
        "code",
    ])?;
    for row in rows {
        let number = |of: Option<f64>| of.map_or_else(String::new, |value| value.to_string());
        let text = |of: &Option<String>| {
            of.as_deref().map_or_else(String::new, |text| cell(text).into_owned())
        };
        csv.write_record([
            number(row.time_ns),
            number(row.time_ns_low),
            cell(&row.signal).into_owned(),
            row.element.map_or_else(String::new, |index| index.to_string()),
            text(&row.access),
            number(row.value),
            text(&row.label),
            text(&row.unit),
            row.place.as_ref().map_or_else(String::new, |place| place.address.clone()),
        ])?;
    }
    csv.flush()?;
    Ok(())
}

//! Faces of a timeline; what stands for what is fixed in `docs/looks.md`.

use super::moment::moment;
use super::{Align, Number, Paint, Table, cell, count, duration_ns, level, plain};
use anyhow::Result;
use std::collections::BTreeMap;
use std::io::Write;
use weltblick_core::measure::timeline::{
    CallRow, CellRow, EntryRow, LaneRow, Spacing, TimelineReport,
};
use weltblick_core::time::Window;

/// Columns of the names, with a blank at each side.
const NAMES: usize = 22;
/// Texts shorter than this are not begun.
const LEAST_TEXT: usize = 4;

/// A point that the user asked for.
#[derive(Debug, Clone)]
pub(crate) struct Point {
    /// What marks it.
    pub(crate) letter: char,
    /// What it is.
    pub(crate) name: String,
    /// When.
    pub(crate) tick: u64,
    /// When, with its uncertainty.
    pub(crate) time: Window,
}

/// The course of each lane that is a value, in ticks, by the lane's number.
pub(crate) type Values = BTreeMap<usize, Vec<(u64, f64)>>;

/// How ticks lie on the axis.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Axis<'a> {
    /// The ticks at its ends.
    pub(crate) range: (u64, u64),
    /// Nanoseconds in a tick.
    pub(crate) ns: f64,
    /// Each event takes the same space.
    pub(crate) spacing: Option<&'a Spacing>,
}

impl Axis<'_> {
    /// Where a tick lies, from 0 to 1.
    pub(crate) fn part(&self, tick: u64) -> f64 {
        let (start, end) = self.range;
        let part = match self.spacing {
            Some(spacing) => spacing.place(tick) as f64 / spacing.length().max(1) as f64,
            None => tick.saturating_sub(start) as f64 / (end - start).max(1) as f64,
        };
        part.clamp(0.0, 1.0)
    }

    /// The time at a part of the axis, in nanoseconds.
    pub(crate) fn ns_at(&self, part: f64) -> f64 {
        let (start, end) = self.range;
        match self.spacing {
            Some(spacing) => spacing.tick(part).unwrap_or(start) as f64 * self.ns,
            None => (start as f64 + part * (end - start) as f64) * self.ns,
        }
    }

    /// The columns of a call, among so many.
    fn columns(&self, call: &CallRow, cells: usize) -> std::ops::Range<usize> {
        let edge = |ns: f64| (self.part((ns / self.ns).round() as u64) * cells as f64) as usize;
        edge(call.from_ns)..edge(call.until_ns)
    }

    /// The column of a tick, among so many.
    fn column(&self, tick: u64, cells: usize) -> usize {
        ((self.part(tick) * cells as f64) as usize).min(cells.saturating_sub(1))
    }
}

/// Everything that is drawn.
pub(crate) struct Chart<'a> {
    pub(crate) capture: &'a str,
    /// It, and the options that it was read with, as a shell takes them.
    pub(crate) again: &'a str,
    pub(crate) report: TimelineReport,
    pub(crate) marked: &'a [Point],
    pub(crate) axis: Axis<'a>,
    pub(crate) values: Values,
    /// By the lane's number: when, and what.
    pub(crate) said: Vec<(usize, u64, String)>,
}

/// Cells of a lane in a text of so many columns.
pub(crate) const fn cells_of(width: usize) -> usize {
    width.saturating_sub(NAMES)
}

/// For people.
pub(crate) fn text(chart: &Chart<'_>, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let cells = chart.report.lanes.iter().map(|lane| lane.cells.len()).max().unwrap_or(0).max(1);
    head(chart, cells, paint, out)?;
    let marks = marks(chart, cells);
    if !marks.trim().is_empty() {
        writeln!(out, "{:NAMES$}{}", "", paint.strong(marks.trim_end()))?;
    }
    let mut before = "";
    for (number, lane) in chart.report.lanes.iter().enumerate() {
        // A line between kinds would cost a lane: their order is enough, but tasks stand apart.
        if !before.is_empty()
            && before != lane.kind
            && matches!(&*lane.kind, "task" | "call" | "load")
        {
            writeln!(out)?;
        }
        before = &lane.kind;
        let row = match (lane.kind.as_str(), chart.values.get(&number)) {
            (_, Some(values)) => paint.accent(value_row(values, &chart.axis, cells).trim_end()),
            ("recording", _) => paint.alarm(gap_row(chart, cells).trim_end()),
            ("object" | "text" | "access", _) => {
                text_row(chart, number, lane, cells).trim_end().to_owned()
            }
            ("call", _) => paint.accent(call_row(lane, &chart.axis, cells).trim_end()),
            _ => paint.accent(bar_row(&lane.cells).trim_end()),
        };
        writeln!(out, " {} {row}", short(&lane.name, NAMES - 2))?;
    }
    feet(chart, cells, paint, out)
}

fn head(chart: &Chart<'_>, cells: usize, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let Chart { report, axis, .. } = chart;
    let long = report.until_ns - report.from_ns;
    let scale = match axis.spacing {
        Some(spacing) => {
            format!("{} events, each as wide as the other", count(spacing.steps() as u64))
        }
        None => format!("a column is {}", duration_ns(long / cells as f64)),
    };
    let title = format!(
        "{}: {} from {} to {}",
        plain(chart.capture),
        duration_ns(long),
        moment(report.from_ns),
        moment(report.until_ns)
    );
    writeln!(out, "{}, {scale}", paint.strong(&title))?;
    for (number, point) in chart.marked.iter().enumerate() {
        let Point { letter, name, tick, time } = point;
        let ns = *tick as f64 * axis.ns;
        let off = (time.latest - time.earliest) as f64 * axis.ns;
        let doubt = if off > 0.0 {
            format!(" (or up to {} before)", duration_ns(off))
        } else {
            String::new()
        };
        let delta = chart.marked[..number].last().map_or_else(String::new, |before| {
            let delta = ns - before.tick as f64 * axis.ns;
            let way = if delta < 0.0 { "before" } else { "after" };
            format!(", {} {way} {}", duration_ns(delta.abs()), before.letter)
        });
        writeln!(out, "{letter} {} at {}{doubt}{delta}", plain(name), moment(ns))?;
    }
    for doubt in &report.doubts {
        writeln!(out, "{}", paint.alarm(&format!("? {doubt}")))?;
    }
    if !report.gaps.is_empty() {
        let gaps = count(report.gaps.len() as u64);
        let places = if report.gaps.len() == 1 { "place" } else { "places" };
        writeln!(
            out,
            "{}",
            paint.alarm(&format!("! something is missing in {gaps} {places} (o)"))
        )?;
    }
    writeln!(out)?;
    Ok(())
}

/// The points that were asked for, above the lanes.
fn marks(chart: &Chart<'_>, cells: usize) -> String {
    let mut row = vec![' '; cells];
    let (start, end) = chart.axis.range;
    for point in chart.marked.iter().filter(|point| (start..=end).contains(&point.tick)) {
        row[chart.axis.column(point.tick, cells)] = point.letter;
    }
    row.into_iter().collect()
}

/// A name in so many columns.
fn short(name: &str, width: usize) -> String {
    let name = plain(name);
    if name.chars().count() <= width {
        return format!("{name:width$}");
    }
    let kept: String = name.chars().take(width - 2).collect();
    format!("{kept}..")
}

fn bar_row(cells: &[CellRow]) -> String {
    let glyph = |cell: &CellRow| match cell {
        CellRow { runs, .. } if *runs > 0.0 => level(runs.max(0.01)),
        CellRow { preempted, .. } if *preempted > 0.0 => '-',
        CellRow { wants, .. } if *wants > 0.0 => '.',
        CellRow { waits, .. } if *waits > 0.0 => ',',
        CellRow { marks, .. } if *marks > 0 => '|',
        _ => ' ',
    };
    cells.iter().map(glyph).collect()
}

/// Calls: each between brackets with its name where there is room, else how much of the time any was there.
fn call_row(lane: &LaneRow, axis: &Axis<'_>, cells: usize) -> String {
    let mut row: Vec<char> = bar_row(&lane.cells).chars().collect();
    row.resize(cells, ' ');
    for (columns, call) in lane.calls.iter().map(|call| (axis.columns(call, cells), call)) {
        let Some(room) = columns.len().checked_sub(2).filter(|&room| room >= LEAST_TEXT) else {
            continue;
        };
        let name: String = plain(&call.function).chars().take(room).collect();
        let shown = format!("[{name:room$}]");
        for (slot, letter) in row[columns].iter_mut().zip(shown.chars()) {
            *slot = letter;
        }
    }
    row.into_iter().collect()
}

/// Moments, and what is told there as far as there is room.
fn text_row(chart: &Chart<'_>, number: usize, lane: &LaneRow, cells: usize) -> String {
    let glyph = |cell: &CellRow| match cell.marks {
        0 => ' ',
        1 => '|',
        several @ 2..=9 => char::from_digit(several as u32, 10).unwrap_or('+'),
        _ => '+',
    };
    let mut row: Vec<char> = lane.cells.iter().map(glyph).collect();
    row.resize(cells, ' ');
    let own: Vec<(usize, &str)> = chart
        .said
        .iter()
        .filter(|(at, ..)| *at == number)
        .map(|(_, tick, text)| (chart.axis.column(*tick, cells), text.as_str()))
        .collect();
    for (at, text) in own {
        let free = row.iter().skip(at + 1).take_while(|&&c| c == ' ').count();
        let room = if at + 1 + free == cells { free } else { free.saturating_sub(1) };
        if row.get(at) == Some(&'|') && room >= LEAST_TEXT.min(text.chars().count()) {
            let shown = plain(text);
            for (slot, letter) in row[at + 1..].iter_mut().zip(shown.chars().take(room)) {
                *slot = letter;
            }
        }
    }
    row.into_iter().collect()
}

fn gap_row(chart: &Chart<'_>, cells: usize) -> String {
    let mut row = vec![' '; cells];
    for gap in &chart.report.gaps {
        let tick = |ns: f64| (ns / chart.axis.ns).round() as u64;
        let first = chart.axis.column(tick(gap.from_ns), cells);
        let last = chart.axis.column(tick(gap.until_ns), cells);
        row[first..=last.max(first)].fill('o');
    }
    row.into_iter().collect()
}

/// Values between their smallest and largest; each holds until the next.
fn value_row(values: &[(u64, f64)], axis: &Axis<'_>, cells: usize) -> String {
    let low = values.iter().map(|(_, value)| *value).fold(f64::INFINITY, f64::min);
    let high = values.iter().map(|(_, value)| *value).fold(f64::NEG_INFINITY, f64::max);
    let mut row: Vec<Option<f64>> = vec![None; cells];
    for &(tick, value) in values {
        row[axis.column(tick, cells)] = Some(value);
    }
    let mut held = None;
    let glyph = |value: Option<f64>| {
        held = value.or(held);
        held.map_or(' ', |value| {
            level(if high > low { ((value - low) / (high - low)).max(0.01) } else { 0.5 })
        })
    };
    row.into_iter().map(glyph).collect()
}

/// The axis, what the signs mean, and the command that looks closer.
fn feet(chart: &Chart<'_>, cells: usize, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let quarters: Vec<String> =
        (0..=4).map(|quarter| moment(chart.axis.ns_at(f64::from(quarter) / 4.0))).collect();
    let mut axis = vec![' '; cells + 12];
    let wanted: &[usize] = if cells >= 76 { &[0, 1, 2, 3, 4] } else { &[0, 2, 4] };
    for &quarter in wanted {
        let label = &quarters[quarter];
        let at = cells * quarter / 4;
        // The last ends where the lanes end.
        let at = if quarter == 4 { cells.saturating_sub(label.len()) } else { at };
        for (slot, letter) in axis[at..].iter_mut().zip(label.chars()) {
            *slot = letter;
        }
    }
    let axis: String = axis.into_iter().collect();
    writeln!(out, "{:NAMES$}{}", "", paint.faint(axis.trim_end()))?;
    for (number, values) in &chart.values {
        let (Some(lane), Some((_, last))) = (chart.report.lanes.get(*number), values.last()) else {
            continue;
        };
        let low = values.iter().map(|(_, value)| *value).fold(f64::INFINITY, f64::min);
        let high = values.iter().map(|(_, value)| *value).fold(f64::NEG_INFINITY, f64::max);
        let line = format!(
            " {}  {} to {}, last {}",
            plain(&lane.name),
            Number(low),
            Number(high),
            Number(*last)
        );
        writeln!(out, "{}", paint.faint(&line))?;
    }
    writeln!(out)?;
    let signs = "bars: how much of that time it ran   - begun, something else runs   . pending or ready\n, waits for an object   | a moment (a number: several)   o something is missing";
    let calls =
        "[name] a call   a bar in the lane of calls: some that are too short for their names";
    let has_calls = chart.report.lanes.iter().any(|lane| lane.kind == "call");
    for line in signs.lines().chain(has_calls.then_some(calls)) {
        writeln!(out, "{}", paint.faint(line))?;
    }
    let closer = chart.report.until_ns - chart.report.from_ns;
    let middle = chart.marked.first().map_or_else(
        || f64::midpoint(chart.report.from_ns, chart.report.until_ns),
        |point| point.tick as f64 * chart.axis.ns,
    );
    let line = format!(
        "-> weltblick timeline {} --around {} --width {}",
        chart.again,
        moment(middle),
        duration_ns((closer / 10.0).max(1.0)).replace(' ', "")
    );
    writeln!(out, "{}", paint.faint(&line))?;
    Ok(())
}

/// Moment by moment, for people.
pub(crate) fn list(rows: &[EntryRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    let columns = [
        ("time", Align::Right),
        ("since before", Align::Right),
        ("took", Align::Right),
        ("lane", Align::Left),
        ("", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    for row in rows {
        let told = |ns: Option<f64>| ns.map_or_else(String::new, duration_ns);
        let what = plain(&row.what).into_owned();
        let missing = row.kind == "recording";
        table.row([
            moment(row.time_ns),
            told(row.delta_ns),
            told(row.elapsed_ns),
            plain(&row.lane).into_owned(),
            if missing { paint.alarm(&format!("! {what}")) } else { what },
        ]);
    }
    table.write(out)
}

/// Moment by moment, for spreadsheets.
pub(crate) fn list_csv(rows: &[EntryRow], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record(["time_ns", "time_ns_low", "delta_ns", "kind", "lane", "what", "elapsed_ns"])?;
    for row in rows {
        let told = |ns: Option<f64>| ns.map_or_else(String::new, |ns| ns.to_string());
        csv.write_record([
            row.time_ns.to_string(),
            row.time_ns_low.to_string(),
            told(row.delta_ns),
            row.kind.clone(),
            cell(&row.lane).into_owned(),
            cell(&row.what).into_owned(),
            told(row.elapsed_ns),
        ])?;
    }
    csv.flush()?;
    Ok(())
}

/// What lanes did, for spreadsheets: a row for each part of the time in which one did anything.
pub(crate) fn csv(report: &TimelineReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record(["from_ns", "kind", "lane", "runs", "preempted", "wants", "waits", "marks"])?;
    for lane in &report.lanes {
        let part = (report.until_ns - report.from_ns) / lane.cells.len().max(1) as f64;
        for (number, row) in lane.cells.iter().enumerate() {
            let CellRow { runs, preempted, wants, waits, marks } = row;
            if [runs, preempted, wants, waits].into_iter().all(|share| *share == 0.0) && *marks == 0
            {
                continue;
            }
            csv.write_record([
                (report.from_ns + part * number as f64).to_string(),
                lane.kind.clone(),
                cell(&lane.name).into_owned(),
                runs.to_string(),
                preempted.to_string(),
                wants.to_string(),
                waits.to_string(),
                marks.to_string(),
            ])?;
        }
    }
    csv.flush()?;
    Ok(())
}

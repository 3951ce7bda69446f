//! Faces of an exact profile.

use super::statistic::{csv_bounds, csv_heading, csv_tail, number, stated};
use super::{
    Align, Paint, Table, cell, count, duration_ns, evidence, path_end, percent, plain, range_ns,
    shell, stretch_count,
};
use anyhow::Result;
use std::io::Write;
use std::path::Path;
use weltblick_core::measure::duration::Duration;
use weltblick_core::measure::execution::{ExactProfile, ExactRow, Numbers, Partner};
use weltblick_core::measure::known::Often;
use weltblick_core::measure::statistic::Statistic;
use weltblick_core::stats::Bounds;

/// Cells of the widest bar.
const BAR: usize = 12;

/// What the text faces show beside the report.
#[derive(Debug)]
pub(crate) struct Look<'a> {
    pub(crate) paint: Paint,
    /// Rows shown at most.
    pub(crate) top: usize,
    /// What to call the capture.
    pub(crate) capture: String,
    /// It, and the options that it was read with, as a shell takes them.
    pub(crate) again: String,
    /// What points call the stream.
    pub(crate) stream: String,
    /// The image's file.
    pub(crate) image: Option<&'a Path>,
}

/// For people.
pub(crate) fn text(report: &ExactProfile, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    head(report, look, out)?;
    let timed = report.duration.is_some();
    let functions = report.by == "function";
    let has_time = report.rows.iter().any(|row| row.self_time.is_some());
    let mut columns =
        vec![(if has_time { "self %" } else { "instr. %" }, Align::Right), ("", Align::Left)];
    let bounded = report.rows.iter().any(|row| row.self_share_high.is_some());
    columns.extend(bounded.then_some(("bounds", Align::Right)));
    columns.extend(has_time.then_some(("self", Align::Right)));
    columns.push(("instructions", Align::Right));
    if functions {
        columns.extend([("total %", Align::Right), ("calls", Align::Right)]);
        let each = if timed {
            [("own mean", Align::Right), ("elapsed max", Align::Right)]
        } else {
            [("instr. a call", Align::Right), ("at most", Align::Right)]
        };
        columns.extend(each);
    } else if report.by == "interrupt" {
        columns.push(("entries", Align::Right));
    }
    columns.push((report.by.as_str(), Align::Name));
    if !functions {
        columns.push(("", Align::Name));
    }
    let mut table = Table::new(look.paint, &columns);
    for row in report.rows.iter().take(look.top) {
        let share = row.self_share.unwrap_or(row.instruction_share);
        let mut cells = vec![percent(share), look.paint.accent(&bar(share))];
        if bounded {
            cells.push(look.paint.faint(&bounds(row)));
        }
        if has_time {
            cells.push(row.self_time.map_or_else(String::new, |time| duration_ns(time.ns)));
        }
        cells.push(count(row.instructions));
        if functions {
            let total = match (row.total_share, row.total_instructions) {
                (Some(share), _) => percent(share),
                (None, Some(total)) => percent(total as f64 / report.instructions.max(1) as f64),
                (None, None) => String::new(),
            };
            cells.extend([total, calls(row)]);
            cells.extend(each_call(row, timed));
        } else if report.by == "interrupt" {
            cells.push(row.calls.map_or_else(String::new, count));
        }
        cells.extend(names(row, &report.by).map(|name| name.to_string()));
        table.row(cells);
    }
    table.write(out)?;
    let hidden = report.rows.len().saturating_sub(look.top);
    if hidden > 0 {
        let text = format!("  {} more; --top 0 shows all", count(hidden as u64));
        writeln!(out, "{}", look.paint.faint(&text))?;
    }
    if report.by == "task" {
        let text = "  tasks are known by the function that their thread began with";
        writeln!(out, "{}", look.paint.faint(text))?;
    }
    if has_time {
        let text = "  instructions are exact; time between two cycle counts is shared out by instructions,";
        writeln!(out, "{}", look.paint.faint(text))?;
        let text = match bounded {
            true => "  and lies within the bounds however it was really spent",
            false => "  which is an estimate",
        };
        writeln!(out, "{}", look.paint.faint(text))?;
    }
    against(report, look, out)
}

/// What speaks against the figures of rows that are shown.
fn against(report: &ExactProfile, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let shown: Vec<(String, &ExactRow)> = report
        .rows
        .iter()
        .take(look.top)
        .map(|row| (names(row, &report.by)[0].clone(), row))
        .collect();
    let rows = shown.iter().map(|(name, row)| (name.as_str(), row.objections.as_slice()));
    evidence::objections(rows, &[], look.paint, out)
}

fn head(report: &ExactProfile, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let image = look.image.map_or_else(String::new, |image| format!(", image {}", image.display()));
    let title = format!("{}{image}", look.capture);
    writeln!(out, "{}", look.paint.strong(&plain(&title)))?;
    let mut line = format!("{} instructions, exact", count(report.instructions));
    if let Some(duration) = report.duration {
        line += &format!(", over {}", duration_ns(duration.ns));
    }
    line += match report.evidence.time.as_str() {
        "cycle_counts" => " by cycle counts",
        "timestamps" => " by timestamps",
        _ => "; this trace has no times",
    };
    writeln!(out, "{line}")?;
    if let (Some(from), Some(until)) = (report.from_ns, report.until_ns) {
        writeln!(out, "window: from {} to {}", duration_ns(from), duration_ns(until))?;
    }
    if report.evidence.unwatched > 0 {
        writeln!(out, "not traced by choice: {}", stretch_count(report.evidence.unwatched))?;
    }
    evidence::doubts(&[], &[], &report.evidence.doubts, look.paint, out)?;
    writeln!(out)?;
    Ok(())
}

/// A bar in whole cells and a half one.
fn bar(share: f64) -> String {
    let halves = (share * 2.0 * BAR as f64).round() as usize;
    let half = if halves % 2 == 1 { "\u{258c}" } else { "" };
    "\u{2588}".repeat(halves / 2) + half
}

/// Between which shares the true one lies, if that is more than a digit.
fn bounds(row: &ExactRow) -> String {
    match (row.self_share_low, row.self_share_high) {
        // Nothing bounds it: the head says why.
        (Some(0.0), Some(1.0)) => String::new(),
        (Some(low), Some(high)) if high - low >= 0.0005 => {
            format!("{}..{}", percent(low), percent(high))
        }
        _ => String::new(),
    }
}

fn each_call(row: &ExactRow, timed: bool) -> [String; 2] {
    if !timed {
        let numbers = row.instructions_per_call;
        return [
            numbers.map_or_else(String::new, |numbers| count(numbers.mean.round() as u64)),
            numbers.map_or_else(String::new, |numbers| count(numbers.max)),
        ];
    }
    let mean = row.own.as_ref().and_then(|own| own.mean);
    let longest = row.elapsed.as_ref().and_then(|elapsed| elapsed.max);
    let calls = row.calls.filter(|&calls| calls > 0);
    // A call shorter than the time between two counts: all of them together are known better.
    let about = row.total_time.zip(calls).map(|(time, calls)| time.ns / calls as f64);
    let mean = match (mean, about) {
        (Some(mean), Some(about)) if is_wide(mean) => format!("~{}", duration_ns(about)),
        (Some(mean), _) => duration_ns(mean.ns),
        (None, _) => String::new(),
    };
    [mean, longest.map_or_else(String::new, windowed)]
}

/// Whether a time is known so badly that its middle says little.
fn is_wide(duration: Duration) -> bool {
    duration.ns_high.is_none_or(|high| high - duration.ns_low > duration.ns / 2.0)
}

/// A time, and its window where that matters; a mark, where what is missing does.
fn windowed(duration: Duration) -> String {
    if duration.seen.is_some_and(|seen| !is_narrow(duration, seen)) {
        return stated(&duration);
    }
    let Some(high) = duration.ns_high else { return format!("> {}", duration_ns(duration.ns_low)) };
    if is_wide(duration) && duration.ns_low <= 0.0 {
        format!("<= {}", duration_ns(high))
    } else if is_wide(duration) {
        range_ns(duration.ns_low, high)
    } else {
        duration_ns(duration.ns)
    }
}

/// Whether what was seen lies within what a time is known to anyway.
fn is_narrow(duration: Duration, seen: Bounds) -> bool {
    let within = 1e-3 * duration.ns;
    duration.ns_low >= seen.low - within
        && duration.ns_high.is_some_and(|high| high <= seen.high + within)
}

/// How often it was called, with a mark where that may have been oftener.
fn calls(row: &ExactRow) -> String {
    let Some(calls) = row.calls else { return String::new() };
    let touched = row.objections.iter().any(|against| against.figures.iter().any(|f| f == "calls"));
    let count_high = row.calls_high.or((!touched).then_some(calls));
    number(Often { count: calls, count_high, ..Often::default() })
}

/// What a row is called, and where it is.
fn names(row: &ExactRow, by: &str) -> [String; 2] {
    let text = |field: &Option<String>| {
        field.as_deref().map_or_else(String::new, |text| plain(text).into_owned())
    };
    let file = row.file.as_deref().map(|file| path_end(&plain(file)));
    let line = match (file, row.line) {
        (Some(file), Some(line)) => format!("{file}:{line}"),
        (Some(file), None) => file,
        (None, _) => String::new(),
    };
    match by {
        "function" => [text(&row.function), line],
        "interrupt" => [text(&row.interrupt), String::new()],
        "task" => [text(&row.task), String::new()],
        "file" => [if line.is_empty() { "[no line data]".into() } else { line }, String::new()],
        "line" => [if line.is_empty() { "[no line]".into() } else { line }, text(&row.function)],
        _ => [text(&row.address), format!("{}  {line}", text(&row.function))],
    }
}

/// One function, with all that is known of it.
pub(crate) fn details(report: &ExactProfile, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    head(report, look, out)?;
    for row in &report.rows {
        let [name, place] = names(row, "function");
        writeln!(out, "{}  {}", look.paint.strong(&name), look.paint.faint(&place))?;
        let mut line = format!(
            "  {} instructions of its own ({} %)",
            count(row.instructions),
            percent(row.instruction_share)
        );
        if let Some(total) = row.total_instructions {
            line += &format!(", {} with what it calls", count(total));
        }
        writeln!(out, "{line}")?;
        if let (Some(time), Some(share)) = (row.self_time, row.self_share) {
            let low = duration_ns(time.ns_low);
            let high = time.ns_high.map_or_else(String::new, duration_ns);
            writeln!(
                out,
                "  {} of its own ({} % of the time; between {low} and {high})",
                duration_ns(time.ns),
                percent(share)
            )?;
        }
        let cut = row.calls_cut.unwrap_or(0);
        let cut = if cut > 0 {
            format!(", {} of them not seen to their end", count(cut))
        } else {
            String::new()
        };
        writeln!(out, "  {} calls{cut}\n", calls(row))?;
        each(row, look.paint, out)?;
        partners("called by", &row.callers, look, out)?;
        partners("calls", &row.callees, look, out)?;
        if let Some(longest) = row.longest {
            writeln!(
                out,
                "\n{}\n  -> weltblick flow {} --around {}@{}",
                look.paint.faint("its longest call ends here:"),
                look.again,
                shell(&look.stream),
                longest.until_byte
            )?;
        }
    }
    against(report, look, out)
}

/// Each call: how long, how many instructions.
fn each(row: &ExactRow, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let columns = ["a call", "min", "mean", "50 %", "95 %", "99 %", "max"];
    let columns: Vec<_> = columns
        .into_iter()
        .zip(std::iter::once(Align::Left).chain(std::iter::repeat(Align::Right)))
        .collect();
    let mut table = Table::new(paint, &columns);
    let times = |name: &str, statistic: &Statistic| {
        let Statistic { min, mean, p50, p95, p99, max, .. } = statistic;
        let cells = [min, mean, p50, p95, p99, max]
            .map(|duration| duration.map_or_else(String::new, windowed));
        std::iter::once(format!("  {name}")).chain(cells).collect::<Vec<_>>()
    };
    for (name, statistic) in [("self", &row.self_own), ("own", &row.own), ("elapsed", &row.elapsed)]
    {
        if let Some(statistic) = statistic.as_ref().filter(|statistic| statistic.count > 0) {
            table.row(times(name, statistic));
        }
    }
    for (name, numbers) in [
        ("  self instructions", row.self_instructions_per_call),
        ("  instructions", row.instructions_per_call),
    ] {
        let Some(Numbers { min, mean, max, .. }) = numbers else { continue };
        let empty = String::new;
        table.row([
            name.to_owned(),
            count(min),
            count(mean.round() as u64),
            empty(),
            empty(),
            empty(),
            count(max),
        ]);
    }
    table.write(out)
}

fn partners(title: &str, partners: &[Partner], look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    if partners.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let columns = [("calls", Align::Right), ("instructions", Align::Right), (title, Align::Name)];
    let mut table = Table::new(look.paint, &columns);
    for partner in partners.iter().take(look.top) {
        table.row([
            count(partner.calls),
            count(partner.instructions),
            plain(&partner.function).into_owned(),
        ]);
    }
    table.write(out)
}

/// For spreadsheets.
pub(crate) fn csv(reports: &[ExactProfile], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let names = [
        "from_ns",
        "until_ns",
        "function",
        "file",
        "line",
        "address",
        "interrupt",
        "task",
        "instructions",
        "instruction_share",
        "total_instructions",
        "self_time_ns_low",
        "self_time_ns_high",
        "self_share",
        "self_share_low",
        "self_share_high",
        "total_share",
        "calls",
        "calls_high",
        "calls_cut",
        "instructions_per_call_mean",
        "instructions_per_call_max",
    ];
    csv.write_record(csv_heading(&names, &["self_own", "own", "elapsed"]))?;
    let text = |field: &Option<String>| {
        field.as_deref().map(|text| cell(text).into_owned()).unwrap_or_default()
    };
    let number = |value: Option<f64>| value.map(|value| value.to_string()).unwrap_or_default();
    let whole = |value: Option<u64>| value.map(|value| value.to_string()).unwrap_or_default();
    let rows = reports.iter().flat_map(|report| report.rows.iter().map(move |row| (report, row)));
    for (report, row) in rows {
        let mut record = vec![
            number(report.from_ns),
            number(report.until_ns),
            text(&row.function),
            text(&row.file),
            row.line.map(|line| line.to_string()).unwrap_or_default(),
            text(&row.address),
            text(&row.interrupt),
            text(&row.task),
            row.instructions.to_string(),
            row.instruction_share.to_string(),
            whole(row.total_instructions),
        ];
        record.extend(csv_bounds(row.self_time));
        let shares = [row.self_share, row.self_share_low, row.self_share_high, row.total_share];
        record.extend(shares.map(number));
        record.extend([row.calls, row.calls_high, row.calls_cut].map(whole));
        record.push(number(row.instructions_per_call.map(|numbers| numbers.mean)));
        record.push(whole(row.instructions_per_call.map(|numbers| numbers.max)));
        let statistics = [&row.self_own, &row.own, &row.elapsed].map(Option::as_ref);
        record.extend(csv_tail(statistics, &row.objections));
        csv.write_record(&record)?;
    }
    csv.flush()?;
    Ok(())
}

//! Faces of the figures of tasks.

use super::evidence::{doubts, objections};
use super::moment::{self, moment};
use super::picture::Histograms;
use super::statistic::{
    Marks, bars, csv_bounds, csv_heading, csv_often, csv_part, csv_tail, distribution, figure, max,
    mean, number, stated, table, wait_cells, wait_columns,
};
pub(crate) use super::timing::Look;
use super::timing::{Regular, look_closer, regularity, right, worst_heading};
use super::units::part;
use super::{Align, Paint, Table, cell, count, duration_ns, plain, share};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::duration::Duration;
use weltblick_core::measure::tasks::{ActivationRow, ActorPart, TaskReport, TaskRow, TurnRow};

/// For people: what is wrong, who is late, who runs long, where the time and the stack went, and why.
pub(crate) fn text(report: &TaskReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    head(report, look, out)?;
    let mut marks = Marks::default();
    overview(report, look, &mut marks, out)?;
    if look.detailed {
        for row in &report.tasks {
            details(row, &mut marks, look.paint, out)?;
        }
    } else {
        let rows = report.tasks.iter().map(|row| Regular {
            name: &row.name,
            period: &row.period,
            jitter: &row.jitter,
            missed: row.missed,
        });
        let title = if tells_ready(report) { "from ready to ready" } else { "from start to start" };
        regularity(title, "task", rows, &mut marks, look.paint, out)?;
    }
    let active = report.tasks.iter().filter(|row| !row.idle);
    let rows = active.map(|row| (row.name.as_str(), row.objections.as_slice()));
    objections(rows, &report.evidence.objections, look.paint, out)?;
    states(report, look, out)?;
    waits(report, look, out)?;
    cases(report, look, out)
}

fn head(report: &TaskReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    let paint = look.paint;
    let title = format!(
        "{}: {} {}, {} switches",
        plain(look.capture),
        report.tasks.len(),
        if report.tasks.len() == 1 { "task" } else { "tasks" },
        count(report.switches)
    );
    writeln!(out, "{}", paint.strong(&title))?;
    let duration = report
        .duration
        .map_or_else(String::new, |duration| format!("{} of trace: ", stated(&duration)));
    let totals = report.totals;
    writeln!(
        out,
        "{duration}tasks {}, interrupts {}, kernel {}, idle {}, unknown {}",
        share(totals.tasks),
        share(totals.interrupts),
        share(totals.kernel),
        share(totals.idle),
        share(totals.unknown)
    )?;
    for row in report.tasks.iter().filter(|row| row.stack.overflowed) {
        let line = format!(
            "! {} REACHED THE END OF ITS STACK: {} of {} bytes",
            plain(&row.name),
            row.stack.used.map_or_else(|| "more than all".to_owned(), count),
            row.stack.size.map_or_else(String::new, |size| count(u64::from(size))),
        );
        writeln!(out, "{}", paint.alarm(&line))?;
    }
    for row in report.tasks.iter().filter(|row| row.never_ran) {
        let line = format!("! {} never ran in this recording", plain(&row.name));
        writeln!(out, "{}", paint.alarm(&line))?;
    }
    let evidence = &report.evidence;
    doubts(&evidence.losses, &evidence.objections, &evidence.doubts, paint, out)?;
    writeln!(out)?;
    Ok(())
}

/// Whether anything tells when tasks become ready.
fn tells_ready(report: &TaskReport) -> bool {
    report.tasks.iter().any(|row| row.pending.count > 0)
}

type Column = (&'static str, fn(&TaskRow) -> String);

/// How late, and how long from ready to the stop.
const BY_READY: [Column; 3] = [
    ("pending max", |row| activated(row, max(&row.pending))),
    ("mean", |row| activated(row, mean(&row.pending))),
    ("response max", |row| activated(row, max(&row.response))),
];
/// The same where nothing tells when tasks become ready.
const BY_START: [Column; 2] = [
    ("elapsed max", |row| activated(row, max(&row.elapsed))),
    ("mean", |row| activated(row, mean(&row.elapsed))),
];
const ALWAYS: [Column; 4] = [
    ("own max", |row| activated(row, max(&row.own))),
    ("mean", |row| activated(row, mean(&row.own))),
    ("load", load),
    ("peak", |row| row.load.max.as_ref().map_or_else(String::new, part)),
];
const STACK: Column = ("stack", |row| row.stack.share.map_or_else(String::new, share));
const RUNS: Column = ("runs", |row| activated(row, number(row.often)));
const PRIORITY: Column =
    ("prio", |row| row.priority.map_or_else(String::new, |priority| priority.to_string()));

const CORE: Column = ("core", cores);

/// The cores on which a task ran.
fn cores(row: &TaskRow) -> String {
    row.cores.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
}

/// A figure of activations: the idle task has none, it is what runs when there are none.
fn activated(row: &TaskRow, figure: String) -> String {
    if row.idle { String::new() } else { figure }
}

/// What is told of these tasks.
fn columns(report: &TaskReport) -> Vec<Column> {
    let any = |is: fn(&TaskRow) -> bool| report.tasks.iter().any(is);
    let mut columns = if tells_ready(report) { BY_READY.to_vec() } else { BY_START.to_vec() };
    columns.extend(ALWAYS);
    columns.extend(any(|row| row.stack.share.is_some()).then_some(STACK));
    columns.push(RUNS);
    columns.extend(any(|row| row.priority.is_some()).then_some(PRIORITY));
    columns.extend(any(|row| !row.cores.is_empty()).then_some(CORE));
    columns
}

fn overview(
    report: &TaskReport,
    look: &Look<'_>,
    marks: &mut Marks,
    out: &mut dyn Write,
) -> Result<()> {
    let columns = columns(report);
    let mut heading: Vec<_> = columns.iter().map(|(name, _)| right(name)).collect();
    heading.push(("task", Align::Left));
    let mut table = Table::new(look.paint, &heading);
    for row in &report.tasks {
        let name = plain(&row.name);
        let mut cells: Vec<String> = columns.iter().map(|(_, cell)| cell(row)).collect();
        cells.push(if row.idle { format!("{name} [idle]") } else { name.into_owned() });
        table.row(cells);
    }
    table.write(out)?;
    let maxima = |row: &TaskRow| [&row.pending, &row.response, &row.own].map(|many| many.max);
    let active = report.tasks.iter().filter(|row| !row.idle);
    let shown: Vec<_> = active.flat_map(maxima).flatten().collect();
    marks.explain(shown.iter(), look.paint, out)?;
    if let Some(row) = report.tasks.first() {
        let words = if tells_ready(report) {
            "pending: from ready to running; response: from ready to the stop"
        } else {
            "elapsed: from the first run to the stop; own: without interrupts and other tasks"
        };
        let window = duration_ns(row.load.window.ns);
        let text = format!("  {words}; peak: load in windows of {window}");
        writeln!(out, "{}", look.paint.faint(&text))?;
    }
    Ok(())
}

/// A load, as a range where much of the time is unknown.
fn load(row: &TaskRow) -> String {
    part(&row.load.all)
}

fn details(row: &TaskRow, marks: &mut Marks, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let name = format!("{} (task {})", plain(&row.name), row.id);
    writeln!(out, "\n{}", paint.strong(&name))?;
    writeln!(
        out,
        "{} activations, {:.1} a second; {} without a duration{}",
        number(row.often),
        row.often.rate,
        count(row.cut),
        row.missed.map_or_else(String::new, |missed| format!("; {} periods missed", count(missed))),
    )?;
    let load = &row.load;
    if let (Some(min), Some(mean), Some(max), Some(at)) =
        (load.min.as_ref(), load.mean.as_ref(), load.max.as_ref(), load.max_at_ns)
    {
        writeln!(
            out,
            "load {} to {} in any window of {}, {} on average; the highest from {}",
            part(min),
            part(max),
            duration_ns(load.window.ns),
            part(mean),
            moment(at)
        )?;
    }
    if let (Some(used), Some(size)) = (row.stack.used, row.stack.size) {
        writeln!(out, "stack {} of {} bytes", count(used), count(u64::from(size)))?;
    }
    let rows = [
        ("response", &row.response),
        ("pending", &row.pending),
        ("elapsed", &row.elapsed),
        ("own", &row.own),
        ("period", &row.period),
        ("jitter", &row.jitter),
    ];
    table(&rows.map(|(name, statistic)| (name.to_owned(), Some(statistic))), marks, paint, out)?;
    let name = if row.response.count > 0 { "response" } else { "elapsed" };
    distribution(name, &row.distribution, paint, out)
}

/// How long each took from ready to stop, as a picture.
pub(crate) fn histograms(report: &TaskReport) -> Histograms {
    let panel = |row: &TaskRow| {
        let told = row.response.count > 0;
        let (name, of) = if told { ("response", &row.response) } else { ("elapsed", &row.elapsed) };
        bars(&format!("{}: {name}", row.name), &row.distribution, of)
    };
    Histograms(report.tasks.iter().filter_map(panel).collect())
}

const STATES: [&str; 6] = ["runs", "ready", "sleeps", "waits", "away", "ended"];

fn states(report: &TaskReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    writeln!(out, "\nwhat they did")?;
    let found = |name: &&str| {
        let mut all = report.tasks.iter().flat_map(|row| &row.states);
        all.any(|state| state.state == *name)
    };
    let states: Vec<&str> = STATES.into_iter().filter(found).collect();
    let mut columns: Vec<_> = states.iter().map(|name| right(name)).collect();
    columns.extend([right("pre-empted"), right("gave way"), ("task", Align::Left)]);
    let mut table = Table::new(look.paint, &columns);
    for row in &report.tasks {
        let state = |name: &str| {
            let found = row.states.iter().find(|state| state.state == name);
            found.map_or_else(String::new, |state| share(state.share))
        };
        let times = |times: Option<u64>| times.map_or_else(String::new, count);
        let mut cells: Vec<String> = states.iter().map(|name| state(name)).collect();
        cells.extend([times(row.preempted), times(row.yielded), plain(&row.name).into_owned()]);
        table.row(cells);
    }
    table.write(out)
}

fn waits(report: &TaskReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    if report.tasks.iter().all(|row| row.waits.is_empty()) {
        return Ok(());
    }
    writeln!(out, "\nwhat they waited for")?;
    let columns =
        [right("max"), right("mean"), right("times"), ("task", Align::Left), ("for", Align::Left)];
    let mut table = Table::new(look.paint, &columns);
    for row in &report.tasks {
        for wait in &row.waits {
            table.row([
                stated(&wait.max),
                stated(&wait.mean),
                count(wait.count),
                plain(&row.name).into_owned(),
                plain(wait.object.as_deref().unwrap_or("[unknown]")).into_owned(),
            ]);
        }
    }
    table.write(out)
}

fn cases(report: &TaskReport, look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    worst_heading(look, out)?;
    for row in &report.tasks {
        for case in &row.latest {
            self::case(case, "pending", case.pending.as_ref(), look, out)?;
        }
        let (name, told) =
            if row.response.count > 0 { ("response", true) } else { ("elapsed", false) };
        for case in &row.worst {
            let length = if told { case.response.as_ref() } else { Some(&case.elapsed) };
            self::case(case, name, length, look, out)?;
        }
    }
    Ok(())
}

fn case(
    case: &ActivationRow,
    figure: &str,
    length: Option<&Duration>,
    look: &Look<'_>,
    out: &mut dyn Write,
) -> Result<()> {
    let start = case.ready_ns.unwrap_or(case.began_ns);
    let until = if figure == "pending" { case.began_ns } else { case.ended_ns };
    let wanted: Vec<&ActorPart> =
        case.parts.iter().filter(|part| figure != "pending" || part.waiting).collect();
    writeln!(
        out,
        "  {} {figure} of {} #{} at {}",
        look.paint.strong(&self::figure(length)),
        plain(&case.task),
        case.number,
        moment(start),
    )?;
    moment::parts(&parts(&wanted, &case.task), out)?;
    look_closer(look, start, until, out)
}

/// Parts named at most; the rest is summed up.
const MOST_PARTS: usize = 5;

fn parts(parts: &[&ActorPart], task: &str) -> Vec<String> {
    let part = |part: &&ActorPart| {
        let times = match part.times {
            Some(times @ 2..) => format!(" ({times} x)"),
            _ => String::new(),
        };
        let length = duration_ns(part.duration.ns);
        match part.who.as_str() {
            who if who == task => format!("{length} own"),
            who @ ("kernel" | "entering and leaving") => format!("{length} {who}"),
            who if part.waiting => format!("{length} behind {}{times}", plain(who)),
            who => format!("{length} {}{times}", plain(who)),
        }
    };
    let mut list: Vec<String> = parts.iter().take(MOST_PARTS).map(part).collect();
    if parts.len() > MOST_PARTS {
        let rest: f64 = parts[MOST_PARTS..].iter().map(|part| part.duration.ns).sum();
        list.push(format!("{} others", duration_ns(rest)));
    }
    list
}

/// Every activation, for people.
pub(crate) fn each(rows: &[ActivationRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    let columns = [
        right("began"),
        right("response"),
        right("pending"),
        right("elapsed"),
        ("task", Align::Left),
        right("number"),
        ("what the time went to", Align::Left),
    ];
    for part in rows.chunks(4096) {
        let mut table = Table::new(paint, &columns);
        for row in part {
            let all: Vec<&ActorPart> = row.parts.iter().collect();
            table.row([
                moment(row.began_ns),
                figure(row.response.as_ref()),
                figure(row.pending.as_ref()),
                stated(&row.elapsed),
                plain(&row.task).into_owned(),
                format!("#{}", row.number),
                parts(&all, &row.task).join(", "),
            ]);
        }
        table.write(out)?;
    }
    Ok(())
}

/// Every activation, for spreadsheets.
pub(crate) fn each_csv(rows: &[ActivationRow], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let heading = ["task", "number", "ready_ns", "began_ns", "ended_ns"].map(String::from);
    csv.write_record(heading.into_iter().chain(wait_columns()).chain(["parts".into()]))?;
    for row in rows {
        let all: Vec<&ActorPart> = row.parts.iter().collect();
        let who = [
            cell(&row.task).into_owned(),
            row.number.to_string(),
            row.ready_ns.map_or_else(String::new, |ns| ns.to_string()),
            row.began_ns.to_string(),
            row.ended_ns.to_string(),
        ];
        let waits = wait_cells(row.pending, row.elapsed, row.response);
        let others = parts(&all, &row.task).join(", ");
        csv.write_record(who.into_iter().chain(waits).chain([others]))?;
    }
    csv.flush()?;
    Ok(())
}

/// The order in which tasks ran, for people.
pub(crate) fn order(rows: &[TurnRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    let columns =
        [right("began"), right("ran for"), ("task", Align::Left), ("and then", Align::Left)];
    for part in rows.chunks(4096) {
        let mut table = Table::new(paint, &columns);
        for row in part {
            let then = match (row.then.as_str(), &row.object) {
                ("ready", _) => "was pre-empted".to_owned(),
                (_, Some(object)) => format!("waited for {}", plain(object)),
                ("sleeps", _) => "slept".to_owned(),
                ("waits", _) => "waited".to_owned(),
                ("away", _) => "lost the core".to_owned(),
                (other, _) => other.to_owned(),
            };
            let core = row.core.map_or_else(String::new, |core| format!(" (core {core})"));
            table.row([
                moment(row.began_ns),
                stated(&row.duration),
                format!("{}{core}", plain(&row.task)),
                then,
            ]);
        }
        table.write(out)?;
    }
    Ok(())
}

/// The order in which tasks ran, for spreadsheets.
pub(crate) fn order_csv(rows: &[TurnRow], out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "began_ns",
        "duration_ns_low",
        "duration_ns_high",
        "task",
        "then",
        "object",
        "core",
    ])?;
    for row in rows {
        let [low, high] = csv_bounds(Some(row.duration));
        csv.write_record([
            row.began_ns.to_string(),
            low,
            high,
            cell(&row.task).into_owned(),
            row.then.clone(),
            cell(row.object.as_deref().unwrap_or_default()).into_owned(),
            row.core.map_or_else(String::new, |core| core.to_string()),
        ])?;
    }
    csv.flush()?;
    Ok(())
}

/// For spreadsheets: one row per task.
pub(crate) fn csv(report: &TaskReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    let names = [
        "id",
        "name",
        "priority",
        "count",
        "count_high",
        "rate",
        "rate_low",
        "rate_high",
        "cut",
        "load_share",
        "load_share_low",
        "load_share_high",
        "load_min",
        "load_min_low",
        "load_min_high",
        "load_mean",
        "load_mean_low",
        "load_mean_high",
        "load_max",
        "load_max_low",
        "load_max_high",
        "stack_size",
        "stack_used",
        "stack_share",
        "stack_share_high",
        "missed",
        "preempted",
        "yielded",
        "cores",
    ];
    let statistics = ["own", "elapsed", "pending", "response", "period", "jitter"];
    csv.write_record(csv_heading(&names, &statistics))?;
    fn told<T: ToString>(value: Option<T>) -> String {
        value.map_or_else(String::new, |value| value.to_string())
    }
    for row in &report.tasks {
        let mut record = vec![row.id.to_string(), cell(&row.name).into_owned(), told(row.priority)];
        record.extend(csv_often(row.often));
        record.push(row.cut.to_string());
        for part in [Some(row.load.all), row.load.min, row.load.mean, row.load.max] {
            record.extend(csv_part(part));
        }
        record.extend([
            told(row.stack.size),
            told(row.stack.used),
            told(row.stack.share),
            told(row.stack.share_high),
            told(row.missed),
            told(row.preempted),
            told(row.yielded),
            cores(row),
        ]);
        let statistics =
            [&row.own, &row.elapsed, &row.pending, &row.response, &row.period, &row.jitter];
        record.extend(csv_tail(statistics.map(Some), &row.objections));
        csv.write_record(&record)?;
    }
    csv.flush()?;
    Ok(())
}

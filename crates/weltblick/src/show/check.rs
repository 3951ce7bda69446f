//! Faces of verdicts.

use super::{Align, Number, Paint, Table, cell, count, duration_ns, percent, plain, shell};
use anyhow::Result;
use std::io::Write;
use weltblick_core::judge::{CheckReport, Judgement, Verdict};

/// For people.
pub(crate) fn text(
    report: &CheckReport,
    file: &str,
    again: &str,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let number = |verdict| report.budgets.iter().filter(|b| b.verdict == verdict).count();
    let (broken, undecided) = (number(Verdict::Broken), number(Verdict::Undecided));
    let met = number(Verdict::Met);
    let title = format!("{}: {broken} broken, {undecided} undecided, {met} met", plain(file));
    writeln!(out, "{}", paint.strong(&title))?;
    let span = report.recording.duration.map(|d| format!(" over {}", duration_ns(d.ns)));
    let samples = match report.recording.samples {
        0 => String::new(),
        samples => format!(" of {} samples", count(samples)),
    };
    writeln!(
        out,
        "for {}this recording{samples}{}, all verdicts together with {} % confidence",
        report.within.as_ref().map_or_else(String::new, |within| format!("{} of ", plain(within))),
        span.unwrap_or_default(),
        (1e4 * report.confidence).round() / 100.0,
    )?;
    writeln!(out)?;
    let mut table = Table::new(
        paint,
        &[
            ("verdict", Align::Left),
            ("margin", Align::Right),
            ("observed", Align::Right),
            ("between", Align::Left),
            ("limit", Align::Left),
            ("budget", Align::Left),
        ],
    );
    for judgement in &report.budgets {
        table.row(row(judgement, paint));
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    let within = report.within.as_ref().map(|within| format!(" --within {}", shell(within)));
    // What says more looks at the same capture, and the same window of it.
    let shown = [again.to_owned(), within.unwrap_or_default()];
    for judgement in report.budgets.iter().filter(|b| b.verdict != Verdict::Met) {
        explain(judgement, file, &shown, paint, out)?;
    }
    Ok(())
}

fn row(judgement: &Judgement, paint: Paint) -> Vec<String> {
    let number = |value: f64| figure(value, &judgement.unit);
    let margin = judgement.margin.map_or_else(String::new, |m| format!("{:+.0} %", 100.0 * m));
    let between = match (judgement.observed_low, judgement.observed_high) {
        // What is known exactly needs no bounds.
        (Some(low), Some(high)) if number(low) == number(high) => String::new(),
        (Some(low), Some(high)) => format!("{} to {}", number(low), number(high)),
        (Some(low), None) => format!("{} or more", number(low)),
        (None, Some(high)) => format!("{} or less", number(high)),
        _ => String::new(),
    };
    vec![
        mark(judgement.verdict, paint),
        margin,
        judgement.observed.map_or_else(String::new, |observed| {
            let unit = if judgement.unit == "share" { " %" } else { "" };
            format!("{}{unit}", number(observed))
        }),
        paint.faint(&between),
        limit(judgement),
        plain(&judgement.budget).into_owned(),
    ]
}

/// The limit; of a relation its sign, what the right figure was, and the tolerance.
fn limit(judgement: &Judgement) -> String {
    let written = plain(&judgement.limit);
    let Some(compared) = judgement.compared else { return written.into_owned() };
    let sign = written.split_whitespace().find(|word| word.starts_with(['<', '>', '=']));
    let unit = if judgement.unit == "share" { " %" } else { "" };
    let tolerance = written.split_once("+-").map(|(_, tolerance)| format!(" +-{tolerance}"));
    format!(
        "{} {}{unit}{}",
        sign.unwrap_or_default(),
        figure(compared, &judgement.unit),
        tolerance.unwrap_or_default()
    )
}

fn figure(value: f64, unit: &str) -> String {
    match unit {
        "share" => percent(value),
        "ns" => duration_ns(value),
        "hertz" => format!("{value:.1} Hz"),
        "value" => Number(value).to_string(),
        _ => count(value as u64),
    }
}

/// A verdict as word and mark; colour only repeats it.
fn mark(verdict: Verdict, paint: Paint) -> String {
    match verdict {
        Verdict::Broken => paint.alarm("! broken"),
        Verdict::Undecided => paint.alarm("? undecided"),
        Verdict::Met => "= met".to_owned(),
    }
}

fn explain(
    judgement: &Judgement,
    file: &str,
    [capture, within]: &[String; 2],
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let name = plain(&judgement.budget);
    let word = if judgement.verdict == Verdict::Broken { "broken" } else { "undecided" };
    writeln!(out)?;
    writeln!(out, "{} {word} ({}:{})", paint.strong(&name), plain(file), judgement.line)?;
    if judgement.subject.starts_with("relation.") {
        writeln!(out, "  must hold: {}", plain(&judgement.limit))?;
    }
    writeln!(out, "  evidence: {}", plain(&judgement.evidence))?;
    if let Some(name) = judgement.subject.strip_prefix("function.") {
        // Calls and their time, or the share of all time.
        let of_calls = !judgement.budget.ends_with(".self_share");
        let tail = if of_calls { format!("--of {}", shell(name)) } else { "--by line".into() };
        if of_calls || judgement.verdict == Verdict::Broken {
            writeln!(out, "  look closer: weltblick profile {capture} {tail}{within}")?;
        }
    }
    for (kind, command) in [("interrupt.", "interrupts"), ("task.", "tasks")] {
        if let Some(name) = judgement.subject.strip_prefix(kind) {
            let name = shell(name);
            writeln!(out, "  look closer: weltblick {command} {capture} {name} --worst 3{within}")?;
        }
    }
    for (kind, command) in [("signal.", "signals"), ("span.", "timeline")] {
        if let Some(name) = judgement.subject.strip_prefix(kind) {
            let points = name.split("..").map(shell).collect::<Vec<_>>().join(" ");
            let tail = match (kind, name.contains("..")) {
                ("span.", true) => {
                    writeln!(out, "  look closer: weltblick span {capture} {points}{within}")?;
                    continue;
                }
                ("span.", false) => format!("--lanes {points}"),
                _ => points,
            };
            writeln!(out, "  look closer: weltblick {command} {capture} {tail}{within}")?;
        }
    }
    if let Some(advice) = &judgement.advice {
        let more = judgement
            .measure_longer_ns
            .map_or_else(String::new, |ns| format!(" ({} more)", duration_ns(ns)));
        writeln!(out, "  to decide it: {}{more}", plain(advice))?;
    }
    Ok(())
}

/// For spreadsheets.
pub(crate) fn csv(report: &CheckReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "budget",
        "line",
        "verdict",
        "limit",
        "unit",
        "observed",
        "observed_low",
        "observed_high",
        "compared",
        "compared_low",
        "compared_high",
        "margin",
        "evidence",
        "advice",
        "measure_longer_ns",
        "objections",
    ])?;
    for judgement in &report.budgets {
        let number = |field: Option<f64>| field.map(|n| n.to_string()).unwrap_or_default();
        let objections: Vec<&str> = judgement.objections.iter().map(|o| o.code.as_str()).collect();
        let verdict = match judgement.verdict {
            Verdict::Broken => "broken",
            Verdict::Undecided => "undecided",
            Verdict::Met => "met",
        };
        csv.write_record([
            cell(&judgement.budget).as_ref(),
            &judgement.line.to_string(),
            verdict,
            &judgement.limit,
            &judgement.unit,
            &number(judgement.observed),
            &number(judgement.observed_low),
            &number(judgement.observed_high),
            &number(judgement.compared),
            &number(judgement.compared_low),
            &number(judgement.compared_high),
            &number(judgement.margin),
            cell(&judgement.evidence).as_ref(),
            cell(judgement.advice.as_deref().unwrap_or_default()).as_ref(),
            &number(judgement.measure_longer_ns),
            &objections.join(" "),
        ])?;
    }
    csv.flush()?;
    Ok(())
}

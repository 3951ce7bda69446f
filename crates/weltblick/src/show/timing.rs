//! What the faces of interrupts and tasks share.

use super::moment::{closer, moment};
use super::statistic::{Marks, figure, max};
use super::{Align, Paint, Table, count, plain};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::statistic::Statistic;

/// How to write the text.
pub(crate) struct Look<'a> {
    pub(crate) paint: Paint,
    pub(crate) capture: &'a str,
    /// It, and the options that it was read with, as a shell takes them.
    pub(crate) again: &'a str,
    /// All statistics of each, not only the telling ones.
    pub(crate) detailed: bool,
    /// The worst cases have their parts.
    pub(crate) explained: bool,
    /// An instruction trace tells: what ran there can be seen.
    pub(crate) by_flow: bool,
}

/// A column of numbers.
pub(crate) const fn right(name: &str) -> (&str, Align) {
    (name, Align::Right)
}

/// How regularly one of them came.
pub(crate) struct Regular<'a> {
    pub(crate) name: &'a str,
    pub(crate) period: &'a Statistic,
    pub(crate) jitter: &'a Statistic,
    /// Of what is periodic: places on its grid where nothing was.
    pub(crate) missed: Option<u64>,
}

/// How regularly each came; those that came once are left out.
pub(crate) fn regularity<'a>(
    title: &str,
    what: &str,
    rows: impl Iterator<Item = Regular<'a>>,
    marks: &mut Marks,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let rows: Vec<Regular<'a>> = rows.filter(|row| row.period.count > 0).collect();
    if rows.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{title}")?;
    let columns = [
        right("mean"),
        right("min"),
        right("max"),
        right("stddev"),
        right("jitter max"),
        right("missed"),
        (what, Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    for &Regular { name, period, jitter, missed } in &rows {
        table.row([
            figure(period.mean.as_ref()),
            figure(period.min.as_ref()),
            max(period),
            figure(period.stddev.as_ref()),
            max(jitter),
            missed.map_or_else(String::new, count),
            plain(name).into_owned(),
        ]);
    }
    table.write(out)?;
    let shown = rows.iter().flat_map(|row| {
        let Statistic { min, mean, max, stddev, .. } = row.period;
        [mean, min, max, stddev, &row.jitter.max].into_iter().flatten()
    });
    marks.explain(shown, paint, out)
}

/// The heading of the worst cases, and why they have no parts if they have none.
pub(crate) fn worst_heading(look: &Look<'_>, out: &mut dyn Write) -> Result<()> {
    writeln!(out, "\nthe worst of each")?;
    if !look.explained {
        let text = "  not explained: standard input cannot be read a second time; give a file";
        writeln!(out, "{}", look.paint.faint(text))?;
    }
    Ok(())
}

/// The command that looks closer at a stretch of time.
pub(crate) fn look_closer(
    look: &Look<'_>,
    from: f64,
    until: f64,
    out: &mut dyn Write,
) -> Result<()> {
    if !look.by_flow {
        return closer(look.again, from, until, look.paint, out);
    }
    let line = format!("    -> weltblick flow {} --around {}", look.again, moment(from));
    writeln!(out, "{}", look.paint.faint(&line))?;
    Ok(())
}

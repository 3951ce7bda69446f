//! Figures of many durations, in columns.

use super::picture::Bars;
use super::{Align, Paint, Table, count, duration_ns, level, range_ns};
use anyhow::Result;
use std::io::Write;
use weltblick_core::figure::ObjectionRow;
use weltblick_core::measure::duration::Duration;
use weltblick_core::measure::known::{Often, Part};
use weltblick_core::measure::statistic::{Distribution, Statistic};
use weltblick_core::stats::Bounds;

/// Windows that are narrower than this part of a duration do not show in its digits.
const SHOWS: f64 = 0.01;
/// Wider ones are stated as ranges: their middle says nothing.
const WIDE: f64 = 0.2;

/// Stands before what was seen, where the true figure may be another.
const SEEN: &str = "~";
/// Stands before what was seen, where nothing bounds what it may be at most.
const OR_MORE: &str = ">= ";
/// Stands before what was seen, where it may be less.
const OR_LESS: &str = "<= ";

/// A duration as it was seen, its window where that shows, and a mark where the true one may be another.
pub(crate) fn stated(duration: &Duration) -> String {
    let &Duration { ns, ns_low, ns_high, seen, .. } = duration;
    let known = Bounds { low: ns_low, high: ns_high.unwrap_or(f64::INFINITY) };
    let seen = seen.unwrap_or(known);
    let is_same = |a: f64, b: f64| a == b || (a - b).abs() <= SHOWS * ns;
    match (is_same(known.low, seen.low), is_same(known.high, seen.high)) {
        (true, true) if known.high.is_finite() => window(ns, seen),
        (true, _) if known.high.is_finite() => range_ns(known.low, known.high),
        (true, _) if seen.low > 0.0 => format!("{OR_MORE}{}", duration_ns(seen.low)),
        (false, true) => format!("{OR_LESS}{}", duration_ns(seen.high)),
        _ => format!("{SEEN}{}", window(ns, seen)),
    }
}

/// How many there were, with a `+` where there may have been more.
pub(crate) fn number(often: Often) -> String {
    let mark = if often.count_high == Some(often.count) { "" } else { "+" };
    format!("{}{mark}", count(often.count))
}

/// What is known to lie between two bounds: as one number, where these do not show.
fn window(ns: f64, Bounds { low, high }: Bounds) -> String {
    let text = duration_ns(ns);
    if high - low > WIDE * ns {
        range_ns(low, high)
    } else if high - low > SHOWS * ns {
        format!("{text} +-{}", duration_ns((high - low) / 2.0))
    } else {
        text
    }
}

/// Which marks have been explained.
#[derive(Debug, Default)]
pub(crate) struct Marks(Vec<&'static str>);

impl Marks {
    /// Explains the marks before these figures, each once.
    pub(crate) fn explain<'d>(
        &mut self,
        shown: impl Iterator<Item = &'d Duration> + Clone,
        paint: Paint,
        out: &mut dyn Write,
    ) -> Result<()> {
        for (mark, text) in [
            (OR_MORE, ">=: or more, for nothing bounds what is missing"),
            (OR_LESS, "<=: or less, for something is missing"),
            (SEEN, "~: as it was seen; with what is missing it may be another"),
        ] {
            let is_there = |duration: &Duration| stated(duration).starts_with(mark);
            if !self.0.contains(&mark) && shown.clone().any(is_there) {
                writeln!(out, "{}", paint.faint(&format!("  {text}")))?;
                self.0.push(mark);
            }
        }
        Ok(())
    }
}

/// A duration, or nothing.
pub(crate) fn figure(duration: Option<&Duration>) -> String {
    duration.map_or_else(String::new, stated)
}

/// The longest of many, or nothing.
pub(crate) fn max(statistic: &Statistic) -> String {
    figure(statistic.max.as_ref())
}

/// The mean of many as one number, or nothing: overviews have no room for its window.
pub(crate) fn mean(statistic: &Statistic) -> String {
    statistic.mean.as_ref().map_or_else(String::new, one)
}

/// A duration as one number, with a mark where the true one may be another.
pub(crate) fn one(duration: &Duration) -> String {
    let stated = stated(duration);
    let is_marked = [SEEN, OR_MORE, OR_LESS].iter().any(|mark| stated.starts_with(mark));
    format!("{}{}", if is_marked { SEEN } else { "" }, duration_ns(duration.ns))
}

/// All figures of several statistics, the worst first; those without any are left out.
pub(crate) fn table(
    rows: &[(String, Option<&Statistic>)],
    marks: &mut Marks,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let columns = ["max", "p99", "p95", "p50", "mean", "min", "stddev"];
    let mut columns: Vec<(&str, Align)> =
        columns.into_iter().map(|name| (name, Align::Right)).collect();
    columns.push(("", Align::Left));
    let mut table = Table::new(paint, &columns);
    for (name, statistic) in rows {
        let Some(Statistic { count: _, min, mean, p50, p95, p99, max, stddev }) = statistic else {
            continue;
        };
        let figures = [max, p99, p95, p50, mean, min, stddev];
        if figures.iter().all(|figure| figure.is_none()) {
            continue;
        }
        let cells = figures.map(|d| figure(d.as_ref()));
        let are_bounds_hidden = cells.iter().any(|cell| cell.starts_with(SEEN));
        table.row(cells.into_iter().chain([name.clone()]));
        if are_bounds_hidden {
            let bounds = figures.map(|d| d.as_ref().map_or_else(String::new, hidden_bounds));
            table.row(bounds.into_iter().chain(["  between".to_owned()]));
        }
    }
    table.write(out)?;
    let shown = rows.iter().filter_map(|(_, statistic)| *statistic);
    marks.explain(shown.flat_map(all), paint, out)
}

/// All figures of a statistic.
pub(crate) fn all(statistic: &Statistic) -> impl Iterator<Item = &Duration> + Clone {
    let Statistic { count: _, min, mean, p50, p95, p99, max, stddev } = statistic;
    [min, mean, p50, p95, p99, max, stddev].into_iter().flatten()
}

/// The bounds of a figure that is shown as it was seen.
fn hidden_bounds(duration: &Duration) -> String {
    match duration.ns_high {
        _ if !stated(duration).starts_with(SEEN) => String::new(),
        Some(high) => range_ns(duration.ns_low, high),
        None => "unbounded".to_owned(),
    }
}

/// How durations are spread from the shortest to the longest; nothing where they are all the same.
pub(crate) fn distribution(
    name: &str,
    of: &Distribution,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let Distribution { from_ns, until_ns, counts } = of;
    if until_ns <= from_ns {
        return Ok(());
    }
    let highest = counts.iter().max().copied().unwrap_or(0).max(1);
    let bars: String = counts.iter().map(|&n| level(n as f64 / highest as f64)).collect();
    writeln!(
        out,
        "{name} from {} to {}, up to {} in a column",
        duration_ns(*from_ns),
        duration_ns(*until_ns),
        count(highest)
    )?;
    writeln!(out, " {}", paint.accent(bars.trim_end()))?;
    Ok(())
}

/// How many of these durations lie in each of equal parts.
pub(crate) fn spread(counts: &[u64], of: &Statistic) -> Distribution {
    let [from_ns, until_ns] = [of.min, of.max]
        .map(|end| end.map_or(0.0, |end| end.seen.map_or(end.ns_low, |seen| seen.low)));
    Distribution { from_ns, until_ns, counts: counts.to_vec() }
}

/// The same as a picture; nothing where there are none.
pub(crate) fn bars(title: &str, drawn: &Distribution, of: &Statistic) -> Option<Bars> {
    let seen = |duration: Duration| duration.seen.map_or(duration.ns_low, |seen| seen.low);
    let max = of.max?;
    let mark = |name: &str, at: Option<Duration>| {
        let at = at?;
        Some((format!("{name} {}", stated(&at)), seen(at)))
    };
    // What the longest says already is not said twice.
    let high = of.p99.filter(|p99| p99.ns < max.ns * 0.99);
    let marks = [mark("p50", of.p50), mark("p99", high), mark("max", of.max)];
    Some(Bars {
        title: format!("{title}, {} times", count(of.count)),
        counts: drawn.counts.clone(),
        from: drawn.from_ns,
        // Columns count by what durations take at least.
        until: drawn.until_ns,
        marks: marks.into_iter().flatten().collect(),
    })
}

/// The ends of a duration in a CSV file: `elapsed_max_ns_low`, and what was seen.
const ENDS: [&str; 4] = ["ns_low", "ns_high", "seen_ns_low", "seen_ns_high"];

/// The columns of a statistic in a CSV file, behind a name.
pub(crate) fn csv_columns(name: &str) -> impl Iterator<Item = String> {
    ["min", "mean", "p50", "p95", "p99", "max", "stddev"]
        .into_iter()
        .flat_map(move |column| ENDS.map(|end| format!("{name}_{column}_{end}")))
}

/// A heading in a CSV file: other columns, those of some statistics, and what speaks against them.
pub(crate) fn csv_heading(names: &[&str], statistics: &[&str]) -> Vec<String> {
    let names = names.iter().map(|&name| name.to_owned());
    let statistics = statistics.iter().flat_map(|name| csv_columns(name));
    names.chain(statistics).chain(["objections".to_owned()]).collect()
}

/// The cells of these statistics, and of what speaks against them: the end of a row.
pub(crate) fn csv_tail<'s>(
    statistics: impl IntoIterator<Item = Option<&'s Statistic>>,
    objections: &[ObjectionRow],
) -> impl Iterator<Item = String> {
    statistics.into_iter().flat_map(csv_cells).chain([csv_objections(objections)])
}

/// The cells that belong there; what is absent is empty.
pub(crate) fn csv_cells(statistic: Option<&Statistic>) -> impl Iterator<Item = String> {
    let none = Statistic::default();
    let Statistic { count: _, min, mean, p50, p95, p99, max, stddev } =
        statistic.cloned().unwrap_or(none);
    [min, mean, p50, p95, p99, max, stddev].into_iter().flat_map(|duration| {
        let seen =
            duration.map(|d| d.seen.map_or((d.ns_low, d.ns_high), |s| (s.low, Some(s.high))));
        let cell = |ns: Option<f64>| ns.map_or_else(String::new, |ns| ns.to_string());
        let [low, high] = csv_bounds(duration);
        [low, high, cell(seen.map(|seen| seen.0)), cell(seen.and_then(|seen| seen.1))]
    })
}

/// How many, and how often, as cells; what is absent is empty.
pub(crate) fn csv_often(often: Often) -> [String; 5] {
    let cell = |bound: Option<f64>| bound.map_or_else(String::new, |bound| bound.to_string());
    let Often { count, count_high, rate, rate_low, rate_high } = often;
    let count_high = count_high.map_or_else(String::new, |high| high.to_string());
    [count.to_string(), count_high, rate.to_string(), rate_low.to_string(), cell(rate_high)]
}

/// A part and its bounds as cells.
pub(crate) fn csv_part(part: Option<Part>) -> [String; 3] {
    let ends = part.map(|Part { share, share_low, share_high }| [share, share_low, share_high]);
    ends.map_or_else(Default::default, |ends| ends.map(|end| end.to_string()))
}

/// What speaks against the figures of a row, by its words for programs.
pub(crate) fn csv_objections(objections: &[ObjectionRow]) -> String {
    let codes = objections.iter().map(|row| {
        let figures = row.figures.join("+");
        format!("{}:{figures}", row.objection.code)
    });
    codes.collect::<Vec<_>>().join(" ")
}

/// The columns of what each run, or activation, took.
pub(crate) fn wait_columns() -> impl Iterator<Item = String> {
    ["pending", "elapsed", "response"]
        .into_iter()
        .flat_map(|name| ["low", "high"].map(|end| format!("{name}_ns_{end}")))
}

/// The cells that belong there.
pub(crate) fn wait_cells(
    pending: Option<Duration>,
    elapsed: Duration,
    response: Option<Duration>,
) -> impl Iterator<Item = String> {
    [pending, Some(elapsed), response].into_iter().flat_map(csv_bounds)
}

/// The bounds of a duration as two cells; what is absent is empty.
pub(crate) fn csv_bounds(duration: Option<Duration>) -> [String; 2] {
    let ends = [duration.map(|d| d.ns_low), duration.and_then(|d| d.ns_high)];
    ends.map(|ns| ns.map_or_else(String::new, |ns| ns.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windows_show_where_digits_would_hide_them() {
        let duration = |low: f64, high: f64| Duration {
            ns: f64::midpoint(low, high),
            ns_low: low,
            ns_high: Some(high),
            cycles: None,
            seen: None,
        };
        assert_eq!(stated(&duration(1000.0, 1000.0)), "1.00 us");
        assert_eq!(stated(&duration(999.0, 1001.0)), "1.00 us");
        assert_eq!(stated(&duration(900.0, 1100.0)), "1.00 us +-100 ns");
        assert_eq!(stated(&duration(20.0, 1800.0)), "0.02..1.80 us");
        assert_eq!(stated(&duration(0.0, 1800.0)), "0..1.80 us");
    }

    #[test]
    fn what_was_seen_is_told_from_what_is_known() {
        let seen = |ns: f64, ns_low: f64, ns_high: Option<f64>| {
            let seen = Some(Bounds::exact(ns));
            stated(&Duration { ns, ns_low, ns_high, cycles: None, seen })
        };
        assert_eq!(seen(1000.0, 1000.0, None), ">= 1.00 us");
        assert_eq!(seen(1000.0, 0.0, None), "~1.00 us");
        assert_eq!(seen(1000.0, 0.0, Some(82_200.0)), "~1.00 us");
        assert_eq!(seen(1000.0, 1000.0, Some(82_200.0)), "1.00..82.2 us");
        assert_eq!(seen(1000.0, 0.0, Some(1000.0)), "<= 1.00 us");
    }
}

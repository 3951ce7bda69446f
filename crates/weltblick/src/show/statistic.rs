//! Figures of many durations, in columns.

use super::picture::Bars;
use super::{Align, Paint, Table, count, duration_ns, level, range_ns};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::duration::Duration;
use weltblick_core::measure::statistic::Statistic;

/// Windows that are narrower than this part of a duration do not show in its digits.
const SHOWS: f64 = 0.01;
/// Wider ones are stated as ranges: their middle says nothing.
const WIDE: f64 = 0.2;

/// A duration, and its window where that shows.
pub(crate) fn stated(duration: &Duration) -> String {
    let text = duration_ns(duration.ns);
    match duration.ns_high {
        Some(high) if high - duration.ns_low > WIDE * duration.ns => {
            range_ns(duration.ns_low, high)
        }
        Some(high) if high - duration.ns_low > SHOWS * duration.ns => {
            format!("{text} +-{}", duration_ns((high - duration.ns_low) / 2.0))
        }
        _ => text,
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
    statistic.mean.map_or_else(String::new, |mean| duration_ns(mean.ns))
}

/// All figures of several statistics, the worst first; those without any are left out.
pub(crate) fn table(
    rows: &[(String, Option<&Statistic>)],
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let columns = ["max", "p99", "p95", "p50", "mean", "min", "stddev"];
    let mut columns: Vec<(&str, Align)> =
        columns.into_iter().map(|name| (name, Align::Right)).collect();
    columns.push(("", Align::Left));
    let mut table = Table::new(paint, &columns);
    for (name, statistic) in rows {
        let Some(Statistic { count: 1.., min, mean, p50, p95, p99, max, stddev }) = statistic
        else {
            continue;
        };
        let mut cells: Vec<String> =
            [max, p99, p95, p50, mean, min, stddev].map(|d| figure(d.as_ref())).to_vec();
        cells.push(name.clone());
        table.row(cells);
    }
    table.write(out)
}

/// How durations are spread from the shortest to the longest; nothing where they are all the same.
pub(crate) fn distribution(
    name: &str,
    counts: &[u64],
    of: &Statistic,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let Some((min, max)) = of.min.zip(of.max).filter(|(min, max)| max.ns > min.ns) else {
        return Ok(());
    };
    let highest = counts.iter().max().copied().unwrap_or(0).max(1);
    let bars: String = counts.iter().map(|&n| level(n as f64 / highest as f64)).collect();
    writeln!(
        out,
        "{name} from {} to {}, up to {} in a column",
        duration_ns(min.ns_low),
        duration_ns(max.ns_high.unwrap_or(max.ns)),
        count(highest)
    )?;
    writeln!(out, " {}", paint.accent(bars.trim_end()))?;
    Ok(())
}

/// The same as a picture; nothing where there are none.
pub(crate) fn bars(title: &str, counts: &[u64], of: &Statistic) -> Option<Bars> {
    let (min, max) = of.min.zip(of.max)?;
    let mark = |name: &str, at: Option<Duration>| {
        let at = at?;
        Some((format!("{name} {}", stated(&at)), at.ns_low))
    };
    // What the longest says already is not said twice.
    let high = of.p99.filter(|p99| p99.ns < max.ns * 0.99);
    let marks = [mark("p50", of.p50), mark("p99", high), mark("max", of.max)];
    Some(Bars {
        title: format!("{title}, {} times", count(of.count)),
        counts: counts.to_vec(),
        from: min.ns_low,
        // Columns count by what durations take at least.
        until: max.ns_low.max(min.ns_low),
        marks: marks.into_iter().flatten().collect(),
    })
}

/// The columns of a statistic in a CSV file, behind a name: `elapsed_max_ns_low`, `elapsed_max_ns_high`.
pub(crate) fn csv_columns(name: &str) -> impl Iterator<Item = String> {
    ["min", "mean", "p50", "p95", "p99", "max", "stddev"]
        .into_iter()
        .flat_map(move |column| ["low", "high"].map(|end| format!("{name}_{column}_ns_{end}")))
}

/// The cells that belong there; what is absent is empty.
pub(crate) fn csv_cells(statistic: Option<&Statistic>) -> impl Iterator<Item = String> {
    let none = Statistic::default();
    let Statistic { count: _, min, mean, p50, p95, p99, max, stddev } =
        statistic.cloned().unwrap_or(none);
    [min, mean, p50, p95, p99, max, stddev].into_iter().flat_map(csv_bounds)
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
        };
        assert_eq!(stated(&duration(1000.0, 1000.0)), "1.00 us");
        assert_eq!(stated(&duration(999.0, 1001.0)), "1.00 us");
        assert_eq!(stated(&duration(900.0, 1100.0)), "1.00 us +-100 ns");
        assert_eq!(stated(&duration(20.0, 1800.0)), "0.02..1.80 us");
        assert_eq!(stated(&duration(0.0, 1800.0)), "0..1.80 us");
    }
}

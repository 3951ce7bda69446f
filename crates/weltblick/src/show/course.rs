//! Values over time in a terminal: dots in cells of two by four (Unicode's Braille patterns).

use super::{Number, Paint, duration_ns};
use anyhow::Result;
use std::io::Write;

/// How large a chart is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Size {
    /// Lines, without the axis; at least one.
    pub(crate) lines: usize,
    /// Cells of a line, without the scale at the left; at least one.
    pub(crate) cells: usize,
}

/// In results that scroll by.
pub(crate) const USUAL: Size = Size { lines: 8, cells: 76 };
/// Characters at the left of a chart.
pub(crate) const SCALE: usize = 12;

/// A stretch that is drawn as one column: from where on, and its values.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Stroke {
    /// A time in nanoseconds, or a number.
    pub(crate) at: f64,
    pub(crate) first: f64,
    pub(crate) min: f64,
    pub(crate) max: f64,
    pub(crate) last: f64,
}

/// What is drawn.
#[derive(Debug)]
pub(crate) struct Plot<'a> {
    pub(crate) strokes: &'a [Stroke],
    /// Where something may be missing, in nanoseconds.
    pub(crate) gaps: &'a [(f64, f64)],
    /// The axis counts values.
    pub(crate) by_number: bool,
    /// What stands between the ends of the axis.
    pub(crate) middle: &'a str,
    pub(crate) size: Size,
}

/// Dots, two across and four down in a cell.
struct Canvas {
    /// Line after line.
    cells: Vec<u8>,
    size: Size,
}

impl Canvas {
    /// Fills a column between two heights, counted from below.
    fn column(&mut self, x: usize, low: usize, high: usize) {
        // Bits of a pattern by line and column (Unicode, block 2800).
        const BITS: [[u8; 2]; 4] = [[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]];
        let Size { lines, cells } = self.size;
        if x / 2 >= cells {
            return;
        }
        for y in low..=high.min(4 * lines - 1) {
            let down = 4 * lines - 1 - y;
            self.cells[down / 4 * cells + x / 2] |= BITS[down % 4][x % 2];
        }
    }
}

/// The range of values, with its width; never empty.
fn span(strokes: &[Stroke]) -> Option<(f64, f64)> {
    let low = strokes.iter().map(|stroke| stroke.min).reduce(f64::min)?;
    let high = strokes.iter().map(|stroke| stroke.max).reduce(f64::max)?;
    Some((low, high))
}

/// Draws a chart, its scale at the left, times and gaps beneath.
pub(crate) fn plot(plot: &Plot<'_>, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let Some((low, high)) = span(plot.strokes) else { return Ok(()) };
    let (start, end) = (plot.strokes[0].at, plot.strokes[plot.strokes.len() - 1].at);
    let Size { lines: tall, cells } = plot.size;
    let columns = 2 * cells;
    let width = (end - start).max(f64::MIN_POSITIVE);
    let across = |at: f64| (((at - start) / width) * (columns - 1) as f64).round() as usize;
    let highest = (4 * tall - 1) as f64;
    let up = |value: f64| match high > low {
        true => (((value - low) / (high - low)) * highest).round() as usize,
        false => 2 * tall,
    };
    let mut canvas = Canvas { cells: vec![0; tall * cells], size: plot.size };
    let mut before: Option<&Stroke> = None;
    for stroke in plot.strokes {
        let x = across(stroke.at);
        canvas.column(x, up(stroke.min), up(stroke.max));
        if let Some(before) = before {
            let apart = plot.gaps.iter().any(|gap| gap.1 > before.at && gap.0 < stroke.at);
            if !apart {
                // The last value held until this one came.
                let held = up(before.last);
                (across(before.at)..x).for_each(|x| canvas.column(x, held, held));
                let (from, to) = (held.min(up(stroke.first)), held.max(up(stroke.first)));
                canvas.column(x, from, to);
            }
        }
        before = Some(stroke);
    }
    lines(&canvas, (low, high), paint, out)?;
    feet(plot, (start, end), &across, paint, out)
}

fn lines(
    canvas: &Canvas,
    (low, high): (f64, f64),
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let Size { lines: tall, cells } = canvas.size;
    let labels = [(0, high), (tall - 1, low)];
    for (number, line) in canvas.cells.chunks(cells).enumerate() {
        let label = labels.iter().find(|(at, _)| *at == number).filter(|_| high > low);
        // All the same: one label, in the middle.
        let same = (high <= low && number == (tall / 2).saturating_sub(1)).then_some(high);
        let label = label.map(|(_, value)| *value).or(same);
        let label = label.map_or_else(String::new, |value| Number(value).to_string());
        let text: String =
            line.iter().map(|&bits| if bits == 0 { ' ' } else { braille(bits) }).collect();
        let head = paint.faint(&format!("{label:>10} |"));
        writeln!(out, "{head}{}", paint.accent(text.trim_end()))?;
    }
    Ok(())
}

fn braille(bits: u8) -> char {
    char::from_u32(0x2800 + u32::from(bits)).unwrap_or(' ')
}

/// Marks of gaps, and the ends of the axis.
fn feet(
    plot: &Plot<'_>,
    (start, end): (f64, f64),
    across: &dyn Fn(f64) -> usize,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let cells = plot.size.cells;
    let mut marks = vec![' '; cells];
    for &(from, until) in plot.gaps.iter().filter(|gap| gap.1 >= start && gap.0 <= end) {
        let marked = across(from.max(start)) / 2..=(across(until.min(end)) / 2).min(cells - 1);
        marks[marked].fill('o');
    }
    let marks: String = marks.into_iter().collect();
    if !marks.trim().is_empty() {
        writeln!(out, "{:>10}  {}", "", paint.alarm(marks.trim_end()))?;
    }
    let shown = |at: f64| if plot.by_number { format!("#{at:.0}") } else { duration_ns(at) };
    let (left, right) = (shown(start), shown(end));
    let room = cells.saturating_sub(left.len() + right.len());
    let middle = if plot.middle.chars().count() + 2 <= room { plot.middle } else { "" };
    let line = format!("{:>10}  {left}{middle:^room$}{right}", "");
    writeln!(out, "{}", paint.faint(&line))?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cli::Color;
    use proptest::prelude::*;

    fn drawn(strokes: &[Stroke], gaps: &[(f64, f64)]) -> String {
        let mut out = Vec::new();
        let paint = Paint::new(Color::Never);
        let whole = Plot { strokes, gaps, by_number: false, middle: "a signal", size: USUAL };
        plot(&whole, paint, &mut out).unwrap();
        String::from_utf8(out).unwrap()
    }

    fn stroke(at: f64, value: f64) -> Stroke {
        Stroke { at, first: value, min: value, max: value, last: value }
    }

    #[test]
    fn a_step_is_a_step_and_a_gap_is_a_gap() {
        let steps = [stroke(0.0, 1.0), stroke(5e6, 2.0), stroke(1e7, 1.0)];
        let text = drawn(&steps, &[]);
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines.len(), USUAL.lines + 1, "{text}");
        assert!(lines[0].starts_with("         2 |"), "{text}");
        assert!(lines[USUAL.lines - 1].starts_with("         1 |⣀⣀⣀"), "{text}");
        assert!(lines[USUAL.lines].trim_start().starts_with("0 ns"), "{text}");
        let with_gap = drawn(&steps, &[(1e6, 2e6)]);
        assert!(with_gap.lines().nth(USUAL.lines).unwrap().contains('o'), "{with_gap}");
        assert!(!with_gap.lines().nth(USUAL.lines - 1).unwrap().contains("⣀⣀⣀"), "{with_gap}");
    }

    proptest! {
        #[test]
        fn whatever_comes_fits_a_terminal(
            mut points in prop::collection::vec((0.0_f64..1e12, -1e30_f64..1e30), 1..300),
            gaps in prop::collection::vec((0.0_f64..1e12, 0.0_f64..1e9), 0..5),
        ) {
            points.sort_by(|a, b| a.0.total_cmp(&b.0));
            let strokes: Vec<Stroke> = points.iter().map(|&(at, value)| stroke(at, value)).collect();
            let gaps: Vec<(f64, f64)> = gaps.iter().map(|&(at, long)| (at, at + long)).collect();
            for line in drawn(&strokes, &gaps).lines() {
                prop_assert!(line.chars().count() <= SCALE + USUAL.cells, "{line}");
            }
        }
    }
}

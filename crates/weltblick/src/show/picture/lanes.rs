//! A timeline as a picture.

use super::{ALARM, Area, Drawing, FAINT, FIGURE, GROUND, TEXT, WIDTH, drawn, text};
use crate::show::moment::moment;
use crate::show::plain;
use crate::show::timeline::Chart;
use anyhow::Result;
use plotters::prelude::{DrawingBackend, PathElement, RGBColor, Rectangle, Text};
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{Color as _, ShapeStyle};
use weltblick_core::measure::timeline::{CallRow, CellRow};

/// Height of a lane, and of what stands above and below all.
const LANE: i32 = 26;
const HEAD: i32 = 58;
const FOOT: i32 = 44;
/// Where lanes begin and end.
const LEFT: i32 = 170;
const RIGHT: i32 = WIDTH as i32 - 24;
/// A bar that is full, and one of next to nothing.
const BAR: i32 = 18;
const LEAST_BAR: i32 = 7;
/// Names longer than this are cut.
const LONGEST_NAME: usize = 20;
/// Calls narrower than this are bars.
const LEAST_CALL: i32 = 4;
/// Pixels of a letter, about.
const LETTER: i32 = 7;

/// All lanes of a chart.
pub(crate) struct Lanes<'a>(pub(crate) &'a Chart<'a>);

impl Drawing for Lanes<'_> {
    fn height(&self) -> u32 {
        (HEAD + FOOT + LANE * self.0.report.lanes.len().max(1) as i32) as u32
    }

    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        self.title(area)?;
        self.gaps(area)?;
        for (number, lane) in self.0.report.lanes.iter().enumerate() {
            let foot = self.foot(number);
            let name: String = plain(&lane.name).chars().take(LONGEST_NAME).collect();
            let style = text(13, &TEXT).pos(Pos::new(HPos::Right, VPos::Center));
            put(area, &Text::new(name, (LEFT - 10, foot - LANE / 2 + 2), style))?;
            line(area, &[(LEFT, foot), (RIGHT, foot)], FAINT.mix(0.2))?;
            match self.0.values.get(&number) {
                Some(values) => self.value(area, values, foot)?,
                None if matches!(lane.kind.as_str(), "object" | "text" | "access") => {
                    self.moments(area, number, foot)?;
                }
                None => {
                    bars(area, &lane.cells, foot)?;
                    self.calls(area, &lane.calls, foot)?;
                }
            }
        }
        self.axis(area)?;
        self.points(area)
    }
}

/// Draws an element in pixels.
fn put<'a, B: DrawingBackend, E>(area: &Area<B>, element: &'a E) -> Result<()>
where
    &'a E: plotters::element::PointCollection<'a, (i32, i32)>,
    E: plotters::element::Drawable<B>,
{
    area.draw(element).map_err(drawn)
}

fn line<B: DrawingBackend>(
    area: &Area<B>,
    points: &[(i32, i32)],
    style: impl Into<ShapeStyle>,
) -> Result<()> {
    put(area, &PathElement::new(points.to_vec(), style))
}

fn filled<B: DrawingBackend>(
    area: &Area<B>,
    (left, top): (i32, i32),
    (right, foot): (i32, i32),
    color: RGBColor,
) -> Result<()> {
    put(area, &Rectangle::new([(left, top), (right, foot)], color.filled()))
}

/// How a cell is drawn: its kind, and a height in eighths.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Look {
    Nothing,
    Runs(u8),
    Open,
    Wants,
    Waits,
}

impl Look {
    fn of(cell: &CellRow) -> Self {
        match cell {
            CellRow { runs, .. } if *runs > 0.0 => {
                Self::Runs((runs * 8.0).round().clamp(1.0, 8.0) as u8)
            }
            CellRow { preempted, .. } if *preempted > 0.0 => Self::Open,
            CellRow { wants, .. } if *wants > 0.0 => Self::Wants,
            CellRow { waits, .. } if *waits > 0.0 => Self::Waits,
            _ => Self::Nothing,
        }
    }
}

/// Cells that look the same are one shape.
fn bars<B: DrawingBackend>(area: &Area<B>, cells: &[CellRow], foot: i32) -> Result<()> {
    let looks: Vec<Look> = cells.iter().map(Look::of).collect();
    let x = |at: usize| LEFT + (at as f64 / looks.len() as f64 * f64::from(RIGHT - LEFT)) as i32;
    let mut at = 0;
    for run in looks.chunk_by(|a, b| a == b) {
        let (left, right) = (x(at), x(at + run.len()));
        at += run.len();
        // However short, it is seen.
        let right = right.max(left + 1);
        match run[0] {
            Look::Nothing => {}
            Look::Runs(eighths) => {
                let top = foot - LEAST_BAR - (BAR - LEAST_BAR) * i32::from(eighths) / 8;
                filled(area, (left, top), (right, foot - 1), FIGURE)?;
            }
            Look::Open => {
                for x in (left..=right).step_by(4) {
                    line(area, &[(x, foot - 1), ((x + 4).min(right), foot - 6)], FIGURE)?;
                }
            }
            Look::Wants => filled(area, (left, foot - BAR / 2), (right, foot - BAR / 2 + 1), TEXT)?,
            Look::Waits => filled(area, (left, foot - 2), (right, foot - 1), FAINT)?,
        }
    }
    Ok(())
}

impl Lanes<'_> {
    /// The lower edge of a lane.
    fn foot(&self, number: usize) -> i32 {
        HEAD + LANE * (number as i32 + 1)
    }

    /// The lower edge of all.
    fn bottom(&self) -> i32 {
        HEAD + LANE * self.0.report.lanes.len() as i32
    }

    fn x(&self, tick: u64) -> i32 {
        LEFT + (self.0.axis.part(tick) * f64::from(RIGHT - LEFT)) as i32
    }

    fn title<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let spaced = if self.0.axis.spacing.is_some() { ", spaced by events" } else { "" };
        let title = format!("{}{spaced}", plain(self.0.capture));
        put(area, &Text::new(title, (24, 12), text(20, &TEXT)))
    }

    fn gaps<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let tick = |ns: f64| (ns / self.0.axis.ns).round() as u64;
        for gap in &self.0.report.gaps {
            let (left, right) = (self.x(tick(gap.from_ns)), self.x(tick(gap.until_ns)));
            let band = [(left, HEAD), (right.max(left + 2), self.bottom())];
            put(area, &Rectangle::new(band, ALARM.mix(0.25).filled()))?;
            let label = Text::new("o", (left - 3, self.bottom() + 2), text(12, &ALARM));
            put(area, &label)?;
        }
        Ok(())
    }

    /// A stepped line between the smallest and the largest value, which stand at its end.
    fn value<B: DrawingBackend>(
        &self,
        area: &Area<B>,
        values: &[(u64, f64)],
        foot: i32,
    ) -> Result<()> {
        let low = values.iter().map(|(_, value)| *value).fold(f64::INFINITY, f64::min);
        let high = values.iter().map(|(_, value)| *value).fold(f64::NEG_INFINITY, f64::max);
        let up = |value: f64| match high > low {
            true => foot - 2 - ((value - low) / (high - low) * f64::from(BAR - 2)) as i32,
            false => foot - BAR / 2,
        };
        let mut points: Vec<(i32, i32)> = Vec::new();
        for &(tick, value) in values {
            let (x, y) = (self.x(tick), up(value));
            if let Some(&(_, before)) = points.last() {
                points.push((x, before));
            }
            points.push((x, y));
        }
        points.extend(points.last().copied().map(|(_, y)| (RIGHT, y)));
        points.dedup();
        line(area, &points, FIGURE.stroke_width(2))
    }

    /// Ticks, and texts as far as there is room.
    fn moments<B: DrawingBackend>(&self, area: &Area<B>, number: usize, foot: i32) -> Result<()> {
        let own: Vec<(i32, &str)> = self
            .0
            .said
            .iter()
            .filter(|(lane, ..)| *lane == number)
            .map(|(_, tick, text)| (self.x(*tick), text.as_str()))
            .collect();
        for (at, (x, said)) in own.iter().enumerate() {
            line(area, &[(*x, foot - BAR), (*x, foot - 1)], FIGURE.stroke_width(2))?;
            let end = own.get(at + 1).map_or(RIGHT, |(next, _)| *next);
            let room = (end - x - 8) / LETTER;
            if room >= 3 {
                let shown: String = plain(said).chars().take(room as usize).collect();
                let style = text(12, &TEXT).pos(Pos::new(HPos::Left, VPos::Center));
                put(area, &Text::new(shown, (x + 5, foot - LANE / 2 + 2), style))?;
            }
        }
        Ok(())
    }

    /// Calls that are wide enough, each with as much of its name as fits.
    fn calls<B: DrawingBackend>(&self, area: &Area<B>, calls: &[CallRow], foot: i32) -> Result<()> {
        let x = |ns: f64| self.x((ns / self.0.axis.ns).round() as u64);
        for call in calls {
            let (left, right) = (x(call.from_ns), x(call.until_ns));
            if right - left < LEAST_CALL {
                continue;
            }
            let bar = [(left, foot - BAR - 2), (right - 1, foot - 1)];
            put(area, &Rectangle::new(bar, GROUND.filled()))?;
            put(area, &Rectangle::new(bar, FIGURE.mix(0.16).filled()))?;
            put(area, &Rectangle::new(bar, FIGURE.stroke_width(1)))?;
            let room = (right - left - 8) / LETTER;
            if room >= 3 {
                let shown: String = plain(&call.function).chars().take(room as usize).collect();
                let style = text(12, &TEXT).pos(Pos::new(HPos::Left, VPos::Center));
                put(area, &Text::new(shown, (left + 5, foot - LANE / 2 + 2), style))?;
            }
        }
        Ok(())
    }

    fn axis<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        line(area, &[(LEFT, self.bottom()), (RIGHT, self.bottom())], FAINT)?;
        for eighth in 0..=8 {
            let part = f64::from(eighth) / 8.0;
            let x = LEFT + (part * f64::from(RIGHT - LEFT)) as i32;
            line(area, &[(x, self.bottom()), (x, self.bottom() + 5)], FAINT)?;
            let side = if eighth == 8 { HPos::Right } else { HPos::Center };
            let style = text(12, &TEXT).pos(Pos::new(side, VPos::Top));
            put(area, &Text::new(moment(self.0.axis.ns_at(part)), (x, self.bottom() + 14), style))?;
        }
        Ok(())
    }

    /// The points that were asked for, from top to foot.
    fn points<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        for (number, point) in self.0.marked.iter().enumerate() {
            let x = self.x(point.tick);
            line(area, &[(x, HEAD - 4), (x, self.bottom())], TEXT)?;
            let ns = point.tick as f64 * self.0.axis.ns;
            let label = format!("{} {} at {}", point.letter, plain(&point.name), moment(ns));
            let side = if x > (LEFT + RIGHT) / 2 { HPos::Right } else { HPos::Left };
            let style = text(13, &TEXT).pos(Pos::new(side, VPos::Bottom));
            let above = HEAD - 4 - 15 * number as i32;
            put(area, &Text::new(label, (x, above), style))?;
        }
        Ok(())
    }
}

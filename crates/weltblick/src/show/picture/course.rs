//! Values over time, with one scale or two; and an array over its index.

use super::{ALARM, Area, Drawing, FAINT, FIGURE, TEXT, drawn, text};
use crate::show::{Number, duration_ns, plain};
use anyhow::Result;
use plotters::chart::{ChartBuilder, DualCoordChartContext, SeriesLabelPosition};
use plotters::coord::types::RangedCoordf64;
use plotters::prelude::{
    Cartesian2d, ChartContext, Circle, DashedLineSeries, DrawingBackend, LineSeries, PathElement,
    RGBColor, Rectangle,
};
use plotters::style::Color as _;
use std::ops::Range;

/// Heights of charts in pixels.
const HEIGHT: u32 = 480;
/// Left and right of the plot.
const LABELS: u32 = 90;
/// Values of a curve that are marked one by one, at most.
const MOST_DOTS: usize = 120;
/// Space above and below the values, as a part of their range.
const MARGIN: f64 = 0.06;

/// One signal's course.
#[derive(Debug, Clone)]
pub(crate) struct Curve {
    /// What it is called, with its unit.
    pub(crate) name: String,
    /// Pieces without a gap inside: times in nanoseconds, and values; each holds until the next.
    pub(crate) pieces: Vec<Vec<(f64, f64)>>,
    /// It is drawn against the scale at the right.
    pub(crate) right: bool,
}

/// Several signals over time.
#[derive(Debug, Clone)]
pub(crate) struct Course {
    /// What stands above.
    pub(crate) title: String,
    /// The signals.
    pub(crate) curves: Vec<Curve>,
    /// Where something may be missing, in nanoseconds.
    pub(crate) gaps: Vec<(f64, f64)>,
    /// Without times: the axis counts values.
    pub(crate) by_number: bool,
}

/// The smallest range that holds all of these, with space around.
fn range(values: impl Iterator<Item = f64> + Clone, margin: f64) -> Range<f64> {
    let low = values.clone().fold(f64::INFINITY, f64::min);
    let high = values.fold(f64::NEG_INFINITY, f64::max);
    if !(low.is_finite() && high.is_finite()) {
        return 0.0..1.0;
    }
    let width = high - low;
    // All the same: something must be above and below it.
    let space = if width > 0.0 { width * margin } else { high.abs().max(1.0) * 0.1 };
    (low - space)..(high + space)
}

impl Course {
    fn values(&self, right: bool) -> impl Iterator<Item = f64> + Clone + '_ {
        let curves = self.curves.iter().filter(move |curve| curve.right == right);
        curves.flat_map(|curve| curve.pieces.iter().flatten().map(|(_, value)| *value))
    }

    fn times(&self) -> Range<f64> {
        let curves = self.curves.iter().flat_map(|curve| curve.pieces.iter().flatten());
        range(curves.map(|(at, _)| *at), 0.0)
    }
}

type Plane = Cartesian2d<RangedCoordf64, RangedCoordf64>;
type Chart<'a, B> = ChartContext<'a, B, Plane>;
type Chart2<'a, B> = DualCoordChartContext<'a, B, Plane, Plane>;

impl Drawing for Course {
    fn height(&self) -> u32 {
        HEIGHT
    }

    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let two = self.curves.iter().any(|curve| curve.right);
        let times = self.times();
        let left = range(self.values(false), MARGIN);
        let mut builder = ChartBuilder::on(area);
        builder
            .margin(16)
            .caption(plain(&self.title), text(20, &TEXT))
            .x_label_area_size(44)
            .y_label_area_size(LABELS);
        if two {
            builder.right_y_label_area_size(LABELS);
        }
        let right = range(self.values(true), MARGIN);
        // The second scale takes the right-hand labels, so it comes before the first is drawn.
        let mut chart = builder
            .build_cartesian_2d(times.clone(), left.clone())
            .map_err(drawn)?
            .set_secondary_coord(times, right);
        self.shade(&mut chart, &left)?;
        let dated = |at: &f64| if self.by_number { format!("#{at:.0}") } else { duration_ns(*at) };
        chart
            .configure_mesh()
            .light_line_style(FAINT.mix(0.0))
            .bold_line_style(FAINT.mix(0.18))
            .axis_style(FAINT)
            .label_style(text(14, &TEXT))
            .x_label_formatter(&dated)
            .y_label_formatter(&|value| Number(*value).to_string())
            .draw()
            .map_err(drawn)?;
        if two {
            chart
                .configure_secondary_axes()
                .axis_style(FAINT)
                .label_style(text(14, &TEXT))
                .y_label_formatter(&|value: &f64| Number(*value).to_string())
                .draw()
                .map_err(drawn)?;
        }
        for (number, curve) in self.curves.iter().enumerate() {
            let color = if curve.right { TEXT } else { FIGURE };
            let style = color.stroke_width(2);
            let side = if curve.right { " (right)" } else { "" };
            let label = format!("{}{side}", plain(&curve.name));
            for (at, piece) in curve.pieces.iter().enumerate() {
                let points = held(piece);
                // The second of a scale, and the third, are dashed and dotted.
                let earlier =
                    self.curves[..number].iter().filter(|c| c.right == curve.right).count();
                let dash = [(0, 0), (10, 6), (2, 5)][earlier.min(2)];
                let legend = move |(x, y): (i32, i32)| {
                    let whole = vec![(x, y), (x + 24, y)];
                    let parts = vec![(x, y), (x + 10, y)];
                    PathElement::new(if dash.0 == 0 { whole } else { parts }, style)
                };
                let drawn_line = match (dash.0, curve.right) {
                    (0, false) => chart.draw_series(LineSeries::new(points, style)),
                    (0, true) => chart.draw_secondary_series(LineSeries::new(points, style)),
                    (size, false) => {
                        chart.draw_series(DashedLineSeries::new(points, size, dash.1, style))
                    }
                    (size, true) => chart
                        .draw_secondary_series(DashedLineSeries::new(points, size, dash.1, style)),
                };
                let annotation = drawn_line.map_err(drawn)?;
                if at == 0 {
                    annotation.label(label.clone()).legend(legend);
                }
            }
        }
        self.dots(&mut chart)?;
        chart
            .configure_series_labels()
            .position(SeriesLabelPosition::UpperLeft)
            .margin(8)
            .legend_area_size(34)
            .background_style(super::GROUND.mix(0.85))
            .label_font(text(14, &TEXT))
            .draw()
            .map_err(drawn)
    }
}

impl Course {
    /// Single values show, too; among many nobody looks for them.
    fn dots<B: DrawingBackend>(&self, chart: &mut Chart2<'_, B>) -> Result<()> {
        for curve in &self.curves {
            let color = if curve.right { TEXT } else { FIGURE };
            let all: usize = curve.pieces.iter().map(Vec::len).sum();
            let shown = curve.pieces.iter().filter(|piece| all < MOST_DOTS || piece.len() == 1);
            let dots = shown.flatten().map(|&at| Circle::new(at, 3, dot(&color)));
            match curve.right {
                true => chart.draw_secondary_series(dots).map_err(drawn)?,
                false => chart.draw_series(dots).map_err(drawn)?,
            };
        }
        Ok(())
    }

    /// Marks where something may be missing: hatched, in the colour of trouble.
    fn shade<B: DrawingBackend>(
        &self,
        chart: &mut Chart<'_, B>,
        values: &Range<f64>,
    ) -> Result<()> {
        let gaps = self.gaps.iter().map(|&(from, until)| {
            Rectangle::new([(from, values.start), (until, values.end)], ALARM.mix(0.18).filled())
        });
        chart.draw_series(gaps).map_err(drawn)?;
        // However short: a tick at the foot.
        let foot = values.start + (values.end - values.start) * 0.025;
        let ticks = self.gaps.iter().map(|&(from, until)| {
            let middle = f64::midpoint(from, until);
            PathElement::new(vec![(middle, values.start), (middle, foot)], ALARM.stroke_width(2))
        });
        chart.draw_series(ticks).map_err(drawn)?;
        Ok(())
    }
}

/// A value holds until the next one.
fn held(piece: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let mut points: Vec<(f64, f64)> = Vec::with_capacity(piece.len() * 2);
    for &(at, value) in piece {
        if let Some(&(_, before)) = points.last()
            && before != value
        {
            points.push((at, before));
        }
        points.push((at, value));
    }
    points
}

/// An array over its index.
#[derive(Debug, Clone)]
pub(crate) struct Waveform {
    /// What stands above.
    pub(crate) title: String,
    /// Index and value.
    pub(crate) elements: Vec<(u64, f64)>,
}

impl Drawing for Waveform {
    fn height(&self) -> u32 {
        HEIGHT
    }

    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let points = self.elements.iter().map(|&(index, value)| (index as f64, value));
        let across = range(points.clone().map(|(index, _)| index), 0.01);
        let up = range(points.clone().map(|(_, value)| value), MARGIN);
        let mut chart = ChartBuilder::on(area)
            .margin(16)
            .caption(plain(&self.title), text(20, &TEXT))
            .x_label_area_size(44)
            .y_label_area_size(LABELS)
            .build_cartesian_2d(across, up)
            .map_err(drawn)?;
        chart
            .configure_mesh()
            .light_line_style(FAINT.mix(0.0))
            .bold_line_style(FAINT.mix(0.18))
            .axis_style(FAINT)
            .label_style(text(14, &TEXT))
            .x_label_formatter(&|index| format!("[{index:.0}]"))
            .y_label_formatter(&|value| Number(*value).to_string())
            .draw()
            .map_err(drawn)?;
        // Elements that were never seen interrupt the line.
        for run in self.elements.chunk_by(|a, b| b.0 == a.0 + 1) {
            let line = run.iter().map(|&(index, value)| (index as f64, value));
            chart.draw_series(LineSeries::new(line, FIGURE.stroke_width(2))).map_err(drawn)?;
        }
        let dots = points.map(|at| Circle::new(at, 2, dot(&FIGURE)));
        chart.draw_series(dots).map_err(drawn)?;
        Ok(())
    }
}

fn dot(color: &RGBColor) -> plotters::style::ShapeStyle {
    color.filled()
}

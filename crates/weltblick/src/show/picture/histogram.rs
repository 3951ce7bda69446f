//! How durations are spread, one panel below the other.

use super::{Area, Drawing, FAINT, FIGURE, TEXT, drawn, text};
use crate::show::{count, duration_ns, plain};
use anyhow::Result;
use plotters::chart::ChartBuilder;
use plotters::prelude::{DrawingBackend, PathElement, Rectangle, Text};
use plotters::style::Color as _;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Height of a panel in pixels.
const PANEL: u32 = 260;
/// Panels at most: a picture is no place for hundreds.
const MOST_PANELS: usize = 24;

/// How one figure is spread.
#[derive(Debug, Clone)]
pub(crate) struct Bars {
    /// What stands above.
    pub(crate) title: String,
    /// How many lie in each of equal parts.
    pub(crate) counts: Vec<u64>,
    /// From the shortest to the longest, in nanoseconds.
    pub(crate) from: f64,
    pub(crate) until: f64,
    /// Values to be marked, and what is written beside them.
    pub(crate) marks: Vec<(String, f64)>,
}

/// Several of them.
#[derive(Debug, Clone)]
pub(crate) struct Histograms(pub(crate) Vec<Bars>);

impl Drawing for Histograms {
    fn height(&self) -> u32 {
        PANEL * self.0.len().clamp(1, MOST_PANELS) as u32
    }

    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let rows = self.0.len().clamp(1, MOST_PANELS);
        for (bars, area) in self.0.iter().zip(area.split_evenly((rows, 1))) {
            bars.draw(&area)?;
        }
        Ok(())
    }
}

impl Bars {
    /// Bars on a logarithmic scale: one late case must be as visible as thousands of good ones.
    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let highest = self.counts.iter().max().copied().unwrap_or(0).max(1) as f64;
        let top = height(highest) * 1.18;
        let width = (self.until - self.from).max(1.0);
        let across = self.from..self.from + width;
        let mut chart = ChartBuilder::on(area)
            .margin(12)
            .caption(plain(&self.title), text(17, &TEXT))
            .x_label_area_size(34)
            .y_label_area_size(70)
            .build_cartesian_2d(across, 0.0..top)
            .map_err(drawn)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .disable_y_mesh()
            .axis_style(FAINT)
            .label_style(text(13, &TEXT))
            .x_label_formatter(&|ns| duration_ns(*ns))
            .y_labels(0)
            .draw()
            .map_err(drawn)?;
        let column = width / self.counts.len().max(1) as f64;
        let bars = (0_u32..).zip(&self.counts).filter(|(_, n)| **n > 0).map(|(at, n)| {
            let left = self.from + f64::from(at) * column;
            Rectangle::new(
                [(left, 0.0), (left + column * 0.92, height(*n as f64))],
                FIGURE.filled(),
            )
        });
        chart.draw_series(bars).map_err(drawn)?;
        let (left, above) = area.get_base_pixel();
        let pixel = |at: f64, up: f64| {
            let (x, y) = chart.backend_coord(&(at, up));
            (x - left, y - above)
        };
        let powers = (0..).map(|power| 10_f64.powi(power)).take_while(|&n| n <= highest);
        for n in powers {
            let (x, y) = pixel(self.from, height(n));
            let (end, _) = pixel(self.from + width, height(n));
            area.draw(&PathElement::new(vec![(x, y), (end, y)], FAINT.mix(0.25))).map_err(drawn)?;
            let style = text(13, &TEXT).pos(Pos::new(HPos::Right, VPos::Center));
            area.draw(&Text::new(count(n as u64), (x - 8, y), style)).map_err(drawn)?;
        }
        for (number, (name, at)) in self.marks.iter().enumerate() {
            let ((x, foot), (_, head)) = (pixel(*at, 0.0), pixel(*at, top));
            let line = PathElement::new(vec![(x, foot), (x, head)], TEXT.stroke_width(1));
            area.draw(&line).map_err(drawn)?;
            // Names one below the other, at the side where there is room.
            let (side, shift) =
                if *at > self.from + width * 0.8 { (HPos::Right, -5) } else { (HPos::Left, 5) };
            let style = text(13, &TEXT).pos(Pos::new(side, VPos::Top));
            area.draw(&Text::new(name.clone(), (x + shift, head + 16 * number as i32), style))
                .map_err(drawn)?;
        }
        Ok(())
    }
}

/// A count's height: one is seen, a thousand is not a thousand times as high.
fn height(count: f64) -> f64 {
    if count > 0.0 { 1.0 + count.log10() } else { 0.0 }
}

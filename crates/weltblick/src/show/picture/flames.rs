//! Who called whom, as nested bars: a bar is as wide as what ran in it, callers stand above what they
//! call.

use super::{Area, Drawing, FAINT, FIGURE, TEXT, drawn, text};
use crate::show::tree::{Branch, branches};
use crate::show::{count, duration_ns, percent, plain};
use anyhow::Result;
use plotters::prelude::{DrawingBackend, PathElement, Rectangle, Text};
use plotters::style::Color as _;
use weltblick_core::measure::execution::{Calls, ExactContext};

/// Height of a row in pixels, and of what stands above the first.
const ROW: i32 = 26;
const HEAD: i32 = 64;
const MARGIN: i32 = 16;
/// Deeper rows are not drawn.
const MOST_ROWS: usize = 40;
/// Width of a letter, about.
const LETTER: i32 = 7;

/// The picture.
#[derive(Debug, Clone)]
pub(crate) struct Flames {
    title: String,
    roots: Vec<Branch>,
    all: u64,
    rows: usize,
}

impl Flames {
    /// Draws all paths of a recording.
    pub(crate) fn of(calls: &Calls<'_>, context: &ExactContext<'_>) -> Self {
        let roots = branches(calls, context);
        let all: u64 = roots.iter().map(|root| root.total).sum();
        let time = calls.ticks().zip(context.scale);
        let time =
            time.map(|(ticks, scale)| format!(" in {}", duration_ns(ticks as f64 * scale.ns)));
        let title =
            format!("{} instructions{}", count(calls.instructions()), time.unwrap_or_default());
        let rows = roots.iter().map(|root| depth(root, all, 1)).max().unwrap_or(1);
        Self { title, roots, all, rows: rows.min(MOST_ROWS) }
    }
}

/// How many rows a branch takes, as far as they can be seen.
fn depth(branch: &Branch, all: u64, above: usize) -> usize {
    let seen = |child: &&Branch| child.total as f64 / all.max(1) as f64 > 0.0008;
    if above >= MOST_ROWS {
        return 1;
    }
    1 + branch.children.iter().filter(seen).map(|c| depth(c, all, above + 1)).max().unwrap_or(0)
}

impl Drawing for Flames {
    fn height(&self) -> u32 {
        (HEAD + ROW * self.rows as i32 + MARGIN) as u32
    }

    fn draw<B: DrawingBackend>(&self, area: &Area<B>) -> Result<()> {
        let width = area.dim_in_pixel().0 as i32 - 2 * MARGIN;
        area.draw(&Text::new(self.title.as_str(), (MARGIN, 14), text(17, &TEXT))).map_err(drawn)?;
        let legend = "a bar is as wide as what ran in it and below it; callers stand above, hatched ends are its own part";
        area.draw(&Text::new(legend, (MARGIN, 38), text(13, &FAINT))).map_err(drawn)?;
        let mut left = 0;
        for root in &self.roots {
            self.branch(area, root, (left, width), 0)?;
            left += root.total;
        }
        Ok(())
    }
}

impl Flames {
    /// One bar and what stands below it; it begins after `left` of everything.
    fn branch<B: DrawingBackend>(
        &self,
        area: &Area<B>,
        branch: &Branch,
        (left, width): (u64, i32),
        row: usize,
    ) -> Result<()> {
        let across = |part: u64| (part as f64 / self.all.max(1) as f64 * f64::from(width)) as i32;
        let (from, until) = (MARGIN + across(left), MARGIN + across(left + branch.total));
        if until - from < 1 || row >= self.rows {
            return Ok(());
        }
        let top = HEAD + ROW * row as i32;
        let bottom = top + ROW - 3;
        let bar = [(from, top), (until - 1, bottom)];
        area.draw(&Rectangle::new(bar, FIGURE.mix(0.16).filled())).map_err(drawn)?;
        area.draw(&Rectangle::new(bar, FIGURE.stroke_width(1))).map_err(drawn)?;
        let called: u64 = branch.children.iter().map(|child| child.total).sum();
        self.own_part(area, MARGIN + across(left + called), until - 1, (top, bottom))?;
        let share = percent(branch.total as f64 / self.all.max(1) as f64);
        label(area, &format!("{}  {share} %", plain(&branch.name)), (from, until), top)?;
        let mut left = left;
        for child in &branch.children {
            self.branch(area, child, (left, width), row + 1)?;
            left += child.total;
        }
        Ok(())
    }

    /// Hatches the part in which the function itself ran.
    fn own_part<B: DrawingBackend>(
        &self,
        area: &Area<B>,
        from: i32,
        until: i32,
        (top, bottom): (i32, i32),
    ) -> Result<()> {
        let foot = bottom - 5;
        for at in (from..until).step_by(5) {
            let end = (at + 5).min(until);
            let line = PathElement::new([(at, bottom), (end, foot.max(top))], FIGURE.mix(0.8));
            area.draw(&line).map_err(drawn)?;
        }
        Ok(())
    }
}

/// As much of a name as fits.
fn label<B: DrawingBackend>(
    area: &Area<B>,
    name: &str,
    (from, until): (i32, i32),
    top: i32,
) -> Result<()> {
    let room = ((until - from - 8) / LETTER).max(0) as usize;
    if room < 3 {
        return Ok(());
    }
    let length = name.chars().count();
    let shown: String = if length > room {
        name.chars().take(room - 1).chain(['\u{2026}']).collect()
    } else {
        name.to_owned()
    };
    area.draw(&Text::new(shown, (from + 4, top + 4), text(13, &TEXT))).map_err(drawn)
}

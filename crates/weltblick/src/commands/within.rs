//! `--within` for figures that are cut by time.

use crate::sources::Capture;
use anyhow::{Context as _, Result, bail};
use std::ops::Range;
use std::time::Duration;
use weltblick_core::budget::{Point, PointRange};
use weltblick_core::time::Frequency;

/// The window of time that a user means, in cycles of the clock of the timestamps.
pub(crate) fn cycles(range: &PointRange, capture: &Capture) -> Result<Range<u64>> {
    of_clock(range, capture.timestamp_clock())
}

/// The same, in cycles of a clock.
pub(crate) fn of_clock(range: &PointRange, clock: Option<Frequency>) -> Result<Range<u64>> {
    let clock = clock.context(
        "--within needs the core clock: give --core-clock, or `core_clock` in the manifest",
    )?;
    let start = time_of(range.start.as_ref())?.unwrap_or(Duration::ZERO);
    let end = time_of(range.end.as_ref())?;
    if end.is_some_and(|end| end <= start) {
        bail!("--within: the window ends before it starts");
    }
    Ok(clock.cycle_at(start)..end.map_or(u64::MAX, |end| clock.cycle_at(end)))
}

/// The time that a point of `--within` stands for.
pub(crate) fn time_of(point: Option<&Point>) -> Result<Option<Duration>> {
    match point {
        None | Some(Point::First | Point::Last) => Ok(None),
        Some(Point::Time(time)) => Ok(Some(*time)),
        Some(other) => {
            bail!("--within: `{other}` is a point, but this is cut by times, such as 1.2s..1.5s")
        }
    }
}

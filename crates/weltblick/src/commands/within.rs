//! Points and ranges that are times in the end: a time itself, an event, a byte, an occurrence.

use crate::sources::Capture;
use anyhow::{Context as _, Result, bail};
use std::ops::Range;
use std::time::Duration;
use weltblick_core::event::{Origin, Sink};
use weltblick_core::judge::{Occurrence, Point, PointRange, Subject};
use weltblick_core::measure::timeline::{Names, Seek, Target, Turns};
use weltblick_core::measure::windowed::Windowed;
use weltblick_core::time::{Frequency, Window};

/// What to do where no clock is known.
const NO_CLOCK: &str =
    "--within needs the core clock: give --core-clock, or `core_clock` in the manifest";

/// The window of time that a user means, in cycles of the clock of the timestamps.
pub(crate) fn cycles(range: &PointRange, capture: &Capture) -> Result<Range<u64>> {
    // All of it, whatever the clock.
    let begins = matches!(range.start, None | Some(Point::First | Point::Time(Duration::ZERO)));
    if begins && matches!(range.end, None | Some(Point::Last)) {
        return Ok(0..u64::MAX);
    }
    let clock = capture.timestamp_clock().context(NO_CLOCK)?;
    let start = range.start.as_ref().map(|point| edge(point, capture, clock)).transpose()?;
    let end = range.end.as_ref().map(|point| edge(point, capture, clock)).transpose()?;
    ordered(start.unwrap_or(0)..end.unwrap_or(u64::MAX))
}

/// The same in cycles of another clock, for times only.
pub(crate) fn of_clock(range: &PointRange, clock: Option<Frequency>) -> Result<Range<u64>> {
    let clock = clock.context(NO_CLOCK)?;
    let start = time_of(range.start.as_ref())?.map(|time| clock.cycle_at(time));
    let end = time_of(range.end.as_ref())?.map(|time| clock.cycle_at(time));
    ordered(start.unwrap_or(0)..end.unwrap_or(u64::MAX))
}

fn ordered(cycles: Range<u64>) -> Result<Range<u64>> {
    if cycles.end <= cycles.start {
        bail!("--within: the window ends before it starts");
    }
    Ok(cycles)
}

/// An edge of a window.
fn edge(point: &Point, capture: &Capture, clock: Frequency) -> Result<u64> {
    match point {
        Point::First => Ok(0),
        Point::Last => Ok(u64::MAX),
        Point::Time(time) => Ok(clock.cycle_at(*time)),
        other => Ok(moment(other, capture, clock)?.latest),
    }
}

/// The time that a point of `--within` stands for, where only times will do.
pub(crate) fn time_of(point: Option<&Point>) -> Result<Option<Duration>> {
    match point {
        None | Some(Point::First | Point::Last) => Ok(None),
        Some(Point::Time(time)) => Ok(Some(*time)),
        Some(other) => {
            bail!("--within: `{other}` is a point, but this is cut by times, such as 1.2s..1.5s")
        }
    }
}

/// When a point is, in cycles of the clock of the timestamps.
pub(crate) fn moment(point: &Point, capture: &Capture, clock: Frequency) -> Result<Window> {
    if let Point::Time(time) = point {
        return Ok(Window::exact(clock.cycle_at(*time)));
    }
    if capture.reads_standard_input() {
        bail!("`{point}` is looked for in a reading of its own, and standard input comes once");
    }
    let mut seek = match point {
        Point::First => Seek::new(Target::Event(Some(0))),
        Point::Last => Seek::new(Target::Event(None)),
        Point::Event(number) => Seek::new(Target::Event(Some(*number))),
        Point::Byte { stream, offset } => {
            let names = capture.origin_names();
            let origin = names.iter().position(|name| name == stream).with_context(|| {
                format!("`{point}`: there is no stream `{stream}`; there are {}", names.join(", "))
            })?;
            Seek::new(Target::Byte(Origin(origin as u16), *offset))
        }
        Point::Occurrence(occurrence)
            if occurrence.subject == Subject::Task
                && let Some(turns) = capture.turns()? =>
        {
            return turn(occurrence.one()?, turns);
        }
        Point::Occurrence(occurrence) => {
            let target = target(occurrence.one()?, capture)?;
            if let Target::Interrupt(exception) = target
                && let Some(time) = capture.run_near(exception, occurrence.which, occurrence.end)?
            {
                return Ok(time);
            }
            Seek::occurrence(target, occurrence.which, occurrence.end)
        }
        Point::Function { .. } | Point::Line { .. } | Point::Address(_) => {
            if capture.tells_events_by_flow() {
                return super::flow::when(point, capture);
            }
            let Some(alignment) = capture.alignment()? else {
                bail!("`{point}` is a place in the code: when it ran only instruction trace tells")
            };
            let reached = super::flow::when(point, capture)?;
            return alignment.to_itm(reached).with_context(|| {
                format!(
                    "`{point}` is reached, but where that lies in the time of the ITM is not known; --flow-only takes the instruction trace alone"
                )
            });
        }
        Point::Time(_) => unreachable!("a time is a time"),
    };
    capture.replay(&mut seek)?;
    seek.found().with_context(|| match point {
        Point::Occurrence(_) => {
            format!("`{point}` is not there: {} were seen whole", seek.seen())
        }
        _ => format!("`{point}` is not there, or has no time"),
    })
}

/// When a task had one of its turns, where only an instruction trace tells of them.
fn turn(wanted: &Occurrence, turns: &Turns) -> Result<Window> {
    let seen = turns.count(&wanted.name).with_context(|| nothing_called(&wanted.name))?;
    turns.find(wanted).with_context(|| {
        let kept = if turns.cut { ", and more than are kept: name a time" } else { "" };
        format!(
            "`{}` is not there: {seen} were seen whole{kept}",
            Point::Occurrence(wanted.clone())
        )
    })
}

fn nothing_called(name: &str) -> String {
    format!("nothing in this recording is called `{name}`; `tasks` and `timeline` list what is")
}

/// When a point is that is no code, in the cycles that the instruction trace counts.
pub(super) fn in_flow(point: &Point, capture: &Capture) -> Result<Window> {
    capture.require_counted_cycles("name code or a byte")?;
    let clock = capture
        .manifest
        .flow_clock()
        .with_context(|| format!("`{point}`: {}", capture.state_a_clock()))?;
    let alignment = capture.alignment()?;
    let time = match point {
        Point::Time(time) => Window::exact(clock.cycle_at(*time)),
        other if alignment.is_some() || capture.tells_events_by_flow() => {
            moment(other, capture, clock)?
        }
        other => bail!(
            "`{other}` is found among events, and this instruction trace does not share their clock: name code, a time or a byte"
        ),
    };
    let Some(alignment) = alignment else { return Ok(time) };
    if alignment.is_empty() {
        bail!(
            "`{point}`: where the instruction trace lies in the time of the ITM is not known: its interrupts fit nowhere there, or in several places. --flow-only takes times as the instruction trace counts them"
        );
    }
    alignment.to_flow(time).with_context(|| {
        let unplaced = match alignment.unplaced {
            0 => String::new(),
            count => {
                format!(", or it lies in one of {count} stretches of which nobody knows where")
            }
        };
        format!("`{point}`: the instruction trace tells nothing of that time{unplaced}")
    })
}

/// What an occurrence is one of.
pub(super) fn target(occurrence: &Occurrence, capture: &Capture) -> Result<Target> {
    let image = capture.image.as_ref().map(|open| &open.image);
    let name = &occurrence.name;
    if occurrence.subject == Subject::Interrupt {
        let numbers = capture.exceptions_named(name)?;
        let number = numbers[0];
        return Ok(Target::Interrupt(number));
    }
    let mut names = Names::default();
    capture.replay(&mut names)?;
    let text_at = |address| image.and_then(|image| image.text_at(address));
    let number = names.find(occurrence, text_at).with_context(|| nothing_called(name))?;
    Ok(if occurrence.subject == Subject::Task {
        Target::Task(number)
    } else {
        Target::Span(number)
    })
}
/// Reads a window as a recording of its own; all, where there is none.
pub(super) fn windowed(
    window: Option<&Range<u64>>,
    mut sink: &mut dyn Sink,
    read: impl FnOnce(&mut dyn Sink) -> Result<()>,
) -> Result<()> {
    let Some(window) = window else { return read(sink) };
    let mut windowed = Windowed::new(window.start, window.end, &mut sink);
    read(&mut windowed)?;
    windowed.finish();
    Ok(())
}

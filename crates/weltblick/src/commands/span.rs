//! `span`: the time from one point in the code to another.

use super::only::OnlyArgs;
use super::{code_span, spans};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Context as _, Result, bail};
use std::io::Write;
use weltblick_core::capture::LapPoint;
use weltblick_core::judge::{Point, address_of};
use weltblick_core::measure::span::{
    CodeSpanReport, Context, Passages, SpanReport, StatedReport, Way, report,
};

/// How long does it take from one point in the code to another?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The points, first to last: code, where there is an instruction trace (`modem_send`,
    /// `src/dsp/filter.c:83`, `0x08000748`); marks (`irq:adc_ready task:wave_estimator.end`); as `capture
    /// --laps` named them; or the spans that the firmware states. Without any, all laps or spans
    #[arg(value_name = "POINT", index = 2)]
    pub(super) points: Vec<Point>,
    /// Show so many of the longest; 0 shows all
    #[arg(long, value_name = "TIMES", default_value_t = 5)]
    pub(super) top: usize,
    /// Follow a way from one thread or handler to another: from an interrupt to the task that it wakes, say
    #[arg(long)]
    pub(super) across: bool,
    #[command(flatten)]
    pub(super) callers: CallersArgs,
    #[command(flatten)]
    pub(super) part: OnlyArgs,
    #[command(flatten)]
    pub(super) output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

/// Who called where a way begins.
#[derive(Debug, clap::Args)]
pub(super) struct CallersArgs {
    /// Only ways that begin inside of a call of this function, of one in this file (`*` stands for anything), or
    /// of one that starts in this range (`0x08000100..0x08000200`): called from there, however far
    #[arg(long, value_name = "PATTERN")]
    pub(super) inside: Vec<String>,
    /// Not those that begin inside of such a call
    #[arg(long, value_name = "PATTERN")]
    pub(super) exclude: Vec<String>,
}

impl CallersArgs {
    const fn is_anybody(&self) -> bool {
        self.inside.is_empty() && self.exclude.is_empty()
    }
}

/// What `--format json` writes.
#[derive(schemars::JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only its schema is asked for")]
#[allow(clippy::large_enum_variant, reason = "none is ever made")]
enum Either {
    /// Between points in the code.
    Points(SpanReport),
    /// Between points in the code, as an instruction trace tells it.
    Code(CodeSpanReport),
    /// What the firmware states.
    Stated(StatedReport),
}

/// What is remembered one by one at most.
const MOST_WORST: usize = 1_000_000;

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<Either>(out)?;
        return Ok(Outcome::Done);
    }
    let capture = sources::open(&args.capture)?.telling_tasks();
    if args.has_marks() {
        if args.across || args.part.only.is_some() || !args.callers.is_anybody() {
            bail!(
                "--across, --only, --inside and --exclude go with places in the code, not with marks"
            );
        }
        return spans::run(args, &capture, out);
    }
    let Some((stream, laps)) = capture.manifest.laps() else {
        return if is_about_code(args, &capture) {
            code_span::run(args, &capture, out)
        } else {
            spans::run(args, &capture, out)
        };
    };
    if !args.callers.is_anybody() {
        bail!("--inside and --exclude ask who called, and only an instruction trace tells that");
    }
    let stations = stations(args, &capture, laps)?;
    let clock = capture.clocks().core_clock;
    let top = if args.top == 0 { MOST_WORST } else { args.top };
    let way = Way::new(stations.len(), clock, top);
    let mut passages = Passages::new(stations.iter().map(|(lap, _)| *lap).collect(), way);
    capture.replay_stream(stream, &mut passages)?;
    if passages.way.total.count() == 0 {
        let points: Vec<&str> = stations.iter().map(|(_, name)| name.as_str()).collect();
        bail!(
            "{}: the way {} was passed not once ({} times begun)",
            capture.name.display(),
            points.join(" .. "),
            passages.way.begun()
        );
    }
    let points: Vec<String> = stations.into_iter().map(|(_, name)| name).collect();
    let report = report(&passages.way, &Context { points: &points, clock });
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::span::csv(&report, out)?,
        Format::Text => {
            let paint = Paint::new(args.output.color);
            show::span::text(&report, &capture.name.display().to_string(), paint, out)?;
        }
    }
    Ok(Outcome::Done)
}

impl Args {
    /// Whether any of the points is a mark.
    pub(super) fn has_marks(&self) -> bool {
        self.points.iter().any(|point| matches!(point, Point::Occurrence(_)))
    }
}

/// Whether the points are places in the code, and not spans that the firmware states.
fn is_about_code(args: &Args, capture: &Capture) -> bool {
    if args.across || args.part.only.is_some() {
        return true;
    }
    let states = capture.manifest.itm().is_some() || capture.manifest.event_trace().is_some();
    let image = capture.image.as_ref().map(|open| &open.image);
    let is_code = |point: &Point| image.is_some_and(|image| address_of(point, image).is_ok());
    capture.has_flow() && (!states || args.points.len() > 1 && args.points.iter().any(is_code))
}

/// The lap points that are asked for, and their names.
fn stations(args: &Args, capture: &Capture, laps: &[LapPoint]) -> Result<Vec<(u8, String)>> {
    let mut stations = Vec::new();
    for point in &args.points {
        let lap = find(point, capture, laps).with_context(|| {
            let names: Vec<&str> = laps.iter().map(|lap| lap.name.as_str()).collect();
            format!("`{point}` is none of the lap points of this capture: {}", names.join(", "))
        })?;
        stations.push((lap, laps[usize::from(lap)].name.clone()));
    }
    if args.points.is_empty() {
        stations = (0..).zip(laps).map(|(lap, point)| (lap, point.name.clone())).collect();
    }
    if stations.len() == 1 && args.points.is_empty() {
        // One point alone: from each time to the next.
        stations.push(stations[0].clone());
    }
    if stations.len() < 2 {
        bail!(
            "a span needs two points; give the same one twice for the time from each to the next"
        );
    }
    Ok(stations)
}

/// The lap point that a user means: by its name, else by its address.
fn find(point: &Point, capture: &Capture, laps: &[LapPoint]) -> Option<u8> {
    let name = point.to_string();
    let by_name = laps.iter().position(|lap| lap.name == name);
    let address = match point {
        Point::Address(address) => Some(*address & !1),
        _ => capture.image.as_ref().and_then(|open| address_of(point, &open.image).ok()),
    };
    let found = by_name.or_else(|| laps.iter().position(|lap| Some(lap.address) == address))?;
    u8::try_from(found).ok()
}

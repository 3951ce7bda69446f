//! `console`: the text that the firmware printed, with times.

use super::within;
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::console::{Face, LineRow};
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::{Result, bail};
use std::cell::RefCell;
use std::io::Write;
use std::ops::ControlFlow;
use weltblick_core::image::Image;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::console::{Console, End, Line, Reading, Source, format};
use weltblick_core::measure::within::Within;
use weltblick_core::time::Frequency;

/// What did the firmware print, and when?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only these stimulus ports; `marks` are texts whose format stays in the image
    #[arg(long, value_name = "PORT")]
    port: Vec<Port>,
    /// How bytes are read [default: as text, but for ports whose bytes are none: those have a number a write]
    #[arg(long, value_name = "HOW")]
    r#as: Option<As>,
    /// Show the time since the line before, too
    #[arg(long)]
    deltas: bool,
    /// Go on as the capture grows, until interrupted
    #[arg(long, conflicts_with = "within")]
    follow: bool,
    /// Only this stretch of time, such as `1.2s..1.5s`
    #[arg(long, value_name = "A..B")]
    within: Option<PointRange>,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    capture: CaptureArgs,
}

/// `--port`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Port {
    Stimulus(u32),
    Marks,
}

/// `--as`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum As {
    /// As text, whatever they are
    Text,
    /// Each write as a number in hexadecimal
    Hex,
}

impl From<As> for Reading {
    fn from(asked: As) -> Self {
        match asked {
            As::Text => Self::Text,
            As::Hex => Self::Numbers,
        }
    }
}

impl std::str::FromStr for Port {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "marks" => Ok(Self::Marks),
            _ => text
                .parse()
                .map(Self::Stimulus)
                .map_err(|_| "a port is a number, or `marks`".to_owned()),
        }
    }
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<LineRow>(out)?;
        return Ok(Outcome::Done);
    }
    let capture = sources::open(&args.capture)?;
    let image = capture.image.as_ref().map(|open| &open.image);
    let clock = capture.timestamp_clock();
    let paint = Paint::new(args.output.color);
    let face = RefCell::new(Face::new(args.output.format, args.deltas, paint, out)?);
    // A line that cannot be written ends the reading; the sink itself cannot say so.
    let trouble = RefCell::new(None);
    let mut lines = 0_u64;
    let reading = args.r#as.map_or_else(Reading::default, Reading::from);
    let console = Console::new(|line: Line<'_>| {
        if args.port.is_empty() || args.port.contains(&port_of(&line)) {
            lines += 1;
            let written = face.borrow_mut().line(&row(&line, image, clock));
            if let Err(error) = written {
                trouble.borrow_mut().get_or_insert(error);
            }
        }
    });
    let mut console = console.reading(reading);
    if args.follow {
        follow(&capture, &mut console, &face, &trouble)?;
    } else if let Some(range) = &args.within {
        let cycles = within::cycles(range, &capture)?;
        capture.replay(&mut Within::new(cycles.start, cycles.end, &mut console))?;
    } else {
        capture.replay(&mut console)?;
    }
    console.finish();
    let left_out = console.left_out;
    drop(console);
    if let Some(error) = trouble.into_inner() {
        return Err(error);
    }
    face.into_inner().finish()?;
    if left_out > 0 {
        eprintln!("weltblick: {left_out} bytes of more than 1024 ports are left out");
    }
    if lines == 0 && args.output.format == Format::Text {
        bail!(
            "{}: the firmware printed nothing{}; turn its stimulus ports on (ITM_TER; `ports` in a target description)",
            capture.name.display(),
            if args.port.is_empty() { "" } else { " on these ports" },
        );
    }
    Ok(Outcome::Done)
}

fn follow(
    capture: &Capture,
    console: &mut Console<impl FnMut(Line<'_>)>,
    face: &RefCell<Face<'_>>,
    trouble: &RefCell<Option<anyhow::Error>>,
) -> Result<()> {
    if capture.reads_standard_input() {
        // It blocks until there is more.
        return capture.replay(console);
    }
    capture.follow(console, || {
        face.borrow_mut().flush()?;
        let broken = trouble.borrow().is_some();
        Ok(if broken { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    })
}

const fn port_of(line: &Line<'_>) -> Port {
    match line.source {
        Source::Port(port) => Port::Stimulus(port),
        Source::Text { .. } => Port::Marks,
    }
}

fn row(line: &Line<'_>, image: Option<&Image>, clock: Option<Frequency>) -> LineRow {
    let text_at = |address| image.and_then(|image| image.text_at(address));
    let (port, text) = match line.source {
        Source::Port(port) => (Some(port), line.written()),
        Source::Text { format: address, arguments } => {
            let text = match text_at(address) {
                Some(text) => format(text.trim_end_matches('\n'), arguments.as_slice(), text_at),
                None => format!("[no text at {address:#010x}] {:?}", arguments.as_slice()),
            };
            (None, text)
        }
    };
    let ns = |cycle| clock.map(|clock| clock.nanoseconds(cycle));
    LineRow {
        time_ns: line.time.and_then(|time| ns(time.latest)),
        time_ns_low: line.time.and_then(|time| ns(time.earliest)),
        port,
        text,
        incomplete: match line.end {
            End::Whole => None,
            End::Long => Some("long".into()),
            End::Lost => Some("lost".into()),
            End::Finished => Some("end".into()),
        },
        after_loss: line.after_loss,
    }
}

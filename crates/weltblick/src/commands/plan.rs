//! `plan`: does it fit the link, what to write into which register, how long to measure.

use super::counting::{Counted, context};
use crate::cli::{CaptureArgs, Format, OutputArgs, SetupArgs, duration};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Capture, OpenImage};
use anyhow::{Context as _, Result, bail};
use clap::ValueEnum;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;
use weltblick_core::judge::{PointRange, ranges_of};
use weltblick_core::measure::profile::{By, ReportRow, report};
use weltblick_core::plan::{
    Applied, CORES, Core, Description, Interrupt, Link, Measured, PlanReport, Program, Wanted,
    WatchAccess, WatchTrace, Watched, plan, rate,
};
use weltblick_core::time::{Frequency, parse_bit_rate, parse_byte_rate, parse_bytes, parse_share};

/// Shares that are planned for where none is asked for.
const USUAL: [Wanted; 3] = [
    Wanted { share: 0.01, within: 0.002 },
    Wanted { share: 0.05, within: 0.005 },
    Wanted { share: 0.2, within: 0.01 },
];

/// Does it fit the link, what to write into which register, how long to measure?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// A target description; options add to it and go before it
    #[arg(value_name = "TARGET.toml")]
    description: Option<PathBuf>,
    /// Write what `capture --plan` applies into this file
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "out")]
    replace: bool,
    /// A share to be known, with --known-to, for example `5%`
    #[arg(long, value_name = "SHARE", value_parser = parse_share, requires = "known_to")]
    share: Option<f64>,
    /// Half the width of its interval, for example `0.5%`
    #[arg(long, value_name = "SHARE", value_parser = parse_share, requires = "share")]
    known_to: Option<f64>,
    #[command(flatten)]
    output: OutputArgs,
    #[command(flatten)]
    target: TargetArgs,
    #[command(flatten)]
    link: LinkArgs,
    #[command(flatten)]
    observe: ObserveArgs,
}

#[derive(Debug, clap::Args)]
#[command(next_help_heading = "The target")]
struct TargetArgs {
    /// The core
    #[arg(long, value_name = "CORE", value_parser = known_core())]
    core: Option<Core>,
    /// The core clock, for example `48MHz`
    #[arg(long, value_name = "FREQUENCY")]
    core_clock: Option<Frequency>,
    /// The firmware's ELF file, in which variables and functions are looked up
    #[arg(long, value_name = "ELF")]
    image: Option<PathBuf>,
    /// The folder of the ELF file's debug information, where that is in files of its own (.dwo, .dwp)
    #[arg(long, value_name = "FOLDER")]
    debug_info: Option<PathBuf>,
    /// An earlier capture of this firmware: how much it sleeps, and which code would make a buffer
    /// last longer
    #[arg(long, value_name = "CAPTURE")]
    measured: Option<PathBuf>,
    /// The known period of the SysTick interrupt
    #[arg(long, value_name = "TIME", value_parser = duration)]
    tick_period: Option<Duration>,
}

#[derive(Debug, clap::Args)]
#[command(next_help_heading = "The link")]
struct LinkArgs {
    /// What carries the trace
    #[arg(long, value_name = "KIND")]
    link: Option<LinkArg>,
    /// Bits per second of a serial wire, for example `2Mbit/s`
    #[arg(long, value_name = "RATE", value_parser = parse_bit_rate)]
    bit_rate: Option<f64>,
    /// Data pins of a parallel port
    #[arg(long, value_name = "PINS", value_parser = ["1", "2", "4"])]
    port_width: Option<String>,
    /// The clock pin of a parallel port
    #[arg(long, value_name = "FREQUENCY")]
    port_clock: Option<Frequency>,
    /// The size of a buffer on the chip, for example `4KiB`
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes)]
    buffer_size: Option<u64>,
    /// The clock that the trace port divides, where it is not the core clock
    #[arg(long, value_name = "FREQUENCY")]
    trace_clock: Option<Frequency>,
}

/// `--link`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum LinkArg {
    /// Serial wire output, asynchronous
    Uart,
    /// Serial wire output in Manchester code
    Manchester,
    /// Parallel trace port
    Port,
    /// Buffer on the chip
    Buffer,
}

#[derive(Debug, clap::Args)]
#[command(next_help_heading = "What to observe")]
struct ObserveArgs {
    /// Core cycles between PC samples
    #[arg(long, value_name = "CYCLES", value_parser = clap::value_parser!(u64).range(1..))]
    pc_sample_period: Option<u64>,
    /// An interrupt and how often it comes, for example `adc_ready=1kHz`; several may be given
    #[arg(long, value_name = "NAME=RATE", value_parser = named_rate)]
    interrupt: Vec<(String, f64)>,
    /// A variable and how often it is written, for example `ticks=1kHz`; up to four
    #[arg(long, value_name = "NAME=RATE", value_parser = named_rate)]
    watch: Vec<(String, f64)>,
    /// Text that the firmware prints to stimulus port 0, for example `300B/s`
    #[arg(long, value_name = "RATE", value_parser = parse_byte_rate)]
    text: Option<f64>,
    /// No local timestamps
    #[arg(long)]
    no_timestamps: bool,
    /// Trace instructions
    #[arg(long)]
    instructions: bool,
    /// Trace them between these points in the code only, for example `frame_begin..frame_end`
    #[arg(long, value_name = "A..B", requires = "instructions")]
    window: Option<PointRange>,
    /// Trace them in this code only: a function, a file, or `A..B`; several may be given
    #[arg(long, value_name = "CODE", requires = "instructions")]
    inside: Vec<String>,
    /// Do not trace them in this code
    #[arg(long, value_name = "CODE", requires = "instructions")]
    exclude: Vec<String>,
}

fn named_rate(text: &str) -> Result<(String, f64), String> {
    let (name, often) = text.rsplit_once('=').ok_or("write NAME=RATE, for example ticks=1kHz")?;
    Ok((name.to_owned(), rate(often).map_err(|error| error.to_string())?))
}

/// How a file is named beside a plan: from its folder where it lies below that, else whole.
fn seen_from(plan: &Path, file: &Path) -> Option<String> {
    let file = std::path::absolute(file).ok()?;
    let plan = std::path::absolute(plan).ok()?;
    let below = plan.parent().and_then(|folder| file.strip_prefix(folder).ok());
    below.unwrap_or(&file).to_str().map(str::to_owned)
}

/// Reads the name of a core that is known, and lists them.
fn known_core() -> impl TypedValueParser<Value = Core> {
    PossibleValuesParser::new(CORES.map(|core| core.name)).try_map(|name| name.parse::<Core>())
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<PlanReport>(out)?;
        return Ok(Outcome::Done);
    }
    let (description, folder) = describe(args)?;
    let image = match (&args.target.image, &description.image) {
        (Some(path), _) => Some(path.clone()),
        (None, Some(name)) => Some(folder.join(name)),
        (None, None) => None,
    };
    let earlier = args.target.measured.as_deref().map(|path| open_capture(path, image.as_deref()));
    let earlier = earlier.transpose()?;
    let debug_info = args.target.debug_info.as_deref();
    let named = image.map(|path| sources::read_image(&path, debug_info)).transpose()?;
    let open = named.as_ref().or(earlier.as_ref().and_then(|capture| capture.image.as_ref()));
    let variables = open.map(OpenImage::variables).transpose()?;
    let measured = earlier.as_ref().map(measured).transpose()?;
    let program = open.zip(variables.as_ref()).map(|(open, variables)| Program {
        image: &open.image,
        variables,
        measured: measured.as_ref(),
    });
    let asked = args.share.zip(args.known_to).map(|(share, within)| [Wanted { share, within }]);
    let wanted = asked.as_ref().map_or(USUAL.as_slice(), |asked| asked.as_slice());
    check_out(args)?;
    let report = plan(&description, program, wanted)?;
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::plan::csv(&report, out)?,
        Format::Text => show::plan::text(&report, Paint::new(args.output.color), out)?,
    }
    if let Some(path) = &args.out {
        let image = open.and_then(|open| seen_from(path, &open.path));
        let applied = Applied { image, ..Applied::new(&description, &report) };
        fs::write(path, applied.to_toml()).with_context(|| path.display().to_string())?;
        if args.output.format == Format::Text {
            let name = path.display().to_string();
            writeln!(out)?;
            writeln!(
                out,
                "next: weltblick capture SOURCE --plan {} --out FOLDER",
                show::shell(&name)
            )?;
        }
    }
    let fits = report.link.is_none_or(|link| link.fits);
    Ok(if fits { Outcome::Done } else { Outcome::Broken })
}

/// An existing file is not overwritten unasked.
fn check_out(args: &Args) -> Result<()> {
    match &args.out {
        Some(path) if path.exists() && !args.replace => {
            bail!("{}: exists already; choose another --out, or say --replace", path.display())
        }
        _ => Ok(()),
    }
}

/// An earlier capture, with the image that is planned for.
fn open_capture(path: &Path, image: Option<&Path>) -> Result<Capture> {
    let setup = SetupArgs { image: image.map(Path::to_owned), ..SetupArgs::default() };
    sources::open(&CaptureArgs { capture: Some(path.to_owned()), setup }).context("--measured")
}

/// How busy the core was in an earlier capture, and with what.
fn measured(capture: &Capture) -> Result<Measured> {
    let mut counted = Counted::default();
    capture.replay(&mut counted)?;
    let (counts, recording, cadences) = &counted;
    if recording.samples() == 0 {
        bail!("--measured: {} has no program-counter samples", capture.name.display());
    }
    let by = By::Function { inlined: false };
    let report = report(counts, by, &context(capture, recording, cadences, 0)?);
    let image = capture.image()?;
    let function = |row: &ReportRow| {
        let name = row.function.clone()?;
        // Static functions of one name are told apart by their file.
        let alone = image.functions_named(&name).len() == 1;
        let text = match &row.file {
            Some(file) if !alone => format!("{file}#{name}"),
            _ => name,
        };
        let range = ranges_of(&text, Some(image)).ok()?.pop()?;
        Some((text, range, row.share))
    };
    Ok(Measured {
        asleep: recording.asleep as f64 / recording.samples() as f64,
        functions: report.rows.iter().filter_map(function).collect(),
    })
}

/// The description, amended by options, and the folder that its paths start from.
fn describe(args: &Args) -> Result<(Description, PathBuf)> {
    let mut description = Description::default();
    let mut folder = PathBuf::new();
    if let Some(path) = &args.description {
        let name = path.display().to_string();
        let text = fs::read_to_string(path).with_context(|| name.clone())?;
        description = Description::parse(&name, &text)?;
        folder = path.parent().map(Path::to_owned).unwrap_or_default();
    }
    let target = &args.target;
    description.core = target.core.or(description.core);
    description.core_clock = target.core_clock.or(description.core_clock);
    description.tick_period = target.tick_period.or(description.tick_period);
    amend_link(&mut description, &args.link)?;
    amend_observed(&mut description, &args.observe);
    Ok((description, folder))
}

fn amend_link(description: &mut Description, args: &LinkArgs) -> Result<()> {
    description.trace_clock = args.trace_clock.or(description.trace_clock);
    let kind = args.link.or(match description.link {
        Some(Link::Uart { .. }) => Some(LinkArg::Uart),
        Some(Link::Manchester { .. }) => Some(LinkArg::Manchester),
        Some(Link::Port { .. }) => Some(LinkArg::Port),
        Some(Link::Buffer { .. }) => Some(LinkArg::Buffer),
        // What says the rate of a serial wire means the usual one.
        None => args.bit_rate.map(|_| LinkArg::Uart),
    });
    let (mut rate, mut width, mut clock, mut size) = match description.link {
        Some(Link::Uart { bit_rate } | Link::Manchester { bit_rate }) => {
            (Some(bit_rate), None, None, None)
        }
        Some(Link::Port { width, clock }) => (None, Some(width), Some(clock), None),
        Some(Link::Buffer { bytes }) => (None, None, None, Some(bytes)),
        None => (None, None, None, None),
    };
    rate = args.bit_rate.or(rate);
    width = args.port_width.as_deref().and_then(|pins| pins.parse().ok()).or(width);
    clock = args.port_clock.or(clock);
    size = args.buffer_size.or(size);
    description.link = match kind {
        None => None,
        Some(LinkArg::Uart) => {
            Some(Link::Uart { bit_rate: rate.context("--link uart needs --bit-rate")? })
        }
        Some(LinkArg::Manchester) => {
            Some(Link::Manchester { bit_rate: rate.context("--link manchester needs --bit-rate")? })
        }
        Some(LinkArg::Port) => Some(Link::Port {
            width: width.context("--link port needs --port-width")?,
            clock: clock.context("--link port needs --port-clock")?,
        }),
        Some(LinkArg::Buffer) => {
            Some(Link::Buffer { bytes: size.context("--link buffer needs --buffer-size")? })
        }
    };
    Ok(())
}

fn amend_observed(description: &mut Description, args: &ObserveArgs) {
    let observe = &mut description.observe;
    observe.pc_sample_period = args.pc_sample_period.or(observe.pc_sample_period);
    let interrupt = |(name, rate): &(String, f64)| Interrupt { name: name.clone(), rate: *rate };
    observe.interrupts.extend(args.interrupt.iter().map(interrupt));
    let watched = |(name, rate): &(String, f64)| Watched {
        name: name.clone(),
        rate: *rate,
        trace: WatchTrace::Value,
        on: WatchAccess::Write,
        runs_task: false,
    };
    observe.variables.extend(args.watch.iter().map(watched));
    if let Some(text) = args.text {
        observe.text = text;
        observe.ports |= 1;
    }
    if args.no_timestamps {
        observe.timestamp_prescaler = None;
    }
    if args.instructions {
        let instructions = observe.instructions.get_or_insert_default();
        instructions.inside.extend(args.inside.iter().cloned());
        instructions.exclude.extend(args.exclude.iter().cloned());
        if let Some(PointRange { start, end }) = &args.window {
            instructions.start = start.as_ref().map(ToString::to_string);
            instructions.stop = end.as_ref().map(ToString::to_string);
        }
    }
}

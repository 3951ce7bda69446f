//! The command line of `capture`, and what it means.

use super::readout::Named;
use crate::cli::{SetupArgs, duration};
use crate::sources::OpenImage;
use crate::sources::live::{Address, Keep, Limits};
use anyhow::{Context as _, Result, bail};
use clap::ValueEnum;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::time::Duration;
use weltblick_core::event::CodeRanges;
use weltblick_core::judge::{
    End, Occurrence, Point, PointRange, Subject, Which, address_of, ranges_of,
};
use weltblick_core::time::{parse_bit_rate, parse_bytes};

const WHEN: &str = "When and how much";
const STUB: &str = "Through a debug stub (stub:HOST:PORT)";

/// Bytes from a running target into a folder
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Where the bytes come from: a file, a FIFO, `-`, tcp:HOST:PORT, serial:PATH, stand-in:ELF;
    /// and stub:HOST:PORT, the debug stub that sets the target up or is asked
    #[arg(value_name = "SOURCE", required = true)]
    sources: Vec<Address>,
    /// The capture folder to make
    #[arg(long, value_name = "FOLDER")]
    pub(super) out: PathBuf,
    /// Put the new folder in the place of an existing capture
    #[arg(long, conflicts_with = "series")]
    pub(super) replace: bool,
    /// Number the folders: FOLDER-001, FOLDER-002, and so on
    #[arg(long)]
    pub(super) series: bool,
    /// What `plan --out` wrote: registers to write, and how the stream is set up
    #[arg(long, value_name = "FILE")]
    pub(super) plan: Option<PathBuf>,
    /// What to call the target
    #[arg(long, value_name = "NAME")]
    pub(super) name: Option<String>,
    /// Budgets: say when there is enough to decide them
    #[arg(long, value_name = "FILE")]
    pub(super) budgets: Option<PathBuf>,
    /// Print nothing but faults and the result
    #[arg(long)]
    pub(super) quiet: bool,
    /// Inspect it when it has ended: exit 1 where a finding makes figures wrong (`!`), 3 where one makes them
    /// weaker (`?`)
    #[arg(long)]
    pub(super) strict: bool,
    /// Lines of progress instead of the live view
    #[arg(long)]
    pub(super) no_view: bool,
    /// Bits per second of a serial port [default: the plan's, else 2 Mbit/s]
    #[arg(long, value_name = "RATE", value_parser = parse_bit_rate)]
    pub(super) bit_rate: Option<f64>,
    /// How long a broken connection is tried again
    #[arg(long, value_name = "TIME", value_parser = duration, default_value = "2s")]
    pub(super) reconnect: Duration,
    /// Stop after so long
    #[arg(long = "for", value_name = "TIME", value_parser = duration, help_heading = WHEN)]
    time: Option<Duration>,
    /// Stop after so many bytes, for example `10MB`
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes, help_heading = WHEN)]
    bytes: Option<u64>,
    /// Which bytes to keep if there are more than --size
    #[arg(long, value_name = "WHICH", requires = "size", help_heading = WHEN)]
    keep: Option<KeepArg>,
    /// How many bytes to keep of each stream, for example `100MB`
    #[arg(long, value_name = "SIZE", value_parser = parse_bytes, requires = "keep", help_heading = WHEN)]
    size: Option<u64>,
    /// Keep only what comes between these times after the start (`1s..1.5s`), or each time between
    /// these points in the code (`frame_begin..frame_end`); several may be given
    #[arg(long, value_name = "A..B", help_heading = WHEN)]
    window: Vec<PointRange>,
    /// Only code in these is asked for: a function, a file, or `A..B`; several may be given
    #[arg(long, value_name = "CODE", help_heading = WHEN)]
    inside: Vec<String>,
    /// All code but this is asked for
    #[arg(long, value_name = "CODE", help_heading = WHEN)]
    exclude: Vec<String>,
    /// Stop at `halt`, at `enough` (budgets are decided), at an event (`#1000`,
    /// `irq:adc_ready[3]`), or at a point in the code through a debug stub
    #[arg(long, value_name = "WHAT", help_heading = WHEN)]
    until: Option<String>,
    /// Reset the target, and let it run only when everything listens
    #[arg(long, help_heading = STUB)]
    pub(super) reset: bool,
    /// Reset it by a command of the stub's own
    #[arg(long, value_name = "COMMAND", help_heading = STUB)]
    pub(super) reset_command: Option<String>,
    /// Do not compare the target's code with the image
    #[arg(long, help_heading = STUB)]
    pub(super) no_compare: bool,
    /// Sample the program counter, on average this often
    #[arg(long, value_name = "TIME", value_parser = duration, num_args = 0..=1,
        default_missing_value = "2ms", require_equals = true, help_heading = STUB)]
    sample: Option<Duration>,
    /// Read a global variable or array again and again; several may be given
    #[arg(long, value_name = "NAME", help_heading = STUB)]
    pub(super) read: Vec<String>,
    /// How often they are read
    #[arg(long, value_name = "TIME", value_parser = duration, default_value = "100ms", help_heading = STUB)]
    pub(super) read_every: Duration,
    /// Read a trace buffer on the chip out (`etb:BASE`, `tmc:BASE` or `mtb:BASE`, where its registers
    /// are), or a ring of firmware marks in memory (`ring:SYMBOL`); at the end, and on the key `r`
    #[arg(long, value_name = "BUFFER", help_heading = STUB)]
    pub(super) read_out: Option<Named>,
    /// Read it out again and again while the target runs
    #[arg(long, value_name = "TIME", value_parser = duration, requires = "read_out", help_heading = STUB)]
    pub(super) read_out_every: Option<Duration>,
    /// Time the way between points in the code by stopping at each: `A,B,C` (intrusive)
    #[arg(long, value_name = "POINTS", value_delimiter = ',', help_heading = STUB)]
    pub(super) laps: Vec<Point>,
    #[command(flatten)]
    pub(super) setup: SetupArgs,
}

/// `--keep`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum KeepArg {
    /// The first ones; then the capture ends
    First,
    /// The last ones; the oldest are let go
    Last,
}

/// An event at which a capture ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum LastEvent {
    /// The event of this number.
    Event(u64),
    /// An exception's entry of this number.
    Interrupt { exception: u16, count: u64 },
}

impl LastEvent {
    /// Whether it is here.
    pub(super) fn is_here(self, entered: &[u64], events: u64) -> bool {
        match self {
            Self::Event(number) => events > number,
            Self::Interrupt { exception, count } => {
                entered.get(usize::from(exception)).is_some_and(|&seen| seen > count)
            }
        }
    }
}

/// A window between points in the code. What has no start begins with the capture, what has no stop
/// ends with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct CodeWindow {
    pub(super) start: Option<u64>,
    pub(super) stop: Option<u64>,
}

/// What `--window` names.
enum Window<'a> {
    Times(Duration, Duration),
    Code(Option<&'a Point>, Option<&'a Point>),
}

impl<'a> Window<'a> {
    fn new(range: &'a PointRange) -> Result<Self> {
        let is_time = |point: &Point| matches!(point, Point::Time(_));
        let is_code = |point: &Point| {
            matches!(point, Point::Function { .. } | Point::Line { .. } | Point::Address(_))
        };
        let sides: Vec<&Point> = [&range.start, &range.end].into_iter().flatten().collect();
        if let Some(other) = sides.iter().find(|point| !is_time(point) && !is_code(point)) {
            bail!(
                "--window: a window is known by times (1s..1.5s) or by points in the code (frame_begin..frame_end) while it is recorded, not by `{other}`"
            );
        }
        if sides.iter().any(|point| is_code(point)) {
            if sides.iter().any(|point| is_time(point)) {
                bail!("--window: give times on both sides, or points in the code on both");
            }
            return Ok(Self::Code(range.start.as_ref(), range.end.as_ref()));
        }
        let time = |point: &Option<Point>| match point {
            Some(Point::Time(time)) => Some(*time),
            _ => None,
        };
        let from = time(&range.start).unwrap_or(Duration::ZERO);
        let until = time(&range.end).unwrap_or(Duration::MAX);
        if until <= from {
            bail!("--window: the window ends before it starts");
        }
        Ok(Self::Times(from, until))
    }
}

impl Args {
    /// The source of raw bytes; one at most.
    pub(super) fn raw_source(&self) -> Result<Option<&Address>> {
        let mut raw = self.sources.iter().filter(|source| !matches!(source, Address::Stub(_)));
        let first = raw.next();
        if first.is_some() && self.read_out.is_some() {
            bail!(
                "--read-out records a buffer on the chip, and the other source sends trace itself: choose one"
            );
        }
        if raw.next().is_some() {
            bail!("one source of trace and one debug stub can be recorded together, not several");
        }
        Ok(first)
    }

    /// The debug stub; one at most.
    pub(super) fn stub_address(&self) -> Result<Option<&str>> {
        let mut stubs = self.sources.iter().filter_map(|source| match source {
            Address::Stub(address) => Some(address.as_str()),
            _ => None,
        });
        let first = stubs.next();
        if stubs.next().is_some() {
            bail!("there may be one debug stub, not several");
        }
        Ok(first)
    }

    /// Whether bytes come from another program, which may start later.
    pub(super) fn reads_a_pipe(&self) -> bool {
        let pipe = |source: &Address| matches!(source, Address::StandardInput | Address::File(_));
        self.sources.iter().any(pipe)
    }

    /// Whether bytes are to come later than the capture begins: in a window, or when a buffer is read out.
    pub(super) fn waits_for_bytes(&self) -> bool {
        self.read_out.is_some() || !self.window.is_empty()
    }

    pub(super) fn is_stand_in(&self) -> bool {
        self.sources.iter().any(|source| matches!(source, Address::StandIn(_)))
    }

    /// The image that is named, or that the stand-in runs.
    pub(super) fn named_image(&self) -> Option<&Path> {
        let stand_in = self.sources.iter().find_map(|source| match source {
            Address::StandIn(firmware) => Some(firmware.as_path()),
            _ => None,
        });
        self.setup.image.as_deref().or(stand_in)
    }

    pub(super) const fn sample_every(&self) -> Option<Duration> {
        self.sample
    }

    pub(super) fn keep(&self) -> Keep {
        match (self.keep, self.size) {
            (Some(KeepArg::First), Some(size)) => Keep::First(size),
            (Some(KeepArg::Last), Some(size)) => Keep::Last(size),
            _ => Keep::All,
        }
    }

    /// When the capture ends, and what is kept of it.
    pub(super) fn limits(&self) -> Result<Limits> {
        let mut windows = Vec::new();
        for range in &self.window {
            if let Window::Times(from, until) = Window::new(range)? {
                windows.push((from, until));
            }
        }
        // After the last window nothing is kept any more.
        let last = windows.iter().map(|(_, until)| *until).max().filter(|end| *end < Duration::MAX);
        let last = last.filter(|_| windows.len() == self.window.len());
        let time = [self.time, last].into_iter().flatten().min();
        Ok(Limits { bytes: self.bytes, time, windows, waits_for_points: false })
    }

    /// The windows between points in the code, as addresses.
    pub(super) fn code_windows(&self, image: Option<&OpenImage>) -> Result<Vec<CodeWindow>> {
        let mut windows = Vec::new();
        for range in &self.window {
            if let Window::Code(start, stop) = Window::new(range)? {
                let at = |point: Option<&Point>| point.map(|p| self.code(p, image)).transpose();
                windows.push(CodeWindow { start: at(start)?, stop: at(stop)? });
            }
        }
        Ok(windows)
    }

    /// Which code is asked for.
    pub(super) fn ranges(&self, image: Option<&OpenImage>) -> Result<CodeRanges> {
        let image = image.map(|open| &open.image);
        let found = |option: &str, texts: &[String]| {
            let of = |text: &String| ranges_of(text, image).with_context(|| option.to_owned());
            Ok::<_, anyhow::Error>(texts.iter().map(of).collect::<Result<Vec<_>>>()?.concat())
        };
        Ok(CodeRanges {
            inside: found("--inside", &self.inside)?,
            exclude: found("--exclude", &self.exclude)?,
        })
    }

    fn until_halt(&self) -> bool {
        self.until.as_deref() == Some("halt")
    }

    /// Whether there is a terminal, and nobody wants it left alone.
    pub(super) fn wants_screen(&self) -> bool {
        std::io::stdout().is_terminal() && !self.quiet && !self.no_view
    }

    pub(super) fn until_enough(&self) -> bool {
        self.until.as_deref() == Some("enough")
    }

    /// The point of `--until`, if it is one.
    fn until_point(&self) -> Result<Option<Point>> {
        match self.until.as_deref() {
            None | Some("halt" | "enough") => Ok(None),
            Some(text) => text.parse().map(Some).context("--until"),
        }
    }

    /// The address at which the capture ends, if it ends at a point in the code.
    pub(super) fn until_code(&self, image: Option<&OpenImage>) -> Result<Option<u64>> {
        if self.until_halt() && self.stub_address()?.is_none() {
            bail!("--until halt needs a debug stub: add stub:HOST:PORT to the sources");
        }
        if self.until_enough() && self.budgets.is_none() {
            bail!("--until enough needs --budgets, which say what is to be decided");
        }
        let Some(point) = self.until_point()? else { return Ok(None) };
        match point {
            Point::Event(_) | Point::First => Ok(None),
            Point::Occurrence(Occurrence {
                subject: Subject::Interrupt,
                which: Which::Number(_) | Which::First,
                end: End::Begin,
                ref name,
            }) => {
                exception(image, name)?;
                Ok(None)
            }
            Point::Function { .. } | Point::Line { .. } | Point::Address(_) => {
                if self.stub_address()?.is_none() {
                    bail!(
                        "--until {point} needs a debug stub that stops there: add stub:HOST:PORT"
                    );
                }
                self.code(&point, image).map(Some)
            }
            other => bail!(
                "--until: a capture cannot end at `{other}`; give halt, enough, #1000, irq:NAME[3], a function, a line or an address"
            ),
        }
    }

    /// The event at which the capture ends, if it ends at one.
    pub(super) fn until_event(&self, image: Option<&OpenImage>) -> Result<Option<LastEvent>> {
        Ok(match self.until_point()? {
            Some(Point::First) => Some(LastEvent::Event(0)),
            Some(Point::Event(number)) => Some(LastEvent::Event(number)),
            Some(Point::Occurrence(Occurrence { name, which, .. })) => {
                let count = if let Which::Number(number) = which { number } else { 0 };
                Some(LastEvent::Interrupt { exception: exception(image, &name)?, count })
            }
            _ => None,
        })
    }

    /// The address of a point in the code.
    pub(super) fn code(&self, point: &Point, image: Option<&OpenImage>) -> Result<u64> {
        if let Point::Address(address) = point {
            return Ok(*address & !1);
        }
        let open = image.with_context(|| {
            format!("`{point}` is looked up in the image: give --image, or an address")
        })?;
        Ok(address_of(point, &open.image)?)
    }
}

/// The number of an exception: by that, or by a name as all commands take it.
fn exception(image: Option<&OpenImage>, name: &str) -> Result<u16> {
    if let Ok(number) = name.parse() {
        return Ok(number);
    }
    let open = image.context("--until irq:... looks names up in the image: give --image")?;
    open.image.exception_named(name).with_context(|| {
        let known = open.image.interrupt_names().join(", ");
        format!("--until: the image's vector table has no `{name}`; it has {known}")
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser as _;

    #[derive(Debug, clap::Parser)]
    struct Line {
        #[command(flatten)]
        args: Args,
    }

    fn args(options: &str) -> Args {
        let words = ["capture", "swo.bin", "--out", "x"].into_iter().chain(options.split(' '));
        Line::try_parse_from(words.filter(|word| !word.is_empty())).unwrap().args
    }

    #[test]
    fn windows_are_times_or_points_and_the_last_one_ends_it() {
        let limits = args("--window 1s..2s --window 3s..4s").limits().unwrap();
        assert_eq!(limits.windows.len(), 2);
        assert_eq!(limits.time, Some(Duration::from_secs(4)));
        // A window between points may open at any time: times end nothing.
        let mixed = args("--window 1s..2s --window 0x100..0x200");
        assert_eq!(mixed.limits().unwrap().time, None);
        let window = CodeWindow { start: Some(0x100), stop: Some(0x200) };
        assert_eq!(mixed.code_windows(None).unwrap(), [window]);
        let open = args("--window 0x101..").code_windows(None).unwrap();
        assert_eq!(open, [CodeWindow { start: Some(0x100), stop: None }], "without the thumb bit");
        assert_eq!(
            args("--window ..1s --for 5s").limits().unwrap().time,
            Some(Duration::from_secs(1))
        );
        for wrong in ["1s..0x100", "2s..1s", "1s..1s", "swo@4..swo@8", "first..last"] {
            assert!(args(&format!("--window {wrong}")).limits().is_err(), "{wrong}");
        }
    }

    #[test]
    fn ranges_need_an_image_only_for_names() {
        let found = args("--inside 0x101..0x200 --exclude 0x140..0x150").ranges(None).unwrap();
        assert!(found.holds(0x100) && !found.holds(0x140) && !found.holds(0x200));
        let error = format!("{:#}", args("--inside wave_filter").ranges(None).unwrap_err());
        assert!(error.starts_with("--inside: `wave_filter` is looked up"), "{error}");
        assert!(args("").ranges(None).unwrap().is_everything());
    }

    #[test]
    fn sources_that_exclude_each_other_are_refused() {
        assert!(args("stub:localhost:1").stub_address().unwrap().is_some());
        assert!(args("stub:localhost:1 stub:localhost:2").stub_address().is_err());
        assert!(args("tcp:localhost:1").raw_source().is_err());
        assert!(args("stub:localhost:1 --read-out mtb:0xe0043000").raw_source().is_err());
    }
}

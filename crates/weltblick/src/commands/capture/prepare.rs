//! Everything that a capture rests on, checked before a folder is made.

use super::options::Args;
use super::priorities::MOST_EXCEPTIONS;
use super::progress::say;
use super::questions::Questions;
use super::readout::{Named, ReadOut};
use super::ring::Ring;
use super::setup;
use super::windows::Windows;
use crate::show;
use crate::sources::live::{Address, Keep, Reader};
use crate::sources::stub::{Client, StubError};
use crate::sources::{self, OpenImage};
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::path::Path;
use std::time::Duration;
use weltblick_core::capture::{
    Framing, ItmSettings, LapPoint, Manifest, PollSettings, Protocol, SourceSpec, StreamSpec,
};
use weltblick_core::document::At;
use weltblick_core::event::CodeRanges;
use weltblick_core::image::Variables;
use weltblick_core::isa::Isa;
use weltblick_core::judge::{BudgetFile, Point};
use weltblick_core::measure::interrupts::InterruptNames;
use weltblick_core::plan::{Applied, ITM_TRACE_ID, InstructionTrace, Narrow, Write, narrowing};
use weltblick_core::time::Frequency;
use weltblick_core::wire::mtb;
use weltblick_core::wire::tpiu::Start;

/// Plans without a bit rate listen to serial ports at this one.
const USUAL_BIT_RATE: u32 = 2_000_000;

/// Everything that the capture rests on, checked.
pub(super) struct Prepared {
    pub(super) applied: Option<Applied>,
    pub(super) image: Option<OpenImage>,
    pub(super) budgets: Option<BudgetFile>,
    pub(super) stub: Option<Client>,
    /// The trace, listened to before the target's registers are written.
    pub(super) reader: Option<Reader>,
    pub(super) questions: Questions,
    pub(super) journal: setup::Done,
    /// The clock of a ring's timestamps, if the ring says it already.
    pub(super) ring_clock: Option<Frequency>,
}

impl Prepared {
    /// Lets the target run on as it was.
    pub(super) fn let_go(&mut self) {
        if let Some(mut client) = self.stub.take() {
            let _ = client.go_on();
            client.leave();
        }
    }
}

/// Reads the plan, the image and the budgets; sets the target up through its stub.
pub(super) fn prepare(args: &Args) -> Result<Prepared> {
    let read = |path: &Path| fs::read_to_string(path).with_context(|| path.display().to_string());
    let applied = args
        .plan
        .as_deref()
        .map(|path| {
            Ok::<_, anyhow::Error>(Applied::parse(&path.display().to_string(), &read(path)?)?)
        })
        .transpose()?;
    let debug_info = args.setup.debug_info.as_deref();
    let planned = || {
        let folder = args.plan.as_deref().and_then(Path::parent)?;
        Some(folder.join(applied.as_ref()?.image.as_deref()?))
    };
    let image = args.named_image().map(Path::to_owned).or_else(planned);
    let image = image.map(|path| sources::read_image(&path, debug_info)).transpose()?;
    let budgets = args
        .budgets
        .as_deref()
        .map(|path| {
            Ok::<_, anyhow::Error>(BudgetFile::parse(&path.display().to_string(), &read(path)?)?)
        })
        .transpose()?;
    if let (Some(budgets), None) = (&budgets, &image) {
        bail!(
            "--budgets names {} figures by what the image knows: give --image",
            budgets.figures().count()
        );
    }
    for (budgets, open) in budgets.iter().zip(&image) {
        budgets.verify(&open.image, &InterruptNames::default())?;
    }
    let mut prepared = Prepared {
        questions: questions(args, image.as_ref())?,
        applied,
        image,
        budgets,
        stub: None,
        reader: None,
        journal: setup::Done::new(),
        ring_clock: None,
    };
    foresee(args, prepared.applied.as_ref())?;
    match args.stub_address()? {
        Some(address) => connect(address, args, &mut prepared)?,
        None if !prepared.questions.windows.is_empty() => {
            bail!(
                "--window: points in the code are seen by a debug stub only: add stub:HOST:PORT to the sources, or give times"
            )
        }
        None if prepared.questions.any() || args.reset || args.reset_command.is_some() => {
            bail!("this needs a debug stub: add stub:HOST:PORT to the sources")
        }
        None if prepared.applied.as_ref().is_some_and(|a| !a.writes.is_empty())
            && !args.is_stand_in() =>
        {
            say(
                "note: the plan's registers are not written: there is no debug stub (stub:HOST:PORT) among the sources",
            );
        }
        None => {}
    }
    Ok(prepared)
}

/// Says what the plan knows already: windows that are over before reading can begin, and buffers that wrap before they
/// are read out.
///
/// # Errors
///
/// If the first bytes of a buffer are to be kept, which then holds the last ones.
fn foresee(args: &Args, applied: Option<&Applied>) -> Result<()> {
    let text = |time: Duration| show::duration_ns(time.as_nanos() as f64);
    let every = applied.and_then(Applied::synchronises_every);
    let windows = args.limits()?.windows;
    // A trace that is just switched on synchronises at once.
    let later = windows.iter().filter(|(from, _)| !from.is_zero());
    let shortest = later.map(|(from, until)| until.saturating_sub(*from)).min();
    if let (Some(every), Some(shortest)) = (every, shortest)
        && shortest < 2 * every
    {
        say(&format!(
            "? a window of {} may be over before it can be read: the trace synchronises every {}; choose a longer one, or keep all and look at a part with --within",
            text(shortest),
            text(every)
        ));
    }
    let lasts = applied.and_then(|applied| applied.lasts).filter(|_| args.read_out.is_some());
    match (lasts, args.read_out_every) {
        (Some(lasts), Some(every)) if every > lasts => say(&format!(
            "? the buffer lasts {}, and wraps between two read-outs every {}",
            text(lasts),
            text(every)
        )),
        _ => {}
    }
    let on_the_chip = !matches!(args.read_out, None | Some(Named::Ring(_)));
    if on_the_chip && args.read_out_every.is_none() && matches!(args.keep(), Keep::First(_)) {
        let lasts = lasts.map_or_else(String::new, |lasts| {
            format!(" (the plan says that it lasts {})", text(lasts))
        });
        bail!(
            "--keep first: a buffer that is read out at the end holds the last bytes; give --read-out-every with a time in which it does not wrap{lasts}"
        );
    }
    Ok(())
}

/// What is read out, looked up.
fn read_out(args: &Args, image: Option<&OpenImage>) -> Result<Option<ReadOut>> {
    Ok(match &args.read_out {
        None => None,
        Some(Named::Chip(buffer)) => Some(ReadOut::Chip(*buffer)),
        Some(Named::Mtb(buffer)) => Some(ReadOut::Mtb(*buffer)),
        Some(Named::Ring(symbol)) => {
            let variables = variables(image, "--read-out ring:...")?;
            let found = variables.find(symbol)?;
            Some(ReadOut::Ring(Ring { address: found.address, size: found.size }))
        }
    })
}

/// The image's variables.
fn variables(image: Option<&OpenImage>, option: &str) -> Result<Variables> {
    let open = image
        .with_context(|| format!("{option} looks a variable up in the image: give --image"))?;
    open.variables()
}

/// Variables and code points, looked up.
fn questions(args: &Args, image: Option<&OpenImage>) -> Result<Questions> {
    let mut questions = Questions {
        sample_every: args.sample_every(),
        read_every: args.read_every,
        read_out: read_out(args, image)?,
        read_out_every: args.read_out_every,
        ..Questions::default()
    };
    if let Some(open) = image.filter(|open| open.image.isa() == Isa::Thumb) {
        questions.exceptions = (0..MOST_EXCEPTIONS)
            .rev()
            .find(|&n| open.image.vector(n).is_some())
            .map_or(0, |n| n + 1);
    }
    if !args.read.is_empty() {
        let variables = variables(image, "--read")?;
        for name in &args.read {
            let variable = variables.field(name)?;
            if variable.size == 0
                || variable.size > weltblick_core::wire::poll::LONGEST_VALUE as u64
            {
                bail!("--read: `{name}` is {} bytes long; at most 4096 are read", variable.size);
            }
            questions.variables.push(variable);
        }
    }
    let lap =
        |point: &Point| Ok(LapPoint { address: args.code(point, image)?, name: point.to_string() });
    questions.laps = args.laps.iter().map(lap).collect::<Result<_>>()?;
    questions.windows = Windows::new(args.code_windows(image)?);
    questions.until = args.until_code(image)?;
    Ok(questions)
}

/// What is to be narrowed that the target's trace unit can do itself: registers to write. What it
/// cannot do stays with the stub and with whoever reads.
fn narrow_on_target(args: &Args, prepared: &mut Prepared) -> Result<Vec<Write>> {
    let unit = prepared.applied.as_ref().and_then(|applied| applied.unit);
    let image = prepared.image.as_ref();
    let CodeRanges { inside, exclude } = args.ranges(image)?;
    let windows = args.code_windows(image)?;
    let (Some(unit), [] | [_]) = (unit, windows.as_slice()) else { return Ok(Vec::new()) };
    let window = windows.first();
    let (start, stop) = window.map_or((None, None), |window| (window.start, window.stop));
    let narrow = Narrow { start, stop, inside, exclude };
    if narrow.is_empty() {
        return Ok(Vec::new());
    }
    let (registers, left) = narrowing(&unit, &narrow);
    if let Some(why) = left.ranges {
        say(&format!("note: ranges are applied when the trace is read, not on the target: {why}"));
    }
    match left.points {
        Some(why) if window.is_some() => {
            say(&format!("note: the target is stopped at the window's points (intrusive): {why}"));
        }
        _ if window.is_some() => {
            prepared.questions.windows = Windows::default();
            if unit.kind != InstructionTrace::Mtb {
                say(
                    "note: the window holds for instruction trace; what the ITM sends is recorded throughout",
                );
            }
        }
        _ => {}
    }
    Ok(registers.iter().map(Write::from).collect())
}

/// Connects to the stub and sets the target up; it stands afterwards. If something is wrong it runs
/// on as it did.
fn connect(address: &str, args: &Args, prepared: &mut Prepared) -> Result<()> {
    let narrowing = narrow_on_target(args, prepared)?;
    let told = || format!("stub:{address}");
    let mut client = Client::connect(address).with_context(told)?;
    let done = set_up(&mut client, args, prepared, &narrowing).with_context(told);
    prepared.stub = Some(client);
    prepared.journal = done.inspect_err(|error| {
        // Whoever makes no sense is not asked any more.
        if error.downcast_ref().is_none_or(StubError::is_an_answer) {
            prepared.let_go();
        }
    })?;
    if prepared.questions.stops {
        say(
            "? this stub answers only while the target stands: every answer stops it for a moment (intrusive)",
        );
    }
    Ok(())
}

/// Begins to listen to the trace; what is no reader of bytes is not opened.
pub(super) fn open_reader(
    address: &Address,
    args: &Args,
    applied: Option<&Applied>,
) -> Result<Option<Reader>> {
    let planned = applied.and_then(|applied| applied.bit_rate);
    let bit_rate = args.bit_rate.or(planned).map_or(USUAL_BIT_RATE, |rate| rate as u32);
    Reader::open(address, bit_rate, args.reconnect)
}

/// Sets a target up. What it returns is for the journal.
fn set_up(
    client: &mut Client,
    args: &Args,
    prepared: &mut Prepared,
    narrowing: &[Write],
) -> Result<setup::Done> {
    let image = prepared.image.as_ref().map(|open| &open.image).filter(|_| !args.no_compare);
    let writes = prepared.applied.as_ref().map_or(&[][..], |applied| &applied.writes);
    let writes = &[writes, narrowing].concat();
    let wanted = setup::Wanted {
        image,
        core: prepared
            .applied
            .as_ref()
            .and_then(|applied| applied.core)
            .filter(|_| !args.no_compare),
        reset: args.reset,
        reset_command: args.reset_command.as_deref(),
    };
    let mut done = setup::stop(client, &wanted)?;
    // The first bytes of a trace are worth much: its frames are found by them.
    prepared.reader = match args.raw_source()? {
        Some(address) => open_reader(address, args, prepared.applied.as_ref())?,
        None => None,
    };
    done.extend(setup::write(client, writes)?);
    for text in setup::refused(&done) {
        say(&format!("? the target did not take a register as planned: {text}"));
    }
    for variable in &prepared.questions.variables {
        let range = variable.range();
        let has =
            |memory: &std::ops::Range<u64>| memory.start <= range.start && range.end <= memory.end;
        if !client.memory.is_empty() && !client.memory.iter().any(has) {
            let (address, name) = (range.start, &variable.name);
            bail!("the target has no memory at {address:#010x}, where the image puts `{name}`");
        }
    }
    if let Some(ReadOut::Ring(ring)) = prepared.questions.read_out {
        let header = ring.header(client)?;
        prepared.ring_clock = header.and_then(|header| header.frequency());
    }
    if prepared.questions.reads() && !client.non_stop {
        client.go_on()?;
        prepared.questions.stops = !client.reads_while_running(prepared.questions.probe())?;
        client.stop()?;
        if args.reset || args.reset_command.is_some() {
            setup::stop(client, &setup::Wanted { image: None, core: None, ..wanted })?;
            setup::write(client, writes)?;
        }
    }
    Ok(done)
}

/// What the folder says of itself.
pub(super) fn manifest(
    args: &Args,
    raw: Option<&Address>,
    prepared: &Prepared,
) -> Result<Manifest> {
    let ranges = args.ranges(prepared.image.as_ref())?;
    let intrusive = prepared.questions.disturb();
    let between_points = !prepared.questions.windows.is_empty();
    let mut manifest = Manifest { ranges, intrusive, between_points, ..Manifest::default() };
    let itm = prepared.applied.as_ref().map(|applied| applied.itm).unwrap_or_default();
    match prepared.questions.read_out {
        None => {}
        Some(ReadOut::Chip(_)) => {
            let source = SourceSpec { trace_id: Some(ITM_TRACE_ID), protocol: Protocol::Itm(itm) };
            let planned = prepared.applied.as_ref().filter(|applied| applied.framed);
            manifest.streams.push(StreamSpec {
                files: Vec::new(),
                segments: Some("buffer".into()),
                framing: Framing::Tpiu(Start::AtFrame),
                capacity: None,
                sources: planned.map_or(vec![source], |applied| applied.stream("buffer").sources),
            });
        }
        Some(ReadOut::Mtb(_)) => manifest.streams.push(StreamSpec {
            segments: Some("buffer".into()),
            ..StreamSpec::plain(SourceSpec {
                trace_id: None,
                protocol: Protocol::Mtb(mtb::Settings::default()),
            })
        }),
        Some(ReadOut::Ring(_)) => {
            let timestamp_clock = prepared.ring_clock;
            let itm = ItmSettings { timestamp_clock, pc_sample_period: None, ..itm };
            let stream = StreamSpec::itm(Vec::new(), itm);
            manifest.streams.push(StreamSpec { segments: Some("ring".into()), ..stream });
        }
    }
    if raw.is_some() {
        manifest.streams.push(match &prepared.applied {
            Some(applied) => applied.stream("trace"),
            None => StreamSpec {
                segments: Some("trace".into()),
                ..sources::setup_of_raw(&args.setup, Vec::new())?
            },
        });
    }
    if let Some(applied) = &prepared.applied {
        manifest.target = applied.target.clone();
        manifest.signals.clone_from(&applied.signals);
    }
    sources::correct(&mut manifest, &args.setup)?;
    if prepared.questions.polls() {
        let laps = prepared.questions.laps.clone();
        let settings = PollSettings { intrusive: prepared.questions.stops, laps };
        let source = SourceSpec { trace_id: None, protocol: Protocol::Poll(settings) };
        let segments = Some("poll".into());
        manifest.streams.push(StreamSpec { segments, ..StreamSpec::plain(source) });
    }
    if manifest.streams.is_empty() {
        bail!(
            "nothing is recorded: add a source of trace (tcp:, serial:, a file), or --sample, --read or --laps for the debug stub"
        );
    }
    if let Some(open) = &prepared.image {
        let name = open.path.file_name().and_then(|name| name.to_str());
        let name =
            name.with_context(|| format!("{}: the name is not UTF-8", open.path.display()))?;
        manifest.image = Some(At { value: name.to_owned(), span: 0..0 });
    }
    if args.name.is_some() {
        manifest.target.name.clone_from(&args.name);
    }
    Ok(manifest)
}

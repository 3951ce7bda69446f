//! `capture`: bytes from a running target into a folder.

mod buffer;
mod live;
mod options;
mod poll;
mod progress;
mod ring;
mod setup;
mod watch;

use crate::outcome::Outcome;
use crate::show;
use crate::sources::live::{
    Address, Message, Outbox, Reader, Recorder, Seen, StandIn, Store, Summary, choose_folder,
};
use crate::sources::stub::Client;
use crate::sources::{self, OpenImage, Place};
use anyhow::{Context as _, Result, bail};
use buffer::Named;
pub(crate) use options::Args;
use options::LastEvent;
use poll::{Questions, ReadOut, Session};
use progress::{Progress, say};
use ring::Ring;
use std::fs;
use std::io::{IsTerminal as _, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::thread;
use std::time::{Duration, Instant};
use watch::Watch;
use weltblick_core::budget::BudgetFile;
use weltblick_core::capture::{
    Framing, ItmSettings, Manifest, PollSettings, Protocol, SourceSpec, StreamSpec, What,
};
use weltblick_core::document::At;
use weltblick_core::image::Variables;
use weltblick_core::plan::{Applied, ITM_TRACE_ID};
use weltblick_core::time::Frequency;
use weltblick_core::wire::tpiu::Start;

/// What has arrived is judged after so long.
const FIRST_LOOK: Duration = Duration::from_millis(200);
/// Chunks that may wait for the live view; more are not shown.
const MOST_SEEN: usize = 64;
/// Plans without a bit rate listen to serial ports at this one.
const USUAL_BIT_RATE: u32 = 2_000_000;

/// Everything that the capture rests on, checked.
struct Prepared {
    applied: Option<Applied>,
    image: Option<OpenImage>,
    budgets: Option<BudgetFile>,
    stub: Option<Client>,
    questions: Questions,
    journal: setup::Done,
    /// The clock of a ring's timestamps, if the ring says it already.
    ring_clock: Option<Frequency>,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let place = if args.replace { Place::Replace } else { Place::New };
    let folder = choose_folder(&args.out, args.series)?;
    sources::live::check_place(&folder, place)?;
    let raw = args.raw_source()?;
    let limits = args.limits()?;
    let mut prepared = prepare(args)?;
    let manifest = manifest(args, raw, &prepared)?;
    let last = args.until_event(prepared.image.as_ref())?;
    let stop = Arc::new(AtomicBool::new(false));
    let interrupted = Arc::new(AtomicBool::new(false));
    listen_for_signals(&stop, &interrupted)?;

    // The trace is listened to before the target is let run.
    let opened = match raw {
        Some(address) => open_raw(address, args, &mut prepared)?,
        None => Opened::Nothing,
    };
    let image_path = prepared.image.as_ref().map(|open| open.path.clone());
    let mut store = Store::create(&folder, place, &manifest, image_path.as_deref(), args.keep())?;
    store.note(None, What::Started, Some(now_text()))?;
    for (what, detail) in std::mem::take(&mut prepared.journal) {
        store.note(None, what, Some(detail))?;
    }
    store.note(None, What::Armed, None)?;
    let epoch = store.started();

    let (outbox, inbox) = sync_channel(sources::live::MOST_MESSAGES);
    let mut running = 0;
    match opened {
        Opened::Nothing => {}
        Opened::Reader(reader) => {
            reader.start(0, outbox.clone(), Arc::clone(&stop));
            running += 1;
        }
        Opened::StandIn(machine) => {
            machine.start(0, outbox.clone(), Arc::clone(&stop));
            running += 1;
        }
    }
    let poll_stream = prepared.questions.polls().then(|| manifest.streams.len() - 1);
    let read_out_now = Arc::new(AtomicBool::new(false));
    let has_stub = prepared.stub.is_some();
    if let Some(client) = prepared.stub.take() {
        let questions = std::mem::take(&mut prepared.questions);
        let session = Session {
            client,
            questions,
            stream: poll_stream,
            outbox: outbox.clone(),
            epoch,
            noise: seed(),
            read_out_now: Arc::clone(&read_out_now),
        };
        let stop = Arc::clone(&stop);
        thread::spawn(move || session.run(&stop));
        running += 1;
    }
    let (watcher, seen) = sync_channel(MOST_SEEN);
    let streams = manifest.streams.len();
    let summary = thread::scope(|scope| -> Result<Summary> {
        let stop = &stop;
        let recorder = Recorder::new(store, limits, watcher, stop, streams, running, has_stub);
        let recording = scope.spawn(move || recorder.run(&inbox));
        let watch = Watch::new(&manifest, prepared.image.as_ref(), prepared.budgets.as_ref());
        let capacity = prepared.applied.as_ref().and_then(|applied| applied.capacity);
        let view = View { args, outbox, capacity, last, read_out_now };
        let watched = view.follow(watch, &seen, stop);
        stop.store(true, Ordering::Relaxed);
        let summary = recording.join().ok().context("the recorder stopped unexpectedly")?;
        watched?;
        Ok(summary)
    })?;
    conclude(&folder, summary, interrupted.load(Ordering::Relaxed), out)
}

/// What was opened to read from.
enum Opened {
    Nothing,
    Reader(Reader),
    StandIn(Box<StandIn>),
}

fn open_raw(address: &Address, args: &Args, prepared: &mut Prepared) -> Result<Opened> {
    if let Address::StandIn(firmware) = address {
        let clock = prepared.applied.as_ref().and_then(|applied| applied.target.core_clock);
        let mut machine = StandIn::load(firmware, clock.map(|clock| clock.hertz()))?;
        if let Some(applied) = &prepared.applied {
            machine.write(&applied.writes)?;
            let written = |w: &weltblick_core::plan::Write| {
                (What::RegisterWritten, format!("{} = {:#010x}", w.name, w.value))
            };
            prepared.journal.extend(applied.writes.iter().map(written));
        }
        return Ok(Opened::StandIn(Box::new(machine)));
    }
    let planned = prepared.applied.as_ref().and_then(|applied| applied.bit_rate);
    let bit_rate = args.bit_rate.or(planned).map_or(USUAL_BIT_RATE, |rate| rate as u32);
    let reader = Reader::open(address, bit_rate, args.reconnect)?;
    Ok(reader.map_or(Opened::Nothing, Opened::Reader))
}

/// Reads the plan, the image and the budgets; sets the target up through its stub.
fn prepare(args: &Args) -> Result<Prepared> {
    let read = |path: &Path| fs::read_to_string(path).with_context(|| path.display().to_string());
    let applied = args
        .plan
        .as_deref()
        .map(|path| {
            Ok::<_, anyhow::Error>(Applied::parse(&path.display().to_string(), &read(path)?)?)
        })
        .transpose()?;
    let image = args.named_image().map(sources::read_image).transpose()?;
    let budgets = args
        .budgets
        .as_deref()
        .map(|path| {
            Ok::<_, anyhow::Error>(BudgetFile::parse(&path.display().to_string(), &read(path)?)?)
        })
        .transpose()?;
    if let (Some(budgets), None) = (&budgets, &image) {
        bail!("--budgets names {} budgets by function: give --image", budgets.budgets.len());
    }
    for (budgets, open) in budgets.iter().zip(&image) {
        for budget in &budgets.budgets {
            budgets.function(budget, &open.image)?;
        }
    }
    let mut prepared = Prepared {
        questions: questions(args, image.as_ref())?,
        applied,
        image,
        budgets,
        stub: None,
        journal: setup::Done::new(),
        ring_clock: None,
    };
    match args.stub_address()? {
        Some(address) => connect(address, args, &mut prepared)?,
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

/// What is read out, looked up.
fn read_out(args: &Args, image: Option<&OpenImage>) -> Result<Option<ReadOut>> {
    Ok(match &args.read_out {
        None => None,
        Some(Named::Chip(buffer)) => Some(ReadOut::Chip(*buffer)),
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
    let bytes = fs::read(&open.path).with_context(|| open.path.display().to_string())?;
    Ok(Variables::parse(&bytes)?)
}

/// Variables and code points, looked up.
fn questions(args: &Args, image: Option<&OpenImage>) -> Result<Questions> {
    let mut questions = Questions {
        sample_every: args.sample_every(),
        read_every: args.read_every,
        read_out: read_out(args, image)?,
        read_out_every: args.read_out_every,
        until_halt: args.until_halt(),
        ..Questions::default()
    };
    if !args.read.is_empty() {
        let variables = variables(image, "--read")?;
        for name in &args.read {
            let variable = variables.find(name)?;
            if variable.size == 0
                || variable.size > weltblick_core::wire::poll::LONGEST_VALUE as u64
            {
                bail!("--read: `{name}` is {} bytes long; at most 4096 are read", variable.size);
            }
            questions.variables.push(variable.clone());
        }
    }
    questions.laps =
        args.laps.iter().map(|point| args.code(point, image)).collect::<Result<_>>()?;
    questions.until = args.until_code(image)?;
    Ok(questions)
}

/// Connects to the stub and sets the target up; it stands afterwards.
fn connect(address: &str, args: &Args, prepared: &mut Prepared) -> Result<()> {
    let told = || format!("stub:{address}");
    let mut client = Client::connect(address).with_context(told)?;
    let image = prepared.image.as_ref().map(|open| &open.image).filter(|_| !args.no_compare);
    let writes = prepared.applied.as_ref().map_or(&[][..], |applied| &applied.writes);
    let wanted = setup::Wanted {
        image,
        reset: args.reset,
        reset_command: args.reset_command.as_deref(),
        writes,
    };
    let done = setup::prepare(&mut client, &wanted).with_context(told)?;
    for text in setup::refused(&done) {
        say(&format!("? the target did not take a register as planned: {text}"));
    }
    for variable in &prepared.questions.variables {
        let range = variable.range();
        let has =
            |memory: &std::ops::Range<u64>| memory.start <= range.start && range.end <= memory.end;
        if !client.memory.is_empty() && !client.memory.iter().any(has) {
            bail!(
                "{}: the target has no memory at {:#010x}, where the image puts `{}`",
                told(),
                range.start,
                variable.name
            );
        }
    }
    if let Some(ReadOut::Ring(ring)) = prepared.questions.read_out {
        let header = ring.header(&mut client).with_context(told)?;
        prepared.ring_clock = header.and_then(|header| header.frequency());
    }
    if prepared.questions.reads() && !client.non_stop {
        let probe = prepared.questions.probe();
        client.go_on().with_context(told)?;
        prepared.questions.intrusive = !client.reads_while_running(probe).with_context(told)?;
        client.stop().with_context(told)?;
        if args.reset || args.reset_command.is_some() {
            setup::prepare(&mut client, &setup::Wanted { image: None, ..wanted })
                .with_context(told)?;
        }
    }
    if prepared.questions.intrusive {
        say(
            "? this stub answers only while the target stands: every answer stops it for a moment (intrusive)",
        );
    }
    prepared.questions.intrusive |= !prepared.questions.laps.is_empty();
    prepared.journal = done;
    prepared.stub = Some(client);
    Ok(())
}

/// What the folder says of itself.
fn manifest(args: &Args, raw: Option<&Address>, prepared: &Prepared) -> Result<Manifest> {
    let mut manifest = Manifest::default();
    let itm = prepared.applied.as_ref().map(|applied| applied.itm).unwrap_or_default();
    match prepared.questions.read_out {
        None => {}
        Some(ReadOut::Chip(_)) => {
            let source = SourceSpec { trace_id: Some(ITM_TRACE_ID), protocol: Protocol::Itm(itm) };
            manifest.streams.push(StreamSpec {
                files: Vec::new(),
                segments: Some("buffer".into()),
                framing: Framing::Tpiu(Start::AtFrame),
                sources: vec![source],
            });
        }
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
                ..StreamSpec::itm(Vec::new(), ItmSettings::default())
            },
        });
    }
    if let Some(applied) = &prepared.applied {
        manifest.target = applied.target.clone();
    }
    sources::correct(&mut manifest, &args.setup);
    if prepared.questions.polls() {
        let settings = PollSettings { intrusive: prepared.questions.intrusive };
        manifest.streams.push(StreamSpec {
            files: Vec::new(),
            segments: Some("poll".into()),
            framing: Framing::None,
            sources: vec![SourceSpec { trace_id: None, protocol: Protocol::Poll(settings) }],
        });
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

/// Ctrl-C and SIGTERM end the capture; a second one ends the program.
fn listen_for_signals(stop: &Arc<AtomicBool>, interrupted: &Arc<AtomicBool>) -> Result<()> {
    let (stop, interrupted) = (Arc::clone(stop), Arc::clone(interrupted));
    ctrlc::set_handler(move || {
        if interrupted.swap(true, Ordering::Relaxed) {
            std::process::exit(130);
        }
        stop.store(true, Ordering::Relaxed);
    })
    .context("signals")
}

/// What follows the capture on a screen, or in lines.
struct View<'a> {
    args: &'a Args,
    outbox: Outbox,
    capacity: Option<f64>,
    last: Option<LastEvent>,
    /// Set by the key `r`.
    read_out_now: Arc<AtomicBool>,
}

impl View<'_> {
    /// Follows until the recorder is done.
    fn follow(&self, mut watch: Watch<'_>, seen: &Receiver<Seen>, stop: &AtomicBool) -> Result<()> {
        let on_terminal = std::io::stdout().is_terminal();
        let mut screen = (on_terminal && !self.args.quiet && !self.args.no_view)
            .then(|| {
                live::Screen::open(
                    self.capacity,
                    self.outbox.clone(),
                    Arc::clone(&self.read_out_now),
                )
            })
            .transpose()?;
        let mut progress = Progress::new(self.capacity);
        let started = Instant::now();
        let (mut looked, mut enough) = (false, false);
        loop {
            match seen.recv_timeout(Duration::from_millis(20)) {
                Ok(message) => watch.see(message),
                Err(RecvTimeoutError::Timeout) => {}
                // The recorder is done.
                Err(RecvTimeoutError::Disconnected) => break,
            }
            let since = watch.first.unwrap_or(started);
            if !looked && since.elapsed() > FIRST_LOOK && !stop.load(Ordering::Relaxed) {
                looked = true;
                self.first_look(&watch, screen.as_mut());
            }
            if !enough && watch.has_enough() {
                enough = true;
                let line = format!(
                    "= you have enough: every budget is decided after {} samples",
                    show::count(watch.samples())
                );
                self.tell(&line, screen.as_mut());
                if self.args.until_enough() {
                    let _ = self.outbox.send(Message::Stop("every budget is decided".into()));
                }
            }
            if self
                .last
                .is_some_and(|last| last.is_here(&*watch.ticker.entered, watch.ticker.events))
            {
                let _ = self
                    .outbox
                    .try_send(Message::Stop("the event that was asked for is here".into()));
            }
            match &mut screen {
                Some(screen) => {
                    if screen.tick(&watch)? {
                        stop.store(true, Ordering::Relaxed);
                    }
                }
                None if self.args.quiet => {}
                None => progress.tick(&watch),
            }
        }
        Ok(())
    }

    fn tell(&self, line: &str, screen: Option<&mut live::Screen>) {
        match screen {
            Some(screen) => screen.tell(line),
            None if self.args.quiet && line.starts_with('=') => {}
            None => say(line),
        }
    }

    /// A set-up fault is told before an hour is wasted.
    fn first_look(&self, watch: &Watch<'_>, mut screen: Option<&mut live::Screen>) {
        for finding in watch.faults() {
            let happened = Message::Happened {
                stream: None,
                what: What::Diagnosed,
                detail: Some(finding.finding.clone()),
            };
            let _ = self.outbox.try_send(happened);
            self.tell(&format!("! {}", finding.finding), screen.as_deref_mut());
            self.tell(&format!("  -> {}", finding.advice), screen.as_deref_mut());
        }
    }
}

fn conclude(
    folder: &Path,
    summary: Summary,
    interrupted: bool,
    out: &mut dyn Write,
) -> Result<Outcome> {
    let name = folder.display().to_string();
    let bytes: u64 = summary.bytes.iter().sum();
    let reason = if interrupted { "interrupted".to_owned() } else { summary.reason.clone() };
    writeln!(
        out,
        "{}: {} bytes in {}: {}",
        show::plain(&name),
        show::count(bytes),
        show::duration_ns(summary.time.as_nanos() as f64),
        show::plain(&reason)
    )?;
    writeln!(out, "next: weltblick inspect {}", show::plain(&name))?;
    match summary.error {
        None => Ok(Outcome::Done),
        Some(error) => {
            out.flush()?;
            Err(error.context(format!("the capture ended early; what was received is in {name}")))
        }
    }
}

/// Date and time, for the journal.
fn now_text() -> String {
    humantime::format_rfc3339_seconds(std::time::SystemTime::now()).to_string()
}

/// Something that differs from run to run.
fn seed() -> u64 {
    use std::hash::{BuildHasher as _, Hasher as _};
    std::collections::hash_map::RandomState::new().build_hasher().finish()
}

//! `capture`: bytes from a running target into a folder.

mod buffer;
mod executed;
mod live;
mod mtb;
mod options;
mod panes;
mod points;
mod poll;
mod prepare;
mod priorities;
mod progress;
mod questions;
mod readout;
mod registers;
mod ring;
mod session;
mod setup;
#[cfg(test)]
mod tests;
mod view;
mod watch;
mod windows;

use crate::cli::{Color, SetupArgs};
use crate::commands::followers::{Followers, asks_for};
use crate::commands::{inspect, signals};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::live::{
    Address, Reader, Recorder, Sources, StandIn, Store, Summary, choose_folder,
};
use crate::sources::{self, Place};
use anyhow::{Context as _, Result, bail};
pub(crate) use options::Args;
use options::LastEvent;
use panes::Panes;
use prepare::{Prepared, manifest, open_reader, prepare};
use session::Session;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::sync_channel;
use std::thread;
use view::View;
use watch::Watch;
use weltblick_core::capture::{Manifest, What};
use weltblick_core::judge::TimingSubject;
use weltblick_core::measure::timing::Clocks;
use weltblick_standin::Model;

/// Chunks that may wait for the live view; more are not shown.
const MOST_SEEN: usize = 64;

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let place = if args.replace { Place::Replace } else { Place::New };
    let folder = choose_folder(&args.out, args.series)?;
    sources::live::check_place(&folder, place)?;
    let raw = args.raw_source()?;
    let mut limits = args.limits()?;
    let stop = Arc::new(AtomicBool::new(false));
    let interrupted = Arc::new(AtomicBool::new(false));
    listen_for_signals(&stop, &interrupted)?;
    let mut prepared = prepare(args)?;
    // A target is not left standing because of somebody else's fault.
    let ready = make_ready(args, raw, &folder, place, &mut prepared);
    let Ready { manifest, last, opened, store } = ready.inspect_err(|_| prepared.let_go())?;
    limits.waits_for_points = !prepared.questions.windows.is_empty();
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
    let watched = Arc::new(AtomicBool::new(true));
    let poll_stream = prepared.questions.polls().then(|| manifest.streams.len() - 1);
    let read_out_now = Arc::new(AtomicBool::new(false));
    let has_stub = prepared.stub.is_some();
    if let Some(client) = prepared.stub.take() {
        let questions = std::mem::take(&mut prepared.questions);
        let session = Session {
            client,
            address: args.stub_address()?.unwrap_or_default().to_owned(),
            reconnect: args.reconnect,
            questions,
            stream: poll_stream,
            outbox: outbox.clone(),
            epoch,
            noise: seed(),
            read_out_now: Arc::clone(&read_out_now),
            has_trace: raw.is_some(),
            watched: Arc::clone(&watched),
            counts: true,
            stood: false,
            reads: 0,
        };
        let stop = Arc::clone(&stop);
        thread::spawn(move || session.run(&stop));
        running += 1;
    }
    let screen = args.wants_screen();
    // For names in the view and in budgets; a capture does without.
    let asks_for_values =
        prepared.budgets.as_ref().is_some_and(|budgets| asks_for(budgets, TimingSubject::Signal));
    let named = prepared.image.as_ref().filter(|_| screen || asks_for_values);
    let variables = named.and_then(|open| open.variables().ok());
    let patterns = signals::patterns(&manifest.signals, &[]);
    let image = prepared.image.as_ref().map(|open| &open.image);
    // A signal of which the image knows nothing is told when the capture is read.
    let dictionary = signals::dictionary_of(&manifest, image, variables.as_ref(), &patterns, &[])
        .unwrap_or_default();
    let (watcher, seen) = sync_channel(MOST_SEEN);
    let streams = manifest.streams.len();
    let summary = thread::scope(|scope| -> Result<Summary> {
        let stop = &stop;
        let sources = Sources { streams, open: running, has_stub };
        let recorder = Recorder::new(store, limits, watcher, sources, stop, &watched);
        let recording = scope.spawn(move || recorder.run(&inbox));
        let image = prepared.image.as_ref();
        let mut watch = Watch::new(&manifest, image, prepared.budgets.as_ref());
        let image = image.map(|open| &open.image);
        watch.followers = prepared.budgets.as_ref().map(|budgets| {
            Followers::new(budgets, &Clocks::of(&manifest), image, &patterns, &dictionary)
        });
        watch.panes = screen.then(|| Panes::new(&manifest, image, &patterns, &dictionary));
        let capacity = prepared.applied.as_ref().and_then(|applied| applied.capacity);
        let view = View { args, outbox, capacity, last, read_out_now };
        let watched = view.follow(watch, &seen, stop);
        stop.store(true, Ordering::Relaxed);
        let summary = recording.join().ok().context("the recorder stopped unexpectedly")?;
        watched?;
        Ok(summary)
    })?;
    conclude(&folder, summary, interrupted.load(Ordering::Relaxed), out)?;
    if args.strict { strict(&folder, out) } else { Ok(Outcome::Done) }
}

/// What speaks against the finished capture, and what a pipeline makes of it.
fn strict(folder: &Path, out: &mut dyn Write) -> Result<Outcome> {
    let report = inspect::examine(&sources::open_as(folder, &SetupArgs::default())?)?;
    show::inspect::findings(&report.findings, Paint::new(Color::Auto), out)?;
    Ok(inspect::strict(&report.findings))
}

/// Everything that a capture needs beside the target.
struct Ready {
    manifest: Manifest,
    last: Option<LastEvent>,
    opened: Opened,
    store: Store,
}

/// Opens what is read from and makes the folder, while the target still stands.
fn make_ready(
    args: &Args,
    raw: Option<&Address>,
    folder: &Path,
    place: Place,
    prepared: &mut Prepared,
) -> Result<Ready> {
    let manifest = manifest(args, raw, prepared)?;
    let last = args.until_event(prepared.image.as_ref())?;
    // The trace is listened to before the target is let run.
    let opened = match raw {
        Some(address) => open_raw(address, args, prepared)?,
        None => Opened::Nothing,
    };
    let mut store = Store::create(folder, place, &manifest, prepared.image.as_ref(), args.keep())?;
    store.note(None, What::Started, Some(now_text()))?;
    for (what, detail) in std::mem::take(&mut prepared.journal) {
        store.note(None, what, Some(detail))?;
    }
    store.note(None, What::Armed, None)?;
    Ok(Ready { manifest, last, opened, store })
}

/// What was opened to read from.
enum Opened {
    Nothing,
    Reader(Reader),
    StandIn(Box<StandIn>),
}

fn open_raw(address: &Address, args: &Args, prepared: &mut Prepared) -> Result<Opened> {
    if let Address::StandIn(firmware) = address {
        let applied = prepared.applied.as_ref();
        let clock = applied.and_then(|applied| applied.target.core_clock);
        let model = match applied.and_then(|applied| applied.core) {
            None => Model::default(),
            Some(core) => core.name.parse().context("the plan's core")?,
        };
        let mut machine = StandIn::load(firmware, clock.map(|clock| clock.hertz()), model)?;
        if let Some(applied) = &prepared.applied {
            machine.write(&applied.writes)?;
            let written = |w: &weltblick_core::plan::Write| {
                (What::RegisterWritten, format!("{} = {:#010x}", w.name, w.value))
            };
            prepared.journal.extend(applied.writes.iter().map(written));
        }
        return Ok(Opened::StandIn(Box::new(machine)));
    }
    let reader = match prepared.reader.take() {
        Some(reader) => Some(reader),
        None => open_reader(address, args, prepared.applied.as_ref())?,
    };
    Ok(reader.map_or(Opened::Nothing, Opened::Reader))
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

fn conclude(folder: &Path, summary: Summary, interrupted: bool, out: &mut dyn Write) -> Result<()> {
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
    writeln!(out, "next: weltblick inspect {}", show::shell(&name))?;
    match summary.error {
        None if bytes == 0 => {
            bail!("the capture is empty: not one byte arrived, and {name} has none")
        }
        None => Ok(()),
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

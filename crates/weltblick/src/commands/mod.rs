//! One file per command: resolve the request, call the core, hand the result to `show`.

mod again;
mod capture;
mod check;
mod code_span;
mod console;
mod counting;
mod coverage;
mod demo;
mod draft;
mod exact;
mod export;
mod flow;
mod followers;
mod import;
mod inspect;
mod interrupts;
mod list;
mod measured;
mod measured_code;
mod only;
mod packets;
mod plan;
mod profile;
mod reading;
mod records;
mod signals;
mod source;
mod span;
mod spans;
mod stand_in;
mod tasks;
mod timeline;
mod within;

use crate::outcome::Outcome;
use anyhow::Result;
use clap::{Parser, Subcommand};
use std::io::Write;

/// Says how long firmware takes, from the trace that it emits.
#[derive(Debug, Parser)]
#[command(name = "weltblick", version, arg_required_else_help = true)]
pub(crate) struct Cli {
    /// What to do
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// In the order of the day's work.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Does it fit the link, what to write into which register, how long to measure
    Plan(Box<plan::Args>),
    /// Bytes from a running target into a folder, with a live view
    Capture(Box<capture::Args>),
    /// Make a capture folder from raw files, or amend one
    Import(import::Args),
    /// What is in a capture, and how far to believe it
    Inspect(inspect::Args),
    /// Where the time goes: by function, file, line or address
    Profile(profile::Args),
    /// Who interrupted whom, and how long each was pending, ran, and how regular it was
    Interrupts(interrupts::Args),
    /// Which task ran how long, how late, on how much stack, and what it waited for
    Tasks(tasks::Args),
    /// What watched variables and firmware quantities were, and when they changed
    Signals(signals::Args),
    /// Text that the firmware printed, with times
    Console(console::Args),
    /// Which functions, lines, instructions and branches ran
    Coverage(Box<coverage::Args>),
    /// Interrupts, tasks, spans, values and text on one axis
    Timeline(timeline::Args),
    /// What exactly ran around a place, forwards and back
    Flow(flow::Args),
    /// A function's or a file's lines, with counts and coverage in the margin
    Source(source::Args),
    /// Time from one point in the code to another, with laps
    Span(span::Args),
    /// Judge every budget: met, broken or undecided
    Check(check::Args),
    /// A capture's events in an open format
    Export(export::Args),
    /// The whole path on a made-up capture, in a folder of its own
    Demo(demo::Args),
    /// The stand-in microcontroller as a server, to try all of this on
    StandIn(stand_in::Args),
}

/// Runs what the user asked for.
pub(crate) fn run(cli: &Cli, out: &mut dyn Write) -> Result<Outcome> {
    match &cli.command {
        Command::Capture(args) => capture::run(args, out),
        Command::Check(args) => check::run(args, out),
        Command::Export(args) => export::run(args, out),
        Command::Inspect(args) => inspect::run(args, out),
        Command::Import(args) => import::run(args, out),
        Command::Interrupts(args) => interrupts::run(args, out),
        Command::Tasks(args) => tasks::run(args, out),
        Command::Console(args) => console::run(args, out),
        Command::Signals(args) => signals::run(args, out),
        Command::Coverage(args) => coverage::run(args, out),
        Command::Timeline(args) => timeline::run(args, out),
        Command::Flow(args) => flow::run(args, out),
        Command::Source(args) => source::run(args, out),
        Command::Span(args) => span::run(args, out),
        Command::StandIn(args) => stand_in::run(args, out),
        Command::Plan(args) => plan::run(args, out),
        Command::Demo(args) => demo::run(args, out),
        Command::Profile(args) => profile::run(args, out),
    }
}

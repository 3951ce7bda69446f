//! One file per command: resolve the request, call the core, hand the result to `show`.

pub(crate) mod check;
mod counting;
pub(crate) mod demo;
pub(crate) mod import;
pub(crate) mod inspect;
mod packets;
pub(crate) mod profile;

use crate::cli::{Cli, Command};
use crate::outcome::Outcome;
use anyhow::Result;
use std::io::Write;

/// Runs what the user asked for.
pub(crate) fn run(cli: &Cli, out: &mut dyn Write) -> Result<Outcome> {
    match &cli.command {
        Command::Check(args) => check::run(args, out),
        Command::Inspect(args) => inspect::run(args, out),
        Command::Import(args) => import::run(args, out),
        Command::Demo(args) => demo::run(args, out),
        Command::Profile(args) => profile::run(args, out),
    }
}

//! `weltblick`: how long firmware takes, and how far to believe it.

mod cli;
mod commands;
mod outcome;
mod show;
mod sources;

use clap::Parser as _;
use outcome::Outcome;
use std::io::{self, BufWriter, Write as _};
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = match commands::Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            let _ = error.print();
            return if error.use_stderr() { Outcome::NotUnderstood } else { Outcome::Done }.into();
        }
    };
    let mut out = BufWriter::new(io::stdout().lock());
    let result = commands::run(&cli, &mut out).and_then(|outcome| {
        out.flush()?;
        Ok(outcome)
    });
    match result {
        Ok(outcome) => outcome.into(),
        // Whoever closed the pipe has seen enough.
        Err(error) if is_closed_pipe(&error) => Outcome::Done.into(),
        Err(error) => {
            let _ = out.flush();
            // Foreign names in messages are escaped; line ends are our own.
            let _ = writeln!(io::stderr(), "error: {}", show::message(&format!("{error:#}")));
            Outcome::NotUnderstood.into()
        }
    }
}

fn is_closed_pipe(error: &anyhow::Error) -> bool {
    error
        .chain()
        .filter_map(|cause| cause.downcast_ref::<io::Error>())
        .any(|error| error.kind() == io::ErrorKind::BrokenPipe)
}

//! `demo`: the whole path on made-up data, as the user would walk it.

use super::{Cli, run as run_command};
use crate::cli::Color;
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{NewFolder, Place};
use anyhow::{Context as _, Result, bail};
use clap::Parser as _;
use include_dir::{Dir, DirEntry, include_dir};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

/// The firmware's source, the recorded capture, and the budgets.
static FILES: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");
/// Tells that a folder is a demo's.
const MARKER: &str = "budgets.toml";

/// The whole path on a made-up capture, in a folder of its own
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folder to make
    #[arg(long, value_name = "FOLDER", default_value = "weltblick-demo")]
    out: PathBuf,
    /// Put it in the place of an existing demo, changed or not
    #[arg(long)]
    replace: bool,
    /// When to use colour
    #[arg(long, value_enum, default_value_t = Color::Auto)]
    color: Color,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    let paint = Paint::new(args.color);
    let folder = args.out.display().to_string();
    let folder = show::plain(&folder);
    prepare(args)?;
    writeln!(
        out,
        "A moored buoy measures waves. Its firmware ran for three seconds, and its debug"
    )?;
    writeln!(
        out,
        "port sent samples, interrupts, statements of its kernel and text. In {folder}/:"
    )?;
    writeln!(
        out,
        "  buoy/         the capture: the trace as it came, the firmware's ELF, a manifest"
    )?;
    writeln!(out, "  buoy-flow/    the first half second again, every instruction of it")?;
    writeln!(
        out,
        "  buoy-port/    its first 50 ms with the ITM beside it, in frames of one trace port"
    )?;
    writeln!(out, "  buoy-etmv3/   the same 50 ms, as an older trace unit tells it")?;
    writeln!(
        out,
        "  buoy-mtb/     the last branches of these, as a micro trace buffer holds them"
    )?;
    writeln!(out, "  firmware/     the firmware's source, with five deliberate faults")?;
    writeln!(out, "  budgets.toml  what the firmware may cost")?;
    writeln!(out, "  README.md     the story, and the faults")?;
    let buoy = args.out.join("buoy").display().to_string();
    let flow = args.out.join("buoy-flow").display().to_string();
    let budgets = args.out.join("budgets.toml").display().to_string();
    for (question, command) in [
        ("Is the recording whole, and is it this firmware?", vec!["inspect", &buoy]),
        ("Where does the time go?", vec!["profile", &buoy, "--top", "12"]),
        (
            "Which interrupt is late, and behind whom?",
            vec!["interrupts", &buoy, "--sort", "response"],
        ),
        ("Which task waits, and for whom?", vec!["tasks", &buoy]),
        ("Does every budget hold?", vec!["check", &buoy, &budgets]),
        ("How long does each call really take?", vec!["profile", &flow, "--top", "10"]),
        ("Which code never ran?", vec!["coverage", &flow, "--exclude", "/build/*", "--top", "5"]),
        (
            "How long from the filter to the band energies, each time?",
            vec!["span", &flow, "wave_filter", "spectrum_power", "bands_update", "--top", "2"],
        ),
        (
            "What exactly happens where the filter is slow?",
            vec!["flow", &flow, "--around", "filter_precise", "-n", "14"],
        ),
    ] {
        step(question, &command, args.color, paint, out)?;
    }
    next(&buoy, &flow, &budgets, paint, out)?;
    Ok(Outcome::Done)
}

/// Shows a command as the user would type it, then runs it.
fn step(
    question: &str,
    command: &[&str],
    color: Color,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let shown: Vec<_> = command.iter().map(|word| show::plain(word)).collect();
    writeln!(out)?;
    writeln!(out, "{}", paint.faint(&format!("# {question}")))?;
    writeln!(out, "{}", paint.strong(&format!("$ weltblick {}", shown.join(" "))))?;
    let color = match color {
        Color::Auto => "auto",
        Color::Always => "always",
        Color::Never => "never",
    };
    let mut words = vec!["weltblick"];
    words.extend(command);
    words.extend(["--color", color]);
    let cli = Cli::try_parse_from(words).context("the demo's own command line")?;
    run_command(&cli, out)?;
    Ok(())
}

fn next(buoy: &str, flow: &str, budgets: &str, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let (buoy, flow, budgets) = (show::plain(buoy), show::plain(flow), show::plain(budgets));
    writeln!(out)?;
    writeln!(out, "{}", paint.faint("# Try next"))?;
    for (command, why) in [
        (format!("profile {buoy} --by line"), "which lines of copy_bytes cost so much"),
        (format!("profile {buoy} --every 500ms --top 5"), "when the slow filter path was taken"),
        (format!("profile {buoy} --within 1s..1.2s"), "a closer look at one stretch of time"),
        (format!("interrupts {buoy} adc_ready --worst 3"), "one interrupt in detail"),
        (format!("tasks {buoy} --order --within 1s..1.05s"), "in which order tasks ran"),
        (format!("console {buoy} --deltas"), "what the firmware printed"),
        (format!("profile {flow} --of wave_filter"), "one function: each call, callers, callees"),
        (format!("profile {flow} --tree"), "who called whom"),
        (format!("source {flow} housekeeping_task"), "lines that never ran, in the margin"),
        (format!("inspect {buoy} --packets --top 20"), "the packets themselves"),
        (format!("check {buoy} {budgets} --format json"), "the same verdicts for a script"),
    ] {
        writeln!(out, "$ weltblick {command}\n    {}", paint.faint(why))?;
    }
    Ok(())
}

/// Makes the folder, unless it is there as the demo left it.
fn prepare(args: &Args) -> Result<()> {
    if args.out.exists() && !args.replace {
        if is_unchanged(&FILES, &args.out) {
            return Ok(());
        }
        bail!(
            "{}: exists and is not as the demo made it; choose another --out, or say --replace",
            args.out.display()
        );
    }
    let place = if args.replace { Place::Replace } else { Place::New };
    let folder = NewFolder::begin(&args.out, place, MARKER)?;
    write_all(&FILES, &folder)?;
    folder.finish()
}

fn write_all(from: &Dir<'_>, folder: &NewFolder) -> Result<()> {
    for entry in from.entries() {
        match entry {
            DirEntry::Dir(inner) => write_all(inner, folder)?,
            DirEntry::File(file) => folder.write(file.path(), file.contents())?,
        }
    }
    Ok(())
}

fn is_unchanged(from: &Dir<'_>, folder: &Path) -> bool {
    from.entries().iter().all(|entry| match entry {
        DirEntry::Dir(inner) => is_unchanged(inner, folder),
        DirEntry::File(file) => {
            fs::read(folder.join(file.path())).is_ok_and(|bytes| bytes == file.contents())
        }
    })
}

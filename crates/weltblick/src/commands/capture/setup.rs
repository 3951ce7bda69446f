//! Through a debug stub: is this the firmware, reset, write what is planned, let it run.

use super::registers::{AIRCR, CPUID, DEMCR, RESET, STOP_AT_RESET};
use crate::sources::stub::{Client, StubError};
use anyhow::{Context as _, Result, bail};
use std::time::Duration;
use weltblick_core::capture::What;
use weltblick_core::image::Image;
use weltblick_core::plan::{Core, Write};

/// Code is compared in pieces of this size.
const PIECE: usize = 4096;

/// What was done, for the journal.
pub(super) type Done = Vec<(What, String)>;

/// What to do before the target runs.
#[derive(Debug, Default)]
pub(super) struct Wanted<'a> {
    pub(super) image: Option<&'a Image>,
    /// The core that the plan is for.
    pub(super) core: Option<Core>,
    pub(super) reset: bool,
    pub(super) reset_command: Option<&'a str>,
}

/// Stops the target, compares, resets. The target stands afterwards.
pub(super) fn stop(client: &mut Client, wanted: &Wanted<'_>) -> Result<Done> {
    let mut done = Done::new();
    hold(client)?;
    if let Some(core) = wanted.core {
        compare_core(client, core)?;
    }
    if let Some(image) = wanted.image {
        compare(client, image)?;
        done.push((What::Connected, "the target's code is that of the image".into()));
    }
    if let Some(command) = wanted.reset_command {
        client.command(command)?;
        done.push((What::Reset, format!("by the stub's command `{command}`")));
    } else if wanted.reset {
        reset(client)?;
        done.push((What::Reset, "by AIRCR, stopped at the reset vector".into()));
    }
    Ok(done)
}

/// Writes what is planned.
pub(super) fn write(client: &mut Client, writes: &[Write]) -> Result<Done> {
    let written = |write| Ok((What::RegisterWritten, write_register(client, write)?));
    writes.iter().map(written).collect()
}

/// Stops the target, whether or not it runs.
pub(super) fn hold(client: &mut Client) -> Result<(), StubError> {
    // A stub that has just been connected to has stopped the target, or stops it now.
    let _ = client.ask(b"?")?;
    client.use_non_stop()?;
    if client.non_stop {
        let _ = client.ask(b"vCont;t")?;
        let _ = client.wait_until_stopped(Duration::from_millis(100))?;
    }
    Ok(())
}

/// Refuses a plan for another core: its registers would record nothing, or something else. What is no core that is
/// known, or cannot be asked, may be right.
fn compare_core(client: &mut Client, planned: Core) -> Result<()> {
    let Ok(cpuid) = client.word(CPUID) else { return Ok(()) };
    match Core::of_cpuid(cpuid) {
        Some(there) if there != planned => bail!(
            "the target is a {there} (CPUID {cpuid:#010x}), the plan is for a {planned}: plan again with `--core {there}` (--no-compare records all the same)"
        ),
        _ => Ok(()),
    }
}

/// Compares the target's code with the image's, byte by byte.
fn compare(client: &mut Client, image: &Image) -> Result<()> {
    for (range, bytes) in image.code() {
        for (number, piece) in bytes.chunks(PIECE).enumerate() {
            let address = range.start + (number * PIECE) as u64;
            let there = client.read(address, piece.len()).with_context(|| {
                format!("the target's code at {address:#010x} cannot be compared with the image (--no-compare leaves that out)")
            })?;
            let differs = piece.iter().zip(&there).position(|(a, b)| a != b);
            if let Some(offset) = differs {
                let at = address + offset as u64;
                let function = image
                    .function_at(at)
                    .map_or_else(String::new, |id| format!(" in {}", image.function(id).name));
                bail!(
                    "the target runs another build: at {at:#010x}{function} it has {:02x}, the image {:02x}; give the image that is on the target, or put this one there (--no-compare records all the same)",
                    there[offset],
                    piece[offset]
                );
            }
        }
    }
    Ok(())
}

/// Resets the core, and stops it before its first instruction.
fn reset(client: &mut Client) -> Result<()> {
    let before = client.word(DEMCR).context("reset")?;
    client.write_word(DEMCR, before | STOP_AT_RESET).context("reset")?;
    client.write_word(AIRCR, RESET).context("reset")?;
    // Some stubs tell of the stop, some take it as their own doing.
    client.wait_until_stopped(Duration::from_millis(150))?;
    client.write_word(DEMCR, before & !STOP_AT_RESET).context("reset")?;
    Ok(())
}

/// Writes one register, and looks whether it took it. What it returns is for the journal.
fn write_register(client: &mut Client, write: &Write) -> Result<String> {
    let Write { name, address, value, mask } = write;
    let address = u64::from(*address);
    let told = || format!("{name} at {address:#010x}");
    let value = if *mask == u32::MAX {
        *value
    } else {
        client.word(address).with_context(told)? & !mask | value & mask
    };
    client.write_word(address, value).with_context(told)?;
    // A lock takes its key and does not show it.
    if name.ends_with("LAR") {
        return Ok(format!("{name} = {value:#010x}"));
    }
    let there = client.word(address).with_context(told)?;
    let kept = if there & mask == value & mask {
        String::new()
    } else {
        format!(", reads back {there:#010x}")
    };
    Ok(format!("{name} = {value:#010x}{kept}"))
}

/// What of `done` says that a register did not take its value.
pub(super) fn refused(done: &Done) -> Vec<&str> {
    done.iter().map(|(_, text)| text.as_str()).filter(|text| text.contains("reads back")).collect()
}

//! Through a debug stub: is this the firmware, reset, write what is planned, let it run.

use super::registers::{
    AIRCR, BEFORE_EVERY_TAP, CYCLE_COUNTER, DEMCR, RESET, STOP_AT_RESET, TRACE_CONTROL,
};
use crate::sources::stub::{Client, StubError};
use anyhow::{Context as _, Result, bail};
use std::time::Duration;
use weltblick_core::capture::What;
use weltblick_core::image::Image;
use weltblick_core::plan::Write;

/// Code is compared in pieces of this size.
const PIECE: usize = 4096;

/// What was done, for the journal.
pub(super) type Done = Vec<(What, String)>;

/// What to do before the target runs.
#[derive(Debug, Default)]
pub(super) struct Wanted<'a> {
    pub(super) image: Option<&'a Image>,
    pub(super) reset: bool,
    pub(super) reset_command: Option<&'a str>,
    pub(super) writes: &'a [Write],
}

/// Stops the target, compares, resets, writes. The target stands afterwards.
pub(super) fn prepare(client: &mut Client, wanted: &Wanted<'_>) -> Result<Done> {
    let mut done = Done::new();
    hold(client)?;
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
    let was_on = !wanted.writes.is_empty() && is_tracing(client);
    for write in wanted.writes {
        done.push((What::RegisterWritten, write_register(client, write)?));
    }
    if was_on && (wanted.reset || wanted.reset_command.is_some()) {
        // A reset leaves the trace unit as it is, and its next synchronisation far away.
        client.write_word(CYCLE_COUNTER, BEFORE_EVERY_TAP).context("synchronise")?;
        let text = format!("DWT_CYCCNT = {BEFORE_EVERY_TAP:#010x}, to synchronise at once");
        done.push((What::RegisterWritten, text));
    }
    Ok(done)
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

/// Whether the ITM is on.
fn is_tracing(client: &mut Client) -> bool {
    client.word(TRACE_CONTROL).is_ok_and(|control| control & 1 == 1)
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

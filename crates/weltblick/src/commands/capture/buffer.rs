//! Buffers on the chip, read out through a debug stub: the CoreSight ETB and TMC (programmers'
//! models of both; the TMC in circular buffer mode).
//!
//! Assumed where implementations differ: a TMC that has stopped hands out its oldest word first and
//! `FFFF_FFFF` at its end; an ETB begins at word 0 unless it has wrapped.

use super::registers::{BEFORE_EVERY_TAP, CYCLE_COUNTER};
use crate::sources::stub::{Client, StubError};

/// Registers, from the component's base.
const DEPTH: u64 = 0x004;
const STATUS: u64 = 0x00c;
const READ_DATA: u64 = 0x010;
const READ_POINTER: u64 = 0x014;
const WRITE_POINTER: u64 = 0x018;
const CONTROL: u64 = 0x020;
const MODE: u64 = 0x028;
const FORMATTER_STATUS: u64 = 0x300;
const FORMATTER_CONTROL: u64 = 0x304;
const LOCK: u64 = 0xfb0;
const KEY: u32 = 0xc5ac_ce55;

/// `FFCR`: frames, triggers indicated; a flush by hand, and a stop after it.
const FRAMES: u32 = 0b11;
const FLUSH: u32 = 1 << 6;
const STOP_AFTER_FLUSH: u32 = 1 << 12;
/// `FFSR`: the formatter has stopped.
const STOPPED: u32 = 1 << 1;
/// A TMC's end.
const END: u32 = 0xffff_ffff;
/// A flush is waited for so often.
const MOST_LOOKS: u32 = 100;
/// A buffer has at most so many words: 16 MB.
const MOST_WORDS: u32 = 4 << 20;

/// The cycle counter just before all the bits that synchronisations are tapped from change: time
/// enough for the buffer to be on.
const BEFORE_A_TAP: u32 = BEFORE_EVERY_TAP - 0xff;

/// A buffer and where its registers are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Buffer {
    kind: Kind,
    base: u64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Etb,
    Tmc,
}

/// What a buffer held.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Content {
    pub(super) bytes: Vec<u8>,
    /// Older trace was overwritten.
    pub(super) wrapped: bool,
}

impl Buffer {
    pub(super) const fn etb(base: u64) -> Self {
        Self { kind: Kind::Etb, base }
    }

    pub(super) const fn tmc(base: u64) -> Self {
        Self { kind: Kind::Tmc, base }
    }

    /// Where its registers are.
    pub(super) const fn base(self) -> u64 {
        self.base
    }

    /// Empties it and lets it take trace.
    pub(super) fn start(self, client: &mut Client) -> Result<(), StubError> {
        client.write_word(self.base + LOCK, KEY)?;
        client.write_word(self.base + CONTROL, 0)?;
        if self.kind == Kind::Tmc {
            client.write_word(self.base + MODE, 0)?;
        }
        client.write_word(self.base + FORMATTER_CONTROL, FRAMES)?;
        client.write_word(self.base + WRITE_POINTER, 0)?;
        client.write_word(self.base + CONTROL, 1)?;
        // Readers find their feet at a synchronisation: one soon, not only after 2^24 cycles.
        client.write_word(CYCLE_COUNTER, BEFORE_A_TAP)
    }

    /// Stops it and reads what it holds, oldest first.
    pub(super) fn read_out(self, client: &mut Client) -> Result<Content, StubError> {
        let control = FRAMES | STOP_AFTER_FLUSH;
        client.write_word(self.base + FORMATTER_CONTROL, control)?;
        client.write_word(self.base + FORMATTER_CONTROL, control | FLUSH)?;
        for _ in 0..MOST_LOOKS {
            if client.word(self.base + FORMATTER_CONTROL)? & FLUSH == 0 {
                break;
            }
        }
        client.write_word(self.base + CONTROL, 0)?;
        for _ in 0..MOST_LOOKS {
            if client.word(self.base + FORMATTER_STATUS)? & STOPPED != 0 {
                break;
            }
        }
        let wrapped = client.word(self.base + STATUS)? & 1 == 1;
        let depth = client.word(self.base + DEPTH)?;
        if depth == 0 || depth > MOST_WORDS {
            return Err(StubError::Unsupported(
                "read the trace buffer: its size reads as nothing sensible; is this its base address?",
            ));
        }
        let bytes = match self.kind {
            Kind::Etb => self.words_of_etb(client, depth, wrapped)?,
            Kind::Tmc => self.words_of_tmc(client, depth)?,
        };
        Ok(Content { bytes, wrapped })
    }

    fn words_of_etb(
        self,
        client: &mut Client,
        depth: u32,
        wrapped: bool,
    ) -> Result<Vec<u8>, StubError> {
        let write = client.word(self.base + WRITE_POINTER)?.min(depth);
        let (first, count) = if wrapped { (write, depth) } else { (0, write) };
        client.write_word(self.base + READ_POINTER, first)?;
        let mut bytes = Vec::new();
        for _ in 0..count {
            bytes.extend(client.word(self.base + READ_DATA)?.to_le_bytes());
        }
        Ok(bytes)
    }

    fn words_of_tmc(self, client: &mut Client, depth: u32) -> Result<Vec<u8>, StubError> {
        let mut bytes = Vec::new();
        for _ in 0..depth {
            match client.word(self.base + READ_DATA)? {
                END => break,
                word => bytes.extend(word.to_le_bytes()),
            }
        }
        Ok(bytes)
    }
}

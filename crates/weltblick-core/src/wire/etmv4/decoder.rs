//! The decoder of this protocol.

use super::history::History;
use super::packet::Packet;
use super::parse::{ATOMS, FIRST_ATOMS, read, short_cycle_count};
use super::settings::Settings;
use crate::wire::alignment::Stop;
use crate::wire::decoder::{self, Grammar, Sink};

/// An ETMv4 decoder. A few words of state, no allocation.
///
/// It does not know where packets start until it has seen a synchronisation: what stands before the
/// first one is a loss.
///
/// ```
/// use std::ops::Range;
/// use weltblick_core::wire::etmv4::{Decoder, Packet, Settings};
/// use weltblick_core::wire::{Malformed, Sink};
///
/// struct Print(Vec<String>);
/// impl Sink<Packet> for Print {
///     fn packet(&mut self, at: Range<u64>, packet: Packet) {
///         self.0.push(format!("{at:?} {packet:x?}"));
///     }
///     fn loss(&mut self, at: Range<u64>, why: Malformed) {
///         self.0.push(format!("{at:?} lost: {}", why.describe()));
///     }
/// }
///
/// let mut print = Print(Vec::new());
/// let mut decoder = Decoder::new(Settings::default());
/// decoder.push(&[0xff; 2], &mut print); // the end of a packet
/// decoder.push(&[0; 11], &mut print);
/// decoder.push(&[0x80, 0x04, 0xd9], &mut print);
/// decoder.finish(&mut print);
/// assert_eq!(print.0, [
///     "0..2 lost: bytes before the first synchronisation",
///     "2..14 Async",
///     "14..15 TraceOn",
///     "15..16 Atoms(Atoms { bits: 1, count: 2 })",
/// ]);
/// ```
pub type Decoder = decoder::Decoder<Etmv4>;

/// How ETMv4 writes packets, and what was said before.
#[derive(Debug, Clone, PartialEq)]
pub struct Etmv4 {
    settings: Settings,
    history: History,
}

impl Decoder {
    /// A decoder at the start of a recording.
    #[must_use]
    pub fn new(settings: Settings) -> Self {
        Self::starting_at(settings, 0)
    }

    /// The same, for what starts at byte `offset` of a stream.
    #[must_use]
    pub fn starting_at(settings: Settings, offset: u64) -> Self {
        Self::with_grammar(Etmv4 { settings, history: History::default() }, offset)
    }
}

impl Grammar for Etmv4 {
    type Packet = Packet;
    const SYNC_ZEROS: u64 = 11;
    const SYNC: Packet = Packet::Async;

    #[inline(always)]
    fn frequent(&self, bytes: &[u8], at: u64, sink: &mut impl Sink<Packet>) -> usize {
        let counts_are_plain = !self.settings.counts_commit();
        let threshold = self.history.threshold;
        let mut used = 0;
        while let Some(&header) = bytes.get(used) {
            let start = at + used as u64;
            if header >= FIRST_ATOMS {
                let atoms = ATOMS[usize::from(header & 0x3f)];
                sink.packet(start..start + 1, Packet::Atoms(atoms));
                used += 1;
            } else if counts_are_plain
                && let Some(&next) = bytes.get(used + 1)
                && let Some((length, count)) = short_cycle_count(header, next)
            {
                let cycles = Some(threshold.saturating_add(count));
                sink.packet(start..start + length as u64, Packet::CycleCount { commit: 0, cycles });
                used += length;
            } else {
                break;
            }
        }
        used
    }

    #[inline]
    fn read(&mut self, bytes: &[u8]) -> Result<(usize, Packet), Stop> {
        read(bytes, &self.settings, &mut self.history)
    }
}

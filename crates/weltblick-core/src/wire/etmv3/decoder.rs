//! The decoder of this protocol.

use super::atoms::ATOMS;
use super::history::History;
use super::packet::Packet;
use super::parse::read;
use super::settings::Settings;
use crate::wire::alignment::Stop;
use crate::wire::decoder::{self, Grammar, Sink};

/// An ETMv3 decoder. A few words of state, no allocation.
///
/// It does not know where packets start until it has seen a synchronisation: what stands before the
/// first one is a loss.
///
/// ```
/// use std::ops::Range;
/// use weltblick_core::wire::etmv3::{Decoder, Packet, Settings};
/// use weltblick_core::wire::{Malformed, Sink};
///
/// struct Print(Vec<String>);
/// impl Sink<Packet> for Print {
///     fn packet(&mut self, at: Range<u64>, packet: Packet) {
///         if let Packet::Atoms(atoms) = packet {
///             self.0.push(format!("{at:?} {} atoms: {:b}", atoms.count, atoms.bits));
///         }
///     }
///     fn loss(&mut self, at: Range<u64>, why: Malformed) {
///         self.0.push(format!("{at:?} lost: {}", why.describe()));
///     }
/// }
///
/// let mut print = Print(Vec::new());
/// let mut decoder = Decoder::new(Settings::default());
/// decoder.push(&[0x84, 0, 0, 0], &mut print);
/// decoder.push(&[0, 0, 0x80, 0xd0, 0x86], &mut print);
/// decoder.finish(&mut print);
/// assert_eq!(print.0, [
///     "0..1 lost: bytes before the first synchronisation",
///     "7..8 5 atoms: 1111",
///     "8..9 2 atoms: 1",
/// ]);
/// ```
pub type Decoder = decoder::Decoder<Etmv3>;

/// How ETMv3 writes packets, and what was said before.
#[derive(Debug, Clone, PartialEq)]
pub struct Etmv3 {
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
        Self::with_grammar(Etmv3 { settings, history: History::default() }, offset)
    }
}

impl Grammar for Etmv3 {
    type Packet = Packet;
    const SYNC_ZEROS: u64 = 5;
    const SYNC: Packet = Packet::Async;

    #[inline(always)]
    fn frequent(&self, bytes: &[u8], at: u64, sink: &mut impl Sink<Packet>) -> usize {
        let atoms = &ATOMS[usize::from(self.settings.cycle_accurate())];
        let mut used = 0;
        while let Some(&header) = bytes.get(used)
            && let Some(atoms) = atoms[usize::from(header)]
        {
            let start = at + used as u64;
            sink.packet(start..start + 1, Packet::Atoms(atoms));
            used += 1;
        }
        used
    }

    #[inline]
    fn read(&mut self, bytes: &[u8]) -> Result<(usize, Packet), Stop> {
        read(bytes, &self.settings, &mut self.history)
    }
}

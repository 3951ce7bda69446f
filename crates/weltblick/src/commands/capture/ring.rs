//! A memory ring of firmware marks, drained through a debug stub (`docs/formats/ring.md`).
//!
//! The firmware writes bytes and counts them; the host reads bytes and tells how far it came. Both
//! counts run freely and wrap at 2^32, so their difference is what waits.

use super::buffer::Content;
use crate::sources::stub::{Client, StubError};
use weltblick_core::plan::RING_HEADER;
use weltblick_core::time::Frequency;

/// `WBRG`.
const MAGIC: u32 = 0x4752_4257;
const VERSION: u32 = 1;
/// The oldest bytes are overwritten, not the newest dropped.
const OVERWRITES: u32 = 1;
/// Where the host tells how far it came.
const READ: u64 = 16;
/// Bytes of a ring at most.
const LARGEST: u32 = 16 << 20;

/// A ring in the target's memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Ring {
    /// Where its header is.
    pub(super) address: u64,
    /// Bytes of the symbol, header included.
    pub(super) size: u64,
}

/// What a ring says of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Header {
    size: u32,
    overwrites: bool,
    written: u32,
    read: u32,
    /// Ticks per second of its timestamps.
    pub(super) clock: Option<u32>,
}

/// Why memory is no ring.
fn no_ring(what: &'static str) -> StubError {
    StubError::Unsupported(what)
}

impl Ring {
    /// Reads the header; `None` while the firmware has not made it yet.
    pub(super) fn header(self, client: &mut Client) -> Result<Option<Header>, StubError> {
        let bytes = client.read(self.address, RING_HEADER as usize)?;
        parse(&bytes, self.size)
    }

    /// Reads what waits, and tells the firmware that it may be overwritten.
    pub(super) fn drain(self, client: &mut Client) -> Result<Content, StubError> {
        let Some(header) = self.header(client)? else {
            return Ok(Content { bytes: Vec::new(), wrapped: false });
        };
        let (pieces, wrapped) = header.waiting();
        let mut bytes = Vec::new();
        for (offset, length) in pieces {
            let address = self.address + RING_HEADER + u64::from(offset);
            bytes.extend(client.read(address, length as usize)?);
        }
        client.write_word(self.address + READ, header.written)?;
        Ok(Content { bytes, wrapped })
    }
}

/// Reads a header of a symbol of so many bytes.
fn parse(bytes: &[u8], symbol: u64) -> Result<Option<Header>, StubError> {
    let word =
        |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
    match word(0) {
        // Memory as after reset: the firmware has not come so far.
        0 => return Ok(None),
        MAGIC => {}
        _ => return Err(no_ring("drain the ring: it does not start with WBRG")),
    }
    if word(4) & 0xffff != VERSION {
        return Err(no_ring("drain the ring: its version is unknown"));
    }
    let size = word(8);
    if !size.is_power_of_two() || size > LARGEST || u64::from(size) + RING_HEADER > symbol {
        return Err(no_ring(
            "drain the ring: its size is no power of two, or larger than its symbol",
        ));
    }
    Ok(Some(Header {
        size,
        overwrites: word(4) >> 16 & OVERWRITES != 0,
        written: word(12),
        read: word(16),
        clock: Some(word(20)).filter(|&clock| clock > 0),
    }))
}

impl Header {
    /// Offset and length of the one or two pieces that wait, oldest first, and whether older ones
    /// are gone.
    fn waiting(&self) -> (Vec<(u32, u32)>, bool) {
        let waiting = self.written.wrapping_sub(self.read);
        let overwritten = waiting > self.size;
        let length = waiting.min(self.size);
        // The size is a power of two: nothing jumps where the counts wrap.
        let first = self.written.wrapping_sub(length) % self.size;
        let before_end = (self.size - first).min(length);
        let pieces = [(first, before_end), (0, length - before_end)];
        (
            pieces.into_iter().filter(|(_, length)| *length > 0).collect(),
            overwritten && self.overwrites,
        )
    }

    /// The clock of its timestamps.
    pub(super) fn frequency(&self) -> Option<Frequency> {
        Frequency::from_hertz(f64::from(self.clock?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn header(size: u32, written: u32, read: u32) -> Header {
        Header { size, overwrites: true, written, read, clock: None }
    }

    #[test]
    fn finds_what_waits() {
        assert_eq!(header(64, 10, 0).waiting(), (vec![(0, 10)], false));
        assert_eq!(header(64, 70, 60).waiting(), (vec![(60, 4), (0, 6)], false));
        assert_eq!(header(64, 200, 0).waiting(), (vec![(8, 56), (0, 8)], true));
        assert_eq!(header(64, 3, 0xffff_fffd).waiting(), (vec![(61, 3), (0, 3)], false));
        assert_eq!(header(64, 7, 7).waiting(), (vec![], false));
    }

    #[test]
    fn memory_that_is_no_ring_is_told() {
        let mut bytes = [0; 32];
        assert!(parse(&bytes, 96).unwrap().is_none());
        bytes[..4].copy_from_slice(b"WBRG");
        assert!(parse(&bytes, 96).is_err());
        bytes[4] = 1;
        bytes[8] = 64;
        assert_eq!(
            parse(&bytes, 96).unwrap(),
            Some(Header { overwrites: false, ..header(64, 0, 0) })
        );
        assert!(parse(&bytes, 95).is_err(), "the symbol is too short");
    }

    proptest! {
        #[test]
        fn pieces_stay_inside_and_are_as_long_as_what_waits(
            power in 2_u32..16, written in any::<u32>(), read in any::<u32>(),
        ) {
            let size = 1 << power;
            let (pieces, _) = header(size, written, read).waiting();
            for &(offset, length) in &pieces {
                prop_assert!(offset + length <= size);
            }
            let length: u32 = pieces.iter().map(|(_, length)| length).sum();
            prop_assert_eq!(length, written.wrapping_sub(read).min(size));
        }

        #[test]
        fn any_header_is_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 32), symbol in 0_u64..1 << 20) {
            if let Ok(Some(header)) = parse(&bytes, symbol) {
                header.waiting();
            }
        }
    }
}

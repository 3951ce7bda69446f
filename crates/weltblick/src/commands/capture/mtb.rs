//! A micro trace buffer in RAM, read out through a debug stub (CoreSight MTB, programmers' model).
//!
//! The plan says where it writes; here it is only asked.

use super::buffer::Content;
use crate::sources::stub::{Client, StubError};

/// Registers, from the component's base.
const POSITION: u64 = 0x0;
const MASTER: u64 = 0x4;
const RAM: u64 = 0xc;

/// `POSITION`: the pointer, and whether it has wrapped.
const POINTER: u32 = 0xffff_fff8;
const WRAPPED: u32 = 1 << 2;
/// `MASTER`: the switch, whether comparators throw it, and the size: 2^(4 + MASK) bytes.
const ON: u32 = 1 << 31;
const STARTED_BY_INPUT: u32 = 1 << 5;
const MASK: u32 = 0x1f;
/// A buffer has at most 16 MB.
const LARGEST_MASK: u32 = 20;

/// A micro trace buffer and where its registers are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Mtb {
    pub(super) base: u64,
}

/// Where in RAM it writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    /// Offset of its part of the RAM.
    offset: u32,
    size: u32,
    /// Offset in that part of the next packet.
    next: u32,
    wrapped: bool,
}

impl Place {
    fn new(position: u32, master: u32) -> Result<Self, StubError> {
        let mask = master & MASK;
        if mask == 0 || mask > LARGEST_MASK {
            return Err(StubError::Unsupported(
                "read the micro trace buffer: its size is not set up; give --plan with `mtb_base` and `mtb_buffer`, and check the base address",
            ));
        }
        let size = 16 << mask;
        let pointer = position & POINTER;
        let offset = pointer & !(size - 1);
        Ok(Self { offset, size, next: pointer - offset, wrapped: position & WRAPPED != 0 })
    }

    /// Offset and length of what it holds, oldest first.
    fn pieces(self) -> Vec<(u32, u32)> {
        let Self { offset, size, next, wrapped } = self;
        let newest = (offset, next);
        let oldest = (offset + next, size - next);
        let pieces = if wrapped { vec![oldest, newest] } else { vec![newest] };
        pieces.into_iter().filter(|(_, length)| *length > 0).collect()
    }
}

impl Mtb {
    /// Empties it and lets it take branches, unless comparators are to start it.
    pub(super) fn start(self, client: &mut Client) -> Result<(), StubError> {
        let master = client.word(self.base + MASTER)?;
        let place = Place::new(client.word(self.base + POSITION)?, master)?;
        client.write_word(self.base + POSITION, place.offset)?;
        let on = if master & STARTED_BY_INPUT == 0 { ON } else { 0 };
        client.write_word(self.base + MASTER, master | on)
    }

    /// Reads what it holds, oldest first. It stands meanwhile, and begins anew afterwards.
    pub(super) fn read_out(self, client: &mut Client) -> Result<Content, StubError> {
        let master = client.word(self.base + MASTER)?;
        // A comparator would start it again while it is read: what is read then is of two times.
        client.write_word(self.base + MASTER, master & !(ON | STARTED_BY_INPUT))?;
        let place = Place::new(client.word(self.base + POSITION)?, master)?;
        let ram = u64::from(client.word(self.base + RAM)?);
        let mut bytes = Vec::new();
        for (offset, length) in place.pieces() {
            bytes.extend(client.read(ram + u64::from(offset), length as usize)?);
        }
        client.write_word(self.base + POSITION, place.offset)?;
        client.write_word(self.base + MASTER, master)?;
        Ok(Content { bytes, wrapped: place.wrapped })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_it_holds_is_read_oldest_first() {
        let pieces = |position| Place::new(position, 4).unwrap().pieces();
        // 256 bytes from 0x1000 on.
        assert_eq!(pieces(0x1000), []);
        assert_eq!(pieces(0x1018), [(0x1000, 0x18)]);
        assert_eq!(pieces(0x1018 | WRAPPED), [(0x1018, 0xe8), (0x1000, 0x18)]);
        assert!(Place::new(0, 0).is_err() && Place::new(0, 31).is_err(), "not set up");
    }
}

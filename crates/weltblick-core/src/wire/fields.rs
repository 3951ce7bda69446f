//! Fields of instruction trace packets.

use super::Malformed;
use super::alignment::Stop;

/// A packet's bytes, read one field after the other.
pub(super) struct Fields<'a> {
    bytes: &'a [u8],
    pub(super) at: usize,
}

impl<'a> Fields<'a> {
    pub(super) const fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0 }
    }

    #[inline]
    pub(super) fn byte(&mut self) -> Result<u8, Stop> {
        let byte = *self.bytes.get(self.at).ok_or(Stop::NotYet)?;
        self.at += 1;
        Ok(byte)
    }

    /// Seven bits a byte, lowest first, as long as the top bit is set: at most so many bytes, and at
    /// most so many bits.
    #[inline]
    pub(super) fn continued(&mut self, bytes: u32, bits: u32) -> Result<u32, Stop> {
        let mut value = 0_u64;
        for place in 0..bytes {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f) << (7 * place);
            if byte & 0x80 == 0 {
                let fits = value >> bits == 0;
                return if fits { Ok(value as u32) } else { Err(Stop::Bad(Malformed::TooLong)) };
            }
        }
        Err(Stop::Bad(Malformed::TooLong))
    }

    pub(super) fn word(&mut self, bytes: usize) -> Result<u32, Stop> {
        let mut value = 0;
        for place in 0..bytes {
            value |= u32::from(self.byte()?) << (8 * place);
        }
        Ok(value)
    }

    /// A timestamp of 48 or 64 bits: its low bits, seven a byte; those that are left out are as
    /// before. The last byte of the longest form has no continuation bit.
    pub(super) fn timestamp(&mut self, before: u64, width: u32) -> Result<u64, Stop> {
        let mut low = 0;
        let mut known = 0;
        while known + 8 < width {
            let byte = self.byte()?;
            low |= u64::from(byte & 0x7f) << known;
            known += 7;
            if byte & 0x80 == 0 {
                return Ok(before & !0 << known | low);
            }
        }
        let last = u64::from(self.byte()?);
        if width < 64 && last >> (width - known) != 0 {
            return Err(Stop::Bad(Malformed::TooLong));
        }
        Ok(low | last << known)
    }
}

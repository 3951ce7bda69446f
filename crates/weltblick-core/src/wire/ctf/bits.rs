//! Reading bits at any place and in both byte orders (section 4.1.5).

/// Which byte of a number comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Order {
    /// The lowest; bits fill a byte from its lowest on.
    Little,
    /// The highest; bits fill a byte from its highest on.
    Big,
}

/// Why reading stops.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Stop {
    /// So many bytes more are needed at least.
    More(usize),
    /// It cannot be read.
    Bad(super::Damage),
}

/// A place in a packet. Positions are bits from the packet's start.
#[derive(Debug, Clone, Copy)]
pub(super) struct Bits<'a> {
    bytes: &'a [u8],
    /// The position of the first of `bytes`.
    first: u64,
    /// Where reading stands.
    at: u64,
    /// Where the packet's content ends, if that is known.
    end: Option<u64>,
    /// The byte order of the bits before `at` in the same byte.
    order: Option<Order>,
}

impl<'a> Bits<'a> {
    /// At bit `at`; `first` is the position of the first of `bytes`.
    pub(super) const fn new(bytes: &'a [u8], first: u64, at: u64, end: Option<u64>) -> Self {
        Self { bytes, first, at, end, order: None }
    }

    pub(super) const fn at(&self) -> u64 {
        self.at
    }

    /// Moves to the next multiple of `align`, a power of two.
    pub(super) fn align(&mut self, align: u32) -> Result<(), Stop> {
        let mask = u64::from(align.max(1)) - 1;
        let to = self.at.checked_add(mask).ok_or(Stop::Bad(super::Damage::Overrun))? & !mask;
        self.reach(to)?;
        self.at = to;
        Ok(())
    }

    /// Whether everything up to `to` belongs to the packet and is there.
    fn reach(&self, to: u64) -> Result<(), Stop> {
        if self.end.is_some_and(|end| to > end) {
            return Err(Stop::Bad(super::Damage::Overrun));
        }
        let there = self.first + self.bytes.len() as u64 * 8;
        if to > there {
            return Err(Stop::More((to - there).div_ceil(8) as usize));
        }
        Ok(())
    }

    /// Skips bits.
    pub(super) fn skip(&mut self, bits: u64) -> Result<(), Stop> {
        let to = self.at.checked_add(bits).ok_or(Stop::Bad(super::Damage::Overrun))?;
        self.reach(to)?;
        self.at = to;
        self.order = None;
        Ok(())
    }

    /// The next `size` bits, 1 to 64, as a number without sign.
    #[inline]
    pub(super) fn number(&mut self, size: u32, order: Order) -> Result<u64, Stop> {
        let to = self.at + u64::from(size);
        self.reach(to)?;
        let bit = (self.at % 8) as u32;
        if bit != 0 && self.order.is_some_and(|before| before != order) {
            return Err(Stop::Bad(super::Damage::ByteOrder));
        }
        let from = ((self.at - self.first) / 8) as usize;
        let len = (bit + size).div_ceil(8) as usize;
        let bytes = &self.bytes[from..from + len];
        (self.at, self.order) = (to, Some(order));
        if bit == 0
            && size.is_multiple_of(8)
            && let Some(whole) = whole_bytes(bytes, order)
        {
            return Ok(whole);
        }
        // At most 64 + 7 bits.
        let mut wide: u128 = 0;
        let shift = match order {
            Order::Little => {
                bytes.iter().rev().for_each(|&byte| wide = wide << 8 | u128::from(byte));
                bit
            }
            Order::Big => {
                bytes.iter().for_each(|&byte| wide = wide << 8 | u128::from(byte));
                len as u32 * 8 - bit - size
            }
        };
        let mask = if size == 64 { u64::MAX } else { (1 << size) - 1 };
        Ok((wide >> shift) as u64 & mask)
    }

    /// The bytes up to the next zero, which is skipped; as a range of the bytes that are there.
    pub(super) fn text(&mut self) -> Result<std::ops::Range<usize>, Stop> {
        let from = ((self.at - self.first) / 8) as usize;
        let there = self.bytes.get(from..).unwrap_or(&[]);
        match there.iter().position(|&byte| byte == 0) {
            Some(len) => {
                self.skip(len as u64 * 8 + 8)?;
                Ok(from..from + len)
            }
            None => {
                self.reach(self.at + there.len() as u64 * 8 + 8)?;
                // A long text is not looked through again for every byte that comes.
                Err(Stop::More(1 + there.len() / 4))
            }
        }
    }

    /// So many whole bytes, as a range of the bytes that are there.
    pub(super) fn take(&mut self, len: u64) -> Result<std::ops::Range<usize>, Stop> {
        let from = ((self.at - self.first) / 8) as usize;
        let bits = len.checked_mul(8).ok_or(Stop::Bad(super::Damage::Overrun))?;
        self.skip(bits)?;
        Ok(from..from + len as usize)
    }
}

/// What most numbers are: one, two, four or eight whole bytes.
#[inline]
fn whole_bytes(bytes: &[u8], order: Order) -> Option<u64> {
    let little = order == Order::Little;
    Some(match *bytes {
        [only] => u64::from(only),
        [a, b] => {
            let bytes = [a, b];
            u64::from(if little { u16::from_le_bytes(bytes) } else { u16::from_be_bytes(bytes) })
        }
        [a, b, c, d] => {
            let bytes = [a, b, c, d];
            u64::from(if little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) })
        }
        [a, b, c, d, e, f, g, h] => {
            let bytes = [a, b, c, d, e, f, g, h];
            if little { u64::from_le_bytes(bytes) } else { u64::from_be_bytes(bytes) }
        }
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// One bit after the other, by the document's words.
    fn slowly(bytes: &[u8], at: u64, size: u32, order: Order) -> u64 {
        let bit = |position: u64| {
            let byte = bytes[(position / 8) as usize];
            let inside = match order {
                Order::Little => position % 8,
                Order::Big => 7 - position % 8,
            };
            u64::from(byte >> inside & 1)
        };
        (0..u64::from(size)).fold(0, |value, index| match order {
            Order::Little => value | bit(at + index) << index,
            Order::Big => value << 1 | bit(at + index),
        })
    }

    proptest! {
        #[test]
        fn numbers_are_what_their_bits_say(
            bytes in prop::collection::vec(any::<u8>(), 10..20),
            at in 0_u64..12,
            size in 1_u32..=64,
            big in any::<bool>(),
        ) {
            let order = if big { Order::Big } else { Order::Little };
            let mut bits = Bits::new(&bytes, 0, at, None);
            let expected = if at + u64::from(size) > bytes.len() as u64 * 8 {
                Err(Stop::More(1))
            } else {
                Ok(slowly(&bytes, at, size, order))
            };
            prop_assert_eq!(bits.number(size, order).is_err(), expected.is_err());
            if let Ok(expected) = expected {
                prop_assert_eq!(Bits::new(&bytes, 0, at, None).number(size, order), Ok(expected));
            }
        }
    }

    #[test]
    fn a_byte_holds_one_order() {
        let mut bits = Bits::new(&[0xff; 4], 0, 0, None);
        assert_eq!(bits.number(3, Order::Little), Ok(7));
        assert_eq!(bits.number(3, Order::Big), Err(Stop::Bad(super::super::Damage::ByteOrder)));
        assert_eq!(bits.align(8), Ok(()));
        assert_eq!(bits.number(3, Order::Big), Ok(7));
    }
}

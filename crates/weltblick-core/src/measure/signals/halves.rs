//! Values of eight bytes, put together from two accesses: a bus of 32 bits carries them in halves.

/// Instructions that access the two halves are no farther apart: one `strd`, or two `str` with little between.
const NEAREST: u64 = 16;

/// One half, waiting for the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Half {
    /// Whether it is the upper one.
    pub(super) is_upper: bool,
    pub(super) bits: u32,
    pub(super) code: Option<u64>,
}

/// What a half made of those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Joined {
    /// The value is whole.
    Whole(u64),
    /// It waits for the other half.
    Waits,
    /// It waits; the one that waited before it had no other half.
    Instead,
}

/// Halves of one variable, in their order.
#[derive(Debug, Clone, Default)]
pub(super) struct Halves {
    waiting: Option<Half>,
}

impl Halves {
    pub(super) fn add(&mut self, half: Half) -> Joined {
        match self.waiting.take() {
            Some(first) if belong_together(first, half) => {
                let (lower, upper) = if half.is_upper { (first, half) } else { (half, first) };
                Joined::Whole(u64::from(upper.bits) << 32 | u64::from(lower.bits))
            }
            before => {
                self.waiting = Some(half);
                if before.is_some() { Joined::Instead } else { Joined::Waits }
            }
        }
    }

    /// Something else happened, or may have: says whether a half waited.
    pub(super) const fn interrupt(&mut self) -> bool {
        self.waiting.take().is_some()
    }
}

fn belong_together(first: Half, second: Half) -> bool {
    let near = match (first.code, second.code) {
        (Some(first), Some(second)) => first.abs_diff(second) <= NEAREST,
        _ => true,
    };
    first.is_upper != second.is_upper && near
}

#[cfg(test)]
mod tests {
    use super::*;

    fn half(is_upper: bool, bits: u32, code: u64) -> Half {
        Half { is_upper, bits, code: Some(code) }
    }

    #[test]
    fn two_halves_of_one_place_are_a_value() {
        let mut halves = Halves::default();
        assert_eq!(halves.add(half(false, 7, 0x100)), Joined::Waits);
        assert_eq!(halves.add(half(true, 1, 0x104)), Joined::Whole(0x1_0000_0007));
        assert_eq!(halves.add(half(true, 2, 0x200)), Joined::Waits);
        assert_eq!(halves.add(half(false, 3, 0x1fe)), Joined::Whole(0x2_0000_0003));
    }

    #[test]
    fn halves_of_different_values_are_none() {
        let mut halves = Halves::default();
        assert_eq!(halves.add(half(false, 7, 0x100)), Joined::Waits);
        assert_eq!(halves.add(half(false, 8, 0x100)), Joined::Instead, "two lower ones");
        assert_eq!(halves.add(half(true, 1, 0x900)), Joined::Instead, "from elsewhere");
        assert!(halves.interrupt() && !halves.interrupt());
        assert_eq!(halves.add(half(false, 8, 0x904)), Joined::Waits, "after a loss");
    }
}

//! Values of eight bytes, put together from two accesses: a bus of 32 bits carries them in halves.
//!
//! A recording may begin between two halves, and an interrupt may come there. The upper half of one value and the lower
//! one of the next are no value that ever was, so halves are joined only where something says that they belong together:
//!
//! * Where the trace has the accessing instruction: one instruction accesses the lower address first (`strd`, `stm`;
//!   DDI 0403E, A7.7.163); two instructions come in the order of the program, close to each other.
//! * Where it has not: lower half first, both within a few ticks, and the lower one cannot be the partner of an upper
//!   one before it. At the beginning, and after a loss, nobody knows that until there is a pause.

use crate::time::Window;

/// Bytes between the instructions of two halves at most.
const NEAREST: u64 = 16;

/// Ticks between two halves at most.
const SOONEST: u64 = 16;

/// One half.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Half {
    /// Whether it is the upper one.
    pub(super) is_upper: bool,
    pub(super) bits: u32,
    /// The instruction.
    pub(super) code: Option<u64>,
    pub(super) time: Option<Window>,
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
    /// The one that waits is no partner of an earlier one.
    begins: bool,
    /// The last half, unless it is not known what came last; absent if it waits.
    last: Option<Last>,
}

/// What came before a half.
#[derive(Debug, Clone, Copy)]
enum Last {
    /// A value that was whole.
    Value,
    /// A half without a partner.
    Alone(Half),
}

impl Halves {
    pub(super) fn add(&mut self, half: Half) -> Joined {
        let before = self.waiting.take();
        if let Some(first) = before {
            if self.belong_together(first, half) {
                self.last = Some(Last::Value);
                let (lower, upper) = if half.is_upper { (first, half) } else { (half, first) };
                return Joined::Whole(u64::from(upper.bits) << 32 | u64::from(lower.bits));
            }
            self.last = Some(Last::Alone(first));
        }
        self.begins = match self.last {
            None => false,
            Some(Last::Value) => true,
            Some(Last::Alone(last)) => {
                last.is_upper == half.is_upper || distance(last, half).is_some_and(|d| d > SOONEST)
            }
        };
        self.waiting = Some(half);
        if before.is_some() { Joined::Instead } else { Joined::Waits }
    }

    fn belong_together(&self, first: Half, second: Half) -> bool {
        if first.is_upper == second.is_upper {
            return false;
        }
        match (first.code, second.code) {
            (Some(one), Some(other)) if one == other => second.is_upper,
            (Some(one), Some(other)) => one < other && other - one <= NEAREST,
            _ => {
                let is_soon = distance(first, second).is_some_and(|ticks| ticks <= SOONEST);
                second.is_upper && self.begins && is_soon
            }
        }
    }

    /// Something else happened, or may have: says whether a half waited.
    pub(super) const fn interrupt(&mut self) -> bool {
        self.last = None;
        self.waiting.take().is_some()
    }
}

/// Ticks from one half to the next, if their times are known.
fn distance(first: Half, second: Half) -> Option<u64> {
    Some(second.time?.latest.saturating_sub(first.time?.latest))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn half(is_upper: bool, bits: u32, code: Option<u64>, time: u64) -> Half {
        Half { is_upper, bits, code, time: Some(Window::exact(time)) }
    }

    fn joined(halves: &[Half]) -> Vec<u64> {
        let mut joining = Halves::default();
        let whole = |half: &Half| match joining.add(*half) {
            Joined::Whole(value) => Some(value),
            Joined::Waits | Joined::Instead => None,
        };
        halves.iter().filter_map(whole).collect()
    }

    #[test]
    fn halves_that_belong_together_are_values() {
        let strd = Some(0x100);
        assert_eq!(joined(&[half(false, 7, strd, 1), half(true, 1, strd, 2)]), [0x1_0000_0007]);
        let (first, second) = (Some(0x200), Some(0x204));
        assert_eq!(joined(&[half(true, 2, first, 1), half(false, 3, second, 9)]), [0x2_0000_0003]);
        let after = half(true, 9, None, 10);
        assert_eq!(joined(&[after, half(false, 5, None, 90), half(true, 0, None, 91)]), [5]);
    }

    #[test]
    fn what_may_be_of_two_values_is_none() {
        // Without instructions: long apart, or in the wrong order, or without times.
        let before = half(true, 9, None, 10);
        assert!(joined(&[before, half(false, 5, None, 90), half(true, 0, None, 190)]).is_empty());
        assert!(joined(&[before, half(true, 5, None, 90), half(false, 0, None, 91)]).is_empty());
        let timeless = |half: Half| Half { time: None, ..half };
        let halves = [before, half(false, 5, None, 90), half(true, 0, None, 91)];
        assert!(joined(&halves.map(timeless)).is_empty());
        // Begun between two halves.
        assert!(joined(&[half(true, 0, Some(8), 1), half(false, 1, Some(8), 2)]).is_empty());
    }

    /// How a program writes: the lower half first or not, by one instruction or two, and how often.
    #[derive(Debug, Clone, Copy)]
    struct Writer {
        lower_first: bool,
        code: u64,
        apart: u64,
    }

    /// Four places in a program, each of which writes in its way.
    fn writers() -> impl Strategy<Value = Vec<Writer>> {
        let one = (any::<bool>(), 0..3_u64);
        prop::collection::vec(one, 4).prop_map(|all| {
            let writer = |(place, (lower_first, apart)): (u64, (bool, u64))| Writer {
                // One instruction has no choice.
                lower_first: lower_first || apart == 0,
                code: 0x100 + place * 0x40,
                apart: apart * 4,
            };
            (0_u64..).zip(all).map(writer).collect()
        })
    }

    proptest! {
        /// Whatever program writes, wherever the recording begins, and wherever another interrupts it: no value is
        /// shown that was not written. The halves of each value have its number, so that a mixture shows.
        #[test]
        fn no_value_is_made_of_two(
            writers in writers(),
            writes in prop::collection::vec((0..4_usize, 2..40_u64, any::<bool>()), 1..40),
            has_code in any::<bool>(),
            interrupts in any::<bool>(),
            begun in 0..3_usize,
        ) {
            let (mut halves, mut now) = (Vec::new(), 0);
            let mut pending: Vec<Half> = Vec::new();
            for (number, (place, pause, is_nested)) in (1_u32..).zip(writes) {
                // Without instructions all accesses are those of one writer, or nobody could know.
                let writer = writers[if has_code { place } else { 0 }];
                now += pause;
                let code = |at: u64| has_code.then_some(writer.code + at);
                let first = half(!writer.lower_first, number, code(0), now);
                let second = half(writer.lower_first, number, code(writer.apart), now + 1);
                halves.push(first);
                if interrupts && has_code && is_nested && pending.len() < 3 {
                    pending.push(second);
                    continue;
                }
                halves.push(second);
                while let Some(mut late) = pending.pop() {
                    now += 3;
                    late.time = Some(Window::exact(now));
                    halves.push(late);
                }
                now += 1;
            }
            for value in joined(&halves[begun.min(halves.len())..]) {
                prop_assert_eq!(value >> 32, value & 0xffff_ffff, "{:#x} of {:?}", value, halves);
            }
        }
    }
}

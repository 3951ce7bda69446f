//! Which part of the program instruction trace is taken of, and what the target itself can do for
//! that: its trace unit sees the comparators of the DWT.

use super::core::{Architecture, InstructionTrace};
use std::ops::Range;

/// Bits that `DWT_MASK` can leave out of a comparison on Armv7-M cores.
const MOST_MASKED: u32 = 15;
/// Inputs that a trace unit has from the DWT.
const MOST_INPUTS: u8 = 4;

/// Places to which a measurement is narrowed, as addresses.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Narrow {
    /// It starts each time that this is executed...
    pub start: Option<u64>,
    /// ...and stops each time that this is.
    pub stop: Option<u64>,
    /// Only code in these; empty: everywhere.
    pub inside: Vec<Range<u64>>,
    /// No code in these.
    pub exclude: Vec<Range<u64>>,
}

/// The unit that traces instructions on a target, and the comparators that it may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TraceUnit {
    /// What it is.
    pub kind: InstructionTrace,
    /// Which comparators it sees.
    pub architecture: Architecture,
    /// Where its registers are.
    pub base: u64,
    /// How many comparators there are.
    pub comparators: u8,
    /// How many of them, from the first on, have other work.
    pub used: u8,
}

/// One comparator's work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Comparator {
    pub(super) number: u8,
    pub(super) address: u64,
    pub(super) compares: Compares,
}

/// What a comparator compares instruction addresses with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Compares {
    /// One address, which starts the trace or stops it.
    Start,
    Stop,
    /// All addresses that differ in so many low bits only (Armv7-M).
    Block(u32),
    /// With the next comparator: all addresses from this one on...
    From,
    /// ...up to this one (Armv8-M).
    UpTo,
}

/// What comparators do, and what is left to whoever reads.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Placed {
    pub(super) comparators: Vec<Comparator>,
    /// Inputs of the trace unit, one bit for each comparator.
    pub(super) starts: u32,
    pub(super) stops: u32,
    pub(super) ranges: u32,
    /// The ranges are left out instead of taken.
    pub(super) inverted: bool,
    pub(super) left: Left,
}

/// What the target cannot do of a narrowing, and why.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Left {
    /// Start and stop points.
    pub points: Option<&'static str>,
    /// Ranges.
    pub ranges: Option<&'static str>,
}

impl Placed {
    /// The code that the comparators of ranges really watch: blocks may be larger than what was asked
    /// for.
    pub(super) fn watched(&self) -> Vec<Range<u64>> {
        let mut from = 0;
        let watched = |comparator: &Comparator| match comparator.compares {
            Compares::Block(bits) => Some(comparator.address..comparator.address + (1 << bits)),
            Compares::UpTo => Some(from..comparator.address + 2),
            Compares::From => {
                from = comparator.address;
                None
            }
            Compares::Start | Compares::Stop => None,
        };
        self.comparators.iter().filter_map(watched).collect()
    }
}

impl Narrow {
    /// Whether there is nothing to narrow.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

impl TraceUnit {
    /// Gives comparators to as much of a narrowing as there are, points first.
    pub(super) fn place(&self, narrow: &Narrow) -> Placed {
        let mut placed = Placed::default();
        let mut free = self.used..self.comparators.min(MOST_INPUTS);
        self.place_points(narrow, &mut placed, &mut free);
        self.place_ranges(narrow, &mut placed, &mut free);
        placed
    }

    fn place_points(&self, narrow: &Narrow, placed: &mut Placed, free: &mut Range<u8>) {
        let points = [(narrow.start, Compares::Start), (narrow.stop, Compares::Stop)];
        let points: Vec<_> =
            points.into_iter().filter_map(|(at, does)| Some((at?, does))).collect();
        if points.is_empty() {
            return;
        }
        if self.architecture == Architecture::V6 {
            placed.left.points =
                Some("on this core the vendor decides what starts and stops its trace buffer");
            return;
        }
        if points.len() > free.len() {
            placed.left.points = Some("there are not enough free comparators");
            return;
        }
        for (address, compares) in points {
            let Some(number) = free.next() else { return };
            let bits =
                if compares == Compares::Start { &mut placed.starts } else { &mut placed.stops };
            *bits |= 1 << number;
            placed.comparators.push(Comparator { number, address, compares });
        }
    }

    fn place_ranges(&self, narrow: &Narrow, placed: &mut Placed, free: &mut Range<u8>) {
        let excludes = narrow.inside.is_empty();
        let ranges = if excludes { &narrow.exclude } else { &narrow.inside };
        if ranges.is_empty() {
            return;
        }
        placed.left.ranges = match self.kind {
            InstructionTrace::Mtb => Some("a micro trace buffer knows no ranges"),
            InstructionTrace::Etm3 if ranges.len() > 1 => {
                Some("this trace unit takes one range at a time")
            }
            InstructionTrace::Etm3 | InstructionTrace::Etm4 => None,
        };
        if placed.left.ranges.is_some() {
            return;
        }
        let mut comparators = Vec::new();
        for range in ranges {
            match self.compare_range(range, excludes, free) {
                Ok(pair) => comparators.extend(pair),
                Err(why) => {
                    placed.left.ranges = Some(why);
                    return;
                }
            }
        }
        // The first of a pair is silent; the second speaks for both.
        let speak = comparators.iter().filter(|c| c.compares != Compares::From);
        placed.ranges = speak.fold(0, |bits, comparator| bits | 1 << comparator.number);
        placed.inverted = excludes;
        placed.comparators.extend(comparators);
        if !excludes && !narrow.exclude.is_empty() {
            placed.left.ranges = Some("what is to be left out inside of what is taken");
        }
    }

    /// The comparators of one range. Armv7-M compares aligned blocks: more than what is wanted may
    /// be taken, but nothing may be left out unasked.
    fn compare_range(
        &self,
        range: &Range<u64>,
        exactly: bool,
        free: &mut Range<u8>,
    ) -> Result<Vec<Comparator>, &'static str> {
        const NONE_FREE: &str = "there are not enough free comparators";
        let last = range.end.saturating_sub(1).max(range.start);
        if self.architecture == Architecture::V7 {
            let bits = 64 - (range.start ^ last).leading_zeros();
            let block = range.start >> bits << bits;
            let is_exact = block == range.start && last == range.start | ((1 << bits) - 1);
            if bits > MOST_MASKED || exactly && !is_exact {
                return Err("its comparators compare aligned blocks of up to 32 KiB only");
            }
            let number = free.next().ok_or(NONE_FREE)?;
            return Ok(vec![Comparator {
                number,
                address: block,
                compares: Compares::Block(bits),
            }]);
        }
        // The limit stands in an odd comparator, its beginning in the even one before.
        if free.start % 2 == 1 {
            free.next();
        }
        let (Some(first), Some(second)) = (free.next(), free.next()) else { return Err(NONE_FREE) };
        Ok(vec![
            Comparator { number: first, address: range.start, compares: Compares::From },
            Comparator { number: second, address: last & !1, compares: Compares::UpTo },
        ])
    }
}

#[cfg(test)]
#[allow(clippy::single_range_in_vec_init, reason = "lists of ranges are what is tested")]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn unit(kind: InstructionTrace, architecture: Architecture, used: u8) -> TraceUnit {
        TraceUnit { kind, architecture, base: 0xe004_1000, comparators: 4, used }
    }

    fn inside(ranges: &[Range<u64>]) -> Narrow {
        Narrow { inside: ranges.to_vec(), ..Narrow::default() }
    }

    #[test]
    fn points_come_first_and_take_one_comparator_each() {
        let unit = unit(InstructionTrace::Etm4, Architecture::V8, 1);
        let narrow = Narrow { start: Some(0x100), stop: Some(0x200), ..inside(&[0x1000..0x1100]) };
        let placed = unit.place(&narrow);
        assert_eq!((placed.starts, placed.stops, placed.ranges), (0b10, 0b100, 0));
        assert_eq!(placed.left.ranges, Some("there are not enough free comparators"));
    }

    #[test]
    fn version_8_compares_ranges_with_pairs() {
        let unit = unit(InstructionTrace::Etm4, Architecture::V8, 1);
        let placed = unit.place(&inside(&[0x1000..0x1100]));
        let numbers: Vec<_> = placed.comparators.iter().map(|c| (c.number, c.address)).collect();
        assert_eq!(numbers, [(2, 0x1000), (3, 0x10fe)]);
        assert_eq!(placed.watched(), [0x1000..0x1100]);
        assert_eq!((placed.ranges, placed.inverted, placed.left), (0b1000, false, Left::default()));
        let exclude = Narrow { exclude: vec![0x1000..0x1100], ..Narrow::default() };
        assert!(unit.place(&exclude).inverted);
    }

    #[test]
    fn version_7_compares_aligned_blocks() {
        let unit = unit(InstructionTrace::Etm3, Architecture::V7, 0);
        let placed = unit.place(&inside(&[0x1010..0x10f0]));
        assert_eq!(
            placed.comparators,
            [Comparator { number: 0, address: 0x1000, compares: Compares::Block(8) }]
        );
        assert_eq!(placed.watched(), [0x1000..0x1100]);
        // A block that is larger would leave too much out.
        let exclude = |range| Narrow { exclude: vec![range], ..Narrow::default() };
        assert!(unit.place(&exclude(0x1010..0x10f0)).left.ranges.is_some());
        assert_eq!(unit.place(&exclude(0x1000..0x1100)).ranges, 1);
        assert!(unit.place(&inside(&[0x1000..0x2_0000])).left.ranges.is_some(), "too large");
        assert!(unit.place(&inside(&[0..2, 4..6])).left.ranges.is_some(), "two");
    }

    #[test]
    fn what_a_target_cannot_do_is_left() {
        let mtb = unit(InstructionTrace::Mtb, Architecture::V6, 0);
        let narrow = Narrow { start: Some(2), ..inside(&[0..2]) };
        let left = mtb.place(&narrow).left;
        assert!(left.points.is_some() && left.ranges.is_some());
        let mtb = unit(InstructionTrace::Mtb, Architecture::V8Base, 0);
        assert_eq!(mtb.place(&Narrow { start: Some(2), ..Narrow::default() }).starts, 1);
    }

    proptest! {
        #[test]
        fn comparators_do_no_more_than_is_asked_and_no_two_things(
            v7 in any::<bool>(),
            etm3 in any::<bool>(),
            used in 0_u8..5,
            points in any::<(bool, bool)>(),
            ranges in prop::collection::vec((0_u64..0x2000, 1_u64..0x300), 0..3),
            excludes in any::<bool>(),
        ) {
            let kind = if etm3 { InstructionTrace::Etm3 } else { InstructionTrace::Etm4 };
            let architecture = if v7 { Architecture::V7 } else { Architecture::V8 };
            let wanted: Vec<Range<u64>> = ranges.iter().map(|&(s, l)| 2 * s..2 * (s + l)).collect();
            let (start, stop) = (points.0.then_some(0x100), points.1.then_some(0x200));
            let narrow = if excludes {
                Narrow { start, stop, exclude: wanted.clone(), ..Narrow::default() }
            } else {
                Narrow { start, stop, inside: wanted.clone(), ..Narrow::default() }
            };
            let placed = unit(kind, architecture, used).place(&narrow);
            let mut numbers: Vec<u8> = placed.comparators.iter().map(|c| c.number).collect();
            prop_assert!(numbers.iter().all(|number| (used..4).contains(number)));
            let count = numbers.len();
            numbers.dedup();
            prop_assert_eq!(numbers.len(), count);
            prop_assert_eq!(placed.starts & placed.stops & placed.ranges, 0);
            // What is placed does all of it; what is left does nothing.
            let watched = placed.watched();
            prop_assert_eq!(watched.is_empty(), placed.ranges == 0);
            let among = |ranges: &[Range<u64>], at: u64| ranges.iter().any(|range| range.contains(&at));
            if !watched.is_empty() {
                for at in (0..0x5000).step_by(2) {
                    prop_assert!(!among(&wanted, at) || among(&watched, at), "{at:#x} is missing");
                    let exact = !v7 || excludes;
                    prop_assert!(!exact || !among(&watched, at) || among(&wanted, at), "{at:#x}");
                }
            }
        }
    }
}

//! Code that was asked for, and a filter for the samples of all other code.

use super::vocabulary::{Event, Position, Sink};
use std::ops::Range;

/// Which code was asked for, as addresses.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CodeRanges {
    /// Only these; empty: all code.
    pub inside: Vec<Range<u64>>,
    /// Not these.
    pub exclude: Vec<Range<u64>>,
}

impl CodeRanges {
    /// Whether all code was asked for.
    #[must_use]
    pub const fn is_everything(&self) -> bool {
        self.inside.is_empty() && self.exclude.is_empty()
    }

    /// Whether the code at an address was asked for.
    #[inline]
    #[must_use]
    pub fn holds(&self, address: u64) -> bool {
        let among = |ranges: &[Range<u64>]| ranges.iter().any(|range| range.contains(&address));
        (self.inside.is_empty() || among(&self.inside)) && !among(&self.exclude)
    }

    /// Whether all of a stretch of code was asked for.
    #[must_use]
    pub fn hold_all(&self, code: &Range<u64>) -> bool {
        let apart = |range: &Range<u64>| range.end <= code.start || code.end <= range.start;
        self.exclude.iter().all(apart) && (self.inside.is_empty() || self.cover(code))
    }

    /// Whether the ranges inside which was asked together leave nothing of `code` out.
    fn cover(&self, code: &Range<u64>) -> bool {
        let mut reached = code.start;
        while reached < code.end {
            let next = self.inside.iter().filter(|range| range.contains(&reached));
            match next.map(|range| range.end).max() {
                Some(end) => reached = end,
                None => return false,
            }
        }
        true
    }

    /// A sink that hands events on to `sink`.
    pub const fn filtering<'a, S: Sink>(&'a self, sink: &'a mut S) -> Filtered<'a, S> {
        Filtered { ranges: self, sink }
    }
}

/// Tells samples of code that was not asked for as what they are; see [`CodeRanges::filtering`].
#[derive(Debug)]
pub struct Filtered<'a, S> {
    ranges: &'a CodeRanges,
    sink: &'a mut S,
}

impl<S: Sink> Sink for Filtered<'_, S> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Sample { pc } if !self.ranges.holds(pc) => {
                self.sink.event(position, &Event::Elsewhere);
            }
            _ => self.sink.event(position, event),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_was_not_asked_for_is_elsewhere() {
        let ranges = CodeRanges {
            inside: vec![0x100..0x200, 0x300..0x400],
            exclude: vec![0x180..0x190, 0x500..0x600],
        };
        for (address, held) in [
            (0xff, false),
            (0x100, true),
            (0x17f, true),
            (0x180, false),
            (0x190, true),
            (0x200, false),
            (0x3ff, true),
        ] {
            assert_eq!(ranges.holds(address), held, "{address:#x}");
        }
        assert!(CodeRanges::default().holds(0) && CodeRanges::default().is_everything());
    }

    proptest! {
        #[test]
        fn a_stretch_is_held_if_each_of_its_addresses_is(
            inside in prop::collection::vec((0_u64..40, 1_u64..20), 0..4),
            exclude in prop::collection::vec((0_u64..40, 1_u64..8), 0..3),
            start in 0_u64..40, length in 1_u64..20,
        ) {
            let of = |ranges: Vec<(u64, u64)>| ranges.into_iter().map(|(s, l)| s..s + l).collect();
            let ranges = CodeRanges { inside: of(inside), exclude: of(exclude) };
            let code = start..start + length;
            prop_assert_eq!(ranges.hold_all(&code), code.clone().all(|address| ranges.holds(address)));
        }
    }
}

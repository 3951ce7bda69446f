//! Priorities of exceptions, where somebody knows them: a manifest, or whoever read the registers.

use std::collections::BTreeMap;
use std::fmt::{self, Write as _};

/// Exceptions at most: 16 of the system and 496 interrupts.
const EXCEPTIONS: u16 = 512;
/// Those of which nothing can be set (DDI 0403E, B1.5.4): Reset, NMI, HardFault.
const FIXED: [(u16, i16); 3] = [(1, -3), (2, -2), (3, -1)];

/// By exception number; lower priorities are more urgent. Values are those of the priority registers,
/// of which a core may know the upper bits only.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Priorities(BTreeMap<u16, u8>);

impl Priorities {
    /// States a priority.
    pub fn set(&mut self, exception: u16, priority: u8) {
        self.0.insert(exception, priority);
    }

    /// The priority of an exception, if it is known.
    #[must_use]
    pub fn of(&self, exception: u16) -> Option<i16> {
        let fixed = FIXED.iter().find(|(number, _)| *number == exception);
        match fixed {
            Some((_, priority)) if !self.0.is_empty() => Some(*priority),
            _ => self.0.get(&exception).copied().map(i16::from),
        }
    }

    /// Those that are known, by exception; not those that are fixed.
    pub fn iter(&self) -> impl Iterator<Item = (u16, u8)> + '_ {
        self.0.iter().map(|(exception, priority)| (*exception, *priority))
    }

    /// Reads `15=192 16=64`, as a journal has it; what is no such thing is passed over.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        let one = |word: &str| {
            let (exception, priority) = word.split_once('=')?;
            let exception = exception.parse().ok().filter(|&number: &u16| number < EXCEPTIONS)?;
            Some((exception, priority.parse().ok()?))
        };
        Self(text.split_whitespace().filter_map(one).collect())
    }
}

impl fmt::Display for Priorities {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (number, (exception, priority)) in self.0.iter().enumerate() {
            if number > 0 {
                f.write_char(' ')?;
            }
            write!(f, "{exception}={priority}")?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn fixed_priorities_are_known_where_any_is() {
        assert_eq!(Priorities::default().of(2), None);
        let known = Priorities::parse("15=192 16=64 nonsense 600=1 17=256");
        assert_eq!([2, 15, 16, 17].map(|n| known.of(n)), [Some(-2), Some(192), Some(64), None]);
        assert_eq!(known.to_string(), "15=192 16=64");
    }

    proptest! {
        #[test]
        fn what_was_written_reads_again(pairs in prop::collection::btree_map(4_u16..512, any::<u8>(), 0..20)) {
            let priorities = Priorities(pairs);
            prop_assert_eq!(&Priorities::parse(&priorities.to_string()), &priorities);
        }

        #[test]
        fn any_text_is_an_answer(text in any::<String>()) {
            let _ = Priorities::parse(&text);
        }
    }
}

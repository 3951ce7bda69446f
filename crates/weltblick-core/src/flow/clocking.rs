//! What carries time in an instruction trace, and how much of it passes.

use super::Moment;

/// What carries time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Clocking {
    /// Cycle counts.
    Cycles,
    /// Global timestamps.
    Timestamps,
    /// Nothing: there is only order.
    Nothing,
}

impl Clocking {
    /// The word for programs.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Cycles => "cycle_counts",
            Self::Timestamps => "timestamps",
            Self::Nothing => "nothing",
        }
    }
}

/// Follows how much time passes.
#[derive(Debug, Clone)]
pub struct Passage {
    clocking: Clocking,
    /// The last timestamp, if nothing is missing since.
    stamp: Option<u64>,
}

/// How much time has passed since time was known last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Passed {
    /// So many ticks.
    Ticks(u64),
    /// Time is known from here on; what was before has none.
    Begins,
    /// It is not known how much.
    Unknown,
}

impl Passage {
    /// Nothing has passed yet.
    #[must_use]
    pub const fn by(clocking: Clocking) -> Self {
        Self { clocking, stamp: None }
    }

    /// What carries it.
    #[must_use]
    pub const fn clocking(&self) -> Clocking {
        self.clocking
    }

    /// The passage of time that a moment carries, if it does.
    #[inline]
    pub fn of(&mut self, moment: &Moment) -> Option<Passed> {
        match (*moment, self.clocking) {
            (Moment::Cycles(cycles), Clocking::Cycles) => {
                Some(cycles.map_or(Passed::Unknown, |cycles| Passed::Ticks(cycles.into())))
            }
            // 0: the trace unit does not know it.
            (Moment::Time { value, .. }, Clocking::Timestamps) if value > 0 => {
                Some(match self.stamp.replace(value) {
                    None => Passed::Begins,
                    Some(before) => {
                        value.checked_sub(before).map_or(Passed::Unknown, Passed::Ticks)
                    }
                })
            }
            (Moment::Gap(_), _) => {
                self.stamp = None;
                None
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::flow::Gap;

    #[test]
    fn timestamps_carry_the_time_since_the_one_before() {
        let mut passage = Passage::by(Clocking::Timestamps);
        let stamp = |value| Moment::Time { value, cycles: None };
        let seen: Vec<Option<Passed>> = [
            Moment::Cycles(Some(7)),
            stamp(100),
            stamp(0),
            stamp(130),
            stamp(120),
            Moment::Gap(Gap::Overflow),
            stamp(500),
            stamp(510),
        ]
        .iter()
        .map(|moment| passage.of(moment))
        .collect();
        let expected = [
            None,
            Some(Passed::Begins),
            None,
            Some(Passed::Ticks(30)),
            Some(Passed::Unknown),
            None,
            Some(Passed::Begins),
            Some(Passed::Ticks(10)),
        ];
        assert_eq!(seen, expected);
        let mut passage = Passage::by(Clocking::Cycles);
        assert_eq!(passage.of(&stamp(100)), None);
        assert_eq!(passage.of(&Moment::Cycles(Some(7))), Some(Passed::Ticks(7)));
        assert_eq!(passage.of(&Moment::Cycles(None)), Some(Passed::Unknown));
    }
}

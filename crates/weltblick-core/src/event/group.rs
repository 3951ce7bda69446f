//! Packets that share a timestamp: whether they can all be of its tick.

use super::vocabulary::Event;

/// Cycles that lie at least between two samples (`DWT_CTRL.CYCTAP`: bit 6).
const SAMPLES_APART: u32 = 64;
/// Cycles that lie at least between the entry of a handler and its exit: it executes an instruction, and refills the
/// pipeline twice.
const SHORTEST_HANDLER: u32 = 4;

/// What came in a group of packets so far, as far as it takes time.
///
/// ```text
/// entered 16, left 16, timestamp: with a tick of one cycle they are not of one tick
/// ```
#[derive(Debug, Default)]
pub(crate) struct OneTick {
    entered: Option<u16>,
    is_sampled: bool,
}

impl OneTick {
    /// How many core cycles lie at least between the event and those before it in its group.
    pub(crate) fn apart(&mut self, event: &Event) -> u32 {
        match event {
            Event::Entered { exception } => self.entered = Some(*exception),
            Event::Left { exception } if self.entered == Some(*exception) => {
                return SHORTEST_HANDLER;
            }
            Event::Sample { .. } | Event::Asleep | Event::Unobservable => {
                let is_second = std::mem::replace(&mut self.is_sampled, true);
                return if is_second { SAMPLES_APART } else { 0 };
            }
            // What was dropped may have been a timestamp.
            Event::Lost { .. } => *self = Self::default(),
            _ => {}
        }
        0
    }
}

/// The offset of the first event that cannot be of one tick, of so many core cycles, with those before it in its group.
pub(super) fn contradiction(group: &[(u64, Event)], tick: u32) -> Option<u64> {
    let mut so_far = OneTick::default();
    group.iter().find(|(_, event)| so_far.apart(event) > tick).map(|&(offset, _)| offset)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::LossReason;

    #[test]
    fn what_takes_time_is_not_of_one_tick() {
        let entered = |exception| Event::Entered { exception };
        let left = |exception| Event::Left { exception };
        let sample = || Event::Sample { pc: 0x100 };
        let lost = || Event::Lost { bytes: 2..2, why: LossReason::Overflow };
        let found =
            |events: Vec<Event>, tick| contradiction(&(0..).zip(events).collect::<Vec<_>>(), tick);
        assert_eq!(found(vec![entered(16), left(16)], 1), Some(1));
        assert_eq!(found(vec![entered(16), left(16)], 4), None, "a short handler");
        assert_eq!(found(vec![left(16), entered(16), left(17)], 1), None, "of others");
        assert_eq!(found(vec![sample(), left(16), Event::Asleep], 16), Some(2));
        assert_eq!(found(vec![sample(), Event::Asleep], 64), None);
        assert_eq!(found(vec![sample(), lost(), sample()], 1), None, "behind a loss");
    }
}

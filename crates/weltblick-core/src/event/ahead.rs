//! Following events on a thread of its own, beside the one that reads.

use super::{Event, Position, Sink};
use crate::apart::{Batches, apart};

/// Events that are handed over at once: few enough for a core's own cache.
const EVENTS: usize = 1 << 9;

/// Hands events on to a sink on another thread that looks at no samples: of those in a row it gets the last only,
/// which says when a gap behind it began at the earliest, and behind a gap the first, which says when it had ended.
#[derive(Debug)]
pub struct Ahead<'a> {
    batches: &'a mut Batches<(Position, Event), EVENTS>,
    /// The last sample, as long as only samples follow.
    held: Option<(Position, Event)>,
    /// Something was missing, or nothing had a time, up to here.
    gap: bool,
}

impl Sink for Ahead<'_> {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Sample { pc } if !self.gap => {
                let other = |held: &mut (Position, Event)| held.0.core != position.core;
                self.batches.extend(self.held.take_if(other));
                self.held = Some((position, Event::Sample { pc }));
                return;
            }
            Event::Lost { .. } | Event::Unwatched | Event::LeftOut => {
                self.gap = true;
                self.batches.extend(self.held.take());
            }
            // One without a time lies between those around it.
            _ if position.time.is_none() => self.batches.extend(self.held.take()),
            _ => (self.gap, self.held) = (false, None),
        }
        self.batches.push((position, event.clone()));
    }
}

/// Has `read` read on a thread of its own, while `sink`, which looks at no samples, takes what it hands on here: it
/// finds the same as if one thread did both.
pub fn read_apart<R: Send>(
    sink: &mut impl Sink,
    read: impl FnOnce(&mut Ahead<'_>) -> R + Send,
) -> R {
    let make = |batches: &mut Batches<_, EVENTS>| {
        let mut ahead = Ahead { batches, held: None, gap: true };
        let result = read(&mut ahead);
        ahead.batches.extend(ahead.held.take());
        result
    };
    apart(make, |(position, event)| sink.event(*position, event))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin};
    use crate::measure::gap::GapWatch;
    use crate::time::Window;
    use proptest::prelude::*;

    /// What somebody finds out who looks at no samples: gaps, and what came between.
    #[derive(Debug, Default, PartialEq)]
    struct Found {
        watch: GapWatch,
        gaps: Vec<(u64, Option<Window>)>,
        last: Option<Window>,
        undated: Vec<Option<Window>>,
        entries: Vec<(u64, Option<Window>)>,
    }

    impl Sink for Found {
        fn event(&mut self, position: Position, event: &Event) {
            if let Some(gap) = self.watch.pass(position, event) {
                self.gaps.push((0, Some(gap)));
            }
            match event {
                Event::Lost { .. } => {
                    let since = position.time.map_or(0, |time| self.watch.begin(time));
                    self.gaps.push((since, self.last));
                }
                Event::Entered { .. } => {
                    self.entries.push((position.offset, position.time));
                    if position.time.is_none() {
                        self.undated.push(self.last);
                    }
                }
                _ => {}
            }
            self.last = position.time.or(self.last);
        }
    }

    proptest! {
        #[test]
        fn who_looks_at_no_samples_finds_the_same(
            steps in prop::collection::vec((0_u8..12, any::<bool>(), 0_u64..9), 0..3000),
        ) {
            let mut now = 0;
            let events: Vec<(Position, Event)> = (0..).zip(steps).map(|(offset, (kind, dated, after))| {
                now += after;
                let time = (dated || kind > 3).then_some(Window { earliest: now, latest: now + after / 4 });
                let event = match kind {
                    0 => Event::Lost { bytes: 0..0, why: LossReason::Overflow },
                    1 | 2 => Event::Entered { exception: 15 },
                    3 => Event::Asleep,
                    _ => Event::Sample { pc: now },
                };
                (Position::new(Origin(0), offset, time), event)
            }).collect();
            let push = |sink: &mut dyn Sink| events.iter().for_each(|(at, event)| sink.event(*at, event));
            let (mut alone, mut apart) = (Found::default(), Found::default());
            push(&mut alone);
            read_apart(&mut apart, |ahead| push(ahead));
            prop_assert_eq!(alone, apart);
        }
    }
}

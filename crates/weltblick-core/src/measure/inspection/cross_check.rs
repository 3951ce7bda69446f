//! What two sources of one recording say of the same: exceptions, by the ITM and by the instruction trace.
//!
//! The ITM leads; the other one checks it. Where neither lacks anything, both saw the same exceptions, up to
//! one that was just being entered at an end.

use super::diagnosis::{Finding, Weight};
use crate::event::{self, Event, Position};
use crate::flow::{self, Block, Moment};
use crate::image::{Image, interrupt_name};
use std::collections::BTreeMap;

/// A difference of this much is that of the ends.
const ENDS: u64 = 1;

/// How often each exception was entered, as one source tells it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Entries {
    by_number: BTreeMap<u16, u64>,
    lacks: bool,
}

impl Entries {
    fn all(&self) -> u64 {
        self.by_number.values().sum()
    }

    fn of(&self, number: u16) -> u64 {
        self.by_number.get(&number).copied().unwrap_or(0)
    }
}

impl event::Sink for Entries {
    fn event(&mut self, _: Position, event: &Event) {
        match event {
            Event::Entered { exception } => *self.by_number.entry(*exception).or_default() += 1,
            Event::Lost { .. } | Event::Unwatched => self.lacks = true,
            _ => {}
        }
    }
}

impl flow::Sink for Entries {
    fn ran(&mut self, _: &Block, _: bool) {}

    fn moment(&mut self, _: u64, moment: &Moment) {
        match *moment {
            Moment::Entered { exception: Some(number), .. } => {
                *self.by_number.entry(number).or_default() += 1;
            }
            Moment::Gap(_) => self.lacks = true,
            _ => {}
        }
    }
}

/// Whether they contradict each other; `None` where they agree, or where one of them lacks something or
/// tells of no exceptions at all.
#[must_use]
pub fn cross_check(itm: &Entries, flow: &Entries, image: Option<&Image>) -> Option<Finding> {
    if itm.lacks || flow.lacks || itm.all() == 0 || flow.all() == 0 {
        return None;
    }
    let numbers = itm.by_number.keys().chain(flow.by_number.keys());
    let apart = |number: &&u16| itm.of(**number).abs_diff(flow.of(**number));
    let worst = *numbers.max_by_key(apart).filter(|number| apart(number) > ENDS)?;
    let name = interrupt_name(image, worst);
    Some(Finding {
        code: "sources_disagree".into(),
        weight: Weight::Fault,
        finding: format!(
            "The ITM and the instruction trace tell of different exceptions: {name} was entered {} times \
             by the one, {} times by the other, and neither lacks anything.",
            itm.of(worst),
            flow.of(worst)
        ),
        advice: "Check the trace IDs of both sources and the registers in the manifest, and that both were \
                 recorded at once."
            .into(),
        from_ns: None,
        until_ns: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin};
    use crate::flow::Gap;

    fn told(entries: &[(u16, u64)]) -> [Entries; 2] {
        let (mut itm, mut flow) = (Entries::default(), Entries::default());
        let position = Position::new(Origin(0), 0, None);
        for &(exception, times) in entries {
            for _ in 0..times {
                event::Sink::event(&mut itm, position, &Event::Entered { exception });
                let moment = Moment::Entered { exception: Some(exception), returns_to: 0 };
                flow::Sink::moment(&mut flow, 0, &moment);
            }
        }
        assert_eq!(itm, flow);
        [itm, flow]
    }

    #[test]
    fn only_what_neither_lacks_is_held_against_the_other() {
        let [itm, _] = told(&[(15, 100), (16, 400)]);
        let [_, mut flow] = told(&[(15, 99), (16, 401)]);
        assert_eq!(cross_check(&itm, &flow, None), None);
        let [_, other] = told(&[(15, 100), (16, 380), (17, 3)]);
        let finding = cross_check(&itm, &other, None).unwrap();
        assert!(finding.finding.contains("400 times by the one, 380 times"), "{finding:?}");
        let [nothing, _] = told(&[]);
        assert_eq!(cross_check(&nothing, &other, None), None);
        flow::Sink::moment(&mut flow, 0, &Moment::Gap(Gap::Overflow));
        let [_, fewer] = told(&[(15, 10)]);
        assert_eq!(cross_check(&itm, &Entries { lacks: true, ..fewer }, None), None);
        let mut lost = itm;
        let position = Position::new(Origin(0), 0, None);
        let why = LossReason::Overflow;
        event::Sink::event(&mut lost, position, &Event::Lost { bytes: 0..1, why });
        assert_eq!(cross_check(&lost, &other, None), None);
    }
}

//! A part of a long instruction trace, found through its index instead of read through.

use super::{Capture, flow_index};
use anyhow::Result;
use weltblick_core::event::{Origin, Sink};
use weltblick_core::flow::{self, Block, Clocking, Moment};
use weltblick_core::measure::execution::{Found, TaskEvents};

impl Capture {
    /// Where reading may begin for what happens from this cycle on. `None` where all must be read: the trace
    /// is short, or it is not all there is, or it counts no cycles, or it does not synchronise shortly before.
    pub(crate) fn found_at_cycle(&self, cycle: u64) -> Result<Option<Found>> {
        let alone = matches!(&self.manifest.streams[..], [stream] if stream.sources.len() == 1);
        // A part begins and ends anywhere.
        let alone = alone && !self.tells_part();
        if !alone || !self.tells_events_by_flow() || self.flow_clocking() != Clocking::Cycles {
            return Ok(None);
        }
        let found = flow_index(self)?.and_then(|index| index.at_cycles(cycle));
        let Some(found) = found.filter(|found| found.offset > 0) else { return Ok(found) };
        // Who has not found his feet by then would count too few cycles from there on.
        let mut feet = Feet { until: found.offset, found: false, passed: false };
        let near = self.replay_flow_near(found.offset, &mut feet)?;
        Ok(Some(found).filter(|_| near && feet.found))
    }

    /// Hands on the events of an instruction trace from shortly before `found` until so many cycles have
    /// passed. Those before `found` have no time.
    pub(crate) fn replay_events_from(
        &self,
        found: Found,
        until: u64,
        sink: &mut impl Sink,
    ) -> Result<bool> {
        let Some(index) = flow_index(self)? else { return Ok(false) };
        let events = index.events_from(found, until, Origin(0), sink);
        let roster = self.roster_near(found, until)?;
        let image = self.image()?;
        let threads = roster.as_ref().map(|roster| self.threads(image, roster));
        let mut events = TaskEvents::new(threads, events);
        let done = self.replay_flow_near(found.offset, &mut events)?;
        events.finish();
        Ok(done)
    }
}

/// Whether cycles are counted before a byte is reached.
struct Feet {
    until: u64,
    found: bool,
    passed: bool,
}

impl flow::Sink for Feet {
    fn ran(&mut self, _: &Block, _: bool) {}

    fn at(&mut self, offset: u64) {
        self.passed |= offset >= self.until;
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.passed |= offset >= self.until;
        self.found |= !self.passed && matches!(moment, Moment::Cycles(Some(_)));
    }

    fn has_enough(&self) -> bool {
        self.found || self.passed
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use weltblick_core::flow::Sink as _;

    #[test]
    fn feet_are_found_only_before_the_byte() {
        let count = Moment::Cycles(Some(4));
        let told = |offsets: &[u64]| {
            let mut feet = Feet { until: 100, found: false, passed: false };
            offsets.iter().for_each(|&offset| feet.moment(offset, &count));
            (feet.found, feet.has_enough())
        };
        assert_eq!(told(&[]), (false, false));
        assert_eq!(told(&[40]), (true, true));
        assert_eq!(told(&[100]), (false, true));
        let mut feet = Feet { until: 100, found: false, passed: false };
        feet.at(120);
        feet.moment(90, &Moment::Cycles(None));
        assert!(!feet.found && feet.has_enough());
    }
}

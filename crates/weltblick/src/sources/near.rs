//! A part of a long instruction trace, found through its index instead of read through.

use super::{Capture, flow_index};
use anyhow::Result;
use weltblick_core::event::{Origin, Sink};
use weltblick_core::flow::{self, Block, Clocking, Moment};
use weltblick_core::judge::{End, Which};
use weltblick_core::measure::execution::{Found, FoundRun, TaskEvents};
use weltblick_core::measure::timeline::{Seek, Target};
use weltblick_core::time::Window;

impl Capture {
    /// Whether events may be read from the middle on: they are all of an instruction trace that counts cycles.
    fn may_begin_anywhere(&self) -> bool {
        let alone = matches!(&self.manifest.streams[..], [stream] if stream.sources.len() == 1);
        // A part begins and ends anywhere.
        let alone = alone && self.part.is_all();
        alone && self.tells_events_by_flow() && self.flow_clocking() == Clocking::Cycles
    }

    /// When a run of an exception's handler begins or ends; `None` where all must be read to know that.
    pub(crate) fn run_near(
        &self,
        exception: u16,
        which: Which,
        end: End,
    ) -> Result<Option<Window>> {
        let number = match which {
            Which::Number(number) => Some(number),
            Which::First => Some(0),
            Which::Last => None,
            Which::Every => return Ok(None),
        };
        if !self.may_begin_anywhere() {
            return Ok(None);
        }
        let Some(index) = flow_index(self)? else { return Ok(None) };
        let Some(run) = index.nth_run(exception, number) else { return Ok(None) };
        let FoundRun { found, until, first } = run;
        let wanted = Which::Number(found.skip);
        let mut seek = Seek::occurrence(Target::Interrupt(exception), wanted, end);
        seek = seek.from_first_time();
        let mut events = index.events_from(found, until, Origin(0), &mut seek);
        let near = self.replay_flow_near(found.offset, &mut events)?;
        events.finish();
        // Who counts from another run on would find another one.
        let is_same = seek.first_ended().map(|ended| ended.latest) == first;
        Ok(seek.found().filter(|_| near && is_same))
    }

    /// Where reading may begin for events from this cycle on. `None` where all must be read: the trace is short,
    /// or it is not all there is, or it counts no cycles, or it does not synchronise shortly before.
    pub(crate) fn found_at_cycle(&self, cycle: u64) -> Result<Option<Found>> {
        if self.may_begin_anywhere() { self.flow_at_cycle(cycle) } else { Ok(None) }
    }

    /// The same for what runs, whatever else is recorded beside it.
    pub(crate) fn flow_at_cycle(&self, cycle: u64) -> Result<Option<Found>> {
        if self.flow_clocking() != Clocking::Cycles {
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
        sink: &mut dyn Sink,
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

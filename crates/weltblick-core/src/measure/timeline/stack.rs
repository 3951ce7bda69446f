//! The call stack on lanes of its own, a lane for each depth.

use super::gather::Gather;
use crate::flow::{Block, Clocking, Moment, Sink};
use crate::image::Image;
use crate::measure::alignment::Alignment;
use crate::measure::execution::{Calls, Found, OnStack};
use crate::time::Window;

/// Calls deeper than this have no lane.
const DEEPEST: usize = 32;
/// A call is kept one by one if it was there for this part of the time that is looked at.
const FINEST: u64 = 2048;

/// A sink of instruction flow that puts calls on the lanes of a timeline, whose events were gathered before.
/// Both count the same cycles, or it is known how they stand to each other.
pub struct CallLanes<'a, 'g, 'i> {
    calls: Calls<'a>,
    gather: &'g mut Gather<'i>,
    /// How the time of events stands to the cycles that are counted here, if it is another one.
    alignment: Option<&'a Alignment>,
    /// The last tick that is looked at.
    end: u64,
    long_enough: u64,
    /// From where on things count, where reading begins shortly before.
    gate: Option<Found>,
    /// Ticks of the recording before reading began.
    base: u64,
}

impl<'a, 'g, 'i> CallLanes<'a, 'g, 'i> {
    /// What ran of this image goes with what was gathered.
    #[must_use]
    pub fn new(image: &'a Image, gather: &'g mut Gather<'i>) -> Self {
        let (start, end) = gather.range.unwrap_or_default();
        let calls = Calls::new(image, Clocking::Cycles).telling_stacks();
        let long_enough = ((end - start) / FINEST).max(1);
        Self { calls, gather, alignment: None, end, long_enough, gate: None, base: 0 }
    }

    /// The same, for events of another clock; nothing that is told after cycle `end` has a place among them.
    #[must_use]
    pub fn aligned(self, alignment: &'a Alignment, end: u64) -> Self {
        Self { alignment: Some(alignment), end, ..self }
    }

    /// The same, read from shortly before `found`: what was called before that is not on the stack.
    #[must_use]
    pub fn from(self, found: Found) -> Self {
        Self { gate: Some(found), ..self }
    }

    /// The recording, or what was looked at of it, has ended.
    pub fn finish(mut self) {
        self.calls.finish();
        self.drain();
        self.gather.calls.sort_by_key(|call| (call.depth, call.from.latest));
    }

    fn drain(&mut self) {
        let Self { calls, gather, alignment, long_enough, gate, base, .. } = self;
        let alignment = *alignment;
        let told = |time: Window, ends: bool| {
            let (earliest, latest) = (time.earliest + *base, time.latest + *base);
            match alignment {
                Some(alignment) => alignment.likely(latest, ends).map(Window::exact),
                None => Some(Window { earliest, latest }),
            }
        };
        for call in calls.left_stack().filter(|call| call.depth < DEEPEST && gate.is_none()) {
            if let (Some(from), Some(until)) = (told(call.from, false), told(call.until, true)) {
                gather.called(OnStack { from, until, ..call }, *long_enough);
            }
        }
    }

    fn ticks(&self) -> u64 {
        self.calls.ticks().unwrap_or(0)
    }
}

impl Sink for CallLanes<'_, '_, '_> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.calls.ran(block, taken);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.calls.ran_part(block, until, instructions);
    }

    fn arrived(&mut self, block: &Block) {
        self.calls.arrived(block);
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.calls.at(offset);
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        if let Some(found) = self.gate.take_if(|found| found.offset <= offset) {
            self.base = found.cycles.saturating_sub(self.ticks());
        }
        self.calls.moment(offset, moment);
        self.drain();
    }

    fn has_enough(&self) -> bool {
        self.gate.is_none() && self.ticks() + self.base > self.end
    }
}

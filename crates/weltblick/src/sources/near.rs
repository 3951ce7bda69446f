//! A part of a long instruction trace, found through its index instead of read through.

use super::{Capture, flow_index};
use anyhow::Result;
use weltblick_core::event::{FlowEvents, Origin, Sink};
use weltblick_core::flow::Clocking;
use weltblick_core::measure::execution::Found;

impl Capture {
    /// Where reading may begin for what happens from this cycle on. `None` where all must be read: the trace
    /// is short, or it is not all there is, or it counts no cycles.
    pub(crate) fn found_at_cycle(&self, cycle: u64) -> Result<Option<Found>> {
        let alone = matches!(&self.manifest.streams[..], [stream] if stream.sources.len() == 1);
        if !alone || !self.tells_events_by_flow() || self.flow_clocking() != Clocking::Cycles {
            return Ok(None);
        }
        Ok(flow_index(self)?.and_then(|index| index.at_cycles(cycle)))
    }

    /// Hands on the events of an instruction trace from shortly before `found` until so many cycles have
    /// passed. Those before `found` have no time.
    pub(crate) fn replay_events_from(
        &self,
        found: Found,
        until: u64,
        sink: &mut impl Sink,
    ) -> Result<bool> {
        let events = FlowEvents::new(Origin(0), sink);
        let mut events = events.between((found.offset, found.cycles), until);
        let done = self.replay_flow_near(found.offset, &mut events)?;
        events.finish();
        Ok(done)
    }
}

//! An ITM and an instruction trace of one capture on one axis.

use super::Capture;
use super::flow_index;
use super::kept::{kept_if, state_of};
use anyhow::Result;
use weltblick_core::event::{FlowEvents, Origin};
use weltblick_core::flow::Clocking;
use weltblick_core::measure::alignment::{Alignment, Witness};

impl Capture {
    /// How the time that events have stands to the cycles of the instruction trace, where an ITM tells of
    /// events: both are read for it, once. `None` where events come from the instruction trace itself, or one
    /// of both has no times, or not those of the core's clock.
    pub(crate) fn alignment(&self) -> Result<Option<&Alignment>> {
        if !self.has_two_clocks() {
            return Ok(None);
        }
        if let Some(known) = self.alignment.get() {
            return Ok(Some(known));
        }
        let found = kept_if(self.alignment_key(), "aligned", || self.align())?;
        Ok(Some(self.alignment.get_or_init(|| found)))
    }

    /// The same, if anything of the instruction trace has a place in that time.
    pub(crate) fn placed(&self) -> Result<Option<&Alignment>> {
        Ok(self.alignment()?.filter(|alignment| !alignment.is_empty()))
    }

    /// Whether events and instructions have times of different clocks.
    fn has_two_clocks(&self) -> bool {
        let by_core = self.manifest.itm().is_some_and(|itm| itm.timestamp_clock.is_none());
        let counted = self.flow_clocking() == Clocking::Cycles && self.image.is_some();
        by_core && counted && !self.reads_standard_input()
    }

    fn align(&self) -> Result<Alignment> {
        let (mut itm, flow) = (Witness::default(), Witness::default());
        self.replay(&mut itm)?;
        let mut events = FlowEvents::new(Origin(0), Clocking::Cycles, flow);
        self.replay_flow(&mut events)?;
        events.finish();
        Ok(Alignment::of(&itm, events.sink_mut()))
    }

    fn alignment_key(&self) -> Option<String> {
        let mut key = flow_index::key(self)?;
        for (number, stream) in self.manifest.streams.iter().enumerate() {
            for input in self.inputs_of(number) {
                key.push_str(&format!(" {}", state_of(input)?.0));
            }
            key.push_str(&format!(" {stream:?}"));
        }
        Some(key)
    }
}

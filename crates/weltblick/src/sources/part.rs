//! A part of an instruction trace, and how it is read.

use super::Capture;
use anyhow::Result;
use weltblick_core::flow::{Code, Edge, Only, Sink};
use weltblick_core::measure::execution::{BlockCounts, Calls};

/// A part of an instruction trace: what ran from one edge to another, each time. All of it, unless edges are named.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Part {
    from: Option<Edge>,
    until: Option<Edge>,
    /// Times are those of the whole recording.
    one_clock: bool,
}

impl Part {
    /// A part between two edges; where one is left out, the recording's own.
    pub(crate) const fn new(from: Option<Edge>, until: Option<Edge>) -> Self {
        Self { from, until, one_clock: false }
    }

    /// Where it begins and ends.
    pub(super) const fn edges(&self) -> [Option<Edge>; 2] {
        [self.from, self.until]
    }

    /// Whether it is all of the recording.
    pub(crate) const fn is_all(&self) -> bool {
        self.from.is_none() && self.until.is_none()
    }

    /// The same; what tells time tells it of all of the recording.
    pub(crate) const fn on_one_clock(self) -> Self {
        Self { one_clock: true, ..self }
    }

    /// Tells this part to a sink; blocks begin at its edges, and at these addresses.
    pub(crate) fn replay<'c>(
        &self,
        capture: &'c Capture,
        cuts: &[u64],
        mut sink: &mut dyn Sink,
    ) -> Result<Code<'c>> {
        self.replay_into(capture, cuts, &mut sink)
    }

    /// Hands this part to one sink alone: all of a recording by code that is compiled for it.
    fn replay_into<'c, S: Sink>(
        &self,
        capture: &'c Capture,
        cuts: &[u64],
        sink: &mut S,
    ) -> Result<Code<'c>> {
        let cuts = self.cuts(cuts);
        if self.is_all() {
            return capture.replay_flow_into(&cuts, sink);
        }
        let sink: &mut dyn Sink = sink;
        let mut only = self.only(sink).timed_by(capture.flow_clocking());
        capture.replay_flow_cut(&cuts, &mut only)
    }

    /// Hands on this part only.
    pub(crate) fn only<S: Sink>(&self, sink: S) -> Only<S> {
        let only = Only::new(self.from, self.until, sink);
        if self.one_clock { only.on_one_clock() } else { only }
    }

    /// Tells this part to a sink, and follows its calls: they are ended. Where a trace is long and there are two cores,
    /// they are followed on one while the other reads, and nothing is found in another way for that.
    pub(crate) fn follow<'c>(
        &self,
        capture: &'c Capture,
        cuts: &[u64],
        beside: &mut Beside<'_>,
        calls: Calls<'c>,
    ) -> Result<(Code<'c>, Calls<'c>)> {
        let (read, mut calls) = if capture.is_worth_two_cores() {
            calls.apart(|ahead| self.replay_into(capture, cuts, &mut (beside, ahead)))
        } else {
            let mut sink = (beside, calls);
            let read = self.replay_into(capture, cuts, &mut sink);
            (read, sink.1)
        };
        calls.finish();
        Ok((read?, calls))
    }

    /// Where blocks must begin: at its edges, and at these addresses.
    pub(crate) fn cuts(&self, further: &[u64]) -> Vec<u64> {
        let address = |edge: Option<Edge>| match edge {
            Some(Edge::Address(address)) => Some(address),
            _ => None,
        };
        further.iter().copied().chain(self.edges().into_iter().filter_map(address)).collect()
    }
}

/// What else is made of a part whose calls are followed: how often blocks ran, and whatever else wants to know. One
/// type, so that following is compiled once.
pub(crate) type Beside<'s> = (Option<BlockCounts>, Option<&'s mut (dyn Sink + Send)>);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_begin_at_edges_that_are_code() {
        let all = Part::default();
        assert!(all.is_all() && all.cuts(&[]).is_empty());
        assert_eq!(all.cuts(&[8, 4]), [8, 4]);
        let from_code = Part::new(Some(Edge::Address(0x100)), Some(Edge::Cycles(7)));
        assert!(!from_code.is_all());
        assert_eq!(from_code.cuts(&[8]), [8, 0x100]);
        let up_to = Part::new(None, Some(Edge::Address(0x200))).on_one_clock();
        assert_eq!((up_to.is_all(), up_to.cuts(&[])), (false, vec![0x200]));
    }
}

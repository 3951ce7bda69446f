//! The line from one stream's bytes to executed instructions.

use super::manifest::{Framing, Protocol, StreamSpec};
use crate::event::LossReason;
use crate::flow::{Clocking, Code, Etmv4Flow, Gap, Sink};
use crate::image::Image;
use crate::wire::{Malformed, etmv4, tpiu};
use std::ops::Range;

/// One source of instruction trace on its way to what ran. Other sources of its stream are not read.
#[derive(Debug)]
pub struct FlowLine<'a> {
    framing: Option<tpiu::Deframer>,
    trace_id: Option<tpiu::TraceId>,
    decoder: etmv4::Decoder,
    flow: Etmv4Flow<'a>,
}

impl<'a> FlowLine<'a> {
    /// A line at the start of a stream, for source number `source` of it; `None` if that is no
    /// instruction trace.
    #[must_use]
    pub fn new(spec: &StreamSpec, source: usize, image: &'a Image) -> Option<Self> {
        let source = spec.sources.get(source)?;
        let Protocol::Etmv4(settings) = &source.protocol else { return None };
        let framing = match spec.framing {
            Framing::None => None,
            Framing::Tpiu(start) => Some(tpiu::Deframer::new(start)),
        };
        let decoder = etmv4::Decoder::new(*settings);
        let flow = Etmv4Flow::new(image, settings);
        Some(Self { framing, trace_id: source.trace_id, decoder, flow })
    }

    /// The same, for bytes from `offset` of the stream on, which may be the middle of a packet. Only for
    /// streams without framing; `None` otherwise.
    #[must_use]
    pub fn starting_at(
        spec: &StreamSpec,
        source: usize,
        image: &'a Image,
        offset: u64,
    ) -> Option<Self> {
        let Protocol::Etmv4(settings) = &spec.sources.get(source)?.protocol else { return None };
        let decoder = etmv4::Decoder::starting_at(*settings, offset);
        let line = Self::new(spec, source, image)?;
        line.framing.is_none().then_some(Self { decoder, ..line })
    }

    /// What tells time in such a source.
    #[must_use]
    pub fn clocking(spec: &StreamSpec, source: usize) -> Clocking {
        match spec.sources.get(source).map(|source| &source.protocol) {
            Some(Protocol::Etmv4(settings)) if settings.cycle_counts() => Clocking::Cycles,
            Some(Protocol::Etmv4(settings)) if settings.timestamps() => Clocking::Timestamps,
            _ => Clocking::Nothing,
        }
    }

    /// Reads the next bytes of the stream.
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        let Self { framing, trace_id, decoder, flow } = self;
        match framing {
            None => decoder.push(bytes, &mut flow.feeding(sink)),
            Some(deframer) => {
                deframer.push(bytes, &mut Unframe { trace_id: *trace_id, decoder, flow, sink });
            }
        }
    }

    /// Bytes are missing here, or were not recorded by choice (`None`).
    pub fn gap(&mut self, why: Option<LossReason>, sink: &mut impl Sink) {
        let half = if why.is_none() { Malformed::Unwanted } else { Malformed::FramingLoss };
        self.decoder.interrupt(half);
        if let Some(deframer) = &mut self.framing {
            let Self { trace_id, decoder, flow, .. } = self;
            deframer.interrupt(&mut Unframe { trace_id: *trace_id, decoder, flow, sink });
        }
        let gap = if why.is_none() { Gap::Unwatched } else { Gap::Missing };
        self.flow.gap(self.decoder.offset(), gap, sink);
    }

    /// The blocks that were reached so far.
    #[must_use]
    pub const fn code(&self) -> &Code<'a> {
        self.flow.code()
    }

    /// Ends the stream: the blocks that were reached.
    pub fn finish(self, sink: &mut impl Sink) -> Code<'a> {
        let Self { framing, trace_id, mut decoder, mut flow } = self;
        if let Some(deframer) = framing {
            let (decoder, flow) = (&mut decoder, &mut flow);
            deframer.finish(&mut Unframe { trace_id, decoder, flow, sink });
        }
        decoder.finish(&mut flow.feeding(sink));
        flow.finish(sink);
        flow.into_code()
    }
}

/// Hands the source its bytes.
struct Unframe<'f, 'a, S> {
    trace_id: Option<tpiu::TraceId>,
    decoder: &'f mut etmv4::Decoder,
    flow: &'f mut Etmv4Flow<'a>,
    sink: &'f mut S,
}

impl<S: Sink> tpiu::Sink for Unframe<'_, '_, S> {
    fn data(&mut self, id: tpiu::TraceId, bytes: &[u8], _frame: u64) {
        if Some(id) == self.trace_id {
            self.decoder.push(bytes, &mut self.flow.feeding(self.sink));
        }
    }

    fn loss(&mut self, _at: Range<u64>, _why: tpiu::Damage) {
        self.decoder.interrupt(Malformed::FramingLoss);
        self.flow.gap(self.decoder.offset(), Gap::Missing, self.sink);
    }

    fn synchronised(&mut self, _at: Range<u64>) {}

    /// These bytes may be this source's: it starts inside a packet.
    fn orphaned(&mut self, _frame: u64, _bytes: usize) {
        self.decoder.interrupt(Malformed::FramingLoss);
    }
}

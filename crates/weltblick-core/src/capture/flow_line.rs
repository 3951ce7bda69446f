//! The line from one stream's bytes to executed instructions.

use super::manifest::{Framing, Protocol, SourceSpec, StreamSpec};
use crate::event::LossReason;
use crate::flow::{
    Clocking, Code, Etmv3Flow, Etmv3State, Etmv4Flow, Etmv4State, Gap, MtbFlow, Sink,
};
use crate::image::Image;
use crate::wire::{Malformed, etmv3, etmv4, mtb, tpiu};
use std::ops::Range;

/// One source of instruction trace on its way to what ran. Other sources of its stream are not read.
#[derive(Debug)]
pub struct FlowLine<'a> {
    framing: Option<tpiu::Deframer>,
    trace_id: Option<tpiu::TraceId>,
    reading: Reading<'a>,
}

/// Where a line stands between two bytes.
#[derive(Debug, PartialEq)]
pub(crate) enum State {
    Etmv3(Box<(etmv3::Decoder, Etmv3State)>),
    Etmv4(Box<(etmv4::Decoder, Etmv4State)>),
}

/// A protocol's decoder, and what follows its packets through the image.
#[derive(Debug)]
enum Reading<'a> {
    Etmv3(etmv3::Decoder, Box<Etmv3Flow<'a>>),
    Etmv4(etmv4::Decoder, Box<Etmv4Flow<'a>>),
    Mtb(mtb::Decoder, u64, Box<MtbFlow<'a>>),
}

impl<'a> FlowLine<'a> {
    /// A line at the start of a stream, for source number `source` of it; `None` if that is no
    /// instruction trace.
    #[must_use]
    pub fn new(spec: &StreamSpec, source: usize, image: &'a Image) -> Option<Self> {
        let SourceSpec { trace_id, protocol } = spec.sources.get(source)?;
        let reading = match protocol {
            Protocol::Mtb => Reading::Mtb(mtb::Decoder::new(), 0, Box::new(MtbFlow::new(image))),
            protocol => Reading::synchronising(protocol, image, 0)?,
        };
        let framing = match spec.framing {
            Framing::None => None,
            Framing::Tpiu(start) => Some(tpiu::Deframer::new(start)),
        };
        Some(Self { framing, trace_id: *trace_id, reading })
    }

    /// The same, for bytes from `offset` of the stream on, which may be the middle of a packet. Only for
    /// protocols that synchronise, in streams without framing; `None` otherwise.
    #[must_use]
    pub fn starting_at(
        spec: &StreamSpec,
        source: usize,
        image: &'a Image,
        offset: u64,
    ) -> Option<Self> {
        let reading = Reading::synchronising(&spec.sources.get(source)?.protocol, image, offset)?;
        (spec.framing == Framing::None).then_some(Self { framing: None, trace_id: None, reading })
    }

    /// Blocks begin at these addresses, and none runs across them: whoever waits for one of these
    /// instructions need only look at the beginnings of blocks. Before anything was pushed.
    pub fn cut_at(&mut self, addresses: &[u64]) {
        match &mut self.reading {
            Reading::Etmv3(_, flow) => flow.cut_at(addresses),
            Reading::Etmv4(_, flow) => flow.cut_at(addresses),
            Reading::Mtb(_, _, flow) => flow.cut_at(addresses),
        }
    }

    /// What tells time in such a source.
    #[must_use]
    pub fn clocking(spec: &StreamSpec, source: usize) -> Clocking {
        match spec.sources.get(source).map(|source| &source.protocol) {
            Some(Protocol::Etmv3(settings)) if settings.cycle_accurate() => Clocking::Cycles,
            Some(Protocol::Etmv3(settings)) if settings.timestamps() => Clocking::Timestamps,
            Some(Protocol::Etmv4(settings)) if settings.cycle_counts() => Clocking::Cycles,
            Some(Protocol::Etmv4(settings)) if settings.timestamps() => Clocking::Timestamps,
            _ => Clocking::Nothing,
        }
    }

    /// All that what comes later is read by, but for the return stack; `None` where a recording is not
    /// read in pieces: in frames, and of a micro trace buffer.
    pub(crate) fn state(&self) -> Option<State> {
        match &self.reading {
            Reading::Etmv3(decoder, flow) if self.framing.is_none() => {
                Some(State::Etmv3(Box::new((decoder.clone(), flow.state()))))
            }
            Reading::Etmv4(decoder, flow) if self.framing.is_none() => {
                Some(State::Etmv4(Box::new((decoder.clone(), flow.state()))))
            }
            _ => None,
        }
    }

    /// The addresses on the return stack, the oldest first.
    pub(crate) fn return_stack(&self) -> Vec<u64> {
        match &self.reading {
            Reading::Etmv4(_, flow) => flow.return_stack(),
            Reading::Etmv3(..) | Reading::Mtb(..) => Vec::new(),
        }
    }

    /// The instruction trace of ETMv4, which has a return stack.
    pub(crate) const fn etmv4_mut(&mut self) -> Option<&mut Etmv4Flow<'a>> {
        match &mut self.reading {
            Reading::Etmv4(_, flow) => Some(flow),
            Reading::Etmv3(..) | Reading::Mtb(..) => None,
        }
    }

    /// The blocks that were reached so far.
    #[must_use]
    pub const fn code(&self) -> &Code<'a> {
        match &self.reading {
            Reading::Etmv3(_, flow) => flow.code(),
            Reading::Etmv4(_, flow) => flow.code(),
            Reading::Mtb(_, _, flow) => flow.code(),
        }
    }

    /// Reads the next bytes of the stream.
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        let Self { framing, trace_id, reading } = self;
        match framing {
            None => reading.push(bytes, sink),
            Some(deframer) => {
                deframer.push(bytes, &mut Unframe { trace_id: *trace_id, reading, sink });
            }
        }
    }

    /// Bytes are missing here, or were not recorded by choice (`None`).
    pub fn gap(&mut self, why: Option<LossReason>, sink: &mut impl Sink) {
        let Self { framing, trace_id, reading } = self;
        let half = if why.is_none() { Malformed::Unwanted } else { Malformed::FramingLoss };
        reading.interrupt(half, sink);
        if let Some(deframer) = framing {
            deframer.interrupt(&mut Unframe { trace_id: *trace_id, reading, sink });
        }
        reading.gap(if why.is_none() { Gap::Unwatched } else { Gap::Missing }, sink);
    }

    /// Ends the stream: the blocks that were reached.
    pub fn finish(self, sink: &mut impl Sink) -> Code<'a> {
        let Self { framing, trace_id, mut reading } = self;
        if let Some(deframer) = framing {
            deframer.finish(&mut Unframe { trace_id, reading: &mut reading, sink });
        }
        match reading {
            Reading::Etmv3(decoder, mut flow) => {
                decoder.finish(&mut flow.feeding(sink));
                flow.finish(sink);
                flow.into_code()
            }
            Reading::Etmv4(decoder, mut flow) => {
                decoder.finish(&mut flow.feeding(sink));
                flow.finish(sink);
                flow.into_code()
            }
            Reading::Mtb(decoder, _, mut flow) => {
                decoder.finish(&mut flow.feeding(sink));
                flow.into_code()
            }
        }
    }
}

impl<'a> Reading<'a> {
    /// For protocols that synchronise: from byte `offset` of a stream on.
    fn synchronising(protocol: &Protocol, image: &'a Image, offset: u64) -> Option<Self> {
        Some(match protocol {
            Protocol::Etmv3(settings) => Self::Etmv3(
                etmv3::Decoder::starting_at(*settings, offset),
                Box::new(Etmv3Flow::new(image)),
            ),
            Protocol::Etmv4(settings) => Self::Etmv4(
                etmv4::Decoder::starting_at(*settings, offset),
                Box::new(Etmv4Flow::new(image, settings)),
            ),
            Protocol::Mtb | Protocol::Itm(_) | Protocol::Poll(_) | Protocol::Ctf(_) => return None,
        })
    }
}

impl Reading<'_> {
    fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        match self {
            Self::Etmv3(decoder, flow) => decoder.push(bytes, &mut flow.feeding(sink)),
            Self::Etmv4(decoder, flow) => decoder.push(bytes, &mut flow.feeding(sink)),
            Self::Mtb(decoder, pushed, flow) => {
                *pushed += bytes.len() as u64;
                decoder.push(bytes, &mut flow.feeding(sink));
            }
        }
    }

    /// Half a packet is lost.
    fn interrupt(&mut self, why: Malformed, sink: &mut impl Sink) {
        match self {
            Self::Etmv3(decoder, _) => decoder.interrupt(why),
            Self::Etmv4(decoder, _) => decoder.interrupt(why),
            Self::Mtb(decoder, _, flow) => decoder.interrupt(&mut flow.feeding(sink)),
        }
    }

    fn gap(&mut self, gap: Gap, sink: &mut impl Sink) {
        match self {
            Self::Etmv3(decoder, flow) => flow.gap(decoder.offset(), gap, sink),
            Self::Etmv4(decoder, flow) => flow.gap(decoder.offset(), gap, sink),
            Self::Mtb(_, pushed, flow) => flow.gap(*pushed, gap, sink),
        }
    }
}

/// Hands the source its bytes.
struct Unframe<'f, 'a, S> {
    trace_id: Option<tpiu::TraceId>,
    reading: &'f mut Reading<'a>,
    sink: &'f mut S,
}

impl<S: Sink> tpiu::Sink for Unframe<'_, '_, S> {
    fn data(&mut self, id: tpiu::TraceId, bytes: &[u8], _frame: u64) {
        if Some(id) == self.trace_id {
            self.reading.push(bytes, self.sink);
        }
    }

    fn loss(&mut self, _at: Range<u64>, _why: tpiu::Damage) {
        self.reading.interrupt(Malformed::FramingLoss, self.sink);
        self.reading.gap(Gap::Missing, self.sink);
    }

    fn synchronised(&mut self, _at: Range<u64>) {}

    /// These bytes may be this source's: it starts inside a packet.
    fn orphaned(&mut self, _frame: u64, _bytes: usize) {
        self.reading.interrupt(Malformed::FramingLoss, self.sink);
    }
}

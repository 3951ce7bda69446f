//! The line from one stream's bytes to executed instructions.

use super::manifest::{Framing, Protocol, SourceSpec, StreamSpec};
use crate::event::LossReason;
use crate::flow::{
    Clocking, Code, Etmv3Flow, Etmv3State, Etmv4Flow, Etmv4State, Gap, Held, Holding, MtbFlow,
    Receive, Sink, To,
};
use crate::image::Image;
use crate::wire::{Malformed, etmv3, etmv4, mtb, tpiu};
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// Bytes that are read before it is looked how much waits to be confirmed.
const AT_ONCE: usize = 4 << 10;
/// Bytes of a source between two anchors.
const ANCHOR_EVERY: u64 = 256 << 10;

/// Where reading of a source may begin within its stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Anchor {
    /// A byte of the stream; in frames the first of one.
    pub stream: u64,
    /// How many of the source's own bytes lie before it.
    pub source: u64,
    /// Whose the first bytes of the frame are, if that was said before.
    pub id: Option<tpiu::TraceId>,
}

impl Anchor {
    /// In a stream without frames: any byte.
    #[must_use]
    pub const fn at(byte: u64) -> Self {
        Self { stream: byte, source: byte, id: None }
    }
}

/// Keeps anchors while frames are read.
#[derive(Debug, Default)]
struct Anchors {
    found: Vec<Anchor>,
    /// The source's byte from which on the next is kept.
    next: u64,
}

/// One source of instruction trace on its way to what ran. Other sources of its stream are not read.
#[derive(Debug)]
pub struct FlowLine<'a> {
    framing: Option<tpiu::Deframer>,
    trace_id: Option<tpiu::TraceId>,
    reading: Reading<'a>,
    held: Held,
    anchors: Option<Anchors>,
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
            Protocol::Mtb(_) => Reading::Mtb(mtb::Decoder::new(), 0, Box::new(MtbFlow::new(image))),
            protocol => Reading::synchronising(protocol, image, 0)?,
        };
        let framing = match spec.framing {
            Framing::None => None,
            Framing::Tpiu(start) => Some(tpiu::Deframer::new(start)),
        };
        let held = match reading {
            Reading::Mtb(..) => Held::that_confirms_itself(),
            Reading::Etmv3(..) | Reading::Etmv4(..) => Held::default(),
        };
        Some(Self { framing, trace_id: *trace_id, reading, held, anchors: None })
    }

    /// The same, for bytes from `anchor` on, which may be the middle of a packet. Only for protocols that
    /// synchronise; `None` otherwise.
    #[must_use]
    pub fn starting_at(
        spec: &StreamSpec,
        source: usize,
        image: &'a Image,
        anchor: Anchor,
    ) -> Option<Self> {
        let SourceSpec { trace_id, protocol } = spec.sources.get(source)?;
        let reading = Reading::synchronising(protocol, image, anchor.source)?;
        let framing = match spec.framing {
            Framing::None => None,
            Framing::Tpiu(start) => Some(tpiu::Deframer::resuming(start, anchor.stream, anchor.id)),
        };
        let held = Held::default();
        Some(Self { framing, trace_id: *trace_id, reading, held, anchors: None })
    }

    /// From here on, places are remembered at which reading may begin in frames.
    pub fn keep_anchors(&mut self) {
        self.anchors = self.framing.is_some().then(Anchors::default);
    }

    /// The places that were remembered, in order.
    pub fn take_anchors(&mut self) -> Vec<Anchor> {
        self.anchors.take().map_or_else(Vec::new, |anchors| anchors.found)
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

    /// Where atoms have cycles, those of each instruction are handed on, and not of blocks only: slower. Before
    /// anything was pushed.
    pub fn time_each_instruction(&mut self) {
        if let Reading::Etmv3(_, flow) = &mut self.reading {
            flow.time_each_instruction();
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
        self.reading.code()
    }

    /// Reads the next bytes of the stream.
    pub fn push(&mut self, bytes: &[u8], sink: &mut dyn Sink) {
        self.push_to(bytes, &mut To(sink));
    }

    /// Reads the next bytes for one sink alone: compiled for it, where a call for each block would cost too much.
    pub fn push_into<S: Sink>(&mut self, bytes: &[u8], sink: &mut S) {
        self.push_to(bytes, &mut To(sink));
    }

    fn push_to(&mut self, bytes: &[u8], to: &mut dyn Receive) {
        let Self { framing, trace_id, reading, held, anchors } = self;
        match framing {
            None => reading.push(bytes, held, to),
            Some(deframer) => {
                let anchors = anchors.as_mut();
                deframer
                    .push(bytes, &mut Unframe { trace_id: *trace_id, reading, held, anchors, to });
            }
        }
    }

    /// Bytes are missing here, or were not recorded by choice (`None`).
    pub fn gap(&mut self, why: Option<LossReason>, sink: &mut dyn Sink) {
        let to = &mut To(sink);
        let Self { framing, trace_id, reading, held, anchors } = self;
        let half = if why.is_none() { Malformed::Unwanted } else { Malformed::FramingLoss };
        reading.interrupt(half, held, to);
        if let Some(deframer) = framing {
            let (trace_id, anchors) = (*trace_id, anchors.as_mut());
            deframer.interrupt(&mut Unframe { trace_id, reading, held, anchors, to });
        }
        reading.gap(if why.is_none() { Gap::Unwatched } else { Gap::Missing }, held, to);
        // What comes behind it neither confirms nor contradicts what came before.
        held.confirm(reading.code(), to);
    }

    /// Ends the stream: the blocks that were reached.
    pub fn finish(self, sink: &mut dyn Sink) -> Code<'a> {
        let to = &mut To(sink);
        let Self { framing, trace_id, mut reading, mut held, .. } = self;
        if let Some(deframer) = framing {
            let (reading, held) = (&mut reading, &mut held);
            deframer.finish(&mut Unframe { trace_id, reading, held, anchors: None, to });
        }
        let holding = &mut Holding { held: &mut held, to };
        let code = match reading {
            Reading::Etmv3(decoder, mut flow) => {
                decoder.finish(&mut flow.feeding(holding));
                flow.finish(holding);
                flow.into_code()
            }
            Reading::Etmv4(decoder, mut flow) => {
                decoder.finish(&mut flow.feeding(holding));
                flow.finish(holding);
                flow.into_code()
            }
            Reading::Mtb(decoder, _, mut flow) => {
                decoder.finish(&mut flow.feeding(holding));
                flow.into_code()
            }
        };
        held.finish(&code, to);
        code
    }

    /// A piece begins here that is read beside others: what waits belongs to the one before. Returns the addresses that
    /// are known on the return stack, the oldest first.
    pub(crate) fn begin_piece(&mut self) -> Vec<u64> {
        self.held.begin_piece();
        self.etmv4_mut().map(Etmv4Flow::begin_piece).unwrap_or_default()
    }

    /// Passes what waited at the end of the piece `before` on to `sink`, if this reader found it right. Whether one reader
    /// of both would have done so.
    pub(crate) fn flush_for(&self, before: &mut Self, sink: &mut dyn Sink) -> bool {
        let Self { reading, held, .. } = before;
        self.held.flush_for(held, reading.code(), &mut To(sink))
    }
}

impl<'a> Reading<'a> {
    /// For protocols that synchronise: from byte `offset` of a stream on.
    fn synchronising(protocol: &Protocol, image: &'a Image, offset: u64) -> Option<Self> {
        Some(match protocol {
            Protocol::Etmv3(settings) => Self::Etmv3(
                etmv3::Decoder::starting_at(*settings, offset),
                Box::new(Etmv3Flow::new(image, settings)),
            ),
            Protocol::Etmv4(settings) => Self::Etmv4(
                etmv4::Decoder::starting_at(*settings, offset),
                Box::new(Etmv4Flow::new(image, settings)),
            ),
            Protocol::Mtb(_) | Protocol::Itm(_) | Protocol::Poll(_) | Protocol::Ctf(_) => {
                return None;
            }
        })
    }
}

impl<'a> Reading<'a> {
    const fn code(&self) -> &Code<'a> {
        match self {
            Self::Etmv3(_, flow) => flow.code(),
            Self::Etmv4(_, flow) => flow.code(),
            Self::Mtb(_, _, flow) => flow.code(),
        }
    }
}

impl Reading<'_> {
    fn push(&mut self, bytes: &[u8], held: &mut Held, to: &mut dyn Receive) {
        for bytes in bytes.chunks(AT_ONCE) {
            let holding = &mut Holding { held, to };
            match self {
                Self::Etmv3(decoder, flow) => decoder.push(bytes, &mut flow.feeding(holding)),
                Self::Etmv4(decoder, flow) => decoder.push(bytes, &mut flow.feeding(holding)),
                Self::Mtb(decoder, pushed, flow) => {
                    *pushed += bytes.len() as u64;
                    decoder.push(bytes, &mut flow.feeding(holding));
                }
            }
            held.limit(self.code(), to);
        }
    }

    /// How many of its bytes were read.
    const fn offset(&self) -> u64 {
        match self {
            Self::Etmv3(decoder, _) => decoder.offset(),
            Self::Etmv4(decoder, _) => decoder.offset(),
            Self::Mtb(_, pushed, _) => *pushed,
        }
    }

    /// Half a packet is lost.
    fn interrupt(&mut self, why: Malformed, held: &mut Held, to: &mut dyn Receive) {
        match self {
            Self::Etmv3(decoder, _) => decoder.interrupt(why),
            Self::Etmv4(decoder, _) => decoder.interrupt(why),
            Self::Mtb(decoder, _, flow) => {
                decoder.interrupt(&mut flow.feeding(&mut Holding { held, to }));
            }
        }
    }

    fn gap(&mut self, gap: Gap, held: &mut Held, to: &mut dyn Receive) {
        let holding = &mut Holding { held, to };
        match self {
            Self::Etmv3(decoder, flow) => flow.gap(decoder.offset(), gap, holding),
            Self::Etmv4(decoder, flow) => flow.gap(decoder.offset(), gap, holding),
            Self::Mtb(_, pushed, flow) => flow.gap(*pushed, gap, holding),
        }
    }
}

/// Hands the source its bytes.
struct Unframe<'f, 'a> {
    trace_id: Option<tpiu::TraceId>,
    reading: &'f mut Reading<'a>,
    held: &'f mut Held,
    anchors: Option<&'f mut Anchors>,
    to: &'f mut dyn Receive,
}

impl tpiu::Sink for Unframe<'_, '_> {
    fn data(&mut self, id: tpiu::TraceId, bytes: &[u8], _frame: u64) {
        if Some(id) == self.trace_id {
            self.reading.push(bytes, self.held, self.to);
        }
    }

    fn loss(&mut self, _at: Range<u64>, _why: tpiu::Damage) {
        // What came in the frames before it may be wrong, too.
        self.held.withdraw();
        self.reading.interrupt(Malformed::FramingLoss, self.held, self.to);
        self.reading.gap(Gap::Missing, self.held, self.to);
    }

    fn synchronised(&mut self, _at: Range<u64>) {}

    #[inline(always)]
    fn frame(&mut self, stream: u64, id: Option<tpiu::TraceId>) {
        if let Some(anchors) = &mut self.anchors {
            let source = self.reading.offset();
            if source >= anchors.next {
                anchors.found.push(Anchor { stream, source, id });
                anchors.next = source + ANCHOR_EVERY;
            }
        }
    }

    /// These bytes may be this source's: it starts inside a packet.
    fn orphaned(&mut self, _frame: u64, _bytes: usize) {
        self.reading.interrupt(Malformed::FramingLoss, self.held, self.to);
    }
}

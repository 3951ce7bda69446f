//! The line from one stream's bytes to events: framing, packets, events.

use super::event_trace::EventCounts;
use super::manifest::{Framing, Protocol, SourceSpec, StreamSpec};
use crate::event::{self, Event, ItmReader, LossReason, Origin, PollReader, Position};
use crate::wire::{Malformed, Sink, etmv3, etmv4, itm, mtb, poll, tpiu};
use std::ops::Range;

/// Sees packets and frames on their way; every method does nothing unless overridden.
pub trait Tap {
    /// Whether packets are looked at at all.
    fn wants_packets(&self) -> bool {
        true
    }
    /// Bytes of the stream as they come, framing included.
    #[inline]
    fn raw(&mut self, _bytes: &[u8]) {}
    /// Whether the rest of the recording is of no interest: whoever reads it may stop.
    fn has_enough(&self) -> bool {
        false
    }
    /// A packet of an origin, and its bytes.
    #[inline]
    fn packet(&mut self, _origin: Origin, _at: Range<u64>, _packet: itm::Packet) {}
    /// A branch that a micro trace buffer holds.
    #[inline]
    fn branch(&mut self, _origin: Origin, _at: Range<u64>, _packet: mtb::Packet) {}
    /// A packet of an instruction trace.
    #[inline]
    fn instructions(&mut self, _origin: Origin, _at: Range<u64>, _packet: Instructions) {}
    /// Bytes of an origin that are no packet.
    fn loss(&mut self, _origin: Origin, _at: Range<u64>, _why: Malformed) {}
    /// Bytes of an origin that nobody wanted: they lead up to where reading starts.
    fn unwanted(&mut self, _origin: Origin, _at: Range<u64>) {}
    /// Bytes of an origin that its buffer never wrote.
    fn unwritten(&mut self, _origin: Origin, _at: Range<u64>) {}
    /// Bytes of a framed stream that are no frame.
    fn frame_loss(&mut self, _at: Range<u64>, _why: tpiu::Damage) {}
    /// A synchronisation of the framing.
    fn frame_sync(&mut self, _at: Range<u64>) {}
    /// An event trace has ended: this was read of it.
    fn event_counts(&mut self, _counts: &EventCounts) {}
    /// Bytes of a source that the manifest does not name (0: padding).
    fn unread_source(&mut self, _id: tpiu::TraceId, _bytes: usize) {}
}

impl Tap for () {
    fn wants_packets(&self) -> bool {
        false
    }
}

impl<T: Tap + ?Sized> Tap for &mut T {
    fn wants_packets(&self) -> bool {
        (**self).wants_packets()
    }
    fn raw(&mut self, bytes: &[u8]) {
        (**self).raw(bytes);
    }
    fn has_enough(&self) -> bool {
        (**self).has_enough()
    }
    #[inline(always)]
    fn packet(&mut self, origin: Origin, at: Range<u64>, packet: itm::Packet) {
        (**self).packet(origin, at, packet);
    }
    fn branch(&mut self, origin: Origin, at: Range<u64>, packet: mtb::Packet) {
        (**self).branch(origin, at, packet);
    }
    #[inline(always)]
    fn instructions(&mut self, origin: Origin, at: Range<u64>, packet: Instructions) {
        (**self).instructions(origin, at, packet);
    }
    fn loss(&mut self, origin: Origin, at: Range<u64>, why: Malformed) {
        (**self).loss(origin, at, why);
    }
    fn unwanted(&mut self, origin: Origin, at: Range<u64>) {
        (**self).unwanted(origin, at);
    }
    fn unwritten(&mut self, origin: Origin, at: Range<u64>) {
        (**self).unwritten(origin, at);
    }
    fn frame_loss(&mut self, at: Range<u64>, why: tpiu::Damage) {
        (**self).frame_loss(at, why);
    }
    fn frame_sync(&mut self, at: Range<u64>) {
        (**self).frame_sync(at);
    }
    fn event_counts(&mut self, counts: &EventCounts) {
        (**self).event_counts(counts);
    }
    fn unread_source(&mut self, id: tpiu::TraceId, bytes: usize) {
        (**self).unread_source(id, bytes);
    }
}

/// A packet of an instruction trace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Instructions {
    /// ETM version 3.
    Etmv3(etmv3::Packet),
    /// ETM version 4.
    Etmv4(etmv4::Packet),
}

impl From<etmv3::Packet> for Instructions {
    fn from(packet: etmv3::Packet) -> Self {
        Self::Etmv3(packet)
    }
}

impl From<etmv4::Packet> for Instructions {
    fn from(packet: etmv4::Packet) -> Self {
        Self::Etmv4(packet)
    }
}

impl Instructions {
    /// Packets are missing before it: the trace unit's buffer was full.
    #[must_use]
    pub const fn tells_overflow(&self) -> bool {
        match self {
            Self::Etmv3(etmv3::Packet::Start(start)) => {
                matches!(start.reason, etmv3::Reason::Overflow)
            }
            Self::Etmv3(_) => false,
            Self::Etmv4(packet) => matches!(packet, etmv4::Packet::Overflow),
        }
    }
}

/// One stream on its way to events.
#[derive(Debug)]
pub struct Line {
    framing: Option<tpiu::Deframer>,
    sources: Vec<Source>,
    /// Since a gap by choice there was no frame yet.
    unwanted: bool,
}

#[derive(Debug)]
struct Source {
    trace_id: Option<tpiu::TraceId>,
    origin: Origin,
    /// Bytes that were pushed.
    pushed: u64,
    /// Bytes that wait for the first synchronisation; absent once it is known where packets begin.
    head: Option<Vec<u8>>,
    reading: Reading,
}

/// The first synchronisation is waited for over so many bytes. A recording that was begun in the middle may begin inside
/// a packet, whose rest reads as others: nothing before it is believed. Without one, all of it is.
const LONGEST_HEAD: usize = 64 << 10;

/// Where the first synchronisation begins: at least 47 zeros and a one (DDI 0403E, D4.2.1).
fn synchronises_at(bytes: &[u8]) -> Option<usize> {
    let at = bytes.windows(6).position(|part| part == [0, 0, 0, 0, 0, 0x80])?;
    Some(bytes[..at].iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1))
}

/// A protocol's decoder and what makes events of its packets.
#[derive(Debug)]
enum Reading {
    Itm(itm::Decoder, ItmReader),
    Mtb(mtb::Decoder),
    /// Packets only: what ran follows from them and the image together (see
    /// [`FlowLine`](super::FlowLine)).
    Etmv3(Box<etmv3::Decoder>),
    /// The same.
    Etmv4(Box<etmv4::Decoder>),
    Poll(poll::Decoder, PollReader),
    /// An event trace has files of its own: see [`EventTrace`](super::EventTrace).
    Folder,
}

impl Line {
    /// A line at the start of a stream. Its origins are numbered from `first`.
    #[must_use]
    pub fn new(spec: &StreamSpec, first: Origin) -> Self {
        let framing = match spec.framing {
            Framing::None => None,
            Framing::Tpiu(start) => Some(tpiu::Deframer::new(start)),
        };
        let source = |(number, source): (u16, &SourceSpec)| {
            let origin = Origin(first.0 + number);
            let reading = match &source.protocol {
                Protocol::Itm(settings) => {
                    Reading::Itm(itm::Decoder::new(), ItmReader::new(origin, settings.clock()))
                }
                Protocol::Mtb(_) => Reading::Mtb(mtb::Decoder::new()),
                Protocol::Etmv3(settings) => {
                    Reading::Etmv3(Box::new(etmv3::Decoder::new(*settings)))
                }
                Protocol::Etmv4(settings) => {
                    Reading::Etmv4(Box::new(etmv4::Decoder::new(*settings)))
                }
                Protocol::Poll(_) => Reading::Poll(poll::Decoder::new(), PollReader::new(origin)),
                Protocol::Ctf(_) => Reading::Folder,
            };
            let head = matches!(reading, Reading::Itm(..)).then(Vec::new);
            Source { trace_id: source.trace_id, origin, pushed: 0, head, reading }
        };
        Self { framing, sources: (0..).zip(&spec.sources).map(source).collect(), unwanted: false }
    }

    /// Reads the next bytes of the stream.
    pub fn push(&mut self, bytes: &[u8], tap: &mut dyn Tap, mut sink: &mut dyn event::Sink) {
        // Two copies of the decoders serve all: one that looks at packets, and one that does not.
        if tap.wants_packets() {
            let mut tap = tap;
            self.push_into(bytes, &mut tap, &mut sink);
        } else {
            self.push_into(bytes, &mut (), &mut sink);
        }
    }

    /// Reads the next bytes for one sink alone: compiled for it, where a call for each event would cost too much.
    pub fn push_into<T: Tap, S: event::Sink>(&mut self, bytes: &[u8], tap: &mut T, sink: &mut S) {
        tap.raw(bytes);
        match &mut self.framing {
            None => self.sources.iter_mut().for_each(|source| source.push(bytes, tap, sink)),
            Some(deframer) => {
                let Self { sources, unwanted, .. } = self;
                deframer.push(bytes, &mut Unframe { sources, unwanted, tap, sink });
            }
        }
    }

    /// Bytes are missing here, or were not recorded by choice (`None`).
    pub fn gap(
        &mut self,
        why: Option<LossReason>,
        mut tap: &mut dyn Tap,
        mut sink: &mut dyn event::Sink,
    ) {
        let (tap, sink) = (&mut tap, &mut sink);
        self.unwanted = why.is_none();
        let half = if self.unwanted { Malformed::Unwanted } else { Malformed::FramingLoss };
        for source in &mut self.sources {
            source.interrupt(half, tap, sink);
        }
        if let Some(deframer) = &mut self.framing {
            let Self { sources, unwanted, .. } = self;
            deframer.interrupt(&mut Unframe { sources, unwanted, tap, sink });
        }
        // One gap, one event: it stands for all sources.
        if let Some(first) = self.sources.first_mut() {
            first.gap(why, sink);
        }
    }

    /// Ends the stream.
    pub fn finish(self, mut tap: &mut dyn Tap, mut sink: &mut dyn event::Sink) {
        let (tap, sink) = (&mut tap, &mut sink);
        let Self { framing, mut sources, mut unwanted } = self;
        if let Some(deframer) = framing {
            let (sources, unwanted) = (&mut sources, &mut unwanted);
            deframer.finish(&mut Unframe { sources, unwanted, tap, sink });
        }
        for source in sources {
            source.finish(tap, sink);
        }
    }
}

impl Source {
    fn push(&mut self, bytes: &[u8], tap: &mut impl Tap, sink: &mut impl event::Sink) {
        self.pushed += bytes.len() as u64;
        if self.head.is_some() {
            return self.hold(bytes, tap, sink);
        }
        self.read(bytes, tap, sink);
    }

    /// Keeps bytes back until it is known where packets begin.
    #[cold]
    fn hold(&mut self, bytes: &[u8], tap: &mut impl Tap, sink: &mut impl event::Sink) {
        let Some(head) = &mut self.head else { return };
        head.extend_from_slice(bytes);
        let found = synchronises_at(head);
        if found.is_some() || head.len() >= LONGEST_HEAD {
            self.release(found.unwrap_or(0), tap, sink);
        }
    }

    /// Reads what was kept back, but for the first bytes, which nothing says how to read.
    #[cold]
    fn release(&mut self, from: usize, tap: &mut impl Tap, sink: &mut impl event::Sink) {
        let Some(head) = self.head.take() else { return };
        if let (true, Reading::Itm(decoder, _)) = (from > 0, &mut self.reading) {
            decoder.interrupt(Malformed::StartsInside);
        }
        self.read(&head, tap, sink);
    }

    fn read(&mut self, bytes: &[u8], tap: &mut impl Tap, sink: &mut impl event::Sink) {
        let origin = self.origin;
        match &mut self.reading {
            Reading::Itm(decoder, reader) => {
                decoder.push(bytes, &mut Tapped { origin, tap, events: reader.feeding(sink) });
            }
            // Read here for packets only, or seldom: one copy of the code serves every sink.
            Reading::Mtb(decoder) => decoder.push(bytes, &mut Branches { origin, tap, sink }),
            Reading::Etmv3(decoder) => decoder.push(bytes, &mut Traced { origin, tap, sink }),
            Reading::Etmv4(decoder) => decoder.push(bytes, &mut Traced { origin, tap, sink }),
            Reading::Poll(decoder, reader) => decoder.push(bytes, &mut reader.feeding(sink)),
            Reading::Folder => {}
        }
    }

    /// Half a packet is lost, and times slip.
    fn interrupt(&mut self, why: Malformed, tap: &mut impl Tap, sink: &mut impl event::Sink) {
        // What comes after is found by its own synchronisation.
        self.release(0, tap, sink);
        let origin = self.origin;
        match &mut self.reading {
            Reading::Itm(decoder, reader) => {
                decoder.interrupt(why);
                reader.slip(sink);
            }
            Reading::Mtb(decoder) => decoder.interrupt(&mut Branches { origin, tap, sink }),
            Reading::Etmv3(decoder) => decoder.interrupt(why),
            Reading::Etmv4(decoder) => decoder.interrupt(why),
            Reading::Poll(decoder, reader) => decoder.interrupt(&mut reader.feeding(sink)),
            Reading::Folder => {}
        }
    }

    fn gap(&mut self, why: Option<LossReason>, sink: &mut impl event::Sink) {
        let offset = self.pushed;
        let event = match why {
            Some(why) => Event::Lost { bytes: offset..offset, why },
            None => Event::Unwatched,
        };
        match &mut self.reading {
            Reading::Itm(_, reader) => reader.gap(offset, why, sink),
            Reading::Mtb(_) | Reading::Etmv3(_) | Reading::Etmv4(_) | Reading::Folder => {
                sink.event(untimed(self.origin, offset), &event);
            }
            Reading::Poll(_, reader) => sink.event(reader.position(offset), &event),
        }
    }

    fn framing_loss(&mut self, at: Range<u64>, why: tpiu::Damage, sink: &mut impl event::Sink) {
        if let Reading::Itm(_, reader) = &mut self.reading {
            reader.framing_loss(at, why, sink);
        }
    }

    fn finish(mut self, tap: &mut impl Tap, sink: &mut impl event::Sink) {
        self.release(0, tap, sink);
        let origin = self.origin;
        match self.reading {
            Reading::Itm(decoder, mut reader) => {
                decoder.finish(&mut Tapped { origin, tap, events: reader.feeding(sink) });
                reader.finish(sink);
            }
            Reading::Mtb(decoder) => decoder.finish(&mut Branches { origin, tap, sink }),
            Reading::Etmv3(decoder) => decoder.finish(&mut Traced { origin, tap, sink }),
            Reading::Etmv4(decoder) => decoder.finish(&mut Traced { origin, tap, sink }),
            Reading::Poll(decoder, mut reader) => decoder.finish(&mut reader.feeding(sink)),
            Reading::Folder => {}
        }
    }
}

/// Hands packets to the tap, then to the event reader.
struct Tapped<'a, T, E> {
    origin: Origin,
    tap: &'a mut T,
    events: E,
}

impl<T: Tap, E: itm::Sink> itm::Sink for Tapped<'_, T, E> {
    #[inline(always)]
    fn packet(&mut self, at: Range<u64>, packet: itm::Packet) {
        self.tap.packet(self.origin, at.clone(), packet);
        self.events.packet(at, packet);
    }

    #[inline(always)]
    fn dated(
        &mut self,
        at: Range<u64>,
        packet: itm::Packet,
        end: u64,
        ticks: u32,
        relation: itm::Relation,
    ) {
        self.tap.packet(self.origin, at.clone(), packet);
        self.tap.packet(self.origin, at.end..end, itm::Packet::LocalTime { ticks, relation });
        self.events.dated(at, packet, end, ticks, relation);
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        if why == Malformed::Unwanted {
            return self.tap.unwanted(self.origin, at);
        }
        self.tap.loss(self.origin, at.clone(), why);
        self.events.loss(at, why);
    }
}

/// A place in a stream without time.
const fn untimed(origin: Origin, offset: u64) -> Position {
    Position::new(origin, offset, None)
}

/// Hands branches to the tap. They make no events of their own: what was executed follows from
/// them and the image together.
struct Branches<'a> {
    origin: Origin,
    tap: &'a mut dyn Tap,
    sink: &'a mut dyn event::Sink,
}

impl mtb::Sink for Branches<'_> {
    #[inline(always)]
    fn packet(&mut self, at: Range<u64>, packet: mtb::Packet) {
        self.tap.branch(self.origin, at, packet);
    }

    fn unwritten(&mut self, at: Range<u64>) {
        self.tap.unwritten(self.origin, at);
    }

    fn erased(&mut self, at: Range<u64>) {
        self.lose(at, Malformed::Erased);
    }

    fn cut_off(&mut self, at: Range<u64>) {
        self.lose(at, Malformed::CutOff);
    }
}

impl Branches<'_> {
    fn lose(&mut self, at: Range<u64>, why: Malformed) {
        self.tap.loss(self.origin, at.clone(), why);
        let position = untimed(self.origin, at.start);
        self.sink.event(position, &Event::Lost { bytes: at, why: LossReason::Malformed(why) });
    }
}

/// Hands packets of an instruction trace to the tap.
struct Traced<'a> {
    origin: Origin,
    tap: &'a mut dyn Tap,
    sink: &'a mut dyn event::Sink,
}

impl<P: Into<Instructions>> Sink<P> for Traced<'_> {
    #[inline(always)]
    fn packet(&mut self, at: Range<u64>, packet: P) {
        let packet = packet.into();
        if packet.tells_overflow() {
            let event = Event::Lost { bytes: at.clone(), why: LossReason::Overflow };
            self.sink.event(untimed(self.origin, at.start), &event);
        }
        self.tap.instructions(self.origin, at, packet);
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        if why == Malformed::Unwanted {
            return self.tap.unwanted(self.origin, at);
        }
        self.tap.loss(self.origin, at.clone(), why);
        let position = untimed(self.origin, at.start);
        self.sink.event(position, &Event::Lost { bytes: at, why: LossReason::Malformed(why) });
    }
}

/// Hands each source its bytes.
struct Unframe<'a, T, S> {
    sources: &'a mut [Source],
    unwanted: &'a mut bool,
    tap: &'a mut T,
    sink: &'a mut S,
}

impl<T: Tap, S: event::Sink> tpiu::Sink for Unframe<'_, T, S> {
    fn data(&mut self, id: tpiu::TraceId, bytes: &[u8], _frame: u64) {
        *self.unwanted = false;
        match self.sources.iter_mut().find(|source| source.trace_id == Some(id)) {
            Some(source) => source.push(bytes, self.tap, self.sink),
            None => self.tap.unread_source(id, bytes.len()),
        }
    }

    fn loss(&mut self, at: Range<u64>, why: tpiu::Damage) {
        if *self.unwanted {
            return self.tap.unread_source(0, (at.end - at.start) as usize);
        }
        self.tap.frame_loss(at.clone(), why);
        self.interrupt();
        // One loss, one event: it stands for all sources.
        if let Some(first) = self.sources.first_mut() {
            first.framing_loss(at, why, self.sink);
        }
    }

    fn synchronised(&mut self, at: Range<u64>) {
        self.tap.frame_sync(at);
    }

    fn padding(&mut self, id: tpiu::TraceId, bytes: usize) {
        self.tap.unread_source(id, bytes);
    }

    /// These bytes may be any source's: each of them starts inside a packet.
    fn orphaned(&mut self, _frame: u64, bytes: usize) {
        self.interrupt();
        self.tap.unread_source(0, bytes);
    }
}

impl<T: Tap, S: event::Sink> Unframe<'_, T, S> {
    /// Every source may lack bytes here.
    fn interrupt(&mut self) {
        for source in &mut *self.sources {
            source.interrupt(Malformed::FramingLoss, self.tap, self.sink);
        }
    }
}

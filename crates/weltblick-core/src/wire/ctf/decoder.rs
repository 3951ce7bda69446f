//! One file of packets (sections 5 and 6): bytes to events.

use super::bits::{Bits, Stop};
use super::bound::NodeId;
use super::schema::{MAGIC, Schema, Stream};
use super::walk::{Facts, Walk};
use super::{Damage, bits::Order};
use std::ops::Range;

/// Bytes of an event, or of what stands before a packet's events, at most.
const LONGEST: u64 = 1 << 20;
/// Clocks that a description may declare.
pub(super) const MOST_CLOCKS: usize = 16;

/// A value of a field.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Value<'a> {
    /// An integer without sign.
    Unsigned(u64),
    /// An integer with a sign.
    Signed(i64),
    /// A floating-point number.
    Float(f64),
    /// A text, as its bytes came.
    Text(&'a [u8]),
}

impl Value<'_> {
    /// The number, if it is a whole one.
    #[must_use]
    pub const fn integer(self) -> Option<i128> {
        match self {
            Self::Unsigned(value) => Some(value as i128),
            Self::Signed(value) => Some(value as i128),
            Self::Float(_) | Self::Text(_) => None,
        }
    }
}

/// A value whose text stands in other bytes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Raw {
    Unsigned(u64),
    Signed(i64),
    Float(f64),
    Text(usize, usize),
}

impl Raw {
    fn within(self, bytes: &[u8]) -> Value<'_> {
        match self {
            Self::Unsigned(value) => Value::Unsigned(value),
            Self::Signed(value) => Value::Signed(value),
            Self::Float(value) => Value::Float(value),
            Self::Text(from, to) => Value::Text(bytes.get(from..to).unwrap_or(&[])),
        }
    }
}

/// One event.
#[derive(Debug, Clone, Copy)]
pub struct Record<'a> {
    /// The number of its kind: [`Schema::events`].
    pub class: usize,
    /// When it happened, in ticks of its stream's clock.
    pub time: Option<u64>,
    around: &'a Held,
    own: &'a [(u32, Raw)],
    bytes: &'a [u8],
}

impl<'a> Record<'a> {
    /// The value of a field; of an array the first. Absent where a variant chose something else.
    #[must_use]
    pub fn get(&self, field: u32) -> Option<Value<'a>> {
        let is_it = |(number, _): &&(u32, Raw)| *number == field;
        if let Some((_, raw)) = self.own.iter().find(is_it) {
            return Some(raw.within(self.bytes));
        }
        let (_, raw) = self.around.values.iter().find(is_it)?;
        Some(raw.within(&self.around.bytes))
    }

    /// The values of an array's elements, in order.
    pub fn all(&self, field: u32) -> impl Iterator<Item = Value<'a>> {
        let mine = self.own.iter().filter(move |(number, _)| *number == field);
        let bytes = self.bytes;
        mine.map(move |(_, raw)| raw.within(bytes))
    }

    /// All values that were asked for, in order, those of arrays one by one.
    pub fn values(&self) -> impl Iterator<Item = (u32, Value<'a>)> {
        let (around, bytes) = (self.around, self.bytes);
        let around = around.values.iter().map(|(field, raw)| (*field, raw.within(&around.bytes)));
        around.chain(self.own.iter().map(move |(field, raw)| (*field, raw.within(bytes))))
    }
}

/// The values that hold for a whole packet.
#[derive(Debug, Default)]
struct Held {
    values: Vec<(u32, Raw)>,
    bytes: Vec<u8>,
}

/// What a packet tells is missing before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Missing {
    /// So many events were dropped since the packet before.
    Events(u64),
    /// So many packets never came.
    Packets(u64),
    /// Time: the packet ends so many wraps of its events' short timestamps after the last of them, and nothing says which
    /// of them came after a wrap that no event told.
    Wraps(u64),
}

/// Receives what a file holds, in its order. Byte ranges of events that share a byte overlap there.
pub trait Sink {
    /// An event.
    fn event(&mut self, at: Range<u64>, record: Record<'_>);
    /// Bytes that could not be read.
    fn loss(&mut self, at: Range<u64>, why: Damage);
    /// Something is missing before a packet, which began at this tick of its stream's clock.
    fn missing(&mut self, offset: u64, begin: Option<u64>, what: Missing);
    /// A packet begins, at this tick of its stream's clock if it says so.
    fn packet(&mut self, _stream: usize, _begin: Option<u64>) {}
    /// What stands before a packet's events, or what fills a packet up behind them.
    fn around(&mut self, _at: Range<u64>) {}
}

/// Where reading stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    /// A packet begins here.
    Packet,
    /// Inside of a packet of a stream, at a bit from its start.
    Events { stream: usize, at: u64 },
    /// Nothing is read up to this byte; a loss, if there is a reason.
    Skip { from: u64, to: u64, why: Option<Damage> },
    /// Nothing is read up to the next magic number.
    Hunt { from: u64, why: Damage },
}

/// Reads one file. Half an event waits for the bytes that it lacks.
#[derive(Debug)]
pub struct Decoder<'s> {
    schema: &'s Schema,
    /// Which fields somebody asks for.
    wanted: Vec<bool>,
    buffer: Vec<u8>,
    /// The byte of the file with which the buffer begins.
    base: u64,
    stage: Stage,
    /// The byte at which the packet begins.
    packet: u64,
    /// Where its content ends, in bits; the file's end, if it says nothing.
    content: Option<u64>,
    /// Where it ends, in bytes of the file.
    packet_end: Option<u64>,
    /// Bytes that must come before it is worth trying again.
    needed: usize,
    /// When the packet ends, where that says more than its events' timestamps.
    ends: Option<u64>,
    clocks: [Option<u64>; MOST_CLOCKS],
    slots: Vec<u64>,
    held: Held,
    values: Vec<(u32, Raw)>,
    /// By stream: what its last packet said of dropped events and of its number.
    before: Vec<(Option<u64>, Option<u64>)>,
}

impl<'s> Decoder<'s> {
    /// A decoder at the start of a file that hands on the fields that `wants` asks for, by number.
    #[must_use]
    pub fn new(schema: &'s Schema, wants: impl Fn(u32) -> bool) -> Self {
        Self {
            schema,
            wanted: (0..schema.fields.len() as u32).map(wants).collect(),
            buffer: Vec::new(),
            base: 0,
            stage: Stage::Packet,
            packet: 0,
            content: None,
            packet_end: None,
            needed: 1,
            ends: None,
            clocks: [None; MOST_CLOCKS],
            slots: vec![0; schema.slots],
            held: Held::default(),
            values: Vec::new(),
            before: vec![(None, None); schema.streams.len()],
        }
    }

    /// Reads the next bytes of the file.
    pub fn push(&mut self, bytes: &[u8], sink: &mut impl Sink) {
        self.buffer.extend_from_slice(bytes);
        if bytes.len() < self.needed {
            self.needed -= bytes.len();
            return;
        }
        self.run(sink);
    }

    /// Ends the file.
    pub fn finish(mut self, sink: &mut impl Sink) {
        self.run(sink);
        let end = self.base + self.buffer.len() as u64;
        match self.stage {
            Stage::Packet if self.base == end => {}
            Stage::Packet => sink.loss(self.base..end, Damage::CutOff),
            Stage::Events { at, .. } => {
                let from = self.packet + at / 8;
                // Without sizes the packet is the file, and it ends where its last event does.
                let is_whole = self.packet_end.is_none() && from + u64::from(at % 8 > 0) >= end;
                if !is_whole {
                    sink.loss(from..end, Damage::CutOff);
                }
            }
            Stage::Skip { from, why, .. } if from < end => match why {
                Some(why) => sink.loss(from..end, why),
                None => sink.loss(from..end, Damage::CutOff),
            },
            Stage::Skip { .. } => {}
            Stage::Hunt { from, why } => sink.loss(from..end, why),
        }
    }

    /// Reads as far as the bytes go, and lets go of those that were read.
    fn run(&mut self, sink: &mut impl Sink) {
        self.needed = loop {
            if let Err(needed) = self.step(sink) {
                break needed.max(1);
            }
        };
        let keep = match self.stage {
            Stage::Packet => self.packet,
            Stage::Events { at, .. } => self.packet + at / 8,
            Stage::Skip { to, .. } => to,
            // The last three bytes may begin a magic number.
            Stage::Hunt { from, .. } => (self.end().saturating_sub(3)).max(from + 1),
        };
        let read = keep.saturating_sub(self.base).min(self.buffer.len() as u64);
        self.buffer.drain(..read as usize);
        self.base += read;
    }

    /// The byte of the file with which the buffer ends.
    fn end(&self) -> u64 {
        self.base + self.buffer.len() as u64
    }

    /// One step; an error is how many bytes are needed for the next.
    fn step(&mut self, sink: &mut impl Sink) -> Result<(), usize> {
        match self.stage {
            Stage::Skip { from, to, why } => {
                if self.end() < to {
                    return Err(1);
                }
                match why {
                    Some(why) => sink.loss(from..to, why),
                    None if from < to => sink.around(from..to),
                    None => {}
                }
                (self.packet, self.stage) = (to, Stage::Packet);
                Ok(())
            }
            Stage::Hunt { from, why } => self.hunt(from, why, sink),
            Stage::Packet => {
                let start = self.packet;
                if self.end() <= start {
                    return Err(1);
                }
                match self.open(sink) {
                    Ok(()) => Ok(()),
                    Err(Stop::More(bytes)) if self.end() - start <= LONGEST => Err(bytes),
                    Err(Stop::More(_)) => self.lose(start, Damage::PacketSize),
                    Err(Stop::Bad(why)) => self.lose(start, why),
                }
            }
            Stage::Events { stream, at } => {
                if let Some(end) = self.content
                    && at >= end
                {
                    let from = self.packet + at.div_ceil(8);
                    let to = self.packet_end.unwrap_or(from);
                    self.tell_wraps(stream, from, sink);
                    self.stage = Stage::Skip { from: from.min(to), to, why: None };
                    return Ok(());
                }
                let from = self.packet + at / 8;
                match self.event(stream, at, sink) {
                    Ok(()) => Ok(()),
                    Err(Stop::More(bytes)) if self.end() - from <= LONGEST => Err(bytes),
                    Err(Stop::More(_)) => self.abandon(from, Damage::EventSize),
                    Err(Stop::Bad(why)) => self.abandon(from, why),
                }
            }
        }
    }

    /// A packet that cannot be read: nothing says where the next one starts but its magic number.
    fn lose(&mut self, from: u64, why: Damage) -> Result<(), usize> {
        self.stage = Stage::Hunt { from, why };
        Ok(())
    }

    /// The rest of a packet cannot be read.
    fn abandon(&mut self, from: u64, why: Damage) -> Result<(), usize> {
        self.stage = match self.packet_end {
            Some(to) => Stage::Skip { from, to: to.max(from), why: Some(why) },
            None => Stage::Hunt { from, why },
        };
        Ok(())
    }

    fn hunt(&mut self, from: u64, why: Damage, sink: &mut impl Sink) -> Result<(), usize> {
        let Some(order) = self.schema.magic else { return Err(1) };
        let magic = match order {
            Order::Little => MAGIC.to_le_bytes(),
            Order::Big => MAGIC.to_be_bytes(),
        };
        // The magic number of the packet that could not be read is not the next one's.
        let start = (from + 1).max(self.base);
        let bytes = self.buffer.get((start - self.base) as usize..).unwrap_or(&[]);
        let found = bytes.windows(4).position(|word| word == magic).ok_or(1_usize)?;
        let at = start + found as u64;
        sink.loss(from..at, why);
        (self.packet, self.stage) = (at, Stage::Packet);
        Ok(())
    }

    /// Reads what stands before a packet's events.
    fn open(&mut self, sink: &mut impl Sink) -> Result<(), Stop> {
        let bytes = &self.buffer[(self.packet - self.base) as usize..];
        let mut bits = Bits::new(bytes, 0, 0, None);
        let mut facts = Facts::default();
        let mut clocks = self.clocks;
        self.held.values.clear();
        let mut walk = Walk {
            schema: self.schema,
            wanted: &self.wanted,
            slots: &mut self.slots,
            clocks: &mut clocks,
            facts: &mut facts,
            values: &mut self.held.values,
        };
        walk.read_root(self.schema.header, bytes, &mut bits)?;
        if self.schema.magic.is_some() && walk.facts.magic != Some(u64::from(MAGIC)) {
            return Err(Stop::Bad(Damage::NoMagic));
        }
        let id = walk.facts.stream.unwrap_or_else(|| self.schema.only_stream());
        let stream = self.schema.by_stream_id.get(&id).copied();
        let stream = stream.ok_or(Stop::Bad(Damage::UnknownStream))?;
        walk.read_root(self.schema.streams[stream].context, bytes, &mut bits)?;
        let at = bits.at();
        let content = facts.content.or(facts.packet);
        let whole = facts.packet.or(facts.content);
        let is_possible = content.is_none_or(|content| content >= at)
            && whole.is_none_or(|whole| whole % 8 == 0 && Some(whole) >= content && whole > 0)
            && at <= LONGEST * 8
            && whole.is_none_or(|whole| self.packet.checked_add(whole / 8).is_some());
        if !is_possible {
            return Err(Stop::Bad(Damage::PacketSize));
        }
        self.held.bytes.clear();
        self.held.bytes.extend_from_slice(&bytes[..at.div_ceil(8) as usize]);
        self.clocks = clocks;
        self.content = content;
        self.packet_end = whole.map(|whole| self.packet + whole / 8);
        self.stage = Stage::Events { stream, at };
        let bits = self.schema.streams[stream].stamp_bits;
        self.ends = facts.end.filter(|(_, size)| *size > bits && bits > 0).map(|(end, _)| end);
        let clock = self.schema.streams[stream].clock;
        sink.packet(stream, clock.and_then(|clock| self.clocks[usize::from(clock)]));
        self.tell_missing(stream, &facts, sink);
        sink.around(self.packet..self.packet + at.div_ceil(8));
        Ok(())
    }

    /// Holds the end of a packet against its last event: an event tells a few bits of the clock, and that these wrapped
    /// once since the one before. Tracers that have a longer form of timestamp use it where they wrapped more often.
    fn tell_wraps(&mut self, stream: usize, offset: u64, sink: &mut impl Sink) {
        let Stream { clock, stamp_bits, .. } = self.schema.streams[stream];
        let last = clock.and_then(|clock| self.clocks[usize::from(clock)]);
        let Some((end, last)) = self.ends.take().zip(last) else { return };
        let wraps = end.saturating_sub(last) >> stamp_bits;
        if wraps > 0 {
            sink.missing(offset, None, Missing::Wraps(wraps));
        }
    }

    /// Holds a packet's counters against those of the packet before it.
    fn tell_missing(&mut self, stream: usize, facts: &Facts, sink: &mut impl Sink) {
        let clock = self.schema.streams[stream].clock;
        let begin = clock.and_then(|clock| self.clocks[usize::from(clock)]);
        let (discarded, sequence) = &mut self.before[stream];
        if let Some((now, size)) = facts.sequence {
            let lacking = sequence.map(|before| wrapped(now.wrapping_sub(before + 1), size));
            if let Some(lacking @ 1..) = lacking {
                sink.missing(self.packet, begin, Missing::Packets(lacking));
            }
            *sequence = Some(now);
        }
        if let Some((now, size)) = facts.discarded {
            // The counter starts at zero.
            let dropped = wrapped(now.wrapping_sub(discarded.unwrap_or(0)), size);
            if dropped > 0 {
                sink.missing(self.packet, begin, Missing::Events(dropped));
            }
            *discarded = Some(now);
        }
    }

    /// Reads one event.
    fn event(&mut self, stream: usize, at: u64, sink: &mut impl Sink) -> Result<(), Stop> {
        let declared = &self.schema.streams[stream];
        let bytes = &self.buffer[(self.packet + at / 8 - self.base) as usize..];
        let mut bits = Bits::new(bytes, at / 8 * 8, at, self.content);
        let mut facts = Facts::default();
        let mut clocks = self.clocks;
        self.values.clear();
        let mut walk = Walk {
            schema: self.schema,
            wanted: &self.wanted,
            slots: &mut self.slots,
            clocks: &mut clocks,
            facts: &mut facts,
            values: &mut self.values,
        };
        walk.read_root(declared.event_header, bytes, &mut bits)?;
        let id = walk.facts.event.unwrap_or_else(|| declared.only_event());
        let class = declared.by_event_id.get(&id).ok_or(Stop::Bad(Damage::UnknownEvent))?;
        let class = *class as usize;
        walk.read_root(declared.event_context, bytes, &mut bits)?;
        for root in self.schema.events()[class].roots {
            walk.read_root(root, bytes, &mut bits)?;
        }
        let end = bits.at();
        if end == at || end - at > LONGEST * 8 {
            return Err(Stop::Bad(Damage::EventSize));
        }
        self.clocks = clocks;
        let time = declared.clock.and_then(|clock| clocks[usize::from(clock)]);
        let range = self.packet + at / 8..self.packet + end.div_ceil(8);
        let record = Record { class, time, around: &self.held, own: &self.values, bytes };
        sink.event(range, record);
        self.stage = Stage::Events { stream, at: end };
        Ok(())
    }
}

/// A difference of counters of `size` bits.
const fn wrapped(difference: u64, size: u32) -> u64 {
    if size >= 64 { difference } else { difference & ((1 << size) - 1) }
}

impl Schema {
    /// The stream of packets that name none.
    fn only_stream(&self) -> u64 {
        let mut ids = self.by_stream_id.keys();
        ids.next().copied().filter(|_| self.by_stream_id.len() == 1).unwrap_or(0)
    }
}

impl super::schema::Stream {
    /// The number of events whose header names none.
    fn only_event(&self) -> u64 {
        let mut ids = self.by_event_id.keys();
        ids.next().copied().filter(|_| self.by_event_id.len() == 1).unwrap_or(0)
    }
}

/// A root that may be absent: nothing stands there then.
impl Walk<'_> {
    fn read_root(
        &mut self,
        root: Option<NodeId>,
        bytes: &[u8],
        bits: &mut Bits<'_>,
    ) -> Result<(), Stop> {
        root.map_or(Ok(()), |root| self.read(root, bytes, bits))
    }
}

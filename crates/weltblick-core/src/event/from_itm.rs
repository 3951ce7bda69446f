//! ITM packets to events: times, pages, and the packets that together are one access.
//!
//! A local timestamp dates the packets *before* it (DDI 0403E, D4.2.4), so events wait until one
//! comes. The last packet before a synchronous timestamp is dated exactly; packets before that one
//! lie between the two timestamps. A delayed timestamp widens the window of all of them back to the
//! previous timestamp. Where the source is known to send a synchronous timestamp only if all packets before it are of
//! its tick (`dates_group`), all of them are dated exactly. A delayed packet says when it was sent: its event lies between the one before it
//! from the same source, and that.
//!
//! Assumed where the manual is silent:
//!
//! * An overflow of packets loses no time: the timestamp counter is cleared only by a timestamp that was
//!   really sent. But the same packet says that this counter itself has overflowed (D4.2.3). Where periodic
//!   samples show that time went on as it should it did not; otherwise time is lost. Bytes lost on the link do lose time: from there on, times are *at least*.
//! * The stimulus page stays what the last extension packet said, also across synchronisations.

use super::global_clock::GlobalClock;
use super::group;
use super::marks::Marks;
use super::vocabulary::{
    Access, Bytes, ClockFault, Event, LossReason, Origin, Position, Sink, Value,
};
use crate::time::Window;
use crate::wire::itm::{self, Action, Malformed, Packet, Relation};
use crate::wire::tpiu::Damage;
use std::ops::Range;

/// Undated events held at most: a stream without timestamps must not grow memory.
const MOST_UNDATED: usize = 1024;

/// How local timestamps count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ItmClock {
    /// Cycles of the timestamp clock per tick: 1, 4, 16 or 64.
    pub prescaler: u32,
    /// It is not the core's clock: events lie anywhere between two of its ticks.
    pub is_own: bool,
    /// The stimulus port of firmware marks; their arguments come on the next.
    pub marks_port: Option<u32>,
    /// A synchronous timestamp dates all packets since the one before, not only the last of them: its source
    /// sends a delayed one where they are not all of its tick.
    pub dates_group: bool,
}

/// Turns one ITM origin's packets into events. [`ItmReader::feeding`] is the decoder's sink.
#[derive(Debug)]
pub struct ItmReader {
    origin: Origin,
    clock: ItmClock,
    carried: itm::Carried,
    marks: Option<Box<Marks>>,
    /// The cycle of the last timestamp; 0 before the first.
    now: u64,
    /// There was one.
    is_dated: bool,
    /// Bytes were lost: any stretch of time may be missing before `now`.
    slipped: bool,
    /// Events that wait for their time, and their offsets.
    waiting: Vec<(u64, Event)>,
    /// The newest event is an access that may go on in the next packet.
    joins: bool,
    global_clock: GlobalClock,
    /// Not earlier than this the last event of each source was.
    sent: [u64; SOURCES],
    /// There were samples: time without packets would show.
    is_paced: bool,
}

/// Sources of packets, each with a queue of its own: exceptions, samples, everything else of the DWT, stimulus.
const SOURCES: usize = 4;

/// The places of those that outnumber all others.
const EXCEPTIONS: usize = 0;
const SAMPLES: usize = 1;

const fn source_of(event: &Event) -> usize {
    match event {
        Event::Entered { .. } | Event::Left { .. } | Event::Resumed { .. } => EXCEPTIONS,
        Event::Sample { .. } | Event::Asleep | Event::Unobservable => SAMPLES,
        Event::Said { .. } | Event::Stated(_) => 3,
        _ => 2,
    }
}

impl ItmReader {
    /// A reader at the start of an origin.
    #[must_use]
    pub fn new(origin: Origin, clock: ItmClock) -> Self {
        Self {
            origin,
            clock,
            carried: itm::Carried::default(),
            marks: clock.marks_port.map(|port| Box::new(Marks::new(port))),
            now: 0,
            is_dated: false,
            slipped: false,
            waiting: Vec::with_capacity(64),
            joins: false,
            global_clock: GlobalClock::default(),
            sent: [0; SOURCES],
            is_paced: false,
        }
    }

    /// The cycle of the last timestamp, counted from the stream's start.
    pub fn now(&self) -> Option<u64> {
        self.is_dated.then_some(self.now)
    }

    /// Whether bytes were lost, so that times are too short by an unknown amount.
    pub const fn slipped(&self) -> bool {
        self.slipped
    }

    /// The last global timestamp, as far as it was sent.
    pub const fn global(&self) -> Option<u64> {
        self.carried.global()
    }

    /// The decoder's sink, which hands events on to `sink`.
    pub const fn feeding<'a, S: Sink>(&'a mut self, sink: &'a mut S) -> ItmEvents<'a, S> {
        ItmEvents { reader: self, sink }
    }

    /// Hands on what still waits for a timestamp: without one it is only known to be later than
    /// the last.
    pub fn finish(mut self, sink: &mut impl Sink) {
        self.release_undated(sink);
    }

    /// The framing around this origin lost bytes of the framed stream.
    pub fn framing_loss(&mut self, bytes: Range<u64>, why: Damage, sink: &mut impl Sink) {
        self.lost(bytes.start, bytes, LossReason::Framing(why), sink);
    }

    /// Bytes of this origin are missing here, or were not recorded by choice (`None`).
    pub fn gap(&mut self, offset: u64, why: Option<LossReason>, sink: &mut impl Sink) {
        self.slip(sink);
        let event = match why {
            Some(why) => Event::Lost { bytes: offset..offset, why },
            None => Event::Unwatched,
        };
        sink.event(self.position(offset), &event);
    }

    /// Bytes of this origin may be missing here: what waits stays undated, and times slip.
    pub fn slip(&mut self, sink: &mut impl Sink) {
        self.forget_marks();
        self.release_undated(sink);
        self.slipped = true;
        self.global_clock.forget();
    }

    fn lost(&mut self, offset: u64, bytes: Range<u64>, why: LossReason, sink: &mut impl Sink) {
        self.slip(sink);
        sink.event(self.position(offset), &Event::Lost { bytes, why });
    }

    fn position(&self, offset: u64) -> Position {
        Position::new(self.origin, offset, self.now().map(Window::exact))
    }

    /// One more event waits for its time.
    fn hold(&mut self, offset: u64, event: Event, sink: &mut impl Sink) {
        if self.waiting.len() == MOST_UNDATED {
            self.release_undated(sink);
        }
        self.waiting.push((offset, event));
        self.joins = false;
    }

    /// Passes on undated events without a time.
    fn release_undated(&mut self, sink: &mut impl Sink) {
        let origin = self.origin;
        for (offset, event) in self.waiting.drain(..) {
            sink.event(Position::new(origin, offset, None), &event);
        }
        self.joins = false;
    }

    /// A timestamp: when the packet directly before it was made. Those before that one lie between
    /// the timestamp before and this one.
    #[inline(always)]
    fn tick(&mut self, ticks: u32, relation: Relation) -> Window {
        let before = self.now;
        let now = before.saturating_add(u64::from(ticks) * u64::from(self.clock.prescaler));
        self.now = now;
        self.is_dated = true;
        let within = u64::from(self.clock.prescaler) - 1 + u64::from(self.clock.is_own);
        let latest = now.saturating_add(within);
        let earliest = if relation == Relation::Synchronous { now } else { before };
        Window { earliest, latest }
    }

    /// A timestamp dates what waits.
    #[inline(never)]
    fn date(&mut self, ticks: u32, relation: Relation, sink: &mut impl Sink) {
        let before = self.now;
        let window = self.tick(ticks, relation);
        if self.global_clock.waits()
            && let Some(offset) = self.global_clock.settle(window.latest)
        {
            self.waiting.push((offset, Event::ClockFault(ClockFault::Stopped)));
        }
        let origin = self.origin;
        let dated = self.dated_exactly(relation);
        for (at, (offset, event)) in self.waiting.drain(..).enumerate() {
            let source = source_of(&event);
            let earliest = match relation {
                Relation::PacketDelayed | Relation::BothDelayed => before.min(self.sent[source]),
                _ if at >= dated => window.earliest,
                _ => before,
            };
            self.sent[source] = earliest;
            let time = Some(Window { earliest, ..window });
            sink.event(Position::new(origin, offset, time), &event);
        }
        self.joins = false;
    }

    /// From which of the waiting events on a timestamp says when they were: the last one, or the whole group.
    fn dated_exactly(&mut self, relation: Relation) -> usize {
        let last = self.waiting.len().saturating_sub(1);
        if !self.clock.dates_group || last == 0 || relation != Relation::Synchronous {
            return last;
        }
        // A clock of its own may be slower than the core's by any factor.
        let tick = if self.clock.is_own { u32::MAX } else { self.clock.prescaler };
        if let Some(offset) = group::contradiction(&self.waiting, tick) {
            self.waiting.push((offset, Event::ClockFault(ClockFault::NotOneTick)));
            return last;
        }
        // What was sent before something was dropped waited with it, or did not: nothing says.
        let lost = self.waiting.iter().rposition(|(_, event)| matches!(event, Event::Lost { .. }));
        lost.map_or(0, |at| (at + 1).min(last))
    }

    /// One part of a watched access: joins the access before it if that one still lacks the part.
    fn access(&mut self, offset: u64, watch: u8, part: Part, sink: &mut impl Sink) {
        if self.joins
            && let Some((_, Event::Accessed { watch: last, code, address, value, access })) =
                self.waiting.last_mut()
            && *last == watch
        {
            // The parts of one access come in this order; anything else starts a new one.
            let fits = match part {
                Part::Code(_) => false,
                Part::Address(_) => address.is_none() && value.is_none(),
                Part::Value(..) => value.is_none(),
            };
            if fits {
                part.fill(code, address, value, access);
                return;
            }
        }
        let (mut code, mut address, mut value, mut access) = (None, None, None, None);
        part.fill(&mut code, &mut address, &mut value, &mut access);
        let event = Event::Accessed { watch, code, address, value, access };
        self.hold(offset, event, sink);
        self.joins = true;
    }
}

/// What one data trace packet adds to an access.
enum Part {
    Code(u32),
    Address(u16),
    Value(Value, Access),
}

impl Part {
    fn fill(
        self,
        code: &mut Option<u64>,
        address: &mut Option<u16>,
        value: &mut Option<Value>,
        access: &mut Option<Access>,
    ) {
        match self {
            Self::Code(pc) => *code = Some(u64::from(pc & !1)),
            Self::Address(offset) => *address = Some(offset),
            Self::Value(bits, way) => {
                *value = Some(bits);
                *access = Some(way);
            }
        }
    }
}

/// A sink for packets; see [`ItmReader::feeding`].
#[derive(Debug)]
pub struct ItmEvents<'a, S> {
    reader: &'a mut ItmReader,
    sink: &'a mut S,
}

impl<S: Sink> itm::Sink for ItmEvents<'_, S> {
    #[inline(always)]
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        let Self { reader, sink } = self;
        match packet {
            Packet::LocalTime { ticks, relation } => reader.date(ticks, relation, *sink),
            other => reader.packet(at.start, other, *sink),
        }
    }

    /// Samples and exceptions with times, which outnumber everything else, never wait: each is handed
    /// on from a place of its own, so the figures' matches on it vanish.
    #[inline(always)]
    fn dated(&mut self, at: Range<u64>, packet: Packet, end: u64, ticks: u32, relation: Relation) {
        let Self { reader, sink } = self;
        let (event, source) = match packet {
            Packet::PcSample { pc } => (sample(pc), SAMPLES),
            Packet::Asleep => (Event::Asleep, SAMPLES),
            Packet::Exception { number, action } => (exception(number, action), EXCEPTIONS),
            _ => return self.apart(at, packet, end, ticks, relation),
        };
        if !reader.waiting.is_empty()
            || relation != Relation::Synchronous
            || reader.global_clock.waits()
        {
            return self.apart(at, packet, end, ticks, relation);
        }
        let time = reader.tick(ticks, relation);
        reader.sent[source] = time.earliest;
        reader.is_paced |= source == SAMPLES;
        let time = Some(time);
        sink.event(Position::new(reader.origin, at.start, time), &event);
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.reader.lost(at.start, at, LossReason::Malformed(why), self.sink);
    }
}

impl<S: Sink> ItmEvents<'_, S> {
    /// A packet waits for its time, and is dated then.
    #[inline(never)]
    fn apart(&mut self, at: Range<u64>, packet: Packet, end: u64, ticks: u32, relation: Relation) {
        itm::Sink::packet(self, at.clone(), packet);
        itm::Sink::packet(self, at.end..end, Packet::LocalTime { ticks, relation });
    }
}

/// A sample of an address, without the thumb bit.
const fn sample(pc: u32) -> Event {
    Event::Sample { pc: (pc & !1) as u64 }
}

const fn exception(exception: u16, action: Action) -> Event {
    match action {
        Action::Enter => Event::Entered { exception },
        Action::Exit => Event::Left { exception },
        Action::Return => Event::Resumed { exception },
    }
}

impl ItmReader {
    fn forget_marks(&mut self) {
        if let Some(marks) = &mut self.marks {
            marks.clear();
        }
    }

    /// The firmware wrote: a text, a mark, or an argument of one.
    fn stimulus(&mut self, offset: u64, port: u8, size: u8, value: u32, sink: &mut impl Sink) {
        let port = self.carried.port(port);
        let stated = match &mut self.marks {
            Some(marks) if marks.uses(port) => marks.write(port, value, size),
            _ => {
                let bytes = Bytes::from_word(value, size);
                return self.hold(offset, Event::Said { port, bytes }, sink);
            }
        };
        let event = match stated {
            Ok(Some(statement)) => Event::Stated(statement),
            Ok(None) => {
                self.joins = false;
                return;
            }
            Err(_) => {
                self.forget_marks();
                Event::Lost { bytes: offset..offset, why: LossReason::NoMark }
            }
        };
        self.hold(offset, event, sink);
    }

    /// Every packet but local timestamps.
    #[inline(never)]
    fn packet(&mut self, offset: u64, packet: Packet, sink: &mut impl Sink) {
        if let Packet::Stimulus { port, size, value } = packet {
            return self.stimulus(offset, port, size.bytes() as u8, value, sink);
        }
        if packet == Packet::Overflow {
            // The counter of local timestamps may have wrapped.
            self.global_clock.forget();
        }
        if packet == Packet::Overflow && !self.is_paced {
            let event = Event::Lost { bytes: offset..offset, why: LossReason::OverflowUntimed };
            self.forget_marks();
            return self.hold(offset, event, sink);
        }
        if let Some(event) = plain_event(offset, packet) {
            self.is_paced |= source_of(&event) == SAMPLES;
            if matches!(event, Event::Lost { .. }) {
                self.forget_marks();
            }
            self.hold(offset, event, sink);
            return;
        }
        match packet {
            Packet::Extension { .. } => self.carried.take(&packet),
            Packet::GlobalTimeLow { clock_changed, wrapped, .. } => {
                // The first says nothing of before: there is none.
                if clock_changed && self.global().is_some() {
                    self.hold(offset, Event::ClockFault(ClockFault::Changed), sink);
                }
                self.carried.take(&packet);
                match self.global().filter(|_| !wrapped && !clock_changed) {
                    Some(global) => self.global_clock.stamped(global, self.now, offset),
                    None => self.global_clock.forget(),
                }
            }
            Packet::GlobalTimeHigh { .. } => {
                self.carried.take(&packet);
                self.global_clock.forget();
            }
            Packet::DataPc { comparator, pc } => {
                self.access(offset, comparator, Part::Code(pc), sink);
            }
            Packet::DataAddress { comparator, offset: address } => {
                self.access(offset, comparator, Part::Address(address), sink);
            }
            Packet::DataValue { comparator, write, size, value } => {
                let value = Value { bits: u64::from(value), size: size.bytes() as u8 };
                let access = if write { Access::Write } else { Access::Read };
                self.access(offset, comparator, Part::Value(value, access), sink);
            }
            _ => self.joins = false,
        }
    }
}

/// The event of a packet that is one event by itself.
fn plain_event(offset: u64, packet: Packet) -> Option<Event> {
    Some(match packet {
        Packet::PcSample { pc } => sample(pc),
        Packet::Asleep => Event::Asleep,
        Packet::Exception { number, action } => exception(number, action),
        Packet::Prohibited => Event::Unobservable,
        Packet::Overflow => Event::Lost { bytes: offset..offset, why: LossReason::Overflow },
        Packet::EventCounters(counters) => Event::Counted(counters),
        Packet::PmuOverflow { counters } => Event::CountedPmu(counters),
        Packet::DataMatch { comparator } => Event::Accessed {
            watch: comparator,
            code: None,
            address: None,
            value: None,
            access: None,
        },
        _ => return None,
    })
}

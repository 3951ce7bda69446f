//! Events as an event trace: the Common Trace Format 1.8.3, a file of little-endian packets for each core.
//!
//! Every event is dated with the latest time that it may have happened, and carries how many ticks
//! earlier it may have been. A gap ends a packet, and the next one counts it in `events_discarded`:
//! how many events a gap swallowed nobody knows, so each counts as one.

mod kinds;
#[cfg(test)]
mod tests;

use crate::capture::CtfSettings;
use crate::document::At;
use crate::event::{
    Access, Event, LossReason, Meaning, Name, Number, Parked, Position, Sink, Statement, Stop,
    Thing,
};
use crate::measure::console;
use crate::time::{Frequency, Window};
use kinds::{KINDS, Kind, Said};

/// A text that was written at once, in bytes, at most; a longer one is several.
const LONGEST_TEXT: usize = 32 << 10;
/// Names that are kept for the first event.
const MOST_EARLY: usize = 1 << 16;
/// Bytes of a packet's events at which it is closed.
const ENOUGH: usize = 32 << 10;
/// The first word of a packet.
const MAGIC: u32 = 0xc1fc_1fc1;
/// Bytes before the events: magic, begin, end, content size, packet size, events discarded, number, core.
const HEADER: usize = 4 + 6 * 8 + 1;

/// What was left out, because the form has no place for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LeftOut {
    /// Events without a time; a gap stands in their place.
    pub undated: u64,
    /// Wraps of event counters, laps.
    pub others: u64,
}

/// Writes events as packets.
pub struct Writer<T, F> {
    /// Finds texts in the image.
    text_at: T,
    /// Receives whole packets: of which core, and its bytes. Those of one core come one after the other.
    packet: F,
    /// The core whose events come now.
    core: u8,
    to: File,
    others: Parked<File>,
    /// Names that came before anything with a time: they begin with it.
    early: Vec<(Thing, Name)>,
    /// What is being written to a port, all at once.
    said: Option<(Position, u32)>,
    text: Vec<u8>,
    /// How many events were written.
    pub written: u64,
    /// What was not.
    pub left_out: LeftOut,
}

/// The packets of one core.
#[derive(Default)]
struct File {
    /// The packet that is being filled, its header included; empty before its first event.
    open: Vec<u8>,
    /// The time of the event before.
    now: u64,
    /// When the packet began.
    began: u64,
    packets: u64,
    discarded: u64,
    /// What the last packet said of that.
    told_discarded: u64,
    /// Events without a time came since the last that has one.
    in_the_dark: bool,
}

impl File {
    /// Writes what stands before a packet's events; the packet, if there is one.
    fn close(&mut self, core: u8, packet: &mut impl FnMut(u8, &[u8])) {
        if self.open.is_empty() {
            return;
        }
        let bits = self.open.len() as u64 * 8;
        let mut header = MAGIC.to_le_bytes().to_vec();
        for field in [self.began, self.now, bits, bits, self.discarded, self.packets] {
            header.extend(field.to_le_bytes());
        }
        header.push(core);
        self.open[..HEADER].copy_from_slice(&header);
        packet(core, &self.open);
        self.open.clear();
        self.packets += 1;
        self.told_discarded = self.discarded;
    }

    fn finish(&mut self, core: u8, packet: &mut impl FnMut(u8, &[u8])) {
        if self.open.is_empty() && self.discarded > self.told_discarded {
            // A gap at the end: a packet without events tells it.
            self.open.resize(HEADER, 0);
            self.began = self.now;
        }
        self.close(core, packet);
    }
}

impl<T: Fn(u64) -> Option<String>, F: FnMut(u8, &[u8])> Writer<T, F> {
    /// A writer at the start of a trace.
    pub fn new(text_at: T, packet: F) -> Self {
        Self {
            text_at,
            packet,
            core: 0,
            to: File::default(),
            others: Parked::default(),
            early: Vec::new(),
            said: None,
            text: Vec::new(),
            written: 0,
            left_out: LeftOut::default(),
        }
    }

    /// Ends the trace.
    pub fn finish(&mut self) {
        self.flush_text();
        self.to.finish(self.core, &mut self.packet);
        for (core, file) in self.others.numbered_mut() {
            file.finish(core, &mut self.packet);
        }
    }

    /// What comes next is of this core.
    fn turn_to(&mut self, core: u8) {
        if core != self.core {
            self.others.exchange(self.core, &mut self.to, core, File::default);
            self.core = core;
        }
    }

    fn close(&mut self) {
        self.to.close(self.core, &mut self.packet);
    }

    /// Writes the text that was written at once.
    fn flush_text(&mut self) {
        let Some((position, port)) = self.said.take() else { return };
        self.turn_to(position.core);
        let text = std::mem::take(&mut self.text);
        let open = self.begin(Kind::Said, position.time);
        open.extend(port.to_le_bytes());
        open.extend((text.len() as u16).to_le_bytes());
        open.extend(&text);
        self.text = text;
        self.text.clear();
    }

    /// The first event that has a time.
    fn start(&mut self, time: Window) {
        self.to.now = time.earliest;
        for (thing, name) in std::mem::take(&mut self.early) {
            self.named(thing, &name, None);
        }
    }

    /// Something is missing here.
    fn gap(&mut self) {
        self.close();
        self.to.discarded += 1;
    }

    /// Begins an event: its kind, its time, how much earlier it may have been. Returns where its
    /// fields go.
    fn begin(&mut self, kind: Kind, time: Option<Window>) -> &mut Vec<u8> {
        let window = time.unwrap_or(Window::exact(self.to.now));
        // Times never go back in a stream: an earlier one widens the window instead.
        let latest = window.latest.max(self.to.now);
        let earlier_by = latest.saturating_sub(window.earliest);
        self.to.now = latest;
        if self.to.open.len() > ENOUGH {
            self.close();
        }
        if self.to.open.is_empty() {
            self.to.open.resize(HEADER, 0);
            // The recording begins with its clock, whatever came first.
            self.to.began = if self.written == 0 { 0 } else { latest };
        }
        self.written += 1;
        self.to.open.push(kind as u8);
        self.to.open.extend(latest.to_le_bytes());
        self.to.open.extend(u32::try_from(earlier_by).unwrap_or(u32::MAX).to_le_bytes());
        &mut self.to.open
    }

    fn small(&mut self, kind: Kind, time: Option<Window>, fields: &[u32]) {
        let open = self.begin(kind, time);
        fields.iter().for_each(|field| open.extend(field.to_le_bytes()));
    }

    /// A number, and a text behind it.
    fn text(&mut self, kind: Kind, time: Option<Window>, number: u32, text: &str) {
        let open = self.begin(kind, time);
        open.extend(number.to_le_bytes());
        push_text(open, text);
    }

    fn statement(&mut self, time: Option<Window>, statement: &Statement) {
        match *statement {
            Statement::Named(thing, ref name) => self.named(thing, name, time),
            Statement::Watches { .. } | Statement::OnlyTurns { .. } => self.left_out.others += 1,
            Statement::Created { task, priority, stack } => {
                let (base, size) = stack.unwrap_or((0, 0));
                let open = self.begin(Kind::TaskCreated, time);
                open.extend(task.to_le_bytes());
                open.extend(priority.map_or(-1, i16::from).to_le_bytes());
                open.extend(base.to_le_bytes());
                open.extend(size.to_le_bytes());
            }
            Statement::Ready { task } => self.small(Kind::TaskReady, time, &[task]),
            Statement::Preempted { task } => self.small(Kind::TaskPreempted, time, &[task]),
            Statement::Runs { task, stack_pointer: None } => {
                self.small(Kind::TaskRuns, time, &[task]);
            }
            Statement::Runs { task, stack_pointer: Some(pointer) } => {
                let open = self.begin(Kind::TaskRunsAt, time);
                open.extend(task.to_le_bytes());
                open.extend(pointer.to_le_bytes());
            }
            Statement::Stops { task, why } => match why {
                Stop::Sleeps => self.small(Kind::TaskSleeps, time, &[task]),
                Stop::Waits(object) => self.small(Kind::TaskWaitsFor, time, &[task, object]),
                Stop::WaitsForSomething => self.small(Kind::TaskWaits, time, &[task]),
                Stop::Ended => self.small(Kind::TaskEnds, time, &[task]),
                Stop::Untold => self.small(Kind::TaskAway, time, &[task]),
            },
            Statement::StackUsed { task, bytes } => {
                self.small(Kind::StackUsed, time, &[task, bytes]);
            }
            Statement::Takes { object } => self.small(Kind::ObjectTaken, time, &[object]),
            Statement::Gives { object } => self.small(Kind::ObjectGiven, time, &[object]),
            Statement::SpanBegan { span } => self.small(Kind::SpanBegins, time, &[span]),
            Statement::SpanEnded { span } => self.small(Kind::SpanEnds, time, &[span]),
            Statement::Quantity { quantity, number } => {
                let (kind, bits) = match number {
                    Number::Integer(value) => (Kind::QuantityInteger, value.to_le_bytes()),
                    Number::Float(value) => (Kind::QuantityFloat, value.to_le_bytes()),
                };
                let open = self.begin(kind, time);
                open.extend(quantity.to_le_bytes());
                open.extend(bits);
            }
            Statement::Requested { cycles_ago } => {
                self.small(Kind::Request, time, &[cycles_ago]);
            }
            Statement::Text { format, arguments } => {
                let written = (self.text_at)(format);
                let text = match &written {
                    Some(text) => {
                        console::format(text, arguments.as_slice(), |at| (self.text_at)(at))
                    }
                    None => format!("[no text at {format:#010x}] {:?}", arguments.as_slice()),
                };
                let open = self.begin(Kind::FormattedText, time);
                open.extend(format.to_le_bytes());
                open.push(arguments.as_slice().len() as u8);
                arguments.as_slice().iter().for_each(|word| open.extend(word.to_le_bytes()));
                push_text(open, &text);
            }
        }
    }

    fn named(&mut self, thing: Thing, name: &Name, time: Option<Window>) {
        let Some(name) = name.told(|address| (self.text_at)(address)) else { return };
        let (kind, number) = match thing {
            Thing::Task(number) => (Kind::TaskNamed, number),
            Thing::Object(number) => (Kind::ObjectNamed, number),
            Thing::Span(number) => (Kind::SpanNamed, number),
            Thing::Quantity(number) => (Kind::QuantityNamed, number),
            Thing::Interrupt(number) => (Kind::InterruptNamed, number.into()),
        };
        self.text(kind, time, number, &name);
    }
}

impl<T: Fn(u64) -> Option<String>, F: FnMut(u8, &[u8])> Sink for Writer<T, F> {
    fn event(&mut self, position: Position, event: &Event) {
        if let (Some(open), Event::Said { port, bytes }) = (self.said, event)
            && open == (position, *port)
            && self.text.len() < LONGEST_TEXT
        {
            return self.text.extend(bytes.as_slice());
        }
        self.flush_text();
        self.turn_to(position.core);
        // A window that is wider than the form can say is none.
        let fits = |window: &Window| {
            window.latest.max(self.to.now) - window.earliest <= u64::from(u32::MAX)
        };
        let time = position.time.filter(fits);
        if let Event::Lost { why: LossReason::Shared, .. } = event {
            return self.small(Kind::LostBeside, time, &[]);
        }
        if let Event::Lost { why, .. } = event {
            self.gap();
            // Before anything has a time none can be lost.
            if why.loses_bytes() && (self.written > 0 || time.is_some()) {
                self.begin(Kind::TimeLost, time);
            }
            return;
        }
        if self.written == 0 {
            match (time, event) {
                (None, Event::Stated(Statement::Named(thing, name))) => {
                    if self.early.len() < MOST_EARLY {
                        self.early.push((*thing, name.clone()));
                    }
                    return;
                }
                (None, Event::Unwatched) => return,
                (None, _) => {}
                (Some(time), _) => self.start(time),
            }
        }
        // Who is who holds whenever it was told.
        let is_timeless = matches!(event, Event::Stated(Statement::Named(..)) | Event::Unwatched);
        if time.is_none() && !is_timeless {
            self.left_out.undated += 1;
            if !std::mem::replace(&mut self.to.in_the_dark, true) {
                self.gap();
            }
            return;
        }
        self.to.in_the_dark &= time.is_none();
        let exception = |number: u16| number.to_le_bytes();
        match event {
            Event::Sample { pc } => {
                let pc = *pc;
                self.begin(Kind::Sample, time).extend(pc.to_le_bytes());
            }
            Event::Asleep => self.small(Kind::Asleep, time, &[]),
            Event::Unobservable => self.small(Kind::Unobservable, time, &[]),
            Event::Elsewhere => self.small(Kind::Elsewhere, time, &[]),
            Event::Unwatched | Event::LeftOut | Event::ClockFault(_) | Event::SeveralCores => {
                self.small(Kind::Unwatched, time, &[]);
            }
            Event::Entered { exception: number } => {
                self.begin(Kind::InterruptEntered, time).extend(exception(*number));
            }
            Event::Left { exception: number } => {
                self.begin(Kind::InterruptLeft, time).extend(exception(*number));
            }
            Event::Resumed { exception: number } => {
                self.begin(Kind::InterruptResumed, time).extend(exception(*number));
            }
            Event::Accessed { watch, code, address, value, access } => {
                let open = self.begin(Kind::Accessed, time);
                open.push(*watch);
                open.push(match access {
                    None => 0,
                    Some(Access::Read) => 1,
                    Some(Access::Write) => 2,
                });
                open.push(value.map_or(0, |value| value.size));
                open.extend(value.map_or(0, |value| value.bits).to_le_bytes());
                open.extend(code.unwrap_or(0).to_le_bytes());
                open.extend(address.map_or(-1, i32::from).to_le_bytes());
            }
            Event::Said { port, bytes } => {
                self.said = Some((Position { time, ..position }, *port));
                self.text.extend(bytes.as_slice());
            }
            Event::Stated(statement) => self.statement(time, statement),
            Event::Counted(_) | Event::CountedPmu(_) | Event::Lap { .. } => {
                self.left_out.others += 1;
            }
            Event::Lost { .. } => {}
        }
    }
}

/// A text ends with a zero, so it holds none.
fn push_text(to: &mut Vec<u8>, text: &str) {
    to.extend(text.bytes().filter(|byte| *byte != 0));
    to.push(0);
}

/// The description of what a [`Writer`] writes: the file `metadata`. The recording begins so many ticks after the
/// clock's origin.
#[must_use]
pub fn metadata(clock: Frequency, offset: i128, target: Option<&str>) -> String {
    let hertz = clock.hertz().round();
    let (offset_s, offset) = match i64::try_from(offset.div_euclid(hertz.max(1.0) as i128)) {
        Ok(seconds) => (seconds, offset.rem_euclid(hertz.max(1.0) as i128)),
        Err(_) => (0, 0),
    };
    // A name may hold anything: only what needs no escape is kept.
    let target: String = target
        .unwrap_or("")
        .chars()
        .map(|c| if c.is_ascii_graphic() && !matches!(c, '"' | '\\') || c == ' ' { c } else { '_' })
        .collect();
    let mut text = format!(
        r#"/* CTF 1.8 */

typealias integer {{ size = 8; align = 8; signed = false; }} := uint8_t;
typealias integer {{ size = 16; align = 8; signed = false; }} := uint16_t;
typealias integer {{ size = 16; align = 8; signed = true; }} := int16_t;
typealias integer {{ size = 32; align = 8; signed = false; }} := uint32_t;
typealias integer {{ size = 32; align = 8; signed = true; }} := int32_t;
typealias integer {{ size = 64; align = 8; signed = false; }} := uint64_t;
typealias integer {{ size = 64; align = 8; signed = true; }} := int64_t;
typealias integer {{ size = 64; align = 8; signed = false; base = hex; }} := address_t;
typealias integer {{ size = 8; align = 8; signed = false; encoding = UTF8; }} := character_t;
typealias floating_point {{ exp_dig = 11; mant_dig = 53; align = 8; }} := double;

trace {{
    major = 1;
    minor = 8;
    byte_order = le;
    packet.header := struct {{ uint32_t magic; }};
}};

env {{
    target = "{target}";
    tracer_name = "weltblick";
}};

clock {{
    name = ticks;
    description = "the clock of the recording's timestamps";
    freq = {hertz:.0};
    offset_s = {offset_s};
    offset = {offset};
}};

typealias integer {{ size = 64; align = 8; signed = false; map = clock.ticks.value; }} := ticks_t;

stream {{
    packet.context := struct {{
        ticks_t timestamp_begin;
        ticks_t timestamp_end;
        uint64_t content_size;
        uint64_t packet_size;
        uint64_t events_discarded;
        uint64_t packet_seq_num;
        uint8_t {CORE};
    }};
    event.header := struct {{ uint8_t id; ticks_t timestamp; }};
    event.context := struct {{ uint32_t {EARLIER_BY}; }};
}};
"#
    );
    for (id, Said { name, fields, .. }) in KINDS.iter().enumerate() {
        text += &format!("\nevent {{\n    name = {name};\n    id = {id};\n    fields := struct {{");
        for field in *fields {
            text += &format!(" {field};");
        }
        text += " };\n};\n";
    }
    text
}

/// The field that says how much earlier an event may have happened.
const EARLIER_BY: &str = "earlier_by";

/// The field that says of which core a packet is.
const CORE: &str = "cpu_id";

/// What the events of a [`Writer`] mean, as a manifest says it of a trace in `folder`.
#[must_use]
pub fn settings(folder: &str) -> CtfSettings {
    let at = |text: &str| At { value: text.to_owned(), span: 0..0 };
    let meaning = |kind: &Said| {
        let (means, parts) = kind.means;
        let parts = parts.iter().map(|(part, field)| (*part, at(field))).collect();
        Meaning { event: at(kind.name), means, parts, called: None, only: Vec::new() }
    };
    CtfSettings {
        folder: Some(at(folder)),
        clock: None,
        pc_sample_period: None,
        earlier_by: Some(at(EARLIER_BY)),
        core_field: Some(at(CORE)),
        meanings: KINDS.iter().map(meaning).collect(),
    }
}

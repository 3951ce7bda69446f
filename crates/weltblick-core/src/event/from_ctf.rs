//! Events of an event trace to those of the vocabulary, as a manifest says what they mean.

use super::cores::Parked;
use super::meaning::{Meaning, Means, Only, Part};
use super::statement::{Arguments, MOST_ARGUMENTS, Name, Number, Statement, Stop, Thing};
use super::vocabulary::{Access, Bytes, Event, Lacking, LossReason, Position, Sink};
use crate::document::{At, Fault, Source, nearest};
use crate::wire::ctf::{EventClass, Record, Schema, Value};
use rustc_hash::FxHashMap;
use std::ops::Range;

/// Names and numbers that stand for things at most, over all kinds of things.
const MOST_THINGS: usize = 1 << 16;
/// Handlers inside one another at most.
const DEEPEST: usize = 256;
/// A text at most; the rest of a longer one is left out.
const LONGEST_TEXT: usize = 1 << 16;
/// External interrupts begin with this exception (ARM DDI 0403E, B1.5.2).
const FIRST_INTERRUPT: i128 = 16;

/// Which kinds of events of a trace mean what, by the numbers of its description.
#[derive(Debug)]
pub struct Translation {
    /// By kind of event.
    by_class: Vec<Vec<Bound>>,
    /// By kind of event: the field that says how much earlier it may have been.
    earlier_by: Vec<Option<u32>>,
    /// By kind of event: the field that says on which core it happened.
    cores: Vec<Option<u32>>,
    wanted: Vec<u32>,
}

/// A meaning, and where its parts stand.
#[derive(Debug, Clone)]
struct Bound {
    means: Means,
    parts: [Option<u32>; Part::COUNT],
    called: Option<String>,
    only: Vec<(u32, Vec<String>)>,
}

impl Bound {
    const fn part(&self, part: Part) -> Option<u32> {
        self.parts[part as usize]
    }
}

impl Translation {
    /// Finds events and fields in a trace's description. `source` is the manifest.
    ///
    /// # Errors
    ///
    /// The first name that the trace does not know, with its line in the manifest.
    pub fn new(
        schema: &Schema,
        meanings: &[Meaning],
        [earlier_by, core_field]: [Option<&At<String>>; 2],
        source: Source<'_>,
    ) -> Result<Self, Fault> {
        let mut by_class: Vec<Vec<Bound>> = vec![Vec::new(); schema.events().len()];
        let mut wanted = Vec::new();
        for meaning in meanings {
            let mut known = false;
            for (number, class) in schema.events().iter().enumerate() {
                if class.name == meaning.event.value {
                    known = true;
                    by_class[number].push(bind(schema, class, meaning, source, &mut wanted)?);
                }
            }
            if !known {
                let event = &meaning.event;
                let hint = nearest(&event.value, schema.events().iter().map(|e| e.name.as_str()));
                let why = format!("the trace has no event `{}`{hint}", event.value);
                return Err(source.fault(event.span.clone(), why));
            }
        }
        let mut find = |field: &At<String>| -> Result<Vec<Option<u32>>, Fault> {
            let in_event = |class| schema.find_field(class, &field.value);
            let found: Vec<Option<u32>> = schema.events().iter().map(in_event).collect();
            wanted.extend(found.iter().flatten());
            if found.iter().all(Option::is_none) {
                let why = format!("no event of the trace has a field `{}`", field.value);
                return Err(source.fault(field.span.clone(), why));
            }
            Ok(found)
        };
        let none = || vec![None; schema.events().len()];
        let earlier = earlier_by.map_or_else(|| Ok(none()), &mut find)?;
        let cores = core_field.map(&mut find).transpose()?;
        let cores = cores.unwrap_or_else(|| {
            let classes = schema.events().iter().zip(&by_class);
            let usual = |(class, meanings): (&EventClass, &Vec<Bound>)| {
                core_of(schema, class, meanings.iter().any(|bound| bound.means.is_of_a_core()))
            };
            let cores: Vec<Option<u32>> = classes.map(usual).collect();
            wanted.extend(cores.iter().flatten());
            cores
        });
        wanted.sort_unstable();
        wanted.dedup();
        Ok(Self { by_class, earlier_by: earlier, cores, wanted })
    }

    /// Whether any kind of event means this.
    #[must_use]
    pub fn has(&self, means: Means) -> bool {
        self.by_class.iter().flatten().any(|bound| bound.means == means)
    }

    /// Whether a field is part of any meaning.
    #[must_use]
    pub fn wants(&self, field: u32) -> bool {
        self.wanted.binary_search(&field).is_ok()
    }

    /// What a kind of event means; empty if nothing says it.
    pub fn meanings_of(&self, class: usize) -> impl Iterator<Item = Means> {
        self.by_class[class].iter().map(|bound| bound.means)
    }

    /// How many ticks earlier an event may have happened than it says.
    pub(crate) fn earlier_by(&self, record: &Record<'_>) -> u64 {
        let field = self.earlier_by[record.class];
        match field.and_then(|field| record.get(field)) {
            Some(Value::Unsigned(ticks)) => ticks,
            Some(Value::Signed(ticks)) => ticks.max(0) as u64,
            _ => 0,
        }
    }
}

/// What traces call the number of a core.
const CORES: [&str; 4] = ["cpu_id", "core_id", "cpu", "core"];

/// The field that says on which core a kind of event happened. A field of the event itself may be any core, unless the
/// event means something that only a core can do.
fn core_of(schema: &Schema, class: &EventClass, is_of_a_core: bool) -> Option<u32> {
    let around = CORES.iter().find_map(|name| schema.find_around(class, name));
    let own = || CORES.iter().find_map(|name| schema.find_field(class, name));
    around.or_else(|| own().filter(|_| is_of_a_core))
}

/// A number of a core that is larger than any that is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StrangeCore {
    /// The kind of event.
    pub event: String,
    /// The field that has the core's number.
    pub field: String,
    /// What it says.
    pub number: i128,
}

/// A meaning in the numbers of a kind of event.
fn bind(
    schema: &Schema,
    class: &EventClass,
    meaning: &Meaning,
    source: Source<'_>,
    wanted: &mut Vec<u32>,
) -> Result<Bound, Fault> {
    let mut find = |field: &At<String>| -> Result<u32, Fault> {
        let number = schema.find_field(class, &field.value).ok_or_else(|| {
            let known = schema.fields_of(class).map(|(_, field)| field.path.as_str());
            let hint = nearest(&field.value, known);
            let why = format!("event `{}` has no field `{}`{hint}", class.name, field.value);
            source.fault(field.span.clone(), why)
        })?;
        wanted.push(number);
        Ok(number)
    };
    let mut parts = [None; Part::COUNT];
    for (part, field) in &meaning.parts {
        let number = find(field)?;
        if schema.field(number).is_wide {
            let why =
                format!("`{}` is a number of more than 64 bits, which none here is", field.value);
            return Err(source.fault(field.span.clone(), why));
        }
        parts[*part as usize] = Some(number);
    }
    let mut only = Vec::new();
    for Only { field, values } in &meaning.only {
        let number = find(field)?;
        let declared = schema.field(number);
        let is_strange = |value: &&String| {
            declared.is_enumeration()
                && !declared.knows_label(value)
                && value.parse::<i128>().is_err()
        };
        if let Some(value) = values.iter().find(is_strange) {
            let why = format!("the enumeration `{}` has no label `{value}`", field.value);
            return Err(source.fault(field.span.clone(), why));
        }
        only.push((number, values.clone()));
    }
    Ok(Bound { means: meaning.means, parts, called: meaning.called.clone(), only })
}

/// What names something in a trace.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Key {
    Number(i128),
    Text(Box<str>),
}

/// Turns records into events. Records come file by file, in the order of their files; what depends on
/// the order of all of them is left to whoever puts them in order.
#[derive(Debug)]
pub struct CtfReader<'s> {
    schema: &'s Schema,
    translation: &'s Translation,
    /// Numbers of things that the trace calls by text, or by large numbers.
    numbers: FxHashMap<(Part, Key), u32>,
    /// The name that each thing was given last.
    names: FxHashMap<Thing, Box<str>>,
    /// Records of meanings that lacked what they need.
    pub unclear: u64,
    /// By task: for what it will wait, as was said before it does.
    wanted: FxHashMap<u32, u32>,
    /// The first core whose number is too large.
    pub strange_core: Option<StrangeCore>,
}

impl<'s> CtfReader<'s> {
    /// A reader at the start of a trace.
    #[must_use]
    pub fn new(schema: &'s Schema, translation: &'s Translation) -> Self {
        Self {
            schema,
            translation,
            numbers: FxHashMap::default(),
            names: FxHashMap::default(),
            unclear: 0,
            wanted: FxHashMap::default(),
            strange_core: None,
        }
    }

    /// What one record means, event by event.
    pub fn tell(&mut self, record: &Record<'_>, at: Range<u64>, tell: &mut impl FnMut(Event)) {
        let translation = self.translation;
        for bound in &translation.by_class[record.class] {
            if !self.applies(bound, record) {
                continue;
            }
            if self.event(bound, record, &at, tell).is_none() {
                self.unclear += 1;
            }
        }
    }

    /// The core on which an event happened, where that is said.
    pub fn core(&mut self, record: &Record<'_>) -> Option<u8> {
        let field = self.translation.cores[record.class]?;
        let number = record.get(field)?.integer()?;
        if let Ok(core) = u8::try_from(number) {
            return Some(core);
        }
        self.strange_core.get_or_insert_with(|| StrangeCore {
            event: self.schema.events()[record.class].name.clone(),
            field: self.schema.field(field).path.clone(),
            number,
        });
        None
    }

    fn applies(&self, bound: &Bound, record: &Record<'_>) -> bool {
        bound.only.iter().all(|(field, wanted)| {
            let Some(value) = record.get(*field) else { return false };
            match (value, value.integer()) {
                (Value::Text(text), _) => wanted.iter().any(|wanted| text == wanted.as_bytes()),
                (_, Some(number)) => {
                    let label = self.schema.field(*field).label(number);
                    wanted
                        .iter()
                        .any(|wanted| label == Some(wanted) || wanted.parse() == Ok(number))
                }
                _ => false,
            }
        })
    }

    /// `None` if something that it needs is not there, or is no such thing.
    fn event(
        &mut self,
        bound: &Bound,
        record: &Record<'_>,
        at: &Range<u64>,
        tell: &mut impl FnMut(Event),
    ) -> Option<()> {
        let value = |part: Part| record.get(bound.part(part)?);
        let integer = |part: Part| value(part)?.integer();
        let small = |part: Part| u32::try_from(integer(part)?).ok();
        let long = |part: Part| u64::try_from(integer(part)?).ok();
        let statement = match bound.means {
            Means::Text | Means::TextPiece => {
                let Value::Text(text) = value(Part::Text)? else { return None };
                let is_line = bound.means == Means::Text;
                tell_text(small(Part::Port).unwrap_or(0), text, is_line, tell);
                return Some(());
            }
            Means::FormattedText => {
                let mut words = [0; MOST_ARGUMENTS];
                let mut count = 0;
                let field = bound.part(Part::Arguments);
                let arguments = field.into_iter().flat_map(|field| record.all(field));
                for (slot, argument) in words.iter_mut().zip(arguments) {
                    *slot = argument.integer()? as u32;
                    count += 1;
                }
                let arguments = Arguments::new(&words[..count]);
                Statement::Text { format: long(Part::FormatAddress)?, arguments }
            }
            Means::Access => {
                tell(self.access(bound, record)?);
                return Some(());
            }
            Means::Sample => {
                tell(Event::Sample { pc: long(Part::Address)? & !1 });
                return Some(());
            }
            Means::Asleep => {
                tell(Event::Asleep);
                return Some(());
            }
            Means::Unobservable => {
                tell(Event::Unobservable);
                return Some(());
            }
            Means::Elsewhere => {
                tell(Event::Elsewhere);
                return Some(());
            }
            Means::Lost => {
                tell(Event::Lost { bytes: at.start..at.start, why: LossReason::Dropped });
                return Some(());
            }
            Means::LostBeside => {
                tell(Event::Lost { bytes: at.start..at.start, why: LossReason::Shared });
                return Some(());
            }
            Means::TimeLost => {
                let bytes = at.start..at.start;
                tell(Event::Lost { bytes, why: LossReason::EventTraceSlip(Lacking::Events) });
                return Some(());
            }
            Means::Unwatched => {
                tell(Event::Unwatched);
                return Some(());
            }
            Means::InterruptNamed => {
                let thing = Thing::Interrupt(self.exception(bound, record)?);
                let name = self.told_name(bound, record)?;
                self.name(thing, &name, tell);
                return Some(());
            }
            Means::InterruptEntered | Means::InterruptLeft | Means::InterruptResumed => {
                let exception = self.exception(bound, record)?;
                tell(match bound.means {
                    Means::InterruptEntered => Event::Entered { exception },
                    Means::InterruptLeft => Event::Left { exception },
                    _ => Event::Resumed { exception },
                });
                return Some(());
            }
            Means::Request => Statement::Requested { cycles_ago: small(Part::CyclesAgo)? },
            Means::ObjectTaken => Statement::Takes { object: self.thing(bound, record, tell)? },
            Means::ObjectGiven => Statement::Gives { object: self.thing(bound, record, tell)? },
            Means::SpanBegins => Statement::SpanBegan { span: self.thing(bound, record, tell)? },
            Means::SpanEnds => Statement::SpanEnded { span: self.thing(bound, record, tell)? },
            Means::Quantity => {
                let quantity = self.thing(bound, record, tell)?;
                let number = match value(Part::Value)? {
                    Value::Float(value) => Number::Float(value),
                    Value::Signed(value) => Number::Integer(value),
                    Value::Unsigned(value) => match i64::try_from(value) {
                        Ok(value) => Number::Integer(value),
                        Err(_) => Number::Float(value as f64),
                    },
                    Value::Text(_) => return None,
                };
                Statement::Quantity { quantity, number }
            }
            Means::TaskNamed | Means::ObjectNamed | Means::SpanNamed | Means::QuantityNamed => {
                self.thing(bound, record, tell)?;
                return Some(());
            }
            Means::TaskCreated => {
                let task = self.thing(bound, record, tell)?;
                let stack = long(Part::StackBase).zip(small(Part::StackSize));
                let stack = stack.filter(|(_, size)| *size > 0);
                let priority = small(Part::Priority).and_then(|number| u8::try_from(number).ok());
                Statement::Created { task, priority, stack }
            }
            Means::TaskReady => Statement::Ready { task: self.thing(bound, record, tell)? },
            Means::TaskRuns => {
                let task = self.thing(bound, record, tell)?;
                // It got what it asked for, and did not wait.
                self.wanted.remove(&task);
                Statement::Runs { task, stack_pointer: long(Part::StackPointer) }
            }
            Means::TaskPreempted => Statement::Preempted { task: self.thing(bound, record, tell)? },
            Means::TaskSleeps => {
                Statement::Stops { task: self.thing(bound, record, tell)?, why: Stop::Sleeps }
            }
            Means::TaskEnds => {
                Statement::Stops { task: self.thing(bound, record, tell)?, why: Stop::Ended }
            }
            Means::TaskAway => {
                Statement::Stops { task: self.thing(bound, record, tell)?, why: Stop::Untold }
            }
            Means::TaskWillWait => {
                let task = self.thing(bound, record, tell)?;
                let object = self.number(Part::Object, value(Part::Object)?, tell)?;
                if self.wanted.len() < MOST_THINGS || self.wanted.contains_key(&task) {
                    self.wanted.insert(task, object);
                }
                return Some(());
            }
            Means::TaskWaits => {
                let task = self.thing(bound, record, tell)?;
                let wanted = self.wanted.remove(&task);
                let object = value(Part::Object);
                let object = object.and_then(|object| self.number(Part::Object, object, tell));
                let object = object.or(wanted);
                let why = object.map_or(Stop::WaitsForSomething, Stop::Waits);
                Statement::Stops { task, why }
            }
            Means::StackUsed => {
                let task = self.thing(bound, record, tell)?;
                Statement::StackUsed { task, bytes: small(Part::Bytes)? }
            }
        };
        tell(Event::Stated(statement));
        Some(())
    }

    /// A watched access. What a part does not tell is not known.
    fn access(&self, bound: &Bound, record: &Record<'_>) -> Option<Event> {
        let value = |part: Part| record.get(bound.part(part)?);
        let integer = |part: Part| value(part)?.integer();
        let watch = u8::try_from(integer(Part::Watch)?).ok()?;
        let size = match bound.part(Part::Size) {
            Some(_) => u8::try_from(integer(Part::Size)?).ok().filter(|size| *size <= 8)?,
            None => 4,
        };
        let bits = integer(Part::Value).filter(|_| size > 0);
        let way = match value(Part::Way) {
            Some(Value::Text(text)) => std::str::from_utf8(text).ok(),
            Some(other) => bound
                .part(Part::Way)
                .and_then(|field| self.schema.field(field).label(other.integer()?)),
            None => None,
        };
        Some(Event::Accessed {
            watch,
            code: integer(Part::Code).and_then(|code| u64::try_from(code).ok()).filter(|&c| c != 0),
            address: integer(Part::DataAddress).and_then(|low| u16::try_from(low).ok()),
            value: bits.map(|bits| super::vocabulary::Value { bits: bits as u64, size }),
            access: match way {
                Some("read") => Some(Access::Read),
                Some("write") => Some(Access::Write),
                _ => None,
            },
        })
    }

    /// The exception that a meaning is about.
    fn exception(&self, bound: &Bound, record: &Record<'_>) -> Option<u16> {
        let integer = |part: Part| record.get(bound.part(part)?)?.integer();
        let number = match integer(Part::Exception) {
            Some(number) => number,
            None => integer(Part::Interrupt)?.checked_add(FIRST_INTERRUPT)?,
        };
        u16::try_from(number).ok()
    }

    /// The name that an event has: a text, or an enumeration's label.
    fn told_name(&self, bound: &Bound, record: &Record<'_>) -> Option<String> {
        let field = bound.part(Part::Name)?;
        match record.get(field)? {
            Value::Text(text) => Some(String::from_utf8_lossy(text).into_owned()),
            value => self.schema.field(field).label(value.integer()?).map(str::to_owned),
        }
    }

    /// The number of what a meaning is about; tells its name where that is new.
    fn thing(
        &mut self,
        bound: &Bound,
        record: &Record<'_>,
        tell: &mut impl FnMut(Event),
    ) -> Option<u32> {
        let part = bound.means.subject()?;
        let number = match (bound.part(part), &bound.called) {
            (Some(field), _) => self.number(part, record.get(field)?, tell)?,
            (None, Some(called)) => self.number(part, Value::Text(called.as_bytes()), tell)?,
            (None, None) => return None,
        };
        let called = || bound.called.clone().filter(|_| bound.part(part).is_some());
        let name = self.told_name(bound, record).or_else(called);
        if let Some(name) = name.filter(|name| !name.is_empty()) {
            self.name(of(part, number)?, &name, tell);
        }
        Some(number)
    }

    /// Numbers stay what they are as long as they fit; the others, and texts, get numbers from the
    /// top down.
    fn number(
        &mut self,
        part: Part,
        value: Value<'_>,
        tell: &mut impl FnMut(Event),
    ) -> Option<u32> {
        let key = match value {
            Value::Text(text) => Key::Text(String::from_utf8_lossy(text).into()),
            other => Key::Number(other.integer()?),
        };
        if let Key::Number(number) = key
            && let Ok(small) = u32::try_from(number)
        {
            return Some(small);
        }
        let next = u32::MAX - self.numbers.len() as u32;
        if let Some(known) = self.numbers.get(&(part, key.clone())) {
            return Some(*known);
        }
        if self.numbers.len() == MOST_THINGS {
            return None;
        }
        let name = match &key {
            Key::Text(text) => text.to_string(),
            Key::Number(number) if *number < 0 => number.to_string(),
            Key::Number(number) => format!("{number:#x}"),
        };
        self.numbers.insert((part, key), next);
        self.name(of(part, next)?, &name, tell);
        Some(next)
    }

    /// Tells a name where it is new.
    fn name(&mut self, thing: Thing, name: &str, tell: &mut impl FnMut(Event)) {
        let known = self.names.get(&thing);
        let is_new = known.is_none_or(|known| **known != *name);
        if is_new && (known.is_some() || self.names.len() < MOST_THINGS) {
            self.names.insert(thing, name.into());
            tell(Event::Stated(Statement::Named(thing, Name::Told(name.into()))));
        }
    }
}

/// A text as if it had been written to a port; a line gets its end.
fn tell_text(port: u32, text: &[u8], is_line: bool, tell: &mut impl FnMut(Event)) {
    let text = &text[..text.len().min(LONGEST_TEXT)];
    let end: &[u8] = if is_line && !text.ends_with(b"\n") { b"\n" } else { b"" };
    let mut written = text.iter().chain(end).copied().peekable();
    while written.peek().is_some() {
        let (mut word, mut len) = ([0; 4], 0);
        for (slot, byte) in word.iter_mut().zip(written.by_ref().take(4)) {
            *slot = byte;
            len += 1;
        }
        tell(Event::Said { port, bytes: Bytes::from_word(u32::from_le_bytes(word), len) });
    }
}

/// A thing by its number.
const fn of(part: Part, number: u32) -> Option<Thing> {
    match part {
        Part::Task => Some(Thing::Task(number)),
        Part::Object => Some(Thing::Object(number)),
        Part::Span => Some(Thing::Span(number)),
        Part::Quantity => Some(Thing::Quantity(number)),
        _ => None,
    }
}

/// Says after every handler what goes on below it, as cores do: event traces tell beginnings and ends
/// only. Where a trace tells what is resumed, nothing is added.
///
/// What lies below all handlers that were seen to begin is taken for thread mode. Should an unseen one
/// lie there, nothing of thread mode can end before that one does, and its end contradicts what was
/// said: everything that had begun is given up then.
#[derive(Debug, Default)]
pub(crate) struct Grounding {
    core: u8,
    now: Ground,
    others: Parked<Ground>,
    /// The trace tells of interrupts, and not what they resume.
    adds: bool,
}

/// What is known of one core.
#[derive(Debug, Default)]
struct Ground {
    below: Vec<u16>,
    /// It was said what goes on below.
    said: bool,
}

impl Grounding {
    /// For a trace of these meanings.
    pub(crate) fn of(translation: &Translation) -> Self {
        let adds =
            translation.has(Means::InterruptEntered) && !translation.has(Means::InterruptResumed);
        Self { adds, ..Self::default() }
    }

    /// One event, and what follows from it.
    pub(crate) fn pass(&mut self, position: Position, event: &Event, sink: &mut dyn Sink) {
        if position.core != self.core {
            self.others.exchange(self.core, &mut self.now, position.core, Ground::default);
            self.core = position.core;
        }
        let Ground { below, said } = &mut self.now;
        let resumed = |exception| Event::Resumed { exception };
        match event {
            _ if !self.adds => {}
            Event::Entered { exception } => {
                if below.len() == DEEPEST {
                    below.clear();
                }
                below.push(*exception);
            }
            Event::Left { exception } => {
                if below.pop() != Some(*exception) {
                    below.clear();
                }
                *said = true;
                sink.event(position, event);
                return sink.event(position, &resumed(below.last().copied().unwrap_or(0)));
            }
            Event::Lost { .. } | Event::Unwatched => {
                below.clear();
                *said = false;
            }
            Event::Stated(
                Statement::Runs { .. } | Statement::Stops { .. } | Statement::Preempted { .. },
            ) if below.is_empty() && !*said => {
                *said = true;
                sink.event(position, &resumed(0));
            }
            _ => {}
        }
        sink.event(position, event);
    }
}

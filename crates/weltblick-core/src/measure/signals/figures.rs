//! Every number that a recording tells, signal by signal.

use super::arguments::Arguments;
use super::dictionary::Dictionary;
use super::halves::{Half, Halves, Joined};
use super::threshold::Threshold;
use super::trend::{Gaps, Trend};
use super::values::Values;
use crate::event::{
    Access, CoreSet, Event, LossReason, Name, Number, Origin, Position, Sink, Statement, Thing,
    Value,
};
use crate::image::Field;
use crate::measure::counters::EventCounters;
use crate::measure::interrupts::{MOST_EACH, between};
use crate::stats::{Spread, Ticks};
use crate::time::Window;
use rustc_hash::FxHashMap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Signals at most; further ones are counted and left out. The course of each takes 100 kB.
pub const MOST_SIGNALS: usize = 256;
/// Signals with percentiles of their intervals at most.
const MOST_DETAILED: usize = 32;
/// Places in the code that are counted for one signal at most.
const MOST_PLACES: usize = 64;
/// Elements of an array at most.
const MOST_ELEMENTS: usize = 4096;

/// What accesses of a comparator can show.
const SHOWN: [&str; 5] = ["write", "read", "code", "address", "match"];

/// The name of a signal in its [label](Signals::label): `temperature` of `temperature (write)`.
#[must_use]
pub fn name_in(label: &str) -> &str {
    let without = |shown: &&str| label.strip_suffix(&format!(" ({shown})"));
    SHOWN.iter().find_map(without).unwrap_or(label)
}

/// Whose values these are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Subject {
    /// A watched variable: a comparator's, or a polled one.
    Watch(u8),
    /// A quantity that the firmware states.
    Quantity(u32),
    /// A number in a text whose format stays in the image.
    Argument {
        /// Where the format stands.
        format: u64,
        /// Which of its arguments, from 0.
        index: u8,
    },
}

/// One signal: reads and writes of a variable are two.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Key {
    /// Whose clock dates it.
    pub origin: Origin,
    /// Whose values these are.
    pub subject: Subject,
    /// Which way it was accessed, if known.
    pub access: Option<AccessKey>,
}

/// Which way; in an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum AccessKey {
    /// The core wrote.
    Write,
    /// The core read.
    Read,
}

impl From<Access> for AccessKey {
    fn from(access: Access) -> Self {
        match access {
            Access::Read => Self::Read,
            Access::Write => Self::Write,
        }
    }
}

/// An element of an array as it was last seen.
pub(super) type Element = Option<(f64, Option<Window>)>;

/// Figures of one signal. Values are raw: scaling comes with names.
#[derive(Debug, Clone)]
pub struct Signal {
    /// Which.
    pub key: Key,
    /// The cores that told of it.
    cores: CoreSet,
    /// What its bits mean, if anything says so.
    pub field: Option<Arc<Field>>,
    /// Accesses, or statements.
    pub count: u64,
    /// Its values.
    pub values: Values,
    /// From one access to the next.
    pub interval: Spread,
    /// From one such interval to the next, the difference.
    pub jitter: Spread,
    /// Levels that it crosses.
    pub thresholds: Vec<Threshold>,
    /// Its values over time: by ticks after its base, or by number without times.
    pub trend: Trend,
    /// Accesses that covered only a part of the variable: without a value.
    pub partial: u64,
    /// Accesses whose address is known.
    pub(super) addressed: u64,
    /// Where in the code it was accessed, and how often; the most at first seen.
    pub places: Vec<(u64, u64)>,
    /// Accesses from further places.
    pub elsewhere: u64,
    /// The elements of an array, as they were last seen.
    pub(super) elements: Vec<Element>,
    /// Elements beyond those that are kept.
    pub beyond: u64,
    /// Halves of a value of eight bytes.
    halves: Halves,
    /// The tick of its first value: its trend counts from there.
    base: Option<u64>,
    last: Option<Position>,
    last_interval: Option<Ticks>,
    /// From the access before to that whose first half waits.
    since: Option<Ticks>,
}

/// One access, or statement.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// The number of its signal in the list.
    pub signal: usize,
    /// When.
    pub time: Option<Window>,
    /// The raw value.
    pub value: Option<f64>,
    /// The instruction.
    pub code: Option<u64>,
    /// The element of an array.
    pub element: Option<u64>,
}

const NOTHING: Reading = Reading { signal: 0, time: None, value: None, code: None, element: None };

/// Figures of all signals.
#[derive(Debug, Clone)]
pub struct Signals<'a> {
    dictionary: &'a Dictionary<'a>,
    index: FxHashMap<Key, u32>,
    list: Vec<Signal>,
    /// What a poll stream calls its numbers.
    polled: FxHashMap<(Origin, u8), Arc<Field>>,
    names: FxHashMap<u32, Name>,
    /// Whose number meant something else before.
    reused: BTreeSet<(Origin, Subject)>,
    arguments: Arguments,
    /// Counters of the debug block.
    pub counters: EventCounters,
    /// Values of more signals than are kept.
    pub left_out: u64,
    /// Every access, one by one, where that was asked for.
    pub each: Option<Vec<Reading>>,
    /// Places where something is missing.
    pub lost: u64,
    /// Something is missing, and nothing tells when.
    pub lost_undated: bool,
    /// When something may be missing, in ticks of the origin that told so.
    gaps: BTreeMap<Origin, Gaps>,
    /// The last moment, and whose: of which core.
    last: Option<((Origin, u8), Window)>,
}

impl<'a> Signals<'a> {
    /// Nothing seen yet.
    #[must_use]
    pub fn new(dictionary: &'a Dictionary<'a>) -> Self {
        Self {
            dictionary,
            index: FxHashMap::default(),
            list: Vec::new(),
            polled: FxHashMap::default(),
            names: FxHashMap::default(),
            reused: BTreeSet::new(),
            arguments: Arguments::default(),
            counters: EventCounters::default(),
            left_out: 0,
            each: None,
            lost: 0,
            lost_undated: false,
            gaps: BTreeMap::new(),
            last: None,
        }
    }

    /// The recording has ended.
    pub fn finish(&mut self) {
        self.interrupt(None);
    }

    /// Every signal, in the order in which they were first seen.
    #[must_use]
    pub fn list(&self) -> &[Signal] {
        &self.list
    }

    /// Values as they are told: what raw ones are multiplied with, and what is added.
    #[must_use]
    pub fn scaling(&self, key: Key) -> (f64, f64) {
        self.dictionary.spec(&self.name(key)).map_or((1.0, 0.0), |spec| (spec.scale, spec.offset))
    }

    /// The unit of its values, where somebody states it.
    #[must_use]
    pub fn unit(&self, key: Key) -> Option<&str> {
        self.dictionary.spec(&self.name(key))?.unit.as_deref()
    }

    /// Whether its number was used for something else, too.
    #[must_use]
    pub fn is_reused(&self, key: Key) -> bool {
        self.reused.contains(&(key.origin, key.subject))
    }

    /// Whether a signal was polled: between two reads it may have been anything.
    #[must_use]
    pub fn is_polled(&self, key: Key) -> bool {
        match key.subject {
            Subject::Watch(watch) => self.polled.contains_key(&(key.origin, watch)),
            _ => false,
        }
    }

    /// What a signal is called: by the manifest, the firmware, debug information, or its number.
    #[must_use]
    pub fn name(&self, key: Key) -> String {
        match key.subject {
            Subject::Watch(watch) => match self.polled.get(&(key.origin, watch)) {
                Some(field) => field.name.clone(),
                None => self.dictionary.watch_name(watch),
            },
            Subject::Quantity(number) => {
                let told = self.names.get(&number);
                self.dictionary.quantity_name(number, told)
            }
            Subject::Argument { format, index } => self.dictionary.argument_name(format, index),
        }
    }

    /// What it is called, and what its accesses show: `temperature (write)`, `comparator 0 (code)`.
    #[must_use]
    pub fn label(&self, signal: &Signal) -> String {
        let name = self.name(signal.key);
        match signal.shows() {
            Some(shows) => format!("{name} ({shows})"),
            None => name,
        }
    }

    /// When something may be missing: whose ticks, from when, until when.
    pub fn gaps(&self) -> impl Iterator<Item = (Origin, u64, u64)> + '_ {
        self.gaps.iter().flat_map(|(&origin, gaps)| {
            gaps.list().iter().map(move |&(from, until)| (origin, from, until))
        })
    }

    /// Something is missing of all signals that this core tells of, or of all.
    fn interrupt(&mut self, core: Option<u8>) {
        let is_touched = |signal: &&mut Signal| {
            core.is_none_or(|core| signal.cores.is_empty() || signal.cores.has(core))
        };
        for signal in self.list.iter_mut().filter(is_touched) {
            signal.values.interrupt();
            signal.partial += u64::from(signal.halves.interrupt());
            let last = signal.last.and_then(|last| last.time);
            signal.thresholds.iter_mut().for_each(|threshold| threshold.interrupt(last));
            signal.last = None;
            signal.last_interval = None;
        }
    }

    /// One loss of a framed stream stands for all its origins.
    fn lost(&mut self, Position { origin, core, time, .. }: Position) {
        self.lost += 1;
        if let Some(time) = time {
            let before = self.last.filter(|(of, _)| *of == (origin, core));
            let from = before.map_or(time.earliest, |(_, last)| last.latest.min(time.earliest));
            self.gaps.entry(origin).or_default().add(from, time.latest);
        }
        self.lost_undated |= time.is_none();
        self.interrupt(Some(core));
    }

    /// The number of a key's signal; nothing if there are too many.
    fn find(&mut self, key: Key) -> Option<usize> {
        Some(match self.index.get(&key) {
            Some(&at) => at as usize,
            None if self.list.len() >= MOST_SIGNALS => {
                self.left_out += 1;
                return None;
            }
            None => {
                let field = match key.subject {
                    Subject::Watch(watch) => self
                        .polled
                        .get(&(key.origin, watch))
                        .cloned()
                        .or_else(|| self.dictionary.watched(watch)),
                    _ => None,
                };
                let name = self.name(key);
                let levels = self.dictionary.thresholds(&name);
                self.index.insert(key, self.list.len() as u32);
                let detailed = self.list.len() < MOST_DETAILED;
                self.list.push(Signal::new(key, field, levels, detailed));
                self.list.len() - 1
            }
        })
    }

    fn number(&mut self, position: Position, subject: Subject, number: f64) {
        let key = Key { origin: position.origin, subject, access: None };
        if let Some(at) = self.find(key) {
            let signal = &mut self.list[at];
            let since = signal.accessed(position);
            signal.value(number, position.time, since);
            let value = Some(number);
            self.list_reading(Reading { signal: at, time: position.time, value, ..NOTHING });
        }
    }

    fn accessed(&mut self, position: Position, event: &Event) {
        let Event::Accessed { watch, code, address, value, access } = *event else { return };
        let subject = Subject::Watch(watch);
        let key = Key { origin: position.origin, subject, access: access.map(AccessKey::from) };
        let polled = self.polled.contains_key(&(position.origin, watch));
        let Some(at) = self.find(key) else { return };
        let signal = &mut self.list[at];
        let joined =
            value.and_then(|value| signal.join(value, address, code, polled, position.time));
        if let Some(Joined::Whole(bits)) = joined {
            return self.second_half(at, position, bits, code);
        }
        // The elements of one answer are one access.
        let again = polled && address.is_some_and(|index| index > 0);
        let since = if again { None } else { signal.accessed(position) };
        if let Some(code) = code {
            signal.place(code);
        }
        signal.addressed += u64::from(address.is_some());
        let element = signal.element(address, polled);
        let number = value.and_then(|value| signal.decode(value, address, polled));
        match (number, element) {
            (Some(number), Some(index)) => signal.set_element(index, number, position.time),
            (Some(number), None) => signal.value(number, position.time, since),
            (None, _) if joined.is_some() => {
                signal.partial += u64::from(joined == Some(Joined::Instead));
                signal.since = since;
                return;
            }
            (None, _) => signal.partial += u64::from(value.is_some()),
        }
        let time = position.time;
        self.list_reading(Reading { signal: at, time, value: number, code, element });
    }

    /// A value of eight bytes is whole: its halves are one access, which the first has counted.
    fn second_half(&mut self, at: usize, position: Position, bits: u64, code: Option<u64>) {
        let signal = &mut self.list[at];
        let field = signal.field.as_ref();
        let Some(number) = field.and_then(|field| field.number(bits)) else { return };
        let since = signal.since.take();
        signal.value(number, position.time, since);
        let (time, value) = (position.time, Some(number));
        self.list_reading(Reading { signal: at, time, value, code, element: None });
    }

    fn list_reading(&mut self, reading: Reading) {
        if let Some(each) = self.each.as_mut().filter(|each| each.len() < MOST_EACH) {
            each.push(reading);
        }
    }

    fn stated(&mut self, position: Position, statement: &Statement) {
        match *statement {
            Statement::Quantity { quantity, number } => {
                let number = match number {
                    Number::Integer(value) => value as f64,
                    Number::Float(value) => value,
                };
                self.number(position, Subject::Quantity(quantity), number);
            }
            Statement::Named(Thing::Quantity(number), ref name) => {
                self.named(position.origin, number, name);
            }
            Statement::Watches { watch, address, size, kind, ref name } => {
                let field = self.dictionary.polled(name, address, size, kind);
                let known = self.polled.insert((position.origin, watch), Arc::new(field.clone()));
                if known.is_some_and(|known| *known != field) {
                    self.reused.insert((position.origin, Subject::Watch(watch)));
                }
            }
            Statement::Text { format, ref arguments } => {
                let image = self.dictionary.image;
                for (index, &word) in (0_u8..).zip(arguments.as_slice()) {
                    if let Some(number) = self.arguments.number(image, format, index, word) {
                        self.number(position, Subject::Argument { format, index }, number);
                    }
                }
            }
            _ => {}
        }
    }

    /// A name that comes after values: levels that are meant for it count from here.
    fn named(&mut self, origin: Origin, number: u32, name: &Name) {
        if let Some(known) = self.names.get(&number) {
            if known != name {
                self.reused.insert((origin, Subject::Quantity(number)));
            }
            return;
        }
        if self.names.len() >= MOST_SIGNALS {
            return;
        }
        self.names.insert(number, name.clone());
        let called = self.dictionary.quantity_name(number, Some(name));
        let levels = self.dictionary.thresholds(&called);
        for signal in &mut self.list {
            if signal.key.subject == Subject::Quantity(number)
                && !levels.iter().eq(signal.thresholds.iter().map(|threshold| &threshold.level))
            {
                signal.thresholds = levels.iter().copied().map(Threshold::new).collect();
            }
        }
    }
}

impl Sink for Signals<'_> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        let is_value =
            matches!(event, Event::Accessed { .. } | Event::Stated(Statement::Quantity { .. }));
        if let (true, None, Some((_, last))) = (is_value, position.time, self.last) {
            // It lies somewhere between those around it: nothing that spans it has a time.
            self.lost(Position { time: Some(last), ..position });
        }
        match event {
            Event::Accessed { .. } => self.accessed(position, event),
            Event::Stated(statement) => self.stated(position, statement),
            // Before the first moment and behind the last nothing is missing of the recording.
            Event::Lost { why, .. }
                if why.is_end()
                    || position.time.is_none() && self.last.is_none() && self.list.is_empty() => {}
            // Values are whole in the file that has them.
            Event::Lost { why: LossReason::Shared, .. } => {}
            Event::Lost { .. } | Event::Unwatched => self.lost(position),
            Event::Counted(_) | Event::CountedPmu(_) => self.counters.event(position, event),
            _ => {}
        }
        let of = (position.origin, position.core);
        self.last = position.time.map(|time| (of, time)).or(self.last);
    }
}

impl Signal {
    /// What accesses of a comparator show: `write`, `read`, or where no value says which, `code`, `address` or `match`.
    #[must_use]
    pub fn shows(&self) -> Option<&'static str> {
        let [write, read, code, address, matched] = SHOWN;
        match self.key.access {
            Some(AccessKey::Write) => Some(write),
            Some(AccessKey::Read) => Some(read),
            None if !matches!(self.key.subject, Subject::Watch(_)) || self.values.count > 0 => None,
            None if !self.places.is_empty() => Some(code),
            None if self.addressed > 0 => Some(address),
            None => Some(matched),
        }
    }

    fn new(key: Key, field: Option<Arc<Field>>, levels: Vec<f64>, detailed: bool) -> Self {
        let count = field.as_ref().map_or(1, |field| field.count);
        let elements = if count > 1 { count.min(MOST_ELEMENTS as u64) as usize } else { 0 };
        Self {
            key,
            cores: CoreSet::NONE,
            field,
            count: 0,
            values: Values::default(),
            interval: Spread::new(detailed),
            jitter: Spread::new(detailed),
            thresholds: levels.into_iter().map(Threshold::new).collect(),
            trend: Trend::default(),
            partial: 0,
            addressed: 0,
            places: Vec::new(),
            elsewhere: 0,
            elements: vec![None; elements],
            beyond: 0,
            halves: Halves::default(),
            base: None,
            last: None,
            last_interval: None,
            since: None,
        }
    }

    /// The tick from which its trend counts.
    #[must_use]
    pub fn base(&self) -> u64 {
        self.base.unwrap_or(0)
    }

    /// From its last access to the end of the recording, in ticks of its own clock.
    #[must_use]
    pub fn silence(&self, end: Window) -> Ticks {
        let last = self.last.and_then(|last| last.time);
        last.map_or_else(Ticks::default, |last| between(last, end))
    }

    /// Whether it has elements instead of one value over time.
    #[must_use]
    pub fn is_array(&self) -> bool {
        !self.elements.is_empty()
    }

    /// Counts an access; the time since the one before.
    fn accessed(&mut self, position: Position) -> Option<Ticks> {
        self.count += 1;
        self.cores.add(position.core);
        let before = self.last.replace(position);
        let since = between(before?.time?, position.time?);
        self.interval.add(since);
        if let Some(before) = self.last_interval.replace(since) {
            self.jitter.add(since.difference(before));
        }
        Some(since)
    }

    fn value(&mut self, number: f64, time: Option<Window>, since: Option<Ticks>) {
        self.values.add(number, time, since);
        self.thresholds.iter_mut().for_each(|threshold| threshold.add(number, time));
        if number.is_finite() {
            let tick = match time {
                Some(time) => time.latest.saturating_sub(*self.base.get_or_insert(time.latest)),
                None => self.count - 1,
            };
            self.trend.add(tick, number);
        }
    }

    fn set_element(&mut self, index: u64, number: f64, time: Option<Window>) {
        match self.elements.get_mut(index as usize) {
            Some(slot) => {
                *slot = Some((number, time));
                self.values.add(number, time, None);
                // The next element does not follow this one.
                self.values.interrupt();
            }
            None => self.beyond += 1,
        }
    }

    fn place(&mut self, code: u64) {
        let room = self.places.len() < MOST_PLACES;
        match self.places.iter_mut().find(|(address, _)| *address == code) {
            Some((_, count)) => *count += 1,
            None if room => self.places.push((code, 1)),
            None => self.elsewhere += 1,
        }
    }

    /// Puts an access to half of eight bytes together with the other; `None` if it is none, or if nothing says which
    /// half it is.
    fn join(
        &mut self,
        value: Value,
        address: Option<u16>,
        code: Option<u64>,
        polled: bool,
        time: Option<Window>,
    ) -> Option<Joined> {
        let field = self.field.as_ref().filter(|field| field.element.size == 8)?;
        if value.size != 4 || polled || !self.elements.is_empty() {
            return None;
        }
        let is_upper = match u64::from(address?).wrapping_sub(field.address) & 0xffff {
            0 => false,
            4 => true,
            _ => return None,
        };
        Some(self.halves.add(Half { is_upper, bits: value.bits as u32, code, time }))
    }

    /// The number that an access tells; nothing where it covered only a part of it.
    fn decode(&self, value: Value, address: Option<u16>, polled: bool) -> Option<f64> {
        let Some(field) = &self.field else { return Some(value.bits as f64) };
        let (wanted, seen) = (field.element.size, u64::from(value.size));
        if seen < wanted {
            return None;
        }
        // A wider access holds it at its place in the word.
        let at = if polled || self.is_array() { 0 } else { field.address % seen };
        let inside = address
            .filter(|_| !polled && !self.is_array())
            .map_or(at, |address| field.address.wrapping_sub(u64::from(address)) & 0xffff);
        if inside + wanted > seen {
            return None;
        }
        let shifted = value.bits >> (8 * inside);
        field.number(if wanted >= 8 { shifted } else { shifted & ((1 << (8 * wanted)) - 1) })
    }

    /// Which element of an array was accessed, if that is known.
    fn element(&self, address: Option<u16>, polled: bool) -> Option<u64> {
        let field = self.field.as_ref().filter(|_| self.is_array())?;
        let address = u64::from(address?);
        Some(match polled {
            true => address,
            // The low 16 bits of an address: arrays are smaller than that.
            false => (address.wrapping_sub(field.address) & 0xffff) / field.element.size.max(1),
        })
    }
}

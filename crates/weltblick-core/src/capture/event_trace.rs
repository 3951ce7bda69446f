//! An event trace: several files, each in order, to one stream of events in the order of their times.

use super::manifest::CtfSettings;
use crate::document::{Fault, Source};
use crate::event::{
    ClockFault, CtfReader, Event, Grounding, LossReason, Origin, Position, Sink, Statement,
    Translation, TwoCores,
};
use crate::time::Window;
use crate::wire::ctf::{self, Clock, Damage, Decoder, Missing, Record, Schema};
use std::collections::VecDeque;
use std::ops::Range;

/// A clock that wraps only after so many seconds is not expected to do so unseen.
const LONG_S: u64 = 86_400;

/// A trace's description, and what its events mean.
#[derive(Debug)]
pub struct EventTrace {
    schema: Schema,
    translation: Translation,
}

impl EventTrace {
    /// From the description's text, which the user knows as `file`, and what a manifest says of it.
    ///
    /// # Errors
    ///
    /// What is wrong with the description, or what the manifest names and the trace does not know.
    pub fn new(
        file: &str,
        text: &str,
        settings: &CtfSettings,
        manifest: Source<'_>,
    ) -> Result<Self, Fault> {
        let schema = Schema::parse(file, text)?;
        if schema.events().is_empty() {
            return Err(Source::new(file, text).fault(0..0, "no kind of event is described here"));
        }
        let earlier_by = settings.earlier_by.as_ref();
        let translation = Translation::new(&schema, &settings.meanings, earlier_by, manifest)?;
        Ok(Self { schema, translation })
    }

    /// The trace's description.
    #[must_use]
    pub const fn schema(&self) -> &Schema {
        &self.schema
    }

    /// What its events mean.
    #[must_use]
    pub const fn translation(&self) -> &Translation {
        &self.translation
    }

    /// The clock to which all times are brought: the one of the first kind of event that has one.
    #[must_use]
    pub fn clock(&self) -> Option<&Clock> {
        self.schema.events().iter().find_map(|event| self.schema.clock_of(event))
    }

    /// When an event happened, by the trace's clock.
    #[must_use]
    pub fn when(&self, record: &Record<'_>) -> Option<Window> {
        let event = &self.schema.events()[record.class];
        let (own, dated) = (self.schema.clock_of(event), self.schema.is_dated(event));
        let dating = Dating::new(own, dated, self.clock());
        dating.window(record.time?, self.translation.earlier_by(record))
    }

    /// A reading of files that begin at these bytes of the origin. Events may have been so many ticks later than they
    /// tell ([`Manifest::event_resolution`](super::Manifest::event_resolution)).
    #[must_use]
    pub fn reading(&self, origin: Origin, starts: &[u64], resolution: u64) -> EventReading<'_> {
        let reference = self.clock();
        let dates = self.schema.events().iter().map(|event| {
            let (own, dated) = (self.schema.clock_of(event), self.schema.is_dated(event));
            Dating { resolution, ..Dating::new(own, dated, reference) }
        });
        let file = |&start: &u64| File {
            decoder: Some(Decoder::new(&self.schema, |field| self.translation.wants(field))),
            start,
            queue: VecDeque::new(),
            now: None,
            blind: false,
        };
        EventReading {
            translation: &self.translation,
            origin,
            files: starts.iter().map(file).collect(),
            reader: CtfReader::new(&self.schema, &self.translation),
            dates: dates.collect(),
            slips: reference.is_some_and(|clock| wraps_soon(&self.schema, clock)),
            counts: vec![0; self.schema.events().len()],
            grounding: Grounding::of(&self.translation),
            blind: vec![false; starts.len()],
            told_by: [Turns::default(), Turns::default()],
        }
    }
}

/// Whether a clock may wrap unseen while nothing is read.
fn wraps_soon(schema: &Schema, clock: &Clock) -> bool {
    let bits = schema.widest_time();
    bits < 64 && (1_u64 << bits) / clock.hertz < LONG_S
}

/// How a stream's ticks become those of the reference clock.
#[derive(Debug, Clone, Copy)]
struct Dating {
    dated: bool,
    precision: u64,
    resolution: u64,
    /// Its own offset and rate, the reference's offset and rate; absent where both are the same.
    mapped: Option<(i128, i128, i128, i128)>,
}

impl Dating {
    fn new(clock: Option<&Clock>, dated: bool, reference: Option<&Clock>) -> Self {
        let mapped = clock.zip(reference).filter(|(own, other)| own.name != other.name);
        let mapped = mapped.map(|(own, other)| {
            (own.offset, i128::from(own.hertz), other.offset, i128::from(other.hertz))
        });
        let precision = clock.map_or(0, |clock| clock.precision);
        Self { dated, precision, resolution: 0, mapped }
    }

    fn window(&self, time: u64, earlier_by: u64) -> Option<Window> {
        let time = match self.mapped {
            None => time,
            Some((offset, hertz, to_offset, to_hertz)) => {
                let since = i128::from(time).checked_add(offset)?.checked_mul(to_hertz)? / hertz;
                u64::try_from(since.checked_sub(to_offset)?).ok()?
            }
        };
        self.dated.then(|| Window {
            earliest: time.saturating_sub(earlier_by).saturating_sub(self.precision),
            latest: time.saturating_add(self.precision).saturating_add(self.resolution),
        })
    }
}

/// What waits for its turn.
#[derive(Debug)]
struct Item {
    position: Position,
    event: Event,
    /// From here on, or no longer, the file has nothing to say of what happened.
    blind: Option<bool>,
}

#[derive(Debug)]
struct File<'s> {
    /// Gone when the file has ended.
    decoder: Option<Decoder<'s>>,
    /// The byte of the origin with which it begins.
    start: u64,
    queue: VecDeque<Item>,
    /// The last time that it told.
    now: Option<Window>,
    /// It lost something, and has told no time since.
    blind: bool,
}

/// An event trace that is being read. Whoever reads asks which file is wanted next.
#[derive(Debug)]
pub struct EventReading<'s> {
    translation: &'s Translation,
    origin: Origin,
    files: Vec<File<'s>>,
    reader: CtfReader<'s>,
    dates: Vec<Dating>,
    /// A loss may hide that the clock has wrapped.
    slips: bool,
    counts: Vec<u64>,
    grounding: Grounding,
    /// Files that lack something now, in the merged order.
    blind: Vec<bool>,
    /// From which files interrupts came so far, and turns of tasks.
    told_by: [Turns; 2],
}

/// From which files events of one kind came, in the order of their first.
#[derive(Debug, Default)]
struct Turns {
    files: Vec<usize>,
    last: usize,
    told: bool,
}

impl Turns {
    /// Whether an event from this file is the first that shows that several have such events by turns.
    fn come_back(&mut self, file: usize) -> bool {
        let known = self.files.contains(&file);
        if !known {
            self.files.push(file);
        }
        let is_back = known && file != self.last && !self.told;
        self.last = file;
        self.told |= is_back;
        is_back
    }
}

/// What only the core itself can say, by kind: what it enters and leaves, and which task runs.
const fn kind_of_core(event: &Event) -> Option<usize> {
    match event {
        Event::Entered { .. } | Event::Left { .. } => Some(0),
        Event::Stated(Statement::Runs { .. }) => Some(1),
        _ => None,
    }
}

impl<'s> EventReading<'s> {
    /// The file whose bytes are needed next; `None` if all have ended.
    #[must_use]
    pub fn wants(&self) -> Option<usize> {
        let waits = |file: &File<'_>| file.decoder.is_some() && file.queue.is_empty();
        self.files
            .iter()
            .position(waits)
            .or_else(|| self.files.iter().position(|file| file.decoder.is_some()))
    }

    /// How often each kind of event was read.
    #[must_use]
    pub fn counts(&self) -> &[u64] {
        &self.counts
    }

    /// How many events lacked what their meaning needs.
    #[must_use]
    pub const fn unclear(&self) -> u64 {
        self.reader.unclear
    }

    /// Events of two cores, if they are read as those of one.
    #[must_use]
    pub const fn two_cores(&self) -> Option<&TwoCores> {
        self.reader.two_cores.as_ref()
    }

    /// The next bytes of a file.
    pub fn push(&mut self, file: usize, bytes: &[u8], sink: &mut dyn Sink) {
        if let Some(mut decoder) = self.files[file].decoder.take() {
            decoder.push(bytes, &mut self.taking(file));
            self.files[file].decoder = Some(decoder);
        }
        self.release(sink);
    }

    /// A file has ended.
    pub fn finish_file(&mut self, file: usize, sink: &mut dyn Sink) {
        if let Some(decoder) = self.files[file].decoder.take() {
            decoder.finish(&mut self.taking(file));
        }
        self.release(sink);
    }

    fn taking(&mut self, file: usize) -> Taking<'_, 's> {
        let several = self.files.len() > 1;
        let Self { translation, origin, files, reader, dates, counts, slips, .. } = self;
        let file = &mut files[file];
        Taking { translation, origin: *origin, file, reader, dates, counts, slips: *slips, several }
    }

    /// Hands on what no file can come before any more.
    fn release(&mut self, sink: &mut dyn Sink) {
        let waits = |file: &File<'_>| file.decoder.is_some() && file.queue.is_empty();
        while !self.files.iter().any(waits) {
            // A loss begins where the events before it end.
            let key = |item: &Item| match (&item.event, item.position.time) {
                (Event::Lost { .. }, Some(time)) => Some(time.earliest),
                (_, time) => time.map(|time| time.latest),
            };
            let heads = self.files.iter().enumerate();
            let heads = heads.filter_map(|(number, file)| Some((key(file.queue.front()?), number)));
            let Some((_, number)) = heads.min() else { return };
            let Some(item) = self.files[number].queue.pop_front() else { return };
            self.hand_on(number, &item, sink);
        }
    }

    fn hand_on(&mut self, number: usize, item: &Item, sink: &mut dyn Sink) {
        if let Some(blind) = item.blind {
            self.blind[number] = blind;
        }
        // While another file lacks something, nothing that is told has all of what happened beside it.
        let others = self.blind.iter().enumerate();
        if others.into_iter().any(|(other, blind)| *blind && other != number) {
            let lost = Event::Lost { bytes: 0..0, why: LossReason::Dropped };
            self.grounding.pass(item.position, &lost, sink);
        }
        let kind = kind_of_core(&item.event);
        if kind.is_some_and(|kind| self.told_by[kind].come_back(number)) {
            sink.event(item.position, &Event::SeveralCores);
        }
        self.grounding.pass(item.position, &item.event, sink);
    }
}

/// Takes what a decoder finds into its file's queue.
struct Taking<'a, 's> {
    translation: &'a Translation,
    origin: Origin,
    file: &'a mut File<'s>,
    reader: &'a mut CtfReader<'s>,
    dates: &'a [Dating],
    counts: &'a mut [u64],
    slips: bool,
    several: bool,
}

impl Taking<'_, '_> {
    /// Something is missing since the last time that was told, until `latest` if that is known.
    fn lost(&mut self, bytes: Range<u64>, latest: Option<u64>, why: LossReason) {
        let (start, time) = (self.file.start, self.file.now);
        let bytes = start + bytes.start..start + bytes.end;
        let time = time.map(|time| Window {
            earliest: time.earliest,
            latest: latest.unwrap_or(time.latest).max(time.latest),
        });
        let position = Position { origin: self.origin, offset: bytes.start, time };
        let why = if self.slips { LossReason::EventTraceSlip } else { why };
        self.file.blind = self.several;
        let blind = self.several.then_some(true);
        self.file.queue.push_back(Item { position, event: Event::Lost { bytes, why }, blind });
    }
}

impl ctf::Sink for Taking<'_, '_> {
    fn event(&mut self, at: Range<u64>, record: Record<'_>) {
        self.counts[record.class] += 1;
        let earlier_by = self.translation.earlier_by(&record);
        let time = record.time.and_then(|time| self.dates[record.class].window(time, earlier_by));
        if let (Some(now), Some(before)) = (time, self.file.now)
            && now.latest < before.latest
        {
            // Times go back: nothing that spans this has a duration.
            let why = LossReason::EventTrace(Damage::TimeWentBack);
            self.lost(at.start..at.start, None, why);
        }
        let Self { origin, file, reader, .. } = self;
        file.now = time.or(file.now);
        let position = Position { origin: *origin, offset: file.start + at.start, time };
        if file.blind && time.is_some() {
            file.blind = false;
            let event = Event::Lost { bytes: 0..0, why: LossReason::Dropped };
            file.queue.push_back(Item { position, event, blind: Some(false) });
        }
        let at = file.start + at.start..file.start + at.end;
        reader.tell(&record, at, &mut |event| {
            file.queue.push_back(Item { position, event, blind: None });
        });
    }

    fn loss(&mut self, at: Range<u64>, why: Damage) {
        self.lost(at, None, LossReason::EventTrace(why));
    }

    fn missing(&mut self, offset: u64, begin: Option<u64>, what: Missing) {
        let why = match what {
            Missing::Events(_) => LossReason::Dropped,
            Missing::Packets(_) => LossReason::PacketsMissing,
            Missing::Wraps(_) => {
                let position = self.file.start + offset;
                let position =
                    Position { origin: self.origin, offset: position, time: self.file.now };
                let event = Event::ClockFault(ClockFault::StampsWrapped);
                return self.file.queue.push_back(Item { position, event, blind: None });
            }
        };
        // Streams of other clocks: the gap's end is not known here.
        let begin = begin.filter(|_| self.dates.iter().all(|dating| dating.mapped.is_none()));
        self.lost(offset..offset, begin, why);
    }
}

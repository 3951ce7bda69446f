//! An event trace: several files, each in order, to one stream of events in the order of their times.

use super::manifest::CtfSettings;
use crate::document::{Fault, Source};
use crate::event::{
    ClockFault, CoreSet, CtfReader, Event, Grounding, Lacking, LossReason, Origin, Position, Sink,
    Statement, StrangeCore, Translation,
};
use crate::time::Window;
use crate::wire::ctf::{self, Clock, Damage, Decoder, Missing, Record, Schema};
use std::collections::VecDeque;
use std::ops::Range;

/// Losses of a file that are kept until it tells of which core it is.
const MOST_UNPLACED: usize = 1024;

/// A clock that wraps only after so many seconds is not expected to do so unseen.
const LONG_S: u64 = 86_400;

/// A trace's description, and what its events mean.
#[derive(Debug)]
pub struct EventTrace {
    schema: Schema,
    translation: Translation,
    /// The tick of the reference clock at which the recording begins: its times are those since then.
    start: u64,
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
        let fields = [settings.earlier_by.as_ref(), settings.core_field.as_ref()];
        let translation = Translation::new(&schema, &settings.meanings, fields, manifest)?;
        Ok(Self { schema, translation, start: 0 })
    }

    /// The recording begins at this tick of the reference clock: it is the earliest of the [`First`] of all files.
    pub const fn begin_at(&mut self, start: u64) {
        self.start = start;
    }

    /// Ticks of the reference clock from its origin (mostly 1970) to the beginning of the recording.
    #[must_use]
    pub fn offset(&self) -> i128 {
        self.clock().map_or(0, |clock| clock.offset) + i128::from(self.start)
    }

    /// Looks for the first time in a file.
    #[must_use]
    pub fn first(&self) -> First<'_> {
        let wants = |field| self.translation.wants(field);
        First { trace: self, decoder: Some(Decoder::new(&self.schema, wants)), found: None }
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
        let dating = Dating { start: self.start, ..Dating::new(own, dated, self.clock()) };
        dating.window(record.time?, self.translation.earlier_by(record))
    }

    /// A reading of files that begin at these bytes of the origin. Events may have been so many ticks later than they
    /// tell ([`Manifest::event_resolution`](super::Manifest::event_resolution)).
    #[must_use]
    pub fn reading(&self, origin: Origin, starts: &[u64], resolution: u64) -> EventReading<'_> {
        let reference = self.clock();
        let dates = self.schema.events().iter().map(|event| {
            let (own, dated) = (self.schema.clock_of(event), self.schema.is_dated(event));
            Dating { resolution, start: self.start, ..Dating::new(own, dated, reference) }
        });
        let file = |&start: &u64| File {
            decoder: Some(Decoder::new(&self.schema, |field| self.translation.wants(field))),
            start,
            queue: VecDeque::new(),
            now: None,
            lacks: false,
            cores: CoreSet::NONE,
            unplaced: Vec::new(),
        };
        EventReading {
            translation: &self.translation,
            origin,
            files: starts.iter().map(file).collect(),
            reader: CtfReader::new(&self.schema, &self.translation),
            dates: dates.collect(),
            slips: reference.is_some_and(|clock| wraps_soon(&self.schema, clock)),
            counts: EventCounts {
                kinds: vec![0; self.schema.events().len()],
                ..EventCounts::default()
            },
            grounding: Grounding::of(&self.translation),
            lacking: vec![Lack::default(); starts.len()],
            told_by: [Turns::default(), Turns::default()],
        }
    }
}

/// When a file begins, in ticks of the reference clock: with its first packet, or else its first event.
#[derive(Debug)]
pub struct First<'s> {
    trace: &'s EventTrace,
    decoder: Option<Decoder<'s>>,
    /// What was found.
    pub found: Option<u64>,
}

impl First<'_> {
    /// The next bytes of the file. Whether it is worth going on.
    pub fn push(&mut self, bytes: &[u8]) -> bool {
        if let Some(mut decoder) = self.decoder.take() {
            decoder.push(bytes, self);
            self.decoder = Some(decoder).filter(|_| self.found.is_none());
        }
        self.decoder.is_some()
    }
}

impl ctf::Sink for First<'_> {
    fn packet(&mut self, stream: usize, begin: Option<u64>) {
        // The packet's begin is no event: it has the clock of its stream.
        let class = self.trace.schema.events().iter().find(|event| event.stream() == stream);
        if let (None, Some(class), Some(begin)) = (self.found, class, begin) {
            let (own, dated) =
                (self.trace.schema.clock_of(class), self.trace.schema.is_dated(class));
            let dating = Dating::new(own, dated, self.trace.clock());
            self.found = dating.window(begin, 0).map(|time| time.earliest);
        }
    }

    fn event(&mut self, _: Range<u64>, record: Record<'_>) {
        let time = self.trace.when(&record).map(|time| time.earliest);
        self.found = self.found.or(time);
    }

    fn loss(&mut self, _: Range<u64>, _: Damage) {}

    fn missing(&mut self, _: u64, _: Option<u64>, _: Missing) {}
}

/// Whether a clock may wrap unseen while nothing is read.
fn wraps_soon(schema: &Schema, clock: &Clock) -> bool {
    let bits = schema.widest_time();
    bits < 64 && (1_u64 << bits) / clock.hertz < LONG_S
}

/// What was read of an event trace.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct EventCounts {
    /// How often each kind of event was read, by number.
    pub kinds: Vec<u64>,
    /// Events that lacked what their meaning needs.
    pub unclear: u64,
    /// Events that the tracer dropped, as it counts them.
    pub dropped: u64,
    /// Packets that never came, by their numbers.
    pub packets: u64,
}

/// How a stream's ticks become those of the reference clock.
#[derive(Debug, Clone, Copy)]
struct Dating {
    dated: bool,
    precision: u64,
    resolution: u64,
    /// Where the recording begins.
    start: u64,
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
        Self { dated, precision, resolution: 0, start: 0, mapped }
    }

    fn window(&self, time: u64, earlier_by: u64) -> Option<Window> {
        let time = match self.mapped {
            None => time,
            Some((offset, hertz, to_offset, to_hertz)) => {
                let since = i128::from(time).checked_add(offset)?.checked_mul(to_hertz)? / hertz;
                u64::try_from(since.checked_sub(to_offset)?).ok()?
            }
        };
        let earliest = time.saturating_sub(earlier_by).saturating_sub(self.precision);
        let latest = time.saturating_add(self.precision).saturating_add(self.resolution);
        let since = |time: u64| time.saturating_sub(self.start);
        self.dated.then(|| Window { earliest: since(earliest), latest: since(latest) })
    }
}

/// What waits for its turn.
#[derive(Debug)]
struct Item {
    position: Position,
    what: What,
}

#[derive(Debug)]
enum What {
    /// An event; whether it was said on which core.
    Event(Event, bool),
    /// An event, behind which the file has nothing to say of what happened on this core.
    Lost(Event),
    /// From here on it has.
    GoesOn,
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
    lacks: bool,
    /// The cores of which it told.
    cores: CoreSet,
    /// Losses before it told of any.
    unplaced: Vec<Item>,
}

/// Of which cores a file lacks something just now.
#[derive(Debug, Clone, Copy, Default)]
struct Lack {
    cores: CoreSet,
    /// Of these, those of which another file told meanwhile.
    told: CoreSet,
}

/// An event trace that is being read. Whoever reads asks which file is wanted next.
///
/// Often each core writes a file of its own, and a loss in one file concerns its core alone. Where several files tell
/// of one core, all that they tell while one of them lacks something is incomplete.
#[derive(Debug)]
pub struct EventReading<'s> {
    translation: &'s Translation,
    origin: Origin,
    files: Vec<File<'s>>,
    reader: CtfReader<'s>,
    dates: Vec<Dating>,
    /// A loss may hide that the clock has wrapped.
    slips: bool,
    counts: EventCounts,
    grounding: Grounding,
    /// By file: what it lacks now, in the merged order.
    lacking: Vec<Lack>,
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

    /// What was read so far.
    #[must_use]
    pub fn counts(&self) -> EventCounts {
        EventCounts { unclear: self.reader.unclear, ..self.counts.clone() }
    }

    /// A core whose number is too large, if there was one.
    #[must_use]
    pub const fn strange_core(&self) -> Option<&StrangeCore> {
        self.reader.strange_core.as_ref()
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
            self.place_losses(file);
        }
        self.release(sink);
    }

    /// A file that told of no core at all lost something: it may concern any.
    fn place_losses(&mut self, file: usize) {
        let unplaced = std::mem::take(&mut self.files[file].unplaced);
        if unplaced.is_empty() {
            return;
        }
        let mut cores = CoreSet::NONE;
        self.files.iter().flat_map(|file| file.cores.iter()).for_each(|core| cores.add(core));
        if cores.is_empty() {
            cores.add(0);
        }
        self.files[file].queue.extend(unplaced.iter().flat_map(|item| item.on(cores)));
    }

    fn taking(&mut self, file: usize) -> Taking<'_, 's> {
        let Self { translation, origin, files, reader, dates, counts, slips, .. } = self;
        let file = &mut files[file];
        Taking { translation, origin: *origin, file, reader, dates, counts, slips: *slips }
    }

    /// Hands on what no file can come before any more.
    fn release(&mut self, sink: &mut dyn Sink) {
        let waits = |file: &File<'_>| file.decoder.is_some() && file.queue.is_empty();
        while !self.files.iter().any(waits) {
            // A loss begins where the events before it end.
            let key = |item: &Item| match (&item.what, item.position.time) {
                (What::Lost(_), Some(time)) => Some(time.earliest),
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
        let core = item.position.core;
        let shared = Event::Lost { bytes: 0..0, why: LossReason::Shared };
        let (event, has_core) = match &item.what {
            What::Event(event, has_core) => (event, *has_core),
            What::Lost(event) => {
                self.lacking[number].cores.add(core);
                (event, true)
            }
            What::GoesOn => {
                let lack = &mut self.lacking[number];
                lack.cores.remove(core);
                // What came between the last that others told and this is incomplete, too.
                if lack.told.has(core) {
                    lack.told.remove(core);
                    self.grounding.pass(item.position, &shared, sink);
                }
                return;
            }
        };
        self.while_others_lack(number, item.position, event, sink);
        let kind = kind_of_core(event).filter(|_| !has_core);
        if kind.is_some_and(|kind| self.told_by[kind].come_back(number)) {
            sink.event(item.position, &Event::SeveralCores);
        }
        self.grounding.pass(item.position, event, sink);
    }

    /// While another file lacks something of a core, nothing that is told of it has all of what happened beside it. A
    /// text is whole in its file all the same.
    fn while_others_lack(
        &mut self,
        number: usize,
        position: Position,
        event: &Event,
        sink: &mut dyn Sink,
    ) {
        if matches!(event, Event::Said { .. }) {
            return;
        }
        let mut lacks = false;
        for (other, lack) in self.lacking.iter_mut().enumerate() {
            if other != number && lack.cores.has(position.core) {
                lack.told.add(position.core);
                lacks = true;
            }
        }
        if lacks {
            let shared = Event::Lost { bytes: 0..0, why: LossReason::Shared };
            self.grounding.pass(position, &shared, sink);
        }
    }
}

impl Item {
    /// A loss, on each of these cores; it counts on the first.
    fn on(&self, cores: CoreSet) -> impl Iterator<Item = Self> {
        let mut event = match &self.what {
            What::Event(event, _) | What::Lost(event) => Some(event.clone()),
            What::GoesOn => None,
        };
        let shared = Event::Lost { bytes: 0..0, why: LossReason::Shared };
        let at = self.position;
        let cores: Vec<u8> = cores.iter().collect();
        cores.into_iter().map(move |core| {
            let event = event.take().unwrap_or_else(|| shared.clone());
            Self { position: Position { core, ..at }, what: What::Lost(event) }
        })
    }
}

/// Takes what a decoder finds into its file's queue.
struct Taking<'a, 's> {
    translation: &'a Translation,
    origin: Origin,
    file: &'a mut File<'s>,
    reader: &'a mut CtfReader<'s>,
    dates: &'a [Dating],
    counts: &'a mut EventCounts,
    slips: bool,
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
        let position = Position::new(self.origin, bytes.start, time);
        let why = match why {
            LossReason::EventTrace(why) if self.slips => {
                LossReason::EventTraceSlip(Lacking::Bytes(why))
            }
            LossReason::Dropped if self.slips => LossReason::EventTraceSlip(Lacking::Events),
            LossReason::PacketsMissing if self.slips => {
                LossReason::EventTraceSlip(Lacking::Packets)
            }
            why => why,
        };
        self.file.lacks = true;
        let end = bytes.end;
        let item = Item { position, what: What::Lost(Event::Lost { bytes, why }) };
        if !self.file.cores.is_empty() {
            self.file.queue.extend(item.on(self.file.cores));
        } else if self.file.unplaced.len() < MOST_UNPLACED {
            self.file.unplaced.push(item);
        } else if let Some(What::Lost(Event::Lost { bytes, .. })) =
            self.file.unplaced.last_mut().map(|last| &mut last.what)
        {
            // Whoever writes so many means harm: they are one.
            bytes.end = bytes.end.max(end);
        }
    }
}

impl ctf::Sink for Taking<'_, '_> {
    fn event(&mut self, at: Range<u64>, record: Record<'_>) {
        self.counts.kinds[record.class] += 1;
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
        let said = reader.core(&record);
        let core = said.unwrap_or(0);
        let mine = Position::new(*origin, file.start + at.start, time);
        let position = Position { core, ..mine };
        file.cores.add(core);
        for item in std::mem::take(&mut file.unplaced) {
            file.queue.extend(item.on(file.cores));
        }
        if time.is_some() && std::mem::take(&mut file.lacks) {
            let again = |core| Item { position: Position { core, ..mine }, what: What::GoesOn };
            file.queue.extend(file.cores.iter().map(again));
        }
        let at = file.start + at.start..file.start + at.end;
        reader.tell(&record, at, &mut |event| {
            let what = What::Event(event, said.is_some());
            file.queue.push_back(Item { position, what });
        });
    }

    fn loss(&mut self, at: Range<u64>, why: Damage) {
        self.lost(at, None, LossReason::EventTrace(why));
    }

    fn missing(&mut self, offset: u64, begin: Option<u64>, what: Missing) {
        let why = match what {
            Missing::Events(events) => {
                self.counts.dropped = self.counts.dropped.saturating_add(events);
                LossReason::Dropped
            }
            Missing::Packets(packets) => {
                self.counts.packets = self.counts.packets.saturating_add(packets);
                LossReason::PacketsMissing
            }
            Missing::Wraps(_) => {
                let position = self.file.start + offset;
                let position = Position::new(self.origin, position, self.file.now);
                let what = What::Event(Event::ClockFault(ClockFault::StampsWrapped), true);
                return self.file.queue.push_back(Item { position, what });
            }
        };
        // Streams of other clocks: the gap's end is not known here.
        let begin = begin.filter(|_| self.dates.iter().all(|dating| dating.mapped.is_none()));
        let start = self.dates.first().map_or(0, |dating| dating.start);
        let begin = begin.map(|begin| begin.saturating_sub(start));
        self.lost(offset..offset, begin, why);
    }
}

//! `inspect --packets`: the packets themselves, each with its byte, its time and its meaning.

use crate::cli::Format;
use crate::show::{self, PacketLine};
use crate::sources::Capture;
use anyhow::{Context as _, Result, bail};
use std::cell::RefCell;
use std::io::Write;
use std::ops::Range;
use std::rc::Rc;
use std::time::Duration;
use weltblick_core::capture::{Instructions, Tap};
use weltblick_core::event::{Event, Origin, Position, Sink};
use weltblick_core::flow::{self, Block, Clocking, Moment, Passage, Passed};
use weltblick_core::image::Image;
use weltblick_core::judge::{Point, PointRange};
use weltblick_core::time::{Frequency, Window};
use weltblick_core::wire::itm::{Carried, Malformed, Packet};
use weltblick_core::wire::mtb;
use weltblick_core::wire::tpiu::Damage;

/// Packets that wait for their timestamp at most; the event reader holds no more either.
const MOST_WAITING: usize = 1100;

/// Which packets to list, and how.
pub(super) struct Request<'a> {
    pub(super) within: Option<&'a PointRange>,
    pub(super) top: usize,
    pub(super) format: Format,
}

/// Lists packets as text lines, or as one JSON object a line.
pub(super) fn list(capture: &Capture, request: &Request<'_>, out: &mut dyn Write) -> Result<()> {
    let wanted = Wanted::new(capture, request.within)?;
    let origins = capture.origin_names();
    let mut face = show::PacketFace::new(request.format, out);
    face.heading()?;
    let listing = Rc::new(RefCell::new(Listing {
        waiting: Vec::new(),
        has_undated: false,
        dated: 0,
        wanted,
        carried: vec![Carried::default(); origins.len()],
        origins,
        image: capture.image.as_ref().map(|open| &open.image),
        clock: capture.timestamp_clock(),
        left: request.top,
        passed: false,
        face,
        failed: None,
    }));
    let (mut packets, mut events) = (Packets(Rc::clone(&listing)), Events(Rc::clone(&listing)));
    capture.replay_tapped(&mut packets, &mut events)?;
    drop((packets, events));
    let Some(listing) = Rc::into_inner(listing) else { return Ok(()) };
    let mut listing = listing.into_inner();
    listing.release();
    listing.failed.map_or(Ok(()), |error| Err(error.into()))
}

/// What `--within` asks for.
pub(super) struct Wanted {
    bytes: Range<u64>,
    stream: Option<String>,
    cycles: Option<Range<u64>>,
}

impl Wanted {
    pub(super) fn new(capture: &Capture, within: Option<&PointRange>) -> Result<Self> {
        let mut wanted = Self { bytes: 0..u64::MAX, stream: None, cycles: None };
        let Some(range) = within else { return Ok(wanted) };
        // Packets of an instruction trace have no time of their own: what they tell has.
        let by_flow = capture.manifest.itm().is_none() && capture.has_flow();
        let mut cycles = 0..u64::MAX;
        for (point, is_start) in [(&range.start, true), (&range.end, false)] {
            match point {
                None | Some(Point::First | Point::Last) => {}
                Some(Point::Byte { stream, offset }) => {
                    let edge =
                        if is_start { &mut wanted.bytes.start } else { &mut wanted.bytes.end };
                    *edge = *offset;
                    wanted.stream = Some(stream.clone());
                }
                Some(Point::Time(time)) => {
                    let edge = if is_start { &mut cycles.start } else { &mut cycles.end };
                    *edge = cycle_at(capture, *time)?;
                    wanted.cycles = Some(cycles.clone());
                }
                Some(other) => bail!("--within: give times or bytes here, not `{other}`"),
            }
        }
        if let Some(cycles) = wanted.cycles.take_if(|_| by_flow) {
            let told = told_in(capture, cycles)?;
            let Range { start, end } = wanted.bytes;
            wanted.bytes = start.max(told.start)..end.min(told.end);
            wanted.stream.get_or_insert_with(|| capture.flow_stream_name());
        }
        if let Some(stream) = &wanted.stream
            && !capture.origin_names().contains(stream)
        {
            let names = capture.origin_names().join(", ");
            bail!("--within: there is no stream `{stream}`; this capture has {names}");
        }
        Ok(wanted)
    }

    pub(super) fn holds(&self, at: &Range<u64>, origin: &str, time: Option<Window>) -> bool {
        let in_bytes = self.bytes.contains(&at.start);
        let in_stream = self.stream.as_deref().is_none_or(|stream| stream == origin);
        let in_time = self.cycles.as_ref().is_none_or(|cycles| {
            time.is_some_and(|time| !time.is_outside(cycles.start, cycles.end))
        });
        in_bytes && in_stream && in_time
    }

    /// Whether everything from a packet on lies behind what is wanted.
    fn ends_before(&self, at: &Range<u64>, origin: &str) -> bool {
        at.start >= self.bytes.end && self.stream.as_deref() == Some(origin)
    }
}

fn cycle_at(capture: &Capture, time: Duration) -> Result<u64> {
    let clock =
        capture.timestamp_clock().context("--within needs the core clock: give --core-clock")?;
    Ok(clock.cycle_at(time))
}

/// The bytes of an instruction trace from the count of cycles, or the timestamp, before an interval up to the one after it.
fn told_in(capture: &Capture, cycles: Range<u64>) -> Result<Range<u64>> {
    let clocking = capture.flow_clocking();
    if clocking == Clocking::Nothing || !capture.tells_events_by_flow() {
        bail!(
            "--within: packets of this instruction trace have no time: give bytes, such as {}@4096..",
            capture.flow_stream_name()
        );
    }
    let passage = Passage::by(clocking);
    let mut counts = Counts { wanted: cycles, passage, cycles: 0, bytes: 0..u64::MAX };
    capture.replay_flow(&mut counts)?;
    Ok(counts.bytes)
}

/// Looks for the counts of cycles, or timestamps, around an interval.
struct Counts {
    wanted: Range<u64>,
    passage: Passage,
    cycles: u64,
    bytes: Range<u64>,
}

impl flow::Sink for Counts {
    fn ran(&mut self, _: &Block, _: bool) {}

    fn moment(&mut self, offset: u64, moment: &Moment) {
        if let Some(Passed::Ticks(ticks)) = self.passage.of(moment)
            && !self.has_enough()
        {
            self.cycles += ticks;
            if self.wanted.start > 0 && self.cycles <= self.wanted.start {
                self.bytes.start = offset;
            }
            if self.cycles > self.wanted.end {
                self.bytes.end = offset + 1;
            }
        }
    }

    fn has_enough(&self) -> bool {
        let open = self.wanted.end == u64::MAX;
        self.bytes.end < u64::MAX || open && self.cycles > self.wanted.start
    }
}

/// Something in the stream that waits for its time.
struct Waiting {
    origin: Origin,
    at: Range<u64>,
    what: What,
    time: Option<Window>,
}

enum What {
    /// And what it left behind for those after it.
    Packet(Packet, Carried),
    Branch(mtb::Packet),
    Instructions(Instructions),
    Loss(&'static str),
}

struct Listing<'a> {
    waiting: Vec<Waiting>,
    /// Among them is one whose timestamp has not come.
    has_undated: bool,
    /// Where in `waiting` the last event was found.
    dated: usize,
    wanted: Wanted,
    origins: Vec<String>,
    /// Of each origin.
    carried: Vec<Carried>,
    image: Option<&'a Image>,
    clock: Option<Frequency>,
    left: usize,
    /// Behind all bytes that are wanted.
    passed: bool,
    face: show::PacketFace<'a>,
    failed: Option<std::io::Error>,
}

impl Listing<'_> {
    fn hold(&mut self, origin: Origin, at: Range<u64>, what: What) {
        // A timestamp has dated all before it by the time that the next packet comes.
        if !self.has_undated || self.waiting.len() >= MOST_WAITING {
            self.release();
        }
        match &what {
            What::Packet(Packet::LocalTime { .. }, _) | What::Loss(_) => self.has_undated = false,
            What::Packet(..) => self.has_undated = true,
            // Other sources of a port do not wait for timestamps.
            What::Branch(_) | What::Instructions(_) => {}
        }
        self.waiting.push(Waiting { origin, at, what, time: None });
    }

    /// An event's time is its packet's time. Events come in the order of their packets, so the
    /// search goes on where the last one ended.
    fn date(&mut self, position: Position) {
        let same =
            |entry: &Waiting| entry.origin == position.origin && entry.at.start == position.offset;
        if let Some(ahead) = self.waiting.iter().skip(self.dated).position(same) {
            self.dated += ahead;
            self.waiting[self.dated].time = position.time;
        }
    }

    fn release(&mut self) {
        self.dated = 0;
        let mut last = None;
        for mut entry in std::mem::take(&mut self.waiting) {
            // What has no event of its own shares the time of what it belongs to.
            if let What::Packet(..) = entry.what {
                entry.time = entry.time.or(last);
                last = entry.time;
            }
            if self.left == 0 || self.failed.is_some() {
                continue;
            }
            let name = self.origins.get(usize::from(entry.origin.0)).map_or("", String::as_str);
            self.passed |= self.wanted.ends_before(&entry.at, name);
            if self.wanted.holds(&entry.at, name, entry.time) {
                self.left -= 1;
                let line = PacketLine {
                    origin: name,
                    at: entry.at,
                    time: entry.time,
                    clock: self.clock,
                    image: self.image,
                };
                let written = match entry.what {
                    What::Packet(packet, carried) => self.face.packet(&line, packet, &carried),
                    What::Branch(packet) => self.face.branch(&line, packet),
                    What::Instructions(packet) => self.face.instructions(&line, &packet),
                    What::Loss(why) => self.face.loss(&line, why),
                };
                self.failed = written.err();
            }
        }
    }
}

/// The half of a listing that sees packets.
struct Packets<'a>(Rc<RefCell<Listing<'a>>>);

impl Tap for Packets<'_> {
    fn has_enough(&self) -> bool {
        let listing = self.0.borrow();
        listing.left == 0 || listing.passed || listing.failed.is_some()
    }

    fn packet(&mut self, origin: Origin, at: Range<u64>, packet: Packet) {
        let mut listing = self.0.borrow_mut();
        let Some(carried) = listing.carried.get_mut(usize::from(origin.0)) else { return };
        carried.take(&packet);
        let carried = carried.clone();
        listing.hold(origin, at, What::Packet(packet, carried));
    }

    fn branch(&mut self, origin: Origin, at: Range<u64>, packet: mtb::Packet) {
        self.0.borrow_mut().hold(origin, at, What::Branch(packet));
    }

    fn instructions(&mut self, origin: Origin, at: Range<u64>, packet: Instructions) {
        self.0.borrow_mut().hold(origin, at, What::Instructions(packet));
    }

    fn loss(&mut self, origin: Origin, at: Range<u64>, why: Malformed) {
        self.0.borrow_mut().hold(origin, at, What::Loss(why.describe()));
    }

    fn frame_loss(&mut self, at: Range<u64>, why: Damage) {
        self.0.borrow_mut().hold(Origin(0), at, What::Loss(why.describe()));
    }
}

/// The half that sees events.
struct Events<'a>(Rc<RefCell<Listing<'a>>>);

impl Sink for Events<'_> {
    fn event(&mut self, position: Position, _: &Event) {
        self.0.borrow_mut().date(position);
    }
}

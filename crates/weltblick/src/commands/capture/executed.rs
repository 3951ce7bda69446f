//! What ran so far, where an instruction trace arrives: its exact profile and coverage.

use crate::commands::measured_code::doubts_of;
use crate::sources::OpenImage;
use std::cell::OnceCell;
use weltblick_core::capture::{FlowLine, Manifest};
use weltblick_core::event::{Event, FlowEvents, LossReason, Position, Sink};
use weltblick_core::figure::Doubt;
use weltblick_core::flow::Clocking;
use weltblick_core::image::Image;
use weltblick_core::measure::coverage::{self, Build, Choice, CoverageReport};
use weltblick_core::measure::execution::{
    BlockCounts, Calls, ExactContext, ExactProfile, Listing, Seen, by_function,
};
use weltblick_core::measure::statistic::Scale;

/// Counts what arrives.
pub(super) struct Executed<'a> {
    pub(super) stream: usize,
    line: FlowLine<'a>,
    image: &'a Image,
    /// Made when it is first looked at.
    listing: OnceCell<Listing>,
    counts: BlockCounts,
    calls: Calls<'a>,
    clocking: Clocking,
    scale: Option<Scale>,
    /// Exceptions as events, where no other stream has them.
    events: Option<FlowEvents<Queue>>,
}

/// Events on their way to whoever counts them.
#[derive(Default)]
struct Queue(Vec<(Position, Event)>);

impl Sink for Queue {
    fn event(&mut self, position: Position, event: &Event) {
        self.0.push((position, event.clone()));
    }
}

impl<'a> Executed<'a> {
    /// Nothing ran yet; `None` where no instruction trace comes, or no image says what it means.
    pub(super) fn new(manifest: &Manifest, image: Option<&'a OpenImage>) -> Option<Self> {
        let image = &image?.image;
        let (stream, source) = manifest.flow()?;
        let spec = &manifest.streams[stream];
        let clocking = FlowLine::clocking(spec, source);
        let origin = manifest.origin(stream, source);
        let leads = manifest.flow_events() == Some((stream, source));
        Some(Self {
            stream,
            line: FlowLine::new(spec, source, image)?,
            image,
            listing: OnceCell::new(),
            counts: BlockCounts::default(),
            calls: Calls::new(image, clocking),
            clocking,
            scale: manifest.flow_clock().map(|clock| Scale::of(clock, manifest.target.core_clock)),
            events: leads.then(|| FlowEvents::new(origin, clocking, Queue::default())),
        })
    }

    /// Bytes arrived; exceptions are handed on as events.
    pub(super) fn push(&mut self, bytes: &[u8], sink: &mut dyn Sink) {
        let Self { line, counts, calls, events, .. } = self;
        match events {
            Some(events) => line.push(bytes, &mut (events, (counts, calls))),
            None => line.push(bytes, &mut (counts, calls)),
        }
        self.hand_on(sink);
    }

    /// Bytes are missing, or nobody wanted them.
    pub(super) fn gap(&mut self, why: Option<LossReason>, sink: &mut dyn Sink) {
        let Self { line, counts, calls, events, .. } = self;
        match events {
            Some(events) => line.gap(why, &mut (events, (counts, calls))),
            None => line.gap(why, &mut (counts, calls)),
        }
        self.hand_on(sink);
    }

    fn hand_on(&mut self, sink: &mut dyn Sink) {
        self.calls.catch_up();
        let Some(events) = &mut self.events else { return };
        for (position, event) in events.sink_mut().0.drain(..) {
            sink.event(position, &event);
        }
    }

    /// Instructions so far.
    pub(super) const fn instructions(&self) -> u64 {
        self.calls.instructions()
    }

    /// What speaks against times, where exceptions come from this trace; nothing where they do not.
    ///
    /// Whether its timestamps agree with its cycle counts is left to whoever reads all of it.
    pub(super) fn against_times(&self) -> Option<Vec<Doubt>> {
        self.events.as_ref().map(|_| doubts_of(0, self.counts.gaps()))
    }

    /// What `profile` would say.
    pub(super) fn profile(&self) -> ExactProfile {
        let context = ExactContext {
            image: self.image,
            scale: self.scale,
            gaps: self.counts.gaps(),
            time: self.clocking.name(),
            executed: None,
        };
        by_function(&self.calls, &context)
    }

    /// What `coverage` would say.
    pub(super) fn coverage(&self) -> CoverageReport {
        let listing = self.listing.get_or_init(|| Listing::of(self.image));
        let tally = self.counts.clone().into_tally(self.line.code());
        let seen = Seen::of_flow(&tally, listing);
        let build = Build { image: self.image, listing, seen: &seen };
        coverage::report(&build, &Choice::default())
    }
}

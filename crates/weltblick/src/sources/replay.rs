//! Reading a capture: streams into events, and instruction traces into what ran.

use super::capture::Capture;
use super::events;
use super::flow_index::flow_index;
use super::read::Files;
use super::segments::{Piece, gaps_from, push_between};
use anyhow::{Context as _, Result, bail};
use std::ops::{ControlFlow, Range};
use weltblick_core::capture::{Anchor, FlowLine, Framing, Line, Protocol, Tap};
use weltblick_core::event::{CurrentTask, FlowEvents, Sink};
use weltblick_core::flow;
use weltblick_core::image::Variables;
use weltblick_core::measure::execution::TaskEvents;

/// Bytes before a place in an instruction trace from which on reading starts: many synchronisations, and
/// most of the calls that led there.
const FLOW_RUN_UP: u64 = 1 << 20;

/// Who hears an instruction trace beside its events.
#[derive(Default)]
pub(crate) struct Also<'s> {
    /// Hears events up to the last synchronisation that agrees with what ran.
    pub(crate) confirmed: Option<&'s mut dyn Sink>,
    /// Hears what ran.
    pub(crate) beside: Option<&'s mut dyn flow::Sink>,
}

impl Capture {
    /// Reads all streams, one after the other, into events.
    pub(crate) fn replay(&self, sink: &mut dyn Sink) -> Result<()> {
        self.replay_tapped(&mut (), sink)
    }

    /// Reads all streams into events; a tap sees their packets, until it has enough.
    pub(crate) fn replay_tapped(&self, tap: &mut dyn Tap, mut sink: &mut dyn Sink) -> Result<()> {
        match self.manifest.current_task() {
            None => self.replay_asked_for(tap, &mut sink),
            watch => {
                let variables = self.variables()?;
                let name_of = |task| task_at(task, variables.as_ref());
                let mut sink: &mut dyn Sink = &mut CurrentTask::new(watch, name_of, sink);
                self.replay_asked_for(tap, &mut sink)
            }
        }
    }

    /// Reads all streams for one sink alone: compiled for it, where a call for each event would cost too much.
    pub(crate) fn replay_into<S: Sink>(&self, sink: &mut S) -> Result<()> {
        let is_plain =
            self.manifest.current_task().is_none() && self.manifest.ranges.is_everything();
        if is_plain { self.replay_all(&mut (), sink) } else { self.replay(sink) }
    }

    fn replay_asked_for(&self, tap: &mut dyn Tap, sink: &mut &mut dyn Sink) -> Result<()> {
        let ranges = &self.manifest.ranges;
        if ranges.is_everything() {
            self.replay_all(tap, sink)
        } else {
            let mut sink: &mut dyn Sink = &mut ranges.filtering(sink);
            self.replay_all(tap, &mut sink)
        }
    }

    fn replay_all<S: Sink>(&self, tap: &mut dyn Tap, sink: &mut S) -> Result<()> {
        for (number, stream) in self.manifest.streams.iter().enumerate() {
            if self.manifest.leads(stream) {
                self.replay_stream_into(number, tap, sink)?;
            }
        }
        Ok(())
    }

    /// Reads one stream into events.
    pub(crate) fn replay_stream(&self, number: usize, mut sink: &mut dyn Sink) -> Result<()> {
        self.replay_stream_into(number, &mut (), &mut sink)
    }

    fn replay_stream_into<S: Sink>(
        &self,
        number: usize,
        tap: &mut dyn Tap,
        sink: &mut S,
    ) -> Result<()> {
        let origin = self.manifest.origin(number, 0);
        if let Some(trace) = &self.traces[number] {
            let dating = (origin, self.manifest.event_resolution());
            return events::replay(trace, &self.inputs[number], dating, tap, sink);
        }
        if self.manifest.flow_events().is_some_and(|(stream, _)| stream == number)
            && self.image.is_some()
        {
            return self.replay_executed(number, Also::default(), tap, sink);
        }
        let mut line = Line::new(&self.manifest.streams[number], origin);
        self.read_stream(number, &mut |piece| {
            match piece {
                Piece::Bytes(bytes) if tap.wants_packets() => line.push(bytes, tap, sink),
                Piece::Bytes(bytes) => line.push_into(bytes, &mut (), sink),
                Piece::Gap(why) => line.gap(why, tap, sink),
            }
            if tap.has_enough() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        line.finish(tap, sink);
        Ok(())
    }

    /// Reads events from what ran, and hands on what else is asked for, in one reading.
    pub(crate) fn replay_trace(&self, sink: &mut dyn Sink, also: Also<'_>) -> Result<()> {
        let Some((number, _)) = self.manifest.flow_events() else { return Ok(()) };
        self.replay_executed(number, also, &mut (), sink)
    }

    /// Reads a stream of instruction trace: packets for the tap, events from what ran.
    fn replay_executed(
        &self,
        number: usize,
        also: Also<'_>,
        tap: &mut dyn Tap,
        sink: &mut dyn Sink,
    ) -> Result<()> {
        let (image, spec) = (self.image()?, &self.manifest.streams[number]);
        let source = self.manifest.flow_events().map_or(0, |(_, source)| source);
        let Some(mut flow) = FlowLine::new(spec, source, image) else { return Ok(()) };
        let mut line =
            tap.wants_packets().then(|| Line::new(spec, self.manifest.origin(number, 0)));
        flow.cut_at(&self.part.cuts(&[]));
        let origin = self.manifest.origin(number, source);
        let by = self.flow_clocking();
        let confirmed = also.confirmed.map(|sink| FlowEvents::new(origin, by, sink).confirmed());
        let confirmed = confirmed.map(|events| self.with_tasks(events)).transpose()?;
        let all = self.with_tasks(FlowEvents::new(origin, by, sink))?;
        let mut events = (all, (confirmed, also.beside));
        self.read_stream(number, &mut |piece| {
            match (piece, &mut line) {
                (Piece::Bytes(bytes), line) => {
                    if let Some(line) = line {
                        line.push(bytes, tap, &mut ());
                    }
                    flow.push(bytes, &mut events);
                }
                (Piece::Gap(why), line) => {
                    if let Some(line) = line {
                        line.gap(why, tap, &mut ());
                    }
                    flow.gap(why, &mut events);
                }
            }
            if tap.has_enough() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })?;
        if let Some(line) = line {
            line.finish(tap, &mut ());
        }
        flow.finish(&mut events);
        events.0.finish();
        if let Some(confirmed) = &mut events.1.0 {
            confirmed.finish();
        }
        Ok(())
    }

    /// Events of the part that is asked for, with those of the threads.
    fn with_tasks<'c, 's>(
        &'c self,
        events: FlowEvents<&'s mut dyn Sink>,
    ) -> Result<TaskEvents<'c, &'s mut dyn Sink>> {
        let image = self.image()?;
        let threads = self.roster()?.map(|roster| self.threads(image, roster));
        let [from, until] = self.part.edges();
        Ok(TaskEvents::new(threads, events).only(from, until))
    }

    /// Hands on the bytes of a stream and the gaps between them, until `take` breaks off.
    pub(super) fn read_stream(
        &self,
        number: usize,
        take: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>,
    ) -> Result<()> {
        if let Some((files, parts)) = self.dumped(number)? {
            for part in parts.into_iter().filter(|part| !part.is_empty()) {
                files.read(part, |bytes| take(Piece::Bytes(bytes)))?;
            }
            return Ok(());
        }
        let mut gaps = self.gaps.get(number).map_or(&[][..], Vec::as_slice);
        let mut at = 0;
        for input in &self.inputs[number] {
            input.read(|bytes| {
                let mut flow = ControlFlow::Continue(());
                push_between(bytes, &mut at, &mut gaps, |piece| flow = take(piece));
                flow
            })?;
        }
        Ok(())
    }

    /// A dump of a buffer whose write position is stated, and its parts from the oldest packet on: offsets count from
    /// that one.
    fn dumped(&self, number: usize) -> Result<Option<(Files, [Range<u64>; 2])>> {
        let protocols = self.manifest.streams[number].sources.iter().map(|source| &source.protocol);
        let stated = protocols.into_iter().find_map(|protocol| match protocol {
            Protocol::Mtb(settings) if settings.mtb_position != 0 => Some(settings),
            _ => None,
        });
        let Some(settings) = stated else { return Ok(None) };
        let files = Files::of(&self.inputs[number]).context(
            "mtb_position: a dump is read from its oldest packet on, which needs a file",
        )?;
        let length = files.length;
        let parts = settings.parts(length).with_context(|| {
            format!(
                "mtb_position = {:#x} lies behind the dump, which has {length} bytes: dump all of the buffer, or leave the position out",
                settings.mtb_position
            )
        })?;
        Ok(Some((files, parts)))
    }

    /// Follows the instruction trace through the image; the blocks that were reached.
    pub(crate) fn replay_flow(&self, sink: &mut dyn flow::Sink) -> Result<flow::Code<'_>> {
        self.replay_flow_cut(&[], sink)
    }

    /// Follows the instruction trace; blocks begin at these addresses, and none runs across them.
    pub(crate) fn replay_flow_cut(
        &self,
        cuts: &[u64],
        mut sink: &mut dyn flow::Sink,
    ) -> Result<flow::Code<'_>> {
        self.replay_flow_into(cuts, &mut sink)
    }

    /// Follows the instruction trace for one sink alone: compiled for it, where a call for each block would
    /// cost too much.
    pub(crate) fn replay_flow_into<S: flow::Sink>(
        &self,
        cuts: &[u64],
        sink: &mut S,
    ) -> Result<flow::Code<'_>> {
        let mut line = self.flow_line_cut(cuts)?;
        self.push_flow(&mut line, sink)?;
        Ok(line.finish(sink))
    }

    /// Follows the instruction trace cycle by cycle, where it has those of each instruction.
    pub(crate) fn replay_flow_stepwise(
        &self,
        cuts: &[u64],
        mut sink: &mut dyn flow::Sink,
    ) -> Result<()> {
        let mut line = self.flow_line_cut(cuts)?;
        line.time_each_instruction();
        self.push_flow(&mut line, &mut sink)?;
        line.finish(&mut sink);
        Ok(())
    }

    /// A line at the start of the instruction trace.
    pub(super) fn flow_line_cut(&self, cuts: &[u64]) -> Result<FlowLine<'_>> {
        let image = self.image()?;
        let (number, source) = self.manifest.flow().with_context(|| {
            format!(
                "{}: no stream of this capture is an instruction trace (`protocol = \"etmv3\"`, `\"etmv4\"` or `\"mtb\"`)",
                self.name.display()
            )
        })?;
        let spec = &self.manifest.streams[number];
        let Some(mut line) = FlowLine::new(spec, source, image) else {
            bail!("{}: stream {number} tells no flow", self.name.display())
        };
        line.cut_at(cuts);
        Ok(line)
    }

    /// Reads all of the instruction trace, until the sink has enough.
    pub(super) fn push_flow<S: flow::Sink>(
        &self,
        line: &mut FlowLine<'_>,
        sink: &mut S,
    ) -> Result<()> {
        let Some((number, _)) = self.manifest.flow() else { return Ok(()) };
        self.read_stream(number, &mut |piece| push_piece(line, piece, sink))
    }

    /// The same from shortly before byte `near` of the instruction trace on: what ran is known from the
    /// first synchronisation there. Whether that is possible: in files, and by an index if they hold frames.
    pub(crate) fn replay_flow_near(&self, near: u64, sink: &mut dyn flow::Sink) -> Result<bool> {
        self.flow_near(near, |_| (), sink)
    }

    /// Follows it so from shortly before byte `near` on, if that is possible.
    pub(crate) fn replay_flow_stepwise_near(
        &self,
        near: u64,
        sink: &mut dyn flow::Sink,
    ) -> Result<bool> {
        self.flow_near(near, |line| line.time_each_instruction(), sink)
    }

    fn flow_near(
        &self,
        near: u64,
        prepare: fn(&mut FlowLine<'_>),
        mut sink: &mut dyn flow::Sink,
    ) -> Result<bool> {
        let Some((number, source)) = self.manifest.flow() else { return Ok(false) };
        let spec = &self.manifest.streams[number];
        let start = near.saturating_sub(FLOW_RUN_UP);
        let anchor = match spec.framing {
            Framing::None => Some(Anchor::at(start)),
            Framing::Tpiu(_) => flow_index(self)?.and_then(|index| index.anchor(start)),
        };
        let (Some(anchor), Some(files)) = (anchor, Files::of(&self.inputs[number])) else {
            return Ok(false);
        };
        let Some(mut line) = FlowLine::starting_at(spec, source, self.image()?, anchor) else {
            return Ok(false);
        };
        prepare(&mut line);
        let mut gaps = gaps_from(self.gaps_of(number), anchor.stream);
        let mut at = anchor.stream;
        files.read(anchor.stream..files.length, |bytes| {
            let mut flow = ControlFlow::Continue(());
            push_between(bytes, &mut at, &mut gaps, |piece| {
                flow = push_piece(&mut line, piece, &mut sink);
            });
            flow
        })?;
        line.finish(sink);
        Ok(true)
    }
}

/// Reads what comes next of an instruction trace, unless the sink has enough.
fn push_piece<S: flow::Sink>(
    line: &mut FlowLine<'_>,
    piece: Piece<'_>,
    sink: &mut S,
) -> ControlFlow<()> {
    match piece {
        Piece::Bytes(bytes) => line.push_into(bytes, sink),
        Piece::Gap(why) => line.gap(why, sink),
    }
    if sink.has_enough() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
}

/// What to call a task that a kernel knows by this word: mostly it points at a variable.
fn task_at(task: u32, variables: Option<&Variables>) -> String {
    let variable = variables.and_then(|variables| variables.name_at(u64::from(task)));
    variable.unwrap_or_else(|| match task {
        ..=0xffff => format!("task {task}"),
        _ => format!("task at {task:#010x}"),
    })
}

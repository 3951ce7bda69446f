//! `capture.toml`: what the streams of a capture are, read strictly.

mod interrupt;
mod meaning;
mod read;
mod signal;
mod write;

pub use interrupt::InterruptSpec;
pub(crate) use read::read_marks_port;
pub use signal::SignalSpec;
pub(crate) use signal::{read_meaning, read_signals, write_signals};

use super::flow_line::FlowLine;
use crate::document::At;
use crate::event::{CodeRanges, ItmClock, Meaning, Origin};
use crate::flow::Clocking;
use crate::isa::Isa;
use crate::time::Frequency;
use crate::wire::tpiu::{Start, TraceId};
use crate::wire::{etmv3, etmv4, mtb};
use std::time::Duration;

/// The manifest's file name in a capture folder.
pub const MANIFEST: &str = "capture.toml";
/// The only version of the form.
const FORMAT: u64 = 1;

/// What a capture consists of.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Manifest {
    /// The firmware's ELF file, relative to the folder, and where the manifest names it.
    pub image: Option<At<String>>,
    /// What was measured.
    pub target: Target,
    /// Which code was asked for; all of it, if nothing else is said.
    pub ranges: CodeRanges,
    /// A debugger stopped the core while this was recorded: its timing is not its own.
    pub intrusive: bool,
    /// Only what came between points in the code was recorded: a share of it is none of all time.
    pub between_points: bool,
    /// The streams, in order.
    pub streams: Vec<StreamSpec>,
    /// What signals mean.
    pub signals: Vec<SignalSpec>,
    /// What is known of interrupts.
    pub interrupts: Vec<InterruptSpec>,
}

/// What was measured.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Target {
    /// What people call it.
    pub name: Option<String>,
    /// The instruction set; the image says it too.
    pub isa: Option<Isa>,
    /// The core clock.
    pub core_clock: Option<Frequency>,
    /// What global timestamps count: the system's, which need not be the core's.
    pub global_clock: Option<Frequency>,
    /// The known period of the SysTick interrupt, against which the clock is checked.
    pub tick_period: Option<Duration>,
}

/// One stream of bytes, from one or several files.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamSpec {
    /// Files relative to the folder, in order, and where the manifest names them.
    pub files: Vec<At<String>>,
    /// Instead of files: the name of numbered segments (`swo` for `swo.000000.bin` and so on).
    pub segments: Option<String>,
    /// What lies between the bytes and the protocol.
    pub framing: Framing,
    /// Bytes a second that the link carries, where that is known.
    pub capacity: Option<u64>,
    /// The sources in the stream: exactly one without framing.
    pub sources: Vec<SourceSpec>,
}

/// What lies between the bytes of a stream and its protocol.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Framing {
    /// Nothing.
    None,
    /// The CoreSight formatter.
    Tpiu(Start),
}

/// One source: a protocol, and how it was set up.
#[derive(Debug, Clone, PartialEq)]
pub struct SourceSpec {
    /// Its trace ID in a framed stream.
    pub trace_id: Option<TraceId>,
    /// How to read it.
    pub protocol: Protocol,
}

/// A protocol and its settings.
#[derive(Debug, Clone, PartialEq)]
pub enum Protocol {
    /// ITM and DWT packets.
    Itm(ItmSettings),
    /// Packets of a micro trace buffer.
    Mtb(mtb::Settings),
    /// Instruction trace of ETM version 3.
    Etmv3(etmv3::Settings),
    /// Instruction trace of ETM version 4.
    Etmv4(etmv4::Settings),
    /// What a debug stub was asked.
    Poll(PollSettings),
    /// An event trace in the Common Trace Format.
    Ctf(CtfSettings),
}

impl Protocol {
    /// Registers of a macrocell that decide how its packets are read, under the standard's names in lower
    /// case. None for other protocols.
    pub fn registers_mut(&mut self) -> Vec<(&'static str, &mut u32)> {
        match self {
            Self::Etmv3(etmv3::Settings { etmcr, etmidr, etmccer }) => {
                vec![("etmcr", etmcr), ("etmidr", etmidr), ("etmccer", etmccer)]
            }
            Self::Etmv4(settings) => {
                let etmv4::Settings { trcconfigr, trcidr0, trcidr1, trcidr2, trcidr8 } = settings;
                vec![
                    ("trcconfigr", trcconfigr),
                    ("trcidr0", trcidr0),
                    ("trcidr1", trcidr1),
                    ("trcidr2", trcidr2),
                    ("trcidr8", trcidr8),
                ]
            }
            Self::Mtb(mtb::Settings { mtb_position }) => vec![("mtb_position", mtb_position)],
            Self::Itm(_) | Self::Poll(_) | Self::Ctf(_) => Vec::new(),
        }
    }
}

/// An event trace, and what its events mean.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct CtfSettings {
    /// The folder of its files, relative to the capture's, and where the manifest names it.
    pub folder: Option<At<String>>,
    /// The clock of its times, where that is not the trace's own.
    pub clock: Option<Frequency>,
    /// Core cycles between samples of the program counter.
    pub pc_sample_period: Option<u64>,
    /// The field, if events have one, that says how many ticks earlier they may have happened.
    pub earlier_by: Option<At<String>>,
    /// The field that has the number of the core on which an event happened; absent: one of the usual names.
    pub core_field: Option<At<String>>,
    /// What its events mean.
    pub meanings: Vec<Meaning>,
}

/// How a target was polled.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PollSettings {
    /// The core was stopped for every answer: its timing is not its own.
    pub intrusive: bool,
    /// Points in the code at which the core was stopped to time its passing, by number.
    pub laps: Vec<LapPoint>,
}

/// A point in the code whose passing is timed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LapPoint {
    /// What the user called it.
    pub name: String,
    /// Where it is.
    pub address: u64,
}

impl Protocol {
    /// The settings of an ITM.
    #[must_use]
    pub const fn itm(&self) -> Option<&ItmSettings> {
        match self {
            Self::Itm(settings) => Some(settings),
            Self::Mtb(_) | Self::Etmv3(_) | Self::Etmv4(_) | Self::Poll(_) | Self::Ctf(_) => None,
        }
    }

    /// Whether it tells, with an image, every instruction that ran.
    #[must_use]
    pub const fn tells_flow(&self) -> bool {
        matches!(self, Self::Etmv3(_) | Self::Etmv4(_) | Self::Mtb(_))
    }

    /// Whether it may carry samples of the program counter.
    #[must_use]
    pub const fn samples(&self) -> bool {
        matches!(self, Self::Itm(_) | Self::Poll(_) | Self::Ctf(_))
    }
}

/// How an ITM was set up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ItmSettings {
    /// Core cycles between PC samples.
    pub pc_sample_period: Option<u64>,
    /// Cycles of the timestamp clock per tick.
    pub timestamp_prescaler: u32,
    /// The timestamp clock, where it is not the core clock.
    pub timestamp_clock: Option<Frequency>,
    /// The stimulus port of firmware marks; their arguments come on the next.
    pub marks_port: Option<u32>,
    /// Packets that share a synchronous timestamp fell into the same tick.
    pub timestamp_dates_group: bool,
}

impl Default for ItmSettings {
    fn default() -> Self {
        Self {
            pc_sample_period: None,
            timestamp_prescaler: 1,
            timestamp_clock: None,
            marks_port: None,
            timestamp_dates_group: false,
        }
    }
}

impl ItmSettings {
    /// How its timestamps count.
    #[must_use]
    pub const fn clock(&self) -> ItmClock {
        ItmClock {
            prescaler: self.timestamp_prescaler,
            is_own: self.timestamp_clock.is_some(),
            marks_port: self.marks_port,
            dates_group: self.timestamp_dates_group,
        }
    }
}

impl StreamSpec {
    /// A stream of plain ITM packets.
    #[must_use]
    pub fn itm(files: Vec<At<String>>, settings: ItmSettings) -> Self {
        let source = SourceSpec { trace_id: None, protocol: Protocol::Itm(settings) };
        Self { files, ..Self::plain(source) }
    }

    /// One source without framing, of no files yet.
    #[must_use]
    pub fn plain(source: SourceSpec) -> Self {
        let (files, segments, capacity) = (Vec::new(), None, None);
        Self { files, segments, framing: Framing::None, capacity, sources: vec![source] }
    }

    /// An event trace.
    #[must_use]
    pub fn events(settings: CtfSettings) -> Self {
        Self::plain(SourceSpec { trace_id: None, protocol: Protocol::Ctf(settings) })
    }
}

impl Manifest {
    /// The settings of the first ITM source: those that profiles follow.
    #[must_use]
    pub fn itm(&self) -> Option<&ItmSettings> {
        self.streams
            .iter()
            .flat_map(|stream| &stream.sources)
            .find_map(|source| source.protocol.itm())
    }

    /// How the target was polled, where it sent no trace of its own.
    #[must_use]
    pub fn polled(&self) -> Option<&PollSettings> {
        if self.itm().is_some() || self.event_trace().is_some() {
            return None;
        }
        let mut sources = self.streams.iter().flat_map(|stream| &stream.sources);
        sources.find_map(|source| match &source.protocol {
            Protocol::Poll(settings) => Some(settings),
            Protocol::Itm(_)
            | Protocol::Mtb(_)
            | Protocol::Etmv3(_)
            | Protocol::Etmv4(_)
            | Protocol::Ctf(_) => None,
        })
    }

    /// What names a source of a stream among all origins of the recording.
    #[must_use]
    pub fn origin(&self, stream: usize, source: usize) -> Origin {
        let before = self.streams[..stream].iter().map(|stream| stream.sources.len());
        Origin((before.sum::<usize>() + source) as u16)
    }

    /// The comparator that watches the kernel's variable of the task that runs, if one does.
    #[must_use]
    pub fn current_task(&self) -> Option<u8> {
        self.signals.iter().find(|signal| signal.runs_task)?.comparator
    }

    /// Whether a stream's events count: where a target sends its own samples, polled ones stand
    /// back.
    #[must_use]
    pub fn leads(&self, stream: &StreamSpec) -> bool {
        let is_poll = |source: &SourceSpec| matches!(source.protocol, Protocol::Poll(_));
        self.polled().is_some() || !stream.sources.iter().all(is_poll)
    }

    /// The lap points, and the number of the stream that tells of them.
    #[must_use]
    pub fn laps(&self) -> Option<(usize, &[LapPoint])> {
        self.streams.iter().enumerate().find_map(|(number, stream)| {
            stream.sources.iter().find_map(|source| match &source.protocol {
                Protocol::Poll(PollSettings { laps, .. }) if !laps.is_empty() => {
                    Some((number, laps.as_slice()))
                }
                _ => None,
            })
        })
    }

    /// How many of the sources that count may carry samples.
    #[must_use]
    pub fn samplers(&self) -> usize {
        let leading = self.streams.iter().filter(|stream| self.leads(stream));
        leading.flat_map(|stream| &stream.sources).filter(|s| s.protocol.samples()).count()
    }

    /// The number of the stream whose instruction trace tells what ran, and its source's number in it.
    /// The first one leads.
    #[must_use]
    pub fn flow(&self) -> Option<(usize, usize)> {
        self.streams.iter().enumerate().find_map(|(number, stream)| {
            let source = stream.sources.iter().position(|source| source.protocol.tells_flow())?;
            Some((number, source))
        })
    }

    /// The number of the stream whose instruction trace tells of exceptions, and its source's number in
    /// it: where it counts cycles or has timestamps, and nothing else tells.
    #[must_use]
    pub fn flow_events(&self) -> Option<(usize, usize)> {
        self.timed_flow().filter(|_| self.flow_is_alone())
    }

    /// Whether nothing has a time: an instruction trace is all that tells of events, and it counts no cycles and
    /// has no timestamps.
    #[must_use]
    pub fn is_without_times(&self) -> bool {
        self.flow().is_some() && self.flow_is_alone() && self.timed_flow().is_none()
    }

    /// By how many ticks more an event of an event trace may have been later than it says: one, where the clock of its
    /// times is not the core's, for it may have come anywhere between two ticks. Where events say how much earlier they
    /// may have been, that says all.
    #[must_use]
    pub fn event_resolution(&self) -> u64 {
        let events = self.event_trace().filter(|events| events.earlier_by.is_none());
        u64::from(events.is_some_and(|events| events.clock != self.target.core_clock))
    }

    fn flow_is_alone(&self) -> bool {
        self.itm().is_none() && self.event_trace().is_none()
    }

    /// Whether an instruction trace could tell of exceptions, but something else does.
    #[must_use]
    pub fn flow_stands_back(&self) -> bool {
        self.timed_flow().is_some() && self.flow_events().is_none()
    }

    /// The instruction trace, if it counts cycles, or has timestamps.
    fn timed_flow(&self) -> Option<(usize, usize)> {
        self.flow().filter(|&(stream, source)| {
            FlowLine::clocking(&self.streams[stream], source) != Clocking::Nothing
        })
    }

    /// The clock of the instruction trace's times: the core's, or where timestamps alone carry time, theirs. That is not
    /// taken to be the core's unless it is stated: times would be off by any factor, and nothing in the trace shows it.
    #[must_use]
    pub fn flow_clock(&self) -> Option<Frequency> {
        let clocking =
            self.flow().map(|(stream, source)| FlowLine::clocking(&self.streams[stream], source));
        match clocking {
            Some(Clocking::Timestamps) => self.target.global_clock,
            _ => self.target.core_clock,
        }
    }

    /// The event trace, where the target sent no trace of its own.
    #[must_use]
    pub fn event_trace(&self) -> Option<&CtfSettings> {
        if self.itm().is_some() {
            return None;
        }
        let mut sources = self.streams.iter().flat_map(|stream| &stream.sources);
        sources.find_map(|source| match &source.protocol {
            Protocol::Ctf(settings) => Some(settings),
            Protocol::Itm(_)
            | Protocol::Mtb(_)
            | Protocol::Etmv3(_)
            | Protocol::Etmv4(_)
            | Protocol::Poll(_) => None,
        })
    }

    /// The settings of the first ITM source, to be corrected.
    pub fn itm_mut(&mut self) -> Option<&mut ItmSettings> {
        self.streams.iter_mut().flat_map(|stream| &mut stream.sources).find_map(|source| {
            match &mut source.protocol {
                Protocol::Itm(settings) => Some(settings),
                _ => None,
            }
        })
    }
}

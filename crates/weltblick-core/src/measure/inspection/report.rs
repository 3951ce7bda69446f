//! The stable form of what was gathered.

use super::agreement::{Agreement, agreement};
use super::diagnosis::{Finding, UNREADABLE, diagnose};
use super::event_trace::{self, EventKindRow};
use super::gather::{Counted, Settings, Wire};
use super::globals::GlobalTimestamps;
use super::kinds::Kind;
use super::rate::Rate;
use super::shared::SharedTimestamps;
use crate::image::Image;
use crate::measure::cadence::Cadences;
use crate::measure::duration::Duration;
use crate::measure::losses::LossRow;
use crate::measure::profile::{Context, SampleCounts};
use crate::measure::recording::Recording;
use crate::measure::timing::Timing;
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/inspect/2";

/// Everything that one pass over the streams gathers: a tap for packets and a sink for events.
#[derive(Debug, Default)]
pub struct Inspection {
    wire: Wire,
    counted: Counted,
}

/// Packets and bytes of one kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KindRow {
    /// What it is.
    pub kind: String,
    /// How many packets.
    pub packets: u64,
    /// How many bytes.
    pub bytes: u64,
}

/// A source of a framed stream that nothing reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UnreadRow {
    /// Its trace ID; 0 is padding.
    pub trace_id: u8,
    /// How many bytes.
    pub bytes: u64,
}

/// Bytes over time.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct RateRow {
    /// When it begins, in nanoseconds; in cycles where no clock is known.
    pub start: f64,
    /// Bytes in it.
    pub bytes: u64,
    /// Overflows in it.
    pub overflows: u64,
}

/// One loss and its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PlaceRow {
    /// The first byte.
    pub from_byte: u64,
    /// The byte after the last.
    pub until_byte: u64,
    /// Why.
    pub reason: String,
}

/// What is in the image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ImageFacts {
    /// `thumb`, `riscv32` or `riscv64`.
    pub isa: String,
    /// The build ID in hexadecimal, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build_id: Option<String>,
    /// How many functions.
    pub functions: u64,
    /// Whether there are source lines.
    pub lines: bool,
    /// Where the samples fall in it; without samples, the branch targets.
    pub agreement: Agreement,
}

/// What is in a recording, and how far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct InspectReport {
    /// `weltblick/inspect/2`.
    pub schema: String,
    /// Bytes of all streams, framing included.
    pub bytes: u64,
    /// Packets and bytes by kind, most bytes first.
    pub kinds: Vec<KindRow>,
    /// The kinds of events of an event trace, most frequent first.
    pub events: Vec<EventKindRow>,
    /// The byte of the first synchronisation.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_sync_byte: Option<u64>,
    /// Synchronisations of the framing.
    pub frame_syncs: u64,
    /// Sources that nothing reads.
    pub unread_sources: Vec<UnreadRow>,
    /// From the first event to the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// Cycles of the timestamp clock from the first event to the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub duration_cycles: Option<u64>,
    /// Samples, sleep included.
    pub samples: u64,
    /// Samples that found the core asleep.
    pub samples_asleep: u64,
    /// Core cycles between samples as the capture states them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sampling_period_stated: Option<u64>,
    /// Core cycles between samples as the timestamps show them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sampling_period_measured: Option<f64>,
    /// Global timestamps, if there are any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub global_timestamps: Option<GlobalTimestamps>,
    /// Events that share a timestamp with a later one: their times could be sharper.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shared_timestamps: Option<SharedTimestamps>,
    /// What is missing, by reason.
    pub losses: Vec<LossRow>,
    /// The first losses.
    pub loss_places: Vec<PlaceRow>,
    /// Bytes over time.
    pub rate: Vec<RateRow>,
    /// Nanoseconds (else cycles) per row of `rate`.
    pub rate_width: f64,
    /// The image, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub image: Option<ImageFacts>,
    /// What is wrong or doubtful, gravest first.
    pub findings: Vec<Finding>,
}

impl InspectReport {
    /// Whether the bytes are what they are said to be.
    #[must_use]
    pub fn reads(&self) -> bool {
        self.findings.iter().all(|finding| !UNREADABLE.contains(&finding.code.as_str()))
    }
}

impl Inspection {
    /// The tap and the sink of the pass.
    pub const fn split(&mut self) -> (&mut Wire, &mut Counted) {
        (&mut self.wire, &mut self.counted)
    }

    /// What is read comes from files that begin at these bytes: each of them has an order of its own.
    pub fn read_files(&mut self, starts: Vec<u64>) {
        self.counted.read_files(starts);
    }

    /// Samples so far, by address.
    #[must_use]
    pub const fn samples(&self) -> &SampleCounts {
        &self.counted.samples
    }

    /// The facts of the recording so far.
    #[must_use]
    pub const fn recording(&self) -> &Recording {
        &self.counted.recording
    }

    /// How regular exceptions are so far.
    #[must_use]
    pub const fn cadences(&self) -> &Cadences {
        &self.counted.cadences
    }

    /// Bytes so far.
    #[must_use]
    pub const fn bytes(&self) -> u64 {
        self.wire.raw_bytes
    }

    /// Concludes.
    #[must_use]
    pub fn report(&self, settings: &Settings<'_>) -> InspectReport {
        let Self { wire, counted } = self;
        let recording = &counted.recording;
        let timing = Timing { recording, clocks: settings.clocks };
        // With several sources, samples and time together say no period.
        let single = (settings.sources == 1).then_some(timing);
        let image = settings.image.map(|image| image_facts(image, wire, &counted.samples));
        let context = settings.image.map(|image| Context {
            image,
            timing,
            cadences: &counted.cadences,
            cut: 0,
            confidence: 0.95,
            conduct: settings.conduct.clone(),
        });
        let findings = diagnose(
            wire,
            counted,
            settings,
            single,
            context.as_ref().filter(|_| single.is_some()),
            image.as_ref().map(|i| &i.agreement),
        );
        let (rate_width, rate) = rate_rows(&counted.rate, settings.clocks.timestamp_clock);
        InspectReport {
            schema: SCHEMA.into(),
            bytes: wire.raw_bytes,
            kinds: kind_rows(wire),
            events: settings
                .trace
                .map_or_else(Vec::new, |t| event_trace::rows(t, &wire.events_seen)),
            first_sync_byte: wire.first_sync,
            frame_syncs: wire.frame_syncs,
            unread_sources: unread_rows(wire),
            duration: timing.duration(),
            duration_cycles: recording.span(),
            samples: recording.samples(),
            samples_asleep: recording.asleep,
            sampling_period_stated: settings.clocks.stated_period,
            sampling_period_measured: single.and_then(|timing| timing.measured_period()),
            global_timestamps: wire.globals.report(
                settings.itm().map_or(1, |itm| itm.timestamp_prescaler),
                settings.clocks.timestamp_clock,
            ),
            shared_timestamps: counted.shared.report(settings, settings.clocks.timestamp_clock),
            losses: recording.losses.rows(),
            loss_places: place_rows(recording),
            rate,
            rate_width,
            image,
            findings,
        }
    }
}

fn kind_rows(wire: &Wire) -> Vec<KindRow> {
    let mut rows: Vec<KindRow> = Kind::all()
        .filter(|&kind| wire.packets(kind) > 0)
        .map(|kind| KindRow {
            kind: kind.name().into(),
            packets: wire.packets(kind),
            bytes: wire.bytes(kind),
        })
        .collect();
    rows.sort_by_key(|row| std::cmp::Reverse(row.bytes));
    rows
}

fn unread_rows(wire: &Wire) -> Vec<UnreadRow> {
    wire.unread.iter().map(|(&trace_id, &bytes)| UnreadRow { trace_id, bytes }).collect()
}

fn place_rows(recording: &Recording) -> Vec<PlaceRow> {
    let places = recording.losses.places().iter();
    places
        .map(|place| PlaceRow {
            from_byte: place.bytes.start,
            until_byte: place.bytes.end,
            reason: place.why.describe().into(),
        })
        .collect()
}

fn rate_rows(rate: &Rate, clock: Option<Frequency>) -> (f64, Vec<RateRow>) {
    let (width, columns) = rate.columns();
    let width = clock.map_or(width as f64, |clock| clock.nanoseconds(width));
    let rows = (0_u32..).zip(columns).map(|(index, column)| RateRow {
        start: f64::from(index) * width,
        bytes: column.bytes,
        overflows: column.overflows,
    });
    (width, rows.collect())
}

fn image_facts(image: &Image, wire: &Wire, samples: &SampleCounts) -> ImageFacts {
    let sampled = |(address, category)| (address, samples.batches().count(category));
    let mut agree = agreement(samples.addresses().map(sampled), image);
    if agree.total() == 0 {
        agree = agreement(wire.targets.iter().map(|(&target, &count)| (target, count)), image);
    }
    let hex = |id: &[u8]| id.iter().map(|byte| format!("{byte:02x}")).collect();
    ImageFacts {
        isa: image.isa().name().into(),
        build_id: image.build_id().map(hex),
        functions: image.functions().len() as u64,
        lines: image.has_lines(),
        agreement: agree,
    }
}

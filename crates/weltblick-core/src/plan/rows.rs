//! The stable form of a plan.

use super::narrow::TraceUnit;
use super::registers::Register;
use super::ring::RingPlan;
use crate::measure::duration::Duration;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/plan/1";

/// A share that is to be known, and how well.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wanted {
    /// The share, from 0 to 1.
    pub share: f64,
    /// Half the width of its interval.
    pub within: f64,
}

/// A source of packets in a plan.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LoadRow {
    /// What it is.
    pub source: String,
    /// Packets, or instructions, per second.
    pub events_per_second: f64,
    /// Bytes per packet, or per instruction.
    pub bytes_each: f64,
    /// Bytes per second.
    pub bytes_per_second: f64,
    /// The part of the link that it takes; absent for a buffer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub link_share: Option<f64>,
    /// It is an upper limit, not an expectation.
    pub at_most: bool,
}

/// The link in a plan.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LinkRow {
    /// `uart`, `manchester`, `port` or `buffer`.
    pub kind: String,
    /// Bits per second on the wire, as the divisor makes them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bits_per_second: Option<f64>,
    /// How far the bit rate is from the wanted one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bit_rate_error: Option<f64>,
    /// Bytes of trace per second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub capacity: Option<f64>,
    /// Formatter frames are on.
    pub formatter: bool,
    /// Bytes per second in all.
    pub bytes_per_second: f64,
    /// The part of the link that stays free; negative where more is expected than it carries.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub headroom: Option<f64>,
    /// The part of packets that is dropped, as expected; below a full link in bursts, as if
    /// everything but samples came at random.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropped: Option<f64>,
    /// It overflows for certain, whatever the firmware does.
    pub overflows: bool,
    /// It may be measured like this.
    pub fits: bool,
}

/// A sampling period with which everything fits.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Proposal {
    /// Core cycles between PC samples.
    pub pc_sample_period: u64,
    /// Bytes per second in all.
    pub bytes_per_second: f64,
    /// The part of the link that stays free.
    pub headroom: f64,
}

/// How long to measure.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct MeasureRow {
    /// The share to be known.
    pub share: f64,
    /// Half the width of its 95 % interval.
    pub within: f64,
    /// Independent samples.
    pub samples: u64,
    /// How long they take.
    pub time: Duration,
}

/// A buffer on the chip.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct BufferRow {
    /// Its size.
    pub bytes: u64,
    /// How long it takes until the oldest trace is overwritten.
    pub lasts: Duration,
    /// How long it would last if instruction trace were taken inside one function only, by an
    /// earlier recording: the busiest first.
    pub stretches: Vec<StretchRow>,
    /// What would stretch it, each a sentence.
    pub advice: Vec<String>,
}

/// A range that would stretch a buffer.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct StretchRow {
    /// What to write after `--inside`.
    pub inside: String,
    /// The share of the time awake that the core is there.
    pub share: f64,
    /// How long the buffer would last.
    pub lasts: Duration,
}

/// A watched variable.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct WatchRow {
    /// The comparator.
    pub comparator: usize,
    /// The variable.
    pub name: String,
    /// Its address.
    pub address: u64,
    /// Its size in bytes.
    pub bytes: u32,
}

/// A plan.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct PlanReport {
    /// `weltblick/plan/1`.
    pub schema: String,
    /// What people call the target.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The core.
    pub core: String,
    /// The core clock.
    pub core_clock_hz: f64,
    /// The link; absent where nothing goes over one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub link: Option<LinkRow>,
    /// What goes over it.
    pub sources: Vec<LoadRow>,
    /// What would fit, where this does not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proposal: Option<Proposal>,
    /// How long to measure.
    pub measuring: Vec<MeasureRow>,
    /// The buffer on the chip.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub buffer: Option<BufferRow>,
    /// The ring of firmware marks.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ring: Option<RingPlan>,
    /// Watched variables.
    pub watches: Vec<WatchRow>,
    /// What to write, in this order.
    pub registers: Vec<Register>,
    /// The unit that traces instructions, for `capture` to narrow.
    #[serde(skip)]
    pub unit: Option<TraceUnit>,
    /// Reasons for doubt, each a sentence.
    pub doubts: Vec<String>,
    /// What no register can do, each a sentence.
    pub checklist: Vec<String>,
}

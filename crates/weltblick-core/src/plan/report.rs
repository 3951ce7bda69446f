//! A plan: what the link must carry, what to write, how long to measure.

use super::basis::Basis;
use super::core::{Core, InstructionTrace};
use super::description::{Description, Instructions};
use super::measured::Measured;
use super::mtb::{self, MtbError};
use super::narrow::{Left, Narrow, Placed, TraceUnit};
use super::registers::{DivisorError, Register, Request, registers};
use super::ring::{RingPlan, plan_ring};
use super::watch::{Watch, WatchError, resolve};
use crate::budget::{Point, address_of, ranges_of};
use crate::image::{Image, NotFixed, Variables};
use crate::measure::duration::Duration;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/plan/1";

/// A firmware image as plans look at it.
#[derive(Debug, Clone, Copy)]
pub struct Program<'a> {
    /// Code.
    pub image: &'a Image,
    /// Variables.
    pub variables: &'a Variables,
    /// What an earlier recording says of it.
    pub measured: Option<&'a Measured>,
}

/// A share that is to be known, and how well.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wanted {
    /// The share, from 0 to 1.
    pub share: f64,
    /// Half the width of its interval.
    pub within: f64,
}

/// Why there is no plan.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum PlanError {
    /// Something must be said first.
    #[error("{what} is not stated: give {how}")]
    Missing {
        /// What.
        what: &'static str,
        /// An option, or a key of the description.
        how: &'static str,
    },
    /// Nothing to plan.
    #[error(
        "nothing is to be observed: give --pc-sample-period, --interrupt, --watch, --text or --instructions"
    )]
    NothingObserved,
    /// A core without ITM.
    #[error(
        "{core} has no ITM: it cannot send samples, interrupts, variables or text over a trace link; sample it through a debug stub instead (`capture stub:HOST:PORT --sample`)"
    )]
    NoItm {
        /// The core.
        core: Core,
    },
    /// A period that the DWT does not offer.
    #[error(
        "no register gives a sampling period of {period} cycles: the DWT offers multiples of 64 up to 1024 and of 1024 up to 16384{}", .next.map_or_else(String::new, |next| format!("; the next is {next}"))
    )]
    Period {
        /// What was asked for.
        period: u64,
        /// The next longer one.
        next: Option<u64>,
    },
    /// Samples and the cycle event share a counter.
    #[error("PC samples and the event counter `cycle` share POSTCNT: choose one of them")]
    SharedCounter,
    /// A bit rate that the port cannot make.
    #[error(transparent)]
    Divisor(#[from] DivisorError),
    /// A variable that cannot be watched.
    #[error(transparent)]
    Watch(#[from] WatchError),
    /// A ring that is not there.
    #[error(transparent)]
    Ring(#[from] NotFixed),
    /// A point or range of instruction trace that is no place in the code.
    #[error("instruction trace cannot be narrowed to `{point}`: {why}")]
    Point {
        /// What was asked for.
        point: String,
        /// Why not.
        why: String,
    },
    /// A micro trace buffer that cannot be where it is wanted.
    #[error(transparent)]
    Mtb(#[from] MtbError),
    /// A micro trace buffer carries nothing else.
    #[error(
        "a micro trace buffer carries branches only: plan samples, interrupts, variables and text apart, with a link of their own"
    )]
    MtbAlone,
    /// Instruction trace into a link that the core's unit does not feed.
    #[error(
        "{core} traces instructions into a micro trace buffer: give the link `buffer` with its size, and `mtb_base`, where the vendor put its registers"
    )]
    NoMtb {
        /// The core.
        core: Core,
    },
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
    /// The link.
    pub link: LinkRow,
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

/// Makes a plan.
///
/// # Errors
///
/// What is missing, or cannot be done, and what to do instead.
pub fn plan(
    description: &Description,
    program: Option<Program<'_>>,
    wanted: &[Wanted],
) -> Result<PlanReport, PlanError> {
    let measured = program.and_then(|program| program.measured);
    let basis = Basis::new(description, measured)?;
    let watches = resolve(&description.observe.variables, program.map(|p| p.variables))?;
    let narrow = narrow(description.observe.instructions.as_ref(), program)?;
    let unit = basis.unit(watches.len());
    let placed = unit.map_or_else(Placed::default, |unit| unit.place(&narrow));
    let points = usize::from(narrow.start.is_some()) + usize::from(narrow.stop.is_some());
    let comparators = watches.len() + points;
    let built_in = usize::from(basis.core.comparators.min(4));
    if comparators > built_in {
        return Err(WatchError::TooMany { wanted: comparators, comparators: built_in }.into());
    }
    let divisor = basis.divisor()?;
    let mtb = unit.is_some_and(|unit| unit.kind == InstructionTrace::Mtb);
    let mtb = if mtb { mtb::place(description, program)? } else { None };
    let request = Request {
        plan: description,
        core: basis.core,
        link: basis.link,
        itm: basis.itm,
        formatter: basis.formatter,
        divisor,
        watches: &watches,
        unit,
        placed: &placed,
        mtb,
    };
    let mut doubts = basis.doubts(&watches);
    doubts.extend(mtb.into_iter().flat_map(|place| mtb::doubts(description, place, program)));
    doubts.extend(doubts_of(&placed.left));
    let program = program.map(|program| (program.image, program.variables));
    let ring = description.ring.as_ref().map(|ring| plan_ring(ring, program)).transpose()?;
    let link = basis.link_row(divisor);
    doubts.extend(ring.iter().flat_map(|ring| ring.doubts.iter().cloned()));
    Ok(PlanReport {
        schema: SCHEMA.into(),
        name: description.name.clone(),
        core: basis.core.name.into(),
        core_clock_hz: basis.clock.hertz(),
        proposal: if link.fits { None } else { basis.proposal() },
        sources: basis.load_rows(),
        measuring: basis.measuring(wanted),
        buffer: basis.buffer(&narrow, &placed),
        ring,
        watches: watch_rows(&watches),
        registers: registers(&request),
        unit,
        doubts,
        checklist: basis.checklist(),
        link,
    })
}

/// The places that instruction trace is narrowed to.
fn narrow(
    instructions: Option<&Instructions>,
    program: Option<Program<'_>>,
) -> Result<Narrow, PlanError> {
    let Some(instructions) = instructions else { return Ok(Narrow::default()) };
    let image = program.map(|program| program.image);
    let nowhere = |text: &str, why: String| PlanError::Point { point: text.to_owned(), why };
    let find = |text: &String| {
        let point: Point = text.parse().map_err(|error| nowhere(text, format!("{error}")))?;
        match (&point, image) {
            (Point::Address(address), _) => Ok(*address & !1),
            (_, None) => Err(nowhere(text, "give --image to look names up".into())),
            (_, Some(image)) => {
                address_of(&point, image).map_err(|error| nowhere(text, error.to_string()))
            }
        }
    };
    let ranges = |texts: &[String]| {
        let found = |text: &String| {
            ranges_of(text, image).map_err(|error| nowhere(text, error.to_string()))
        };
        Ok::<_, PlanError>(texts.iter().map(found).collect::<Result<Vec<_>, _>>()?.concat())
    };
    Ok(Narrow {
        start: instructions.start.as_ref().map(find).transpose()?,
        stop: instructions.stop.as_ref().map(find).transpose()?,
        inside: ranges(&instructions.inside)?,
        exclude: ranges(&instructions.exclude)?,
    })
}

/// What the target cannot do of a narrowing.
fn doubts_of(left: &Left) -> Vec<String> {
    let Left { points, ranges } = left;
    let points = points.map(|why| {
        format!("Start and stop points are not applied on the target: {why}. `capture --window A..B` stops there instead, through a debug stub (intrusive).")
    });
    let ranges = ranges.map(|why| {
        format!("Ranges are not applied on the target: {why}. `capture --inside` and `--exclude` apply them when the trace is read.")
    });
    points.into_iter().chain(ranges).collect()
}

fn watch_rows(watches: &[Watch]) -> Vec<WatchRow> {
    let row = |(comparator, watch): (usize, &Watch)| WatchRow {
        comparator,
        name: watch.name.clone(),
        address: watch.address,
        bytes: watch.size,
    };
    watches.iter().enumerate().map(row).collect()
}

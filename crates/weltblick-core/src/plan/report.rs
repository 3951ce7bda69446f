//! A plan: what the link must carry, what to write, how long to measure.

use super::core::Core;
use super::description::{Description, Instructions};
use super::link::Link;
use super::load::{CYCLES_PER_INSTRUCTION, Fit, Load, MOST_DROPPED, USUAL_FIFO, loads};
use super::measuring::samples_needed;
use super::registers::{Divisor, DivisorError, Register, Request, divide, registers};
use super::ring::{RingPlan, plan_ring};
use super::sampling::{next_sampling_period, sampling_places};
use super::watch::{Watch, WatchError, resolve};
use crate::image::{Image, NotFixed, Variables};
use crate::measure::duration::Duration;
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

/// Name and version of the JSON form.
pub const SCHEMA: &str = "weltblick/plan/1";

/// A link that is fuller than this drops packets when they come close together.
const BUSY: f64 = 0.7;

/// A firmware image as plans look at it.
#[derive(Debug, Clone, Copy)]
pub struct Program<'a> {
    /// Code.
    pub image: &'a Image,
    /// Variables.
    pub variables: &'a Variables,
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
    /// A point of instruction trace that is no place in the code.
    #[error("`{point}` is no function or address of the image{hint}")]
    Point {
        /// What was asked for.
        point: String,
        /// The nearest name.
        hint: String,
    },
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
    /// What would stretch it, each a sentence.
    pub advice: Vec<String>,
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
    /// Reasons for doubt, each a sentence.
    pub doubts: Vec<String>,
    /// What no register can do, each a sentence.
    pub checklist: Vec<String>,
}

/// What the plan rests on, checked.
struct Basis<'a> {
    plan: &'a Description,
    core: Core,
    clock: Frequency,
    link: Link,
    loads: Vec<Load>,
    formatter: bool,
    itm: bool,
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
    let basis = Basis::new(description)?;
    let watches = resolve(&description.observe.variables, program.map(|p| p.variables))?;
    let start_stop = points(description.observe.instructions.as_ref(), program)?;
    let comparators =
        watches.len() + usize::from(start_stop.0.is_some()) + usize::from(start_stop.1.is_some());
    let built_in = usize::from(basis.core.comparators.min(4));
    if comparators > built_in {
        return Err(WatchError::TooMany { wanted: comparators, comparators: built_in }.into());
    }
    let divisor = basis.divisor()?;
    let request = Request {
        plan: description,
        core: basis.core,
        link: basis.link,
        itm: basis.itm,
        formatter: basis.formatter,
        divisor,
        watches: &watches,
        start_stop,
    };
    let program = program.map(|program| (program.image, program.variables));
    let ring = description.ring.as_ref().map(|ring| plan_ring(ring, program)).transpose()?;
    let link = basis.link_row(divisor);
    let mut doubts = basis.doubts(&watches);
    doubts.extend(ring.iter().flat_map(|ring| ring.doubts.iter().cloned()));
    Ok(PlanReport {
        schema: SCHEMA.into(),
        name: description.name.clone(),
        core: basis.core.name.into(),
        core_clock_hz: basis.clock.hertz(),
        proposal: if link.fits { None } else { basis.proposal() },
        sources: basis.load_rows(),
        measuring: basis.measuring(wanted),
        buffer: basis.buffer(),
        ring,
        watches: watch_rows(&watches),
        registers: registers(&request),
        doubts,
        checklist: basis.checklist(),
        link,
    })
}

/// The addresses at which instruction trace starts and stops.
fn points(
    instructions: Option<&Instructions>,
    program: Option<Program<'_>>,
) -> Result<(Option<u64>, Option<u64>), PlanError> {
    let Some(instructions) = instructions else { return Ok((None, None)) };
    let find = |point: &String| {
        let nowhere = |hint| PlanError::Point { point: point.clone(), hint };
        if let Some(digits) = point.strip_prefix("0x") {
            return u64::from_str_radix(digits, 16).map_err(|_| nowhere(String::new()));
        }
        let image = program.ok_or_else(|| nowhere("; give --image to look names up".into()))?.image;
        match image.functions_named(point).as_slice() {
            [id] => Ok(image.function(*id).range.start),
            _ => {
                let names = image.functions().iter().map(|function| function.name.as_str());
                Err(nowhere(crate::document::nearest(point, names)))
            }
        }
    };
    let start = instructions.start.as_ref().map(find).transpose()?;
    Ok((start, instructions.stop.as_ref().map(find).transpose()?))
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

impl<'a> Basis<'a> {
    fn new(plan: &'a Description) -> Result<Self, PlanError> {
        let missing = |what, how| PlanError::Missing { what, how };
        let core = plan.core.ok_or(missing("the core", "--core, or `core`"))?;
        let clock =
            plan.core_clock.ok_or(missing("the core clock", "--core-clock, or `core_clock`"))?;
        let link = plan.link.ok_or(missing("the trace link", "--link, or [link]"))?;
        let observe = &plan.observe;
        let itm = observe.pc_sample_period.is_some()
            || !observe.interrupts.is_empty()
            || !observe.variables.is_empty()
            || !observe.counters.is_empty()
            || observe.ports != 0
            || observe.text > 0.0;
        if !itm && observe.instructions.is_none() && plan.ring.is_none() {
            return Err(PlanError::NothingObserved);
        }
        if itm && !core.has_itm() {
            return Err(PlanError::NoItm { core });
        }
        let by_mtb = core.instructions == super::core::InstructionTrace::Mtb;
        if observe.instructions.is_some()
            && by_mtb
            && (plan.mtb_base.is_none() || !matches!(link, Link::Buffer { .. }))
        {
            return Err(PlanError::NoMtb { core });
        }
        if let Some(period) = observe.pc_sample_period {
            let next = next_sampling_period(period);
            if next != Some(period) {
                return Err(PlanError::Period { period, next });
            }
            if observe.counters.contains(&super::description::EventCounter::Cycle) {
                return Err(PlanError::SharedCounter);
            }
        }
        let sources = usize::from(itm) + usize::from(observe.instructions.is_some());
        let formatter = !by_mtb && (plan.formatter || link.needs_formatter(sources));
        Ok(Self { plan, core, clock, link, loads: loads(plan, clock), formatter, itm })
    }

    fn sources(&self) -> usize {
        usize::from(self.itm) + usize::from(self.plan.observe.instructions.is_some())
    }

    /// The divisor of a serial wire.
    fn divisor(&self) -> Result<Option<Divisor>, PlanError> {
        // A Manchester bit is two halves: the port runs twice as fast as its data.
        let wanted = match self.link {
            Link::Uart { bit_rate } => bit_rate,
            Link::Manchester { bit_rate } => 2.0 * bit_rate,
            Link::Port { .. } | Link::Buffer { .. } => return Ok(None),
        };
        Ok(Some(divide(self.plan.trace_clock.unwrap_or(self.clock), wanted)?))
    }

    fn capacity(&self) -> Option<f64> {
        self.link.capacity(self.formatter, self.sources())
    }

    fn fit(&self, loads: &[Load]) -> Option<Fit> {
        Some(Fit::new(loads, self.capacity()?, self.plan.fifo.unwrap_or(USUAL_FIFO)))
    }

    fn link_row(&self, divisor: Option<Divisor>) -> LinkRow {
        let fit = self.fit(&self.loads);
        LinkRow {
            kind: self.link.name().into(),
            bits_per_second: self.link.bits_per_second(),
            bit_rate_error: divisor.map(|divisor| divisor.error),
            capacity: self.capacity(),
            formatter: self.formatter,
            bytes_per_second: self.loads.iter().map(Load::bytes).sum(),
            headroom: fit.map(|fit| 1.0 - fit.load()),
            dropped: fit.map(|fit| fit.dropped),
            overflows: fit.is_some_and(|fit| fit.overflows()),
            fits: fit.is_none_or(|fit| fit.holds()),
        }
    }

    fn load_rows(&self) -> Vec<LoadRow> {
        let capacity = self.capacity();
        let row = |load: &Load| LoadRow {
            source: load.source.clone(),
            events_per_second: load.events,
            bytes_each: load.bytes_each,
            bytes_per_second: load.bytes(),
            link_share: capacity.map(|capacity| load.bytes() / capacity),
            at_most: load.at_most,
        };
        let mut rows: Vec<LoadRow> = self.loads.iter().map(row).collect();
        rows.sort_by(|a, b| b.bytes_per_second.total_cmp(&a.bytes_per_second));
        rows
    }

    /// The shortest sampling period with which everything fits.
    fn proposal(&self) -> Option<Proposal> {
        let mut period = self.plan.observe.pc_sample_period?;
        loop {
            period = next_sampling_period(period + 1)?;
            let mut slower = self.plan.clone();
            slower.observe.pc_sample_period = Some(period);
            let fit = self.fit(&loads(&slower, self.clock))?;
            if fit.holds() {
                return Some(Proposal {
                    pc_sample_period: period,
                    bytes_per_second: fit.bytes,
                    headroom: 1.0 - fit.load(),
                });
            }
        }
    }

    fn measuring(&self, wanted: &[Wanted]) -> Vec<MeasureRow> {
        let Some(period) = self.plan.observe.pc_sample_period else { return Vec::new() };
        let row = |wanted: &Wanted| {
            let samples = samples_needed(wanted.share, wanted.within);
            let ns = self.clock.nanoseconds(samples.saturating_mul(period));
            let time = Duration { ns, ns_low: ns, ns_high: None, cycles: None };
            MeasureRow { share: wanted.share, within: wanted.within, samples, time }
        };
        wanted.iter().map(row).collect()
    }

    fn buffer(&self) -> Option<BufferRow> {
        let Link::Buffer { bytes } = self.link else { return None };
        let rate: f64 = self.loads.iter().map(Load::bytes).sum();
        let mtb = self.core.instructions == super::core::InstructionTrace::Mtb;
        let usable = if self.formatter { super::link::frame_use(self.sources()) } else { 1.0 };
        let ns = bytes as f64 * usable / rate.max(1e-9) * 1e9;
        let mut advice = Vec::new();
        if self.plan.observe.instructions.is_some() {
            if self.plan.observe.instructions.as_ref().is_some_and(|i| i.start.is_none()) {
                let per_call = 1e3 * bytes as f64 * 8.0;
                let bits = self.plan.observe.instructions.as_ref().map_or(1.0, |i| i.bits);
                advice.push(format!(
                    "Start and stop points around one function (`start`, `stop`) keep only its runs: the buffer then holds {:.0} thousand of its instructions.",
                    per_call / bits / 1e6
                ));
            }
            if !mtb {
                advice.push(
                    "Leave cycle counts and timestamps out where order is enough: they cost more than the branches.".into(),
                );
            }
        }
        if self.plan.observe.pc_sample_period.is_some() {
            advice.push("A longer sampling period stretches it in proportion.".into());
        }
        advice.push(
            "Read it out while the target runs (`capture --read-out-every`): what lies between two read-outs is then kept too, as far as it fits.".into(),
        );
        Some(BufferRow {
            bytes,
            lasts: Duration { ns, ns_low: ns, ns_high: None, cycles: None },
            advice,
        })
    }

    fn doubts(&self, watches: &[Watch]) -> Vec<String> {
        let mut doubts = Vec::new();
        let observe = &self.plan.observe;
        if let Some(period) = observe.pc_sample_period {
            for interrupt in &observe.interrupts {
                let own = self.clock.hertz() / interrupt.rate;
                if let Some(places) = sampling_places(period, own)
                    && places <= 32
                {
                    doubts.push(format!(
                        "Samples every {period} cycles land on {places} places of {}'s {own:.0} cycles only: short handlers may never be seen, or always. Choose a period that shares no factor with it.",
                        interrupt.name
                    ));
                }
            }
        }
        let bursts = self.fit(&self.loads).filter(|fit| fit.holds() && fit.dropped > MOST_DROPPED);
        if let Some(fit) = bursts {
            doubts.push(format!(
                "Bursts may overflow it: if interrupts came at random, about {:.1} % of their packets would be dropped (the trace unit's buffer is taken as {} bytes; state `fifo` if it is another).",
                100.0 * fit.dropped,
                self.plan.fifo.unwrap_or(USUAL_FIFO)
            ));
        }
        if self.fit(&self.loads).is_some_and(|fit| fit.holds() && fit.load() > BUSY) {
            doubts.push(format!(
                "Above {:.0} % use, packets that come close together overflow the trace unit's buffer now and then; `inspect` will say how often.",
                100.0 * BUSY
            ));
        }
        if observe.timestamp_prescaler.is_none() && self.itm {
            doubts.push(
                "Without timestamps nothing has a time, and what an overflow dropped cannot be bounded.".into(),
            );
        }
        if observe.text > 0.0 && observe.ports == 0 {
            doubts.push("Text is expected, but no stimulus port is on: set `ports`.".into());
        }
        for watch in watches {
            if watch.trace == super::description::WatchTrace::ValueAndCode
                && matches!(self.core.architecture, super::core::Architecture::V8)
            {
                doubts.push(format!(
                    "On {} one comparator sends the value or the instruction: {} is traced by value.",
                    self.core, watch.name
                ));
            }
        }
        if let Some(instructions) = &observe.instructions {
            if instructions.rate.is_none() {
                doubts.push(format!(
                    "The rate of instructions is taken as one every {CYCLES_PER_INSTRUCTION} cycles, never asleep; a measured `rate` makes the plan sharper."
                ));
            }
            if !instructions.inside.is_empty() || !instructions.exclude.is_empty() {
                doubts.push(
                    "Ranges are not applied on this target: its trace unit sees the comparators of the DWT, which watch points. They are applied when the trace is read.".into(),
                );
            }
        }
        doubts
    }

    fn checklist(&self) -> Vec<String> {
        let mut list = Vec::new();
        match self.link {
            Link::Uart { .. } | Link::Manchester { .. } => list.push(
                "Is the SWO pin routed to the connector, and switched from its other function to trace? Many chips have a debug control register of their own for it.".into(),
            ),
            Link::Port { width, .. } => list.push(format!(
                "Are the trace clock and {width} data pins routed, switched to trace, and driven fast enough? Many chips have a debug control register of their own for it."
            )),
            Link::Buffer { .. } => list.push(
                "Is the buffer powered and clocked while the core sleeps? Some chips stop it.".into(),
            ),
        }
        if self.plan.trace_clock.is_none() && self.link.bits_per_second().is_some() {
            list.push(format!(
                "Is the trace port's clock the core clock ({})? If not, state it: `trace_clock`.",
                self.clock
            ));
        }
        list.push(
            "Does the firmware change its clock after reset? Plan with the clock that it runs on, and start the trace after the change, or every time before it is wrong.".into(),
        );
        list.push(
            "Start the capture before the target runs (`capture --reset`): what it did before the trace was on is not in it.".into(),
        );
        list.push(
            "Does the firmware write trace registers itself? Then it undoes these; take that out, or plan what it writes.".into(),
        );
        list
    }
}

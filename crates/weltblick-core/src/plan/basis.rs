//! What a plan rests on, checked, and what follows from it.

use super::core::{Core, InstructionTrace};
use super::description::Description;
use super::error::PlanError;
use super::link::Link;
use super::load::{
    CYCLES_PER_INSTRUCTION, Fit, INSTRUCTION_TRACE, Load, MOST_DROPPED, USUAL_FIFO,
    bits_per_instruction, loads,
};
use super::measured::Measured;
use super::measuring::samples_needed;
use super::narrow::{Narrow, Placed, TraceUnit};
use super::registers::{Divisor, ETM_BASE, divide};
use super::rows::{BufferRow, LinkRow, LoadRow, MeasureRow, Proposal, StretchRow, Wanted};
use super::sampling::{next_sampling_period, sampling_places};
use crate::measure::duration::Duration;
use crate::time::Frequency;

/// Functions that are proposed as ranges.
const MOST_STRETCHES: usize = 5;
/// A link that is fuller than this drops packets when they come close together.
const BUSY: f64 = 0.7;

/// What the plan rests on, checked.
pub(super) struct Basis<'a> {
    pub(super) plan: &'a Description,
    pub(super) core: Core,
    pub(super) clock: Frequency,
    pub(super) link: Link,
    pub(super) loads: Vec<Load>,
    pub(super) formatter: bool,
    pub(super) itm: bool,
    measured: Option<&'a Measured>,
}

impl<'a> Basis<'a> {
    pub(super) fn new(
        plan: &'a Description,
        measured: Option<&'a Measured>,
    ) -> Result<Self, PlanError> {
        let missing = |what, how| PlanError::Missing { what, how };
        let core =
            plan.core.ok_or(missing("the core", "--core, or `core` (`plan --help` lists them)"))?;
        let clock =
            plan.core_clock.ok_or(missing("the core clock", "--core-clock, or `core_clock`"))?;
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
        // A ring in memory needs no link: a debug stub drains it.
        let traces = itm || observe.instructions.is_some();
        let link = plan.link.or((!traces).then_some(Link::Buffer { bytes: 0 }));
        let link = link.ok_or(missing("the trace link", "--link, or [link]"))?;
        if itm && !core.has_itm() {
            return Err(PlanError::NoItm { core });
        }
        let by_mtb = plan.trace_kind() == Some(InstructionTrace::Mtb);
        if observe.instructions.is_some()
            && by_mtb
            && (plan.mtb_base.is_none() || !matches!(link, Link::Buffer { .. }))
        {
            return Err(PlanError::NoMtb { core });
        }
        if observe.instructions.is_some() && by_mtb && itm {
            return Err(PlanError::MtbAlone);
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
        let by_mtb = by_mtb && observe.instructions.is_some();
        let formatter = !by_mtb && (plan.formatter || link.needs_formatter(sources));
        let asleep = measured.map_or(0.0, |measured| measured.asleep);
        let loads = loads(plan, clock, asleep);
        Ok(Self { plan, core, clock, link, loads, formatter, itm, measured })
    }

    /// Whether anything goes over the trace link.
    pub(super) const fn traces(&self) -> bool {
        self.itm || self.plan.observe.instructions.is_some()
    }

    fn sources(&self) -> usize {
        usize::from(self.itm) + usize::from(self.plan.observe.instructions.is_some())
    }

    /// The unit that traces instructions, if it is to; its comparators beyond `used` are free.
    pub(super) fn unit(&self, used: usize) -> Option<TraceUnit> {
        self.plan.observe.instructions.as_ref()?;
        let kind = self.plan.trace_kind()?;
        Some(TraceUnit {
            kind,
            architecture: self.core.architecture,
            base: if kind == InstructionTrace::Mtb { self.plan.mtb_base? } else { ETM_BASE },
            comparators: self.core.comparators,
            used: used as u8,
        })
    }

    /// The divisor of a serial wire.
    pub(super) fn divisor(&self) -> Result<Option<Divisor>, PlanError> {
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

    pub(super) fn link_row(&self, divisor: Option<Divisor>) -> LinkRow {
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

    pub(super) fn load_rows(&self) -> Vec<LoadRow> {
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
    pub(super) fn proposal(&self) -> Option<Proposal> {
        let mut period = self.plan.observe.pc_sample_period?;
        loop {
            period = next_sampling_period(period + 1)?;
            let mut slower = self.plan.clone();
            slower.observe.pc_sample_period = Some(period);
            let fit = self.fit(&loads(&slower, self.clock, self.asleep()))?;
            if fit.holds() {
                return Some(Proposal {
                    pc_sample_period: period,
                    bytes_per_second: fit.bytes,
                    headroom: 1.0 - fit.load(),
                });
            }
        }
    }

    pub(super) fn measuring(&self, wanted: &[Wanted]) -> Vec<MeasureRow> {
        let Some(period) = self.plan.observe.pc_sample_period else { return Vec::new() };
        let row = |wanted: &Wanted| {
            let samples = samples_needed(wanted.share, wanted.within);
            let ns = self.clock.nanoseconds(samples.saturating_mul(period));
            let time = Duration { ns, ns_low: ns, ns_high: None, cycles: None, seen: None };
            MeasureRow { share: wanted.share, within: wanted.within, samples, time }
        };
        wanted.iter().map(row).collect()
    }

    /// The part of time that the core is known to sleep.
    fn asleep(&self) -> f64 {
        self.measured.map_or(0.0, |measured| measured.asleep)
    }

    /// A buffer on the chip: how long it lasts, and what would stretch it.
    pub(super) fn buffer(&self, narrow: &Narrow, placed: &Placed) -> Option<BufferRow> {
        let Link::Buffer { bytes } = self.link else { return None };
        if !self.traces() {
            return None;
        }
        let usable = if self.formatter { super::link::frame_use(self.sources()) } else { 1.0 };
        let flow = self.instructions();
        let rest = self.loads.iter().map(Load::bytes).sum::<f64>() - flow;
        // How long it lasts if instruction trace is taken for this part of the time awake.
        let lasts = |part: f64| {
            let ns = bytes as f64 * usable / (rest + flow * part).max(1e-9) * 1e9;
            Duration { ns, ns_low: ns, ns_high: None, cycles: None, seen: None }
        };
        // What the target does not narrow itself fills the buffer all the same.
        let planned = self.measured.filter(|_| placed.ranges != 0);
        let part = planned.map_or(1.0, |measured| {
            let share = measured.share_inside(&placed.watched());
            if placed.inverted { 1.0 - share } else { share }
        });
        let knows_ranges = self.plan.trace_kind() != Some(InstructionTrace::Mtb);
        let stretch = |measured: &Measured| {
            let row = |(name, _, share): &(String, std::ops::Range<u64>, f64)| {
                let share = measured.of_awake(*share);
                StretchRow { inside: name.clone(), share, lasts: lasts(share) }
            };
            measured.functions.iter().take(MOST_STRETCHES).map(row).collect()
        };
        let stretches = match self.measured {
            Some(measured) if flow > 0.0 && knows_ranges => stretch(measured),
            _ => Vec::new(),
        };
        let advice = self.stretching(narrow, bytes, lasts(0.1).ns);
        Some(BufferRow { bytes, lasts: lasts(part), stretches, advice })
    }

    /// A buffer that wraps faster than the ITM synchronises: of what is left nothing says where a packet begins.
    fn buffer_without_synchronisation(&self) -> Option<String> {
        let row = self.buffer(&Narrow::default(), &Placed::default()).filter(|_| self.itm)?;
        let every = self.clock.nanoseconds(1 << self.plan.observe.synchronise);
        (row.lasts.ns < every).then(|| {
            format!(
                "The ITM synchronises every {:.0} ms, and the buffer lasts {:.1} ms: once it has wrapped, little of it can be read. Read it out before (`capture --read-out-every`).",
                every / 1e6,
                row.lasts.ns / 1e6
            )
        })
    }

    /// Bytes of instruction trace per second.
    fn instructions(&self) -> f64 {
        let flow = self.loads.iter().find(|load| load.source == INSTRUCTION_TRACE);
        flow.map_or(0.0, Load::bytes)
    }

    /// What would stretch a buffer that lasts `tenfold` nanoseconds with a tenth of the instructions.
    fn stretching(&self, narrow: &Narrow, bytes: u64, tenfold: f64) -> Vec<String> {
        let mut advice = Vec::new();
        if self.plan.observe.instructions.is_some() {
            if narrow.start.is_none() {
                let held = 8.0 * bytes as f64 / bits_per_instruction(self.plan);
                advice.push(format!(
                    "Start and stop points around one function (`start` and `stop`, or `capture --window A..B`) keep only its runs: the buffer then holds some {held:.0} of its instructions."
                ));
            }
            let knows_ranges = self.plan.trace_kind() != Some(InstructionTrace::Mtb);
            if narrow.inside.is_empty() && self.measured.is_none() && knows_ranges {
                advice.push(format!(
                    "A range (`inside`, or `capture --inside CODE`) in which the core is a tenth of its time makes it last {:.2} ms; `plan --measured CAPTURE` says which ranges those are.",
                    tenfold / 1e6
                ));
            }
            if knows_ranges {
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
        advice
    }

    pub(super) fn doubts(&self) -> Vec<String> {
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
        doubts.extend(self.buffer_without_synchronisation());
        if observe.timestamp_prescaler.is_none() && self.itm {
            doubts.push(
                "Without timestamps nothing has a time, and what an overflow dropped cannot be bounded.".into(),
            );
        }
        if observe.text > 0.0 && observe.ports == 0 {
            doubts.push("Text is expected, but no stimulus port is on: set `ports`.".into());
        }
        if observe.instructions.as_ref().is_some_and(|instructions| instructions.rate.is_none()) {
            let asleep = match self.measured {
                Some(measured) => format!("asleep {:.0} % of the time", 100.0 * measured.asleep),
                None => "never asleep".into(),
            };
            doubts.push(format!(
                "The rate of instructions is taken as one every {CYCLES_PER_INSTRUCTION} cycles, {asleep}; a measured `rate` makes the plan sharper."
            ));
        }
        doubts
    }

    pub(super) fn checklist(&self) -> Vec<String> {
        let mut list = Vec::new();
        if let Some(ring) = &self.plan.ring {
            list.push(format!(
                "Is the ring drained before it is full, every {:.0} ms at least (`capture --read-out ring:{} --read-out-every`)? Else marks are dropped, and counted.",
                1e3 * ring.holds.as_secs_f64(),
                ring.symbol
            ));
        }
        if !self.traces() {
            return list;
        }
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

//! What each source brings to the link, in bytes per second.
//!
//! Packet sizes follow the encodings of DDI 0403E, appendix D4. Where a size varies, the larger
//! common case is taken, so that a plan errs towards too little room.

use super::core::InstructionTrace;
use super::description::{Description, Observe, WatchTrace};
use crate::time::Frequency;

/// A PC sample: header and four bytes; of a core asleep, header and one.
const PC_SAMPLE: f64 = 5.0;
const ASLEEP: f64 = 2.0;
/// An exception packet.
const EXCEPTION: f64 = 3.0;
/// Entry, exit, return: what one interrupt sends.
const PACKETS_PER_INTERRUPT: f64 = 3.0;
/// The PC of an accessing instruction.
const ACCESS_CODE: f64 = 5.0;
/// An accessed word.
const ACCESS_VALUE: f64 = 5.0;
/// A character of text, written alone: header and byte.
const CHARACTER: f64 = 2.0;
/// Event counters that wrapped.
const COUNTER: f64 = 2.0;
/// Counts until an event counter wraps.
const COUNTER_WRAPS: f64 = 256.0;
/// A synchronisation.
const SYNC: f64 = 6.0;
/// Both global timestamp packets in full.
const GLOBAL: f64 = 12.0;
/// The source that instruction trace is.
pub(super) const INSTRUCTION_TRACE: &str = "instruction trace";
/// Core cycles per instruction where nothing better is known.
pub(super) const CYCLES_PER_INSTRUCTION: f64 = 1.4;

/// Bits of trace per instruction where nothing better is known: branches are every fifth
/// instruction or so, most of them cost a bit, some an address of several bytes.
const BITS_PER_INSTRUCTION: f64 = 1.2;
/// The same of a micro trace buffer: eight bytes for each branch that is taken, every sixth
/// instruction or so.
const MTB_BITS_PER_INSTRUCTION: f64 = 64.0 / 6.0;

/// Bits of trace per instruction, stated or usual.
pub(super) fn bits_per_instruction(plan: &Description) -> f64 {
    let usual = match plan.trace_kind() {
        Some(InstructionTrace::Mtb) => MTB_BITS_PER_INSTRUCTION,
        _ => BITS_PER_INSTRUCTION,
    };
    plan.observe.instructions.as_ref().and_then(|i| i.bits).unwrap_or(usual)
}

/// One source of packets.
#[derive(Debug, Clone, PartialEq)]
pub struct Load {
    /// What it is, for people.
    pub source: String,
    /// Packets, or instructions, per second.
    pub events: f64,
    /// Bytes per packet, or per instruction.
    pub bytes_each: f64,
    /// The same at the very least.
    pub least_each: f64,
    /// It is an upper limit, not an expectation.
    pub at_most: bool,
    /// It comes evenly, not at random.
    pub is_even: bool,
}

impl Load {
    /// Bytes per second.
    #[must_use]
    pub fn bytes(&self) -> f64 {
        self.events * self.bytes_each
    }
}

/// Every source of a plan, in the order in which people think of them. Sources of the ITM share
/// one stream; instruction trace is a second one. `asleep` is the part of time that the core is known
/// to sleep: it executes nothing then.
#[must_use]
pub fn loads(plan: &Description, clock: Frequency, asleep: f64) -> Vec<Load> {
    let observe = &plan.observe;
    let mut loads = itm_loads(observe, clock);
    if let Some(instructions) = &observe.instructions {
        let awake = clock.hertz() * (1.0 - asleep);
        let rate = instructions.rate.unwrap_or(awake / CYCLES_PER_INSTRUCTION);
        loads.push(Load {
            source: INSTRUCTION_TRACE.into(),
            events: rate,
            bytes_each: bits_per_instruction(plan) / 8.0,
            least_each: 0.0,
            at_most: instructions.rate.is_none(),
            is_even: true,
        });
    }
    loads
}

/// Sources of the ITM and DWT, timestamps and synchronisations included.
fn itm_loads(observe: &Observe, clock: Frequency) -> Vec<Load> {
    let hertz = clock.hertz();
    let load = |source: String, events: f64, bytes_each: f64| Load {
        source,
        events,
        bytes_each,
        least_each: bytes_each,
        at_most: false,
        is_even: false,
    };
    let mut loads = Vec::new();
    if let Some(period) = observe.pc_sample_period {
        let source = format!("PC samples, every {period} cycles");
        let bytes = ASLEEP * observe.asleep + PC_SAMPLE * (1.0 - observe.asleep);
        let samples = load(source, hertz / period as f64, bytes);
        loads.push(Load { is_even: true, least_each: ASLEEP, ..samples });
    }
    for interrupt in &observe.interrupts {
        let packets = PACKETS_PER_INTERRUPT * interrupt.rate;
        loads.push(load(format!("interrupt {}", interrupt.name), packets, EXCEPTION));
    }
    for watched in &observe.variables {
        let bytes = match watched.trace {
            WatchTrace::Value => ACCESS_VALUE,
            WatchTrace::Code => ACCESS_CODE,
            WatchTrace::ValueAndCode => ACCESS_VALUE + ACCESS_CODE,
        };
        loads.push(load(format!("variable {}", watched.name), watched.rate, bytes));
    }
    if observe.text > 0.0 {
        loads.push(load("printed text".into(), observe.text, CHARACTER));
    }
    if !observe.counters.is_empty() {
        // Each cycle is counted by one of them at most.
        let counters = load("event counters".into(), hertz / COUNTER_WRAPS, COUNTER);
        loads.push(Load { at_most: true, least_each: 0.0, ..counters });
    }
    let events: f64 = loads.iter().map(|load| load.events).sum();
    if loads.is_empty() {
        return loads;
    }
    if let Some(prescaler) = observe.timestamp_prescaler {
        let ticks = hertz / f64::from(prescaler) / events.max(1e-9);
        let bytes = timestamp_bytes(ticks);
        let least = if ticks < 14.0 { 1.0 } else { 2.0 };
        let even: f64 = loads.iter().filter(|load| load.is_even).map(|load| load.events).sum();
        if even > 0.0 {
            let source = "timestamps of samples".into();
            let stamps = load(source, even, bytes);
            loads.push(Load { is_even: true, least_each: least, ..stamps });
        }
        if events > even {
            // Packets of one moment share a timestamp: there may be fewer.
            let stamps = load("timestamps of the rest".into(), events - even, bytes);
            loads.push(Load { least_each: 0.0, ..stamps });
        }
    }
    let syncs = hertz / 2_f64.powi(observe.synchronise as i32);
    let bytes = SYNC + if observe.global_timestamps { GLOBAL } else { 0.0 };
    loads.push(load("synchronisation".into(), syncs, bytes));
    loads
}

/// Mean bytes of a local timestamp: one for up to six ticks, else a header and a byte for every
/// seven bits. Gaps are taken as exponential around their mean; real ones come in clusters, and
/// take less.
fn timestamp_bytes(mean_ticks: f64) -> f64 {
    let longer = |ticks: f64| (-ticks / mean_ticks.max(1e-3)).exp();
    1.0 + longer(6.5) + longer(127.5) + longer(16_383.5) + longer(2_097_151.5)
}

/// How full a link is, and what that means.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fit {
    /// Bytes per second in all.
    pub bytes: f64,
    /// Bytes per second that the link carries.
    pub capacity: f64,
    /// Bytes per second at the very least.
    pub least: f64,
    /// The part of packets that is dropped: an estimate below a full link, a certainty above.
    pub dropped: f64,
}

/// More of a link than this is not planned for: bursts need room.
pub const LINK_USE: f64 = 0.9;
/// Dropping more packets than this in bursts is worth a word.
pub(super) const MOST_DROPPED: f64 = 1e-3;
/// Bytes that a trace unit is taken to hold where nothing says it.
pub(super) const USUAL_FIFO: u64 = 16;

impl Fit {
    /// Judges loads against a capacity. `fifo`: bytes that the trace unit holds meanwhile.
    ///
    /// Samples come evenly: they take their part of the link and one place in the buffer. The rest
    /// comes at random and must do with what is left.
    #[must_use]
    pub fn new(loads: &[Load], capacity: f64, fifo: u64) -> Self {
        let sum = |of: fn(&Load) -> f64, even: bool| -> f64 {
            loads.iter().filter(|load| load.is_even == even).map(of).sum()
        };
        let (even, random) = (sum(Load::bytes, true), sum(Load::bytes, false));
        let group = |bytes: f64, events: f64| (bytes / events.max(1e-9)).clamp(0.0, 16.0);
        let sample = group(even, sum(|load| load.events, true));
        let each = group(random, sum(|load| load.events, false)).max(1.0);
        let places = (fifo as f64 - sample).max(1.0) / each;
        let bytes = even + random;
        let part = if bytes >= capacity {
            1.0 - capacity / bytes
        } else {
            dropped(random / (capacity - even), places)
        };
        let least = loads.iter().map(|load| load.events * load.least_each).sum();
        Self { bytes, capacity, least, dropped: part }
    }

    /// The used part of the link.
    #[must_use]
    pub fn load(&self) -> f64 {
        self.bytes / self.capacity
    }

    /// Whether it overflows whatever the firmware does.
    #[must_use]
    pub fn overflows(&self) -> bool {
        self.least > self.capacity
    }

    /// Whether the link carries it, bursts aside.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.load() <= LINK_USE
    }
}

/// The part of packets that finds the buffer full if they come at random and leave one after the
/// other: the tail of the M/D/1 queue, `P(Q > k) ~ (1 - r) / (r e^t - 1) e^(-t k)` where `t > 0`
/// solves `r (e^t - 1) = t` (H. C. Tijms, *A First Course in Stochastic Models*, section 9.5.2).
/// Samples come more evenly than that, interrupts in bursts.
fn dropped(load: f64, places: f64) -> f64 {
    if load <= 0.0 {
        return 0.0;
    }
    if load >= 1.0 {
        return 1.0 - 1.0 / load;
    }
    let too_small = |t: f64| load * t.exp_m1() < t;
    let (mut low, mut high) = (0.0, 1.0);
    while too_small(high) && high < 500.0 {
        high *= 2.0;
    }
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        *(if too_small(middle) { &mut low } else { &mut high }) = middle;
    }
    let tail = (1.0 - load) / (load * high.exp() - 1.0) * (-high * places).exp();
    if tail.is_finite() { tail.clamp(0.0, 1.0) } else { 0.0 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::description::Interrupt;

    fn plan(period: u64) -> Description {
        let observe = Observe { pc_sample_period: Some(period), ..Observe::default() };
        Description { observe, ..Description::default() }
    }

    #[test]
    fn adds_up_what_every_source_sends() {
        let clock = Frequency::from_hertz(40.96e6).unwrap();
        let mut plan = plan(4096);
        plan.observe.interrupts.push(Interrupt { name: "tick".into(), rate: 1000.0 });
        let loads = loads(&plan, clock, 0.0);
        let bytes = |source: &str| {
            loads.iter().find(|load| load.source.starts_with(source)).unwrap().bytes()
        };
        assert_eq!(bytes("PC samples"), 50_000.0);
        assert_eq!(bytes("interrupt tick"), 9_000.0);
        // 13 000 packets, some 3150 cycles apart: timestamps of nearly three bytes.
        let stamp = bytes("timestamps of samples") / 10_000.0;
        assert!((2.9..3.0).contains(&stamp), "{stamp}");
        assert!((bytes("timestamps of the rest") - 3_000.0 * stamp).abs() < 1e-6);
        assert!((bytes("synchronisation") - 6.0 * 40.96e6 / 16_777_216.0).abs() < 1e-9);
    }

    #[test]
    fn a_link_overflows_the_more_the_fuller_it_is() {
        let at = |load| dropped(load, 4.0);
        assert_eq!(at(2.0), 0.5);
        assert_eq!(at(0.0), 0.0);
        let mut last = 0.0;
        for percent in 1..100 {
            let now = at(f64::from(percent) / 100.0);
            assert!(now >= last && now <= 1.0, "{percent} %: {now}");
            last = now;
        }
        // P(Q > 1) of M/D/1 at half load is known exactly: 1 - (1 - r) e^r = 0.1756.
        assert!((dropped(0.5, 1.0) - 0.1756).abs() < 0.02, "{}", dropped(0.5, 1.0));
    }

    #[test]
    fn nothing_observed_is_nothing_sent() {
        let clock = Frequency::from_hertz(1e6).unwrap();
        assert!(loads(&Description::default(), clock, 0.0).is_empty());
    }
}

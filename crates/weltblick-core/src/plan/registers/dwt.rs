//! Data watchpoint and trace unit (DDI 0403E, C1.8; DDI 0553, D1.2 for Armv8-M).

use super::{Register, Request};
use crate::plan::core::Architecture;
use crate::plan::description::{EventCounter, WatchAccess, WatchTrace};
use crate::plan::narrow::{Comparator, Compares, Placed};
use crate::plan::watch::Watch;

const BASE: u64 = 0xe000_1000;
/// `FUNCTION` of Armv7-M: an instruction address match, for instruction trace to see.
const V7_CODE_MATCH: u32 = 0b1000;
/// `MATCH` of Armv8-M: the same.
const V8_CODE_MATCH: u32 = 0b0010;
/// `MATCH` of Armv8-M: the upper end of a range that the comparator before begins.
const V8_CODE_LIMIT: u32 = 0b0011;

/// The comparators: watched variables first, then the points of instruction trace.
pub(super) fn comparators(request: &Request<'_>) -> Vec<Register> {
    let v8 = matches!(request.core.architecture, Architecture::V8 | Architecture::V8Base);
    let mut writes = Vec::new();
    for (number, watch) in (0..).zip(request.watches) {
        writes.extend(if v8 { v8_watch(number, watch) } else { v7_watch(number, watch) });
    }
    writes.extend(code_comparators(request.core.architecture, request.placed));
    writes
}

/// Comparators that watch instructions, for instruction trace to see.
pub(super) fn code_comparators(architecture: Architecture, placed: &Placed) -> Vec<Register> {
    let v8 = matches!(architecture, Architecture::V8 | Architecture::V8Base);
    let mut writes = Vec::new();
    for Comparator { number, address, compares } in &placed.comparators {
        let number = u64::from(*number);
        let (what, masked) = match compares {
            Compares::Start => ("instruction trace starts here".into(), 0),
            Compares::Stop => ("instruction trace stops here".into(), 0),
            Compares::Block(bits) => {
                (format!("a block of {} bytes from here on", 1_u64 << bits), *bits)
            }
            Compares::From => ("a range from here on".into(), 0),
            Compares::UpTo => ("a range up to here".into(), 0),
        };
        writes.push(compare(number, *address, what));
        if !v8 {
            writes.push(mask(number, masked));
        }
        let (code, meaning) = match (v8, compares) {
            (false, _) => (V7_CODE_MATCH, "executing it is an event"),
            (true, Compares::UpTo) => {
                (V8_CODE_LIMIT, "executing what lies in the range is an event")
            }
            (true, Compares::From) => (V8_CODE_MATCH, "the next comparator speaks for both"),
            (true, _) => (V8_CODE_MATCH, "executing it is an event"),
        };
        let name = if v8 { "MATCH" } else { "FUNCTION" };
        writes.push(function(number).field(name, 0, 4, code, meaning));
    }
    writes
}

fn compare(number: u64, address: u64, meaning: String) -> Register {
    Register::new(format!("DWT_COMP{number}"), BASE + 0x20 + 16 * number).field(
        "COMP",
        0,
        32,
        address as u32,
        meaning,
    )
}

fn mask(number: u64, bits: u32) -> Register {
    let meaning = match bits {
        0 => "every bit of the address counts".to_owned(),
        1 => "the lowest bit of the address does not count".to_owned(),
        _ => format!("the lowest {bits} bits of the address do not count"),
    };
    Register::new(format!("DWT_MASK{number}"), BASE + 0x24 + 16 * number)
        .field("MASK", 0, 5, bits, meaning)
}

fn function(number: u64) -> Register {
    Register::new(format!("DWT_FUNCTION{number}"), BASE + 0x28 + 16 * number)
}

/// Armv7-M: address, mask and function (table C1-14).
fn v7_watch(number: u64, watch: &Watch) -> Vec<Register> {
    let (code, meaning) = match (watch.trace, watch.on) {
        (WatchTrace::Code, _) => (0b0001, "the accessing instruction"),
        (WatchTrace::Value, WatchAccess::Any) => (0b0010, "the value, read or written"),
        (WatchTrace::ValueAndCode, WatchAccess::Any) => {
            (0b0011, "value and instruction, read or written")
        }
        (WatchTrace::Value, WatchAccess::Read) => (0b1100, "the value that is read"),
        (WatchTrace::Value, WatchAccess::Write) => (0b1101, "the value that is written"),
        (WatchTrace::ValueAndCode, WatchAccess::Read) => (0b1110, "value and instruction of reads"),
        (WatchTrace::ValueAndCode, WatchAccess::Write) => {
            (0b1111, "value and instruction of writes")
        }
    };
    vec![
        compare(number, watch.address, format!("the address of {}", watch.name)),
        mask(number, watch.size.trailing_zeros()),
        function(number).field("FUNCTION", 0, 4, code, format!("sends {meaning}")),
    ]
}

/// Armv8-M. Assumed from the architecture's text: `MATCH` 0b11xx compares a data address and sends the value
/// with `ACTION` 0b10, with 0b11 the instruction's address too; 0b01xx with 0b11 sends that alone.
fn v8_watch(number: u64, watch: &Watch) -> Vec<Register> {
    let access = match watch.on {
        WatchAccess::Any => 0b00,
        WatchAccess::Write => 0b01,
        WatchAccess::Read => 0b10,
    };
    let (with_value, action, meaning) = match watch.trace {
        WatchTrace::Code => (0b0100, 0b11, "sends the accessing instruction"),
        WatchTrace::Value => (0b1100, 0b10, "sends the value"),
        WatchTrace::ValueAndCode => (0b1100, 0b11, "sends value and accessing instruction"),
    };
    vec![
        compare(number, watch.address, format!("the address of {}", watch.name)),
        function(number)
            .field("MATCH", 0, 4, with_value | access, "compares data addresses")
            .field("ACTION", 4, 2, action, meaning)
            .field(
                "DATAVSIZE",
                10,
                2,
                watch.size.trailing_zeros(),
                format!("{} bytes", watch.size),
            ),
    ]
}

/// One cycle before every bit of the cycle counter that synchronisations may be tapped from (24, 26, 28)
/// changes: the first one comes at once, and not millions of cycles later.
pub(super) fn counter() -> Register {
    Register::new("DWT_CYCCNT", BASE + 4).field(
        "CYCCNT",
        0,
        32,
        0x0fff_ffff,
        "the first synchronisation comes at once",
    )
}

/// `DWT_CTRL`, where nothing but the synchronisations of frames comes from the DWT.
pub(super) fn pace_frames(request: &Request<'_>) -> Register {
    let every = request.plan.observe.synchronise;
    Register::new("DWT_CTRL", BASE)
        .field("CYCCNTENA", 0, 1, 1, "the cycle counter runs")
        .field("SYNCTAP", 10, 2, tap(every), format!("frames synchronise every 2^{every} cycles"))
        .keeping_implementation()
}

/// `DWT_CTRL.SYNCTAP` of a synchronisation every 2^`power` cycles.
const fn tap(power: u32) -> u32 {
    (power - 22) / 2
}

/// `DWT_CTRL`: it starts what the DWT sends.
pub(super) fn control(request: &Request<'_>) -> Register {
    let observe = &request.plan.observe;
    let mut register =
        Register::new("DWT_CTRL", BASE).field("CYCCNTENA", 0, 1, 1, "the cycle counter runs");
    if let Some(period) = observe.pc_sample_period {
        let (tap, name) = if period > 1024 { (1024, "bit 10") } else { (64, "bit 6") };
        let reload = (period / tap).saturating_sub(1) as u32;
        register = register
            .field(
                "POSTPRESET",
                1,
                4,
                reload,
                format!("every {} taps: {period} cycles", reload + 1),
            )
            .field(
                "CYCTAP",
                9,
                1,
                u32::from(tap == 1024),
                format!("a tap at {name}: {tap} cycles"),
            );
    }
    let sync = tap(observe.synchronise);
    let every = format!("a synchronisation every 2^{} cycles", observe.synchronise);
    register = register
        .field("SYNCTAP", 10, 2, sync, every)
        .flag("PCSAMPLENA", 12, observe.pc_sample_period.is_some(), "PC samples")
        .flag("EXCTRCENA", 16, !observe.interrupts.is_empty(), "exception trace");
    for (counter, name, bit) in EventCounter::ALL {
        let meaning = format!("a packet when the {name} counter wraps");
        register = register.flag(
            &format!("{}EVTENA", short(counter)),
            bit as u8,
            observe.counters.contains(&counter),
            &meaning,
        );
    }
    register.keeping_implementation()
}

/// The standard's abbreviation.
const fn short(counter: EventCounter) -> &'static str {
    match counter {
        EventCounter::Instruction => "CPI",
        EventCounter::Exception => "EXC",
        EventCounter::Sleep => "SLEEP",
        EventCounter::LoadStore => "LSU",
        EventCounter::Fold => "FOLD",
        EventCounter::Cycle => "CYC",
    }
}

impl Register {
    /// The upper bits of `DWT_CTRL` say what is built in; they are not ours to write.
    const fn keeping_implementation(mut self) -> Self {
        self.mask = 0x007f_ffff;
        self
    }
}

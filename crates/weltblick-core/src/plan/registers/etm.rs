//! Embedded trace macrocells: architecture 4 (IHI 0064) and 3.5 (IHI 0014).
//!
//! On M-profile cores both see the comparators of the DWT as inputs, so points are watched there.

use super::{ETM_TRACE_ID, Register, Request};
use crate::plan::description::Instructions;
use crate::plan::narrow::Placed;

/// Where every M-profile core has it.
pub(in crate::plan) const BASE: u64 = 0xe004_1000;

/// ETMv4.
pub(super) fn version_4(request: &Request<'_>, wanted: &Instructions) -> Vec<Register> {
    let mut writes = vec![
        Register::unlock("TRC", BASE),
        enable_4(false),
        Register::new("TRCCONFIGR", BASE + 0x010)
            .flag("CCI", 4, wanted.cycle_counts, "cycle counts")
            .field("RS", 12, 1, 1, "return stack: returns cost an atom, not an address")
            .flag("TS", 11, request.plan.observe.global_timestamps, "global timestamps"),
        Register::new("TRCEVENTCTL0R", BASE + 0x020).field("EVENT", 0, 32, 0, "no events"),
        Register::new("TRCEVENTCTL1R", BASE + 0x024).field("EVENT", 0, 32, 0, "no events"),
        Register::new("TRCSTALLCTLR", BASE + 0x02c).field(
            "ISTALL",
            8,
            1,
            0,
            "the core never waits",
        ),
        Register::new("TRCTSCTLR", BASE + 0x030).field(
            "EVENT",
            0,
            8,
            0,
            "timestamps at synchronisations",
        ),
        Register::new("TRCSYNCPR", BASE + 0x034).field(
            "PERIOD",
            0,
            5,
            10,
            "a synchronisation every 2^10 bytes",
        ),
        Register::new("TRCCCCTLR", BASE + 0x038).field(
            "THRESHOLD",
            0,
            12,
            4,
            "cycle counts of 4 and more",
        ),
        Register::new("TRCTRACEIDR", BASE + 0x040).field(
            "TRACEID",
            0,
            7,
            u32::from(ETM_TRACE_ID),
            "its trace ID in formatter frames",
        ),
        Register::new("TRCVIIECTLR", BASE + 0x084).field(
            "INCLUDE",
            0,
            4,
            0,
            "no ranges of its own",
        ),
    ];
    writes.extend(narrow_4(request.placed));
    writes.push(enable_4(true));
    writes
}

/// The switch of an ETMv4.
pub(super) fn enable_4(on: bool) -> Register {
    let meaning = if on { "instruction trace is on" } else { "off while it is set up" };
    Register::new("TRCPRGCTLR", BASE + 0x004).field("EN", 0, 1, u32::from(on), meaning)
}

/// Where an ETMv4 traces. Selector 1 is always true; selector 2 watches inputs from the DWT.
pub(super) fn narrow_4(placed: &Placed) -> Vec<Register> {
    let by_points = placed.starts | placed.stops != 0;
    let (selector, when) = match (placed.ranges, placed.inverted) {
        (0, _) => (1, "always, as far as the points allow"),
        (_, false) => (2, "inside the ranges that selector 2 watches"),
        (_, true) => (2, "outside the ranges that selector 2 watches"),
    };
    let status =
        if by_points { "off until a start point is reached" } else { "on from the beginning" };
    let mut writes = vec![
        Register::new("TRCVICTLR", BASE + 0x080).field("EVENT", 0, 8, selector, when).field(
            "SSSTATUS",
            9,
            1,
            u32::from(!by_points),
            status,
        ),
        Register::new("TRCVIPCSSCTLR", BASE + 0x08c)
            .field("START", 0, 8, placed.starts, "comparators of the DWT that start it")
            .field("STOP", 16, 8, placed.stops, "comparators of the DWT that stop it"),
    ];
    if placed.ranges != 0 {
        writes.push(
            Register::new("TRCRSCTLR2", BASE + 0x208)
                .field("SELECT", 0, 8, placed.ranges, "comparators of the DWT")
                .field("GROUP", 16, 4, 0b0001, "inputs from the core's comparators")
                .flag("INV", 20, placed.inverted, "true while none of them matches"),
        );
    }
    writes
}

/// ETMv3.5.
pub(super) fn version_3(request: &Request<'_>, wanted: &Instructions) -> Vec<Register> {
    let control = |on: bool| {
        enable_3(on)
            .keeping_nothing()
            .field("PortSize", 4, 3, 1, "8 bits towards the trace port")
            .flag("PortSelect", 11, true, "the trace port is in use")
            .flag("CycleAccurate", 12, wanted.cycle_counts, "cycle-accurate P-headers")
            .flag("Timestamp", 28, request.plan.observe.global_timestamps, "global timestamps")
    };
    let mut writes = vec![
        Register::unlock("ETM", BASE),
        control(false),
        Register::new("ETMTRIGGER", BASE + 0x008).field("EVENT", 0, 17, 0x406f, "no trigger"),
    ];
    writes.extend(narrow_3(request.placed));
    writes.push(Register::new("ETMTRACEIDR", BASE + 0x200).field(
        "TraceID",
        0,
        7,
        u32::from(ETM_TRACE_ID),
        "its trace ID in formatter frames",
    ));
    writes.push(control(true));
    writes
}

/// The switch of an ETMv3.5; the other bits stay.
pub(super) fn enable_3(on: bool) -> Register {
    let meaning = if on { "instruction trace is on" } else { "off while it is set up" };
    Register::new("ETMCR", BASE)
        .field("Programming", 10, 1, u32::from(!on), meaning)
        .keeping_the_rest()
}

/// Where an ETMv3.5 traces. Events name resources (IHI 0014, "Event resources"): 0x6f is always
/// true, 0x20 + n is input n from the DWT; bit 14 inverts the first of the two.
pub(super) fn narrow_3(placed: &Placed) -> Vec<Register> {
    let by_points = placed.starts | placed.stops != 0;
    let (event, when) = match (placed.ranges, placed.inverted) {
        (0, _) => (0x6f, "always"),
        (range, false) => (0x20 + range.trailing_zeros(), "inside the range"),
        (range, true) => (1 << 14 | 0x20 + range.trailing_zeros(), "outside the range"),
    };
    vec![
        Register::new("ETMTEEVR", BASE + 0x020).field("EVENT", 0, 17, event, when),
        Register::new("ETMTECR1", BASE + 0x024)
            .field(
                "TraceStartStop",
                25,
                1,
                u32::from(by_points),
                if by_points { "between the points" } else { "everywhere" },
            )
            .field("Exclude", 24, 1, 1, "what is listed is left out; nothing is"),
        Register::new("ETMTESSEICR", BASE + 0x1f0)
            .field("Start", 0, 4, placed.starts, "comparators of the DWT that start it")
            .field("Stop", 16, 4, placed.stops, "comparators of the DWT that stop it"),
    ]
}

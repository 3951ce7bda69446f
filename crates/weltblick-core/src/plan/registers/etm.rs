//! Embedded trace macrocells: architecture 4 (IHI 0064) and 3.5 (IHI 0014).
//!
//! On M-profile cores both see the comparators of the DWT as inputs, so points are watched there.

use super::{ETM_TRACE_ID, Register, Request};
use crate::plan::description::Instructions;

const BASE: u64 = 0xe004_1000;

/// Bits of the comparator inputs that start and stop.
fn inputs(request: &Request<'_>) -> (u32, u32) {
    let first = request.watches.len() as u32;
    let (start, stop) = request.start_stop;
    let starts = start.map_or(0, |_| 1 << first);
    let stops = stop.map_or(0, |_| 1 << (first + u32::from(start.is_some())));
    (starts, stops)
}

/// ETMv4.
pub(super) fn version_4(request: &Request<'_>, wanted: &Instructions) -> Vec<Register> {
    let (starts, stops) = inputs(request);
    let by_points = starts | stops != 0;
    let mut writes = vec![
        Register::unlock("TRC", BASE),
        Register::new("TRCPRGCTLR", BASE + 0x004).field("EN", 0, 1, 0, "off while it is set up"),
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
        Register::new("TRCVICTLR", BASE + 0x080)
            .field("EVENT", 0, 8, 1, "always, as far as the points allow")
            .field(
                "SSSTATUS",
                9,
                1,
                u32::from(!by_points),
                if by_points {
                    "off until a start point is reached"
                } else {
                    "on from the beginning"
                },
            ),
        Register::new("TRCVIIECTLR", BASE + 0x084).field("INCLUDE", 0, 4, 0, "no ranges"),
    ];
    if by_points {
        writes.push(
            Register::new("TRCVIPCSSCTLR", BASE + 0x08c)
                .field("START", 0, 8, starts, "comparators of the DWT that start it")
                .field("STOP", 16, 8, stops, "comparators of the DWT that stop it"),
        );
    }
    writes.push(Register::new("TRCPRGCTLR", BASE + 0x004).field(
        "EN",
        0,
        1,
        1,
        "instruction trace is on",
    ));
    writes
}

/// ETMv3.5.
pub(super) fn version_3(request: &Request<'_>, wanted: &Instructions) -> Vec<Register> {
    let (starts, stops) = inputs(request);
    let by_points = starts | stops != 0;
    let control = |programming: u32| {
        Register::new("ETMCR", BASE)
            .field("PortSize", 4, 3, 1, "8 bits towards the trace port")
            .field(
                "Programming",
                10,
                1,
                programming,
                if programming == 1 { "off while it is set up" } else { "instruction trace is on" },
            )
            .flag("PortSelect", 11, true, "the trace port is in use")
            .flag("CycleAccurate", 12, wanted.cycle_counts, "cycle-accurate P-headers")
            .flag("Timestamp", 28, request.plan.observe.global_timestamps, "global timestamps")
    };
    let mut writes = vec![
        Register::unlock("ETM", BASE),
        control(1),
        Register::new("ETMTRIGGER", BASE + 0x008).field("EVENT", 0, 17, 0x406f, "no trigger"),
        Register::new("ETMTEEVR", BASE + 0x020).field("EVENT", 0, 17, 0x006f, "always"),
        Register::new("ETMTECR1", BASE + 0x024)
            .field(
                "TraceStartStop",
                25,
                1,
                u32::from(by_points),
                if by_points { "between the points" } else { "everywhere" },
            )
            .field("Exclude", 24, 1, 1, "what is listed is left out; nothing is"),
    ];
    if by_points {
        writes.push(
            Register::new("ETMTESSEICR", BASE + 0x1f0)
                .field("Start", 0, 4, starts, "comparators of the DWT that start it")
                .field("Stop", 16, 4, stops, "comparators of the DWT that stop it"),
        );
    }
    writes.push(Register::new("ETMTRACEIDR", BASE + 0x200).field(
        "TraceID",
        0,
        7,
        u32::from(ETM_TRACE_ID),
        "its trace ID in formatter frames",
    ));
    writes.push(control(0));
    writes
}

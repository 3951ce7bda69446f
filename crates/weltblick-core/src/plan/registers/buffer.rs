//! Buffers on the chip: the CoreSight ETB and TMC, and the micro trace buffer.

use super::{Register, Request};
use crate::plan::narrow::Placed;

/// An ETB, or a TMC set up as one (IHI 0029; CoreSight TMC, programmers' model).
pub(super) fn etb(request: &Request<'_>) -> Vec<Register> {
    let Some(base) = request.plan.buffer_base else { return Vec::new() };
    vec![
        Register::unlock("ETB", base),
        Register::new("ETB_CTL", base + 0x20).field(
            "TraceCaptEn",
            0,
            1,
            0,
            "off while it is set up",
        ),
        Register::new("ETB_MODE", base + 0x28).field("MODE", 0, 2, 0, "circular: the oldest goes"),
        Register::new("ETB_FFCR", base + 0x304)
            .field("EnFt", 0, 1, 1, "frames around the packets")
            .field("EnTI", 1, 1, 1, "triggers are indicated"),
        Register::new("ETB_RWP", base + 0x18).field("RWP", 0, 32, 0, "write from the start"),
        Register::new("ETB_CTL", base + 0x20).field(
            "TraceCaptEn",
            0,
            1,
            1,
            "the buffer takes trace",
        ),
    ]
}

/// A micro trace buffer (CoreSight MTB, programmers' model): pairs of addresses in RAM. Its start
/// and stop inputs are assumed as on the MTB-M33, where `MTB_TSTART` and `MTB_TSTOP` choose among
/// the comparators of the DWT.
pub(super) fn mtb(request: &Request<'_>) -> Vec<Register> {
    let (Some(base), Some(place)) = (request.plan.mtb_base, request.mtb) else {
        return Vec::new();
    };
    let mut writes = vec![
        Register::new("MTB_MASTER", base + 4)
            .field(
                "MASK",
                0,
                5,
                place.bytes.ilog2() - 4,
                format!("{} bytes, the oldest goes", place.bytes),
            )
            .field("EN", 31, 1, 0, "off while it is set up"),
        Register::new("MTB_POSITION", base).field(
            "POINTER",
            3,
            29,
            (place.offset >> 3) as u32,
            format!("write from {:#x} in the buffer's RAM on", place.offset),
        ),
        Register::new("MTB_FLOW", base + 8).field("WATERMARK", 3, 29, 0, "no stop when it is full"),
    ];
    writes.extend(narrow_mtb(base, request.placed));
    writes
}

/// The switch; the size stays.
pub(super) fn enable_mtb(base: u64, on: bool) -> Register {
    let meaning = if on { "the buffer takes branches" } else { "off while it is set up" };
    Register::new("MTB_MASTER", base + 4)
        .field("EN", 31, 1, u32::from(on), meaning)
        .keeping_the_rest()
}

/// What starts and stops it, and the switch: where points start it, it waits for the first.
pub(super) fn narrow_mtb(base: u64, placed: &Placed) -> Vec<Register> {
    if placed.starts | placed.stops == 0 {
        return vec![enable_mtb(base, true)];
    }
    let waits = placed.starts != 0;
    let inputs = |name: &str, offset: u64, bits: u32, does: &str| {
        let meaning = format!("comparators of the DWT that {does} it");
        Register::new(name, base + offset).field("CMPMATCH", 0, 4, bits, meaning)
    };
    vec![
        inputs("MTB_TSTART", 0x10, placed.starts, "start"),
        inputs("MTB_TSTOP", 0x14, placed.stops, "stop"),
        Register::new("MTB_MASTER", base + 4)
            .field("TSTARTEN", 5, 1, u32::from(waits), "start points count")
            .field("TSTOPEN", 6, 1, u32::from(placed.stops != 0), "stop points count")
            .field(
                "EN",
                31,
                1,
                u32::from(!waits),
                if waits {
                    "off until a start point is reached"
                } else {
                    "the buffer takes branches"
                },
            )
            .keeping_the_rest(),
    ]
}

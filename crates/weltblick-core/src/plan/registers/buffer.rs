//! Buffers on the chip: the CoreSight ETB and TMC, and the micro trace buffer.

use super::{Register, Request};
use crate::plan::link::Link;

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

/// A micro trace buffer (Cortex-M0+ MTB, programmers' model): pairs of addresses in RAM.
pub(super) fn mtb(request: &Request<'_>) -> Vec<Register> {
    let (Some(base), Link::Buffer { bytes }) = (request.plan.mtb_base, request.link) else {
        return Vec::new();
    };
    // 2^(MASK + 4) bytes; what does not fill a power of two is left alone.
    let mask = bytes.max(16).ilog2() - 4;
    vec![
        Register::new("MTB_POSITION", base).field("POINTER", 3, 29, 0, "write from the start"),
        Register::new("MTB_FLOW", base + 8).field("WATERMARK", 3, 29, 0, "no stop when it is full"),
        Register::new("MTB_MASTER", base + 4)
            .field("MASK", 0, 5, mask, format!("{} bytes, the oldest goes", 16_u64 << mask))
            .field("EN", 31, 1, 1, "the buffer takes branches"),
    ]
}

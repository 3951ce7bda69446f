//! A memory ring of firmware marks: how large it must be, and whether it stands alone.

use super::description::Ring;
use crate::image::{Image, NotFixed, Variables};
use schemars::JsonSchema;
use serde::Serialize;

/// Bytes before the first mark: what the ring says of itself.
pub const RING_HEADER: u64 = 32;

/// A ring, planned.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct RingPlan {
    /// Its symbol.
    pub symbol: String,
    /// Bytes that it needs.
    pub bytes_needed: u64,
    /// Where it is in the image.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<u64>,
    /// Bytes that it has there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// What is wrong with it, each a sentence.
    pub doubts: Vec<String>,
}

/// Plans a ring, and looks at the one in the image if there is one.
///
/// # Errors
///
/// If the image has no such variable at a fixed address.
pub fn plan_ring(ring: &Ring, program: Option<(&Image, &Variables)>) -> Result<RingPlan, NotFixed> {
    let marks = (ring.rate * ring.holds.as_secs_f64()).ceil();
    // Its offsets wrap by a mask.
    let size = (marks as u64).saturating_mul(ring.mark_bytes).max(1);
    let size = size.checked_next_power_of_two().unwrap_or(1 << 63);
    let bytes_needed = size.saturating_add(RING_HEADER);
    let mut plan = RingPlan {
        symbol: ring.symbol.clone(),
        bytes_needed,
        address: None,
        bytes: None,
        doubts: Vec::new(),
    };
    let Some((image, variables)) = program else { return Ok(plan) };
    let found = variables.find(&ring.symbol)?;
    plan.address = Some(found.address);
    plan.bytes = Some(found.size);
    if found.size < bytes_needed {
        let holds =
            found.size.saturating_sub(RING_HEADER) as f64 / ring.mark_bytes as f64 / ring.rate;
        plan.doubts.push(format!(
            "{} holds {:.0} ms in its {} bytes; for {:.0} ms set WELTBLICK_MARKS_RING_SIZE to {size}.",
            ring.symbol,
            1e3 * holds,
            found.size,
            1e3 * ring.holds.as_secs_f64(),
        ));
    }
    let range = found.range();
    let overlap = |other: &std::ops::Range<u64>| other.start < range.end && range.start < other.end;
    for other in variables.all().iter().filter(|other| other.address != found.address) {
        if overlap(&other.range()) {
            plan.doubts.push(format!("{} overlaps {}.", ring.symbol, other.name));
        }
    }
    if let Some((code, _)) = image.code().find(|(code, _)| overlap(code)) {
        plan.doubts.push(format!(
            "{} overlaps code at {:#010x} to {:#010x}.",
            ring.symbol, code.start, code.end
        ));
    }
    Ok(plan)
}

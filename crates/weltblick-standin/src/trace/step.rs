//! What a core tells its instruction trace unit, and what that tells of it.

use crate::core::Branch;

/// One executed instruction.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Step {
    /// How many were executed before it.
    pub(crate) number: u64,
    pub(crate) pc: u32,
    /// The instruction behind it.
    pub(crate) behind: u32,
    /// Where execution goes on; of an exception return, its value.
    pub(crate) next: u32,
    pub(crate) branch: Branch,
    /// The condition of its IT block held, or it is in none.
    pub(crate) passed: bool,
    /// It returns from an exception.
    pub(crate) returns: bool,
    /// When it was done.
    pub(crate) cycle: u64,
    /// The DWT's comparators that match it.
    pub(crate) comparators: u32,
}

/// A stretch of instructions that the trace tells without a gap.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Segment {
    /// The number of its first instruction.
    pub first: u64,
    /// How many are certain: up to the last branch or exception that was sent, or the last atom.
    pub told: u64,
}

/// Stretches that were told, in order.
#[derive(Debug, Clone, Default)]
pub(super) struct Told(pub(super) Vec<Segment>);

impl Told {
    pub(super) fn begin(&mut self, first: u64) {
        self.0.push(Segment { first, told: 0 });
    }

    /// Everything before instruction number `until` is certain.
    pub(super) fn sure(&mut self, until: u64) {
        if let Some(segment) = self.0.last_mut() {
            segment.told = segment.told.max(until.saturating_sub(segment.first));
        }
    }
}

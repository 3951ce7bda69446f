//! What packets leave out because it was said before.

use super::packet::InstructionSet;

/// The state that packets are differences from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct History {
    /// The newest address.
    pub(super) address: u64,
    pub(super) set: InstructionSet,
    /// The newest timestamp as it was sent.
    pub(super) timestamp: u64,
}

//! How a recording was made, as far as figures depend on it.

use crate::capture::{Manifest, PollSettings};
use crate::event::CodeRanges;

/// How a recording was made.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Conduct {
    /// How samples came about.
    pub basis: Basis,
    /// A debugger stopped the core while it was made: its timing is not its own.
    pub intrusive: bool,
    /// Only what came between points in the code was recorded.
    pub between_points: bool,
    /// Whoever recorded it began while the target ran: it begins with its first synchronisation, and what was sent before
    /// is no part of it.
    pub attached: bool,
    /// Which code was asked for.
    pub ranges: CodeRanges,
}

/// How samples came about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Basis {
    /// The target's own sampler sent them.
    #[default]
    Sampler,
    /// A debugger read the program counter of the running core.
    Polled,
    /// A debugger stopped the core for each.
    Stopped,
}

impl Conduct {
    /// Of the samples that count in a capture.
    #[must_use]
    pub fn of(manifest: &Manifest) -> Self {
        let basis = match manifest.polled() {
            None => Basis::Sampler,
            Some(PollSettings { intrusive: false, .. }) => Basis::Polled,
            Some(PollSettings { intrusive: true, .. }) => Basis::Stopped,
        };
        let intrusive = manifest.intrusive || basis == Basis::Stopped;
        let between_points = manifest.between_points;
        let ranges = manifest.ranges.clone();
        Self { basis, intrusive, between_points, attached: false, ranges }
    }
}

impl Basis {
    /// The name in JSON.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Sampler => "pc_samples",
            Self::Polled => "polled_pc",
            Self::Stopped => "stopped_core",
        }
    }
}

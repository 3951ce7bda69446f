//! What a debug stub is to be asked, and how often.

use super::readout::ReadOut;
use super::registers::PC_SAMPLE;
use super::windows::Windows;
use std::time::Duration;
use weltblick_core::capture::LapPoint;
use weltblick_core::image::Field;

/// What is asked, and how often.
#[derive(Debug, Clone, Default)]
pub(super) struct Questions {
    /// Mean time between samples of the program counter.
    pub(super) sample_every: Option<Duration>,
    /// Variables, and how often they are read.
    pub(super) variables: Vec<Field>,
    pub(super) read_every: Duration,
    /// A buffer, and how often it is read out while the target runs.
    pub(super) read_out: Option<ReadOut>,
    pub(super) read_out_every: Option<Duration>,
    /// Code points whose passing is timed.
    pub(super) laps: Vec<LapPoint>,
    /// Code points between which is recorded.
    pub(super) windows: Windows,
    /// A code point at which the capture ends.
    pub(super) until: Option<u64>,
    /// Exceptions, as far as the vector table goes, whose priorities are noted at the end; 0 where the
    /// core is none of M-profile.
    pub(super) exceptions: u16,
    /// The core must be stopped for every answer.
    pub(super) stops: bool,
}

impl Questions {
    /// Whether memory is read while the target runs.
    pub(super) const fn reads(&self) -> bool {
        self.sample_every.is_some() || !self.variables.is_empty() || self.read_out.is_some()
    }

    /// An address that is read anyhow: where it is tried out whether that works.
    pub(super) fn probe(&self) -> u64 {
        match (self.sample_every, self.variables.first(), self.read_out) {
            (None, Some(variable), _) => variable.address,
            (None, None, Some(read_out)) => read_out.probe(),
            _ => PC_SAMPLE,
        }
    }

    /// Whether the stub is needed for more than the set-up.
    pub(super) fn any(&self) -> bool {
        self.polls() || self.read_out.is_some() || !self.windows.is_empty()
    }

    /// Whether the core stands now and then because of them: its timing is not its own.
    pub(super) fn disturb(&self) -> bool {
        let reads = self.sample_every.is_some() || !self.variables.is_empty();
        let reads = reads || self.read_out_every.is_some();
        self.stops && reads || !self.laps.is_empty() || !self.windows.is_empty()
    }

    /// Whether there is anything to be written down.
    pub(super) fn polls(&self) -> bool {
        self.sample_every.is_some() || !self.variables.is_empty() || !self.laps.is_empty()
    }

    /// Every place at which the core is stopped, once.
    pub(super) fn breaks(&self) -> Vec<u64> {
        let laps = self.laps.iter().map(|lap| lap.address);
        let mut breaks: Vec<u64> = laps.chain(self.windows.points()).chain(self.until).collect();
        breaks.sort_unstable();
        breaks.dedup();
        breaks
    }
}

//! Which core the stand-in passes for: how a debugger knows it, and what its debug block is like.
//!
//! All of them execute what a Cortex-M3 does, in its time.

use crate::trace::Fitted;
use crate::trace::{etmv3, etmv4};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// A core that the stand-in can pass for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Model {
    /// Instruction trace of architecture 3.5, comparators of Armv7-M.
    #[default]
    CortexM3,
    /// As a Cortex-M3.
    CortexM4,
    /// Instruction trace of architecture 4, comparators of Armv7-M.
    CortexM7,
    /// Instruction trace of architecture 4, comparators of Armv8-M.
    CortexM33,
}

impl Model {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::CortexM3, Self::CortexM4, Self::CortexM7, Self::CortexM33];

    /// Its name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::CortexM3 => "cortex-m3",
            Self::CortexM4 => "cortex-m4",
            Self::CortexM7 => "cortex-m7",
            Self::CortexM33 => "cortex-m33",
        }
    }

    /// `CPUID`.
    #[must_use]
    pub const fn cpuid(self) -> u32 {
        match self {
            Self::CortexM3 => 0x412f_c231,
            Self::CortexM4 => 0x410f_c241,
            Self::CortexM7 => 0x411f_c272,
            Self::CortexM33 => 0x410f_d214,
        }
    }

    /// The instruction trace unit that is built in.
    #[must_use]
    pub fn instruction_trace(self) -> Fitted {
        match self {
            Self::CortexM3 | Self::CortexM4 => Fitted::Etmv3(etmv3::Etm::default()),
            Self::CortexM7 | Self::CortexM33 => Fitted::Etmv4(etmv4::Etm::default()),
        }
    }

    /// It follows Armv8-M: other codes of its comparators, and a counter in the trace port that paces the
    /// synchronisations of frames. Before that they go with the DWT's cycle counter.
    pub(crate) const fn is_v8(self) -> bool {
        matches!(self, Self::CortexM33)
    }
}

impl fmt::Display for Model {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A core that the stand-in cannot pass for.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the stand-in cannot be a {0}; it can be a {known}", known = Model::ALL.map(Model::name).join(", "))]
pub struct UnknownModel(String);

impl FromStr for Model {
    type Err = UnknownModel;

    fn from_str(text: &str) -> Result<Self, UnknownModel> {
        let known = Self::ALL.into_iter().find(|model| model.name() == text);
        known.ok_or_else(|| UnknownModel(text.to_owned()))
    }
}

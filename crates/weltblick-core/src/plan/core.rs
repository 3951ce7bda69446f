//! Cores, and the trace units that they can have.

use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// A core of the M profile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Core {
    /// Its name in options and files.
    pub name: &'static str,
    /// Which edition of the debug architecture its registers follow.
    pub architecture: Architecture,
    /// Data watchpoint comparators at most; a vendor may have built in fewer.
    pub comparators: u8,
    /// The unit that traces instructions, where one can be built in.
    pub instructions: InstructionTrace,
    /// `CPUID.PARTNO`, by which a debugger knows it.
    part: u16,
}

/// Editions of the debug architecture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Architecture {
    /// Armv6-M: watchpoints and a PC sample register, no ITM.
    V6,
    /// Armv7-M (DDI 0403E).
    V7,
    /// Armv8-M and Armv8.1-M with the Main Extension (DDI 0553).
    V8,
    /// Armv8-M without the Main Extension: no ITM.
    V8Base,
}

impl Architecture {
    /// All editions.
    pub const ALL: [Self; 4] = [Self::V6, Self::V7, Self::V8, Self::V8Base];

    /// The name in files.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::V6 => "armv6-m",
            Self::V7 => "armv7-m",
            Self::V8 => "armv8-m",
            Self::V8Base => "armv8-m-base",
        }
    }
}

/// Units that trace instructions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InstructionTrace {
    /// Embedded Trace Macrocell, architecture 3.5 (IHI 0014).
    Etm3,
    /// Embedded Trace Macrocell, architecture 4 (IHI 0064).
    Etm4,
    /// Micro Trace Buffer in RAM.
    Mtb,
}

const fn core(
    name: &'static str,
    architecture: Architecture,
    comparators: u8,
    instructions: InstructionTrace,
    part: u16,
) -> Core {
    Core { name, architecture, comparators, instructions, part }
}

/// Every core that is known.
pub const CORES: [Core; 9] = [
    core("cortex-m0+", Architecture::V6, 2, InstructionTrace::Mtb, 0xc60),
    core("cortex-m3", Architecture::V7, 4, InstructionTrace::Etm3, 0xc23),
    core("cortex-m4", Architecture::V7, 4, InstructionTrace::Etm3, 0xc24),
    core("cortex-m7", Architecture::V7, 4, InstructionTrace::Etm4, 0xc27),
    core("cortex-m23", Architecture::V8Base, 4, InstructionTrace::Mtb, 0xd20),
    core("cortex-m33", Architecture::V8, 4, InstructionTrace::Etm4, 0xd21),
    core("cortex-m52", Architecture::V8, 8, InstructionTrace::Etm4, 0xd24),
    core("cortex-m55", Architecture::V8, 8, InstructionTrace::Etm4, 0xd22),
    core("cortex-m85", Architecture::V8, 8, InstructionTrace::Etm4, 0xd23),
];

/// `CPUID.Implementer` of Arm.
const ARM: u32 = 0x41;

impl Core {
    /// The core that has this `CPUID` (Arm's technical reference manuals of each), if it is one that is known.
    #[must_use]
    pub fn of_cpuid(cpuid: u32) -> Option<Self> {
        let part = (cpuid >> 4 & 0xfff) as u16;
        CORES.into_iter().find(|core| cpuid >> 24 == ARM && core.part == part)
    }

    /// Whether the core can have an ITM, and with it a DWT that sends packets.
    #[must_use]
    pub const fn has_itm(&self) -> bool {
        matches!(self.architecture, Architecture::V7 | Architecture::V8)
    }
}

/// A name that is no core.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is no core that Weltblick knows; it knows {names}", names = CORES.map(|core| core.name).join(", "))]
pub struct UnknownCore(String);

impl FromStr for Core {
    type Err = UnknownCore;

    fn from_str(text: &str) -> Result<Self, UnknownCore> {
        let name = text.to_ascii_lowercase();
        let known = CORES.iter().find(|core| core.name == name);
        known.copied().ok_or_else(|| UnknownCore(text.to_owned()))
    }
}

impl fmt::Display for Core {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

impl InstructionTrace {
    /// The protocol's name, as manifests call it.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Etm3 => "etmv3",
            Self::Etm4 => "etmv4",
            Self::Mtb => "mtb",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finds_cores_by_name() {
        assert_eq!("Cortex-M3".parse::<Core>().unwrap().architecture, Architecture::V7);
        let error = "cortex-m5".parse::<Core>().unwrap_err().to_string();
        assert!(error.contains("it knows cortex-m0+, cortex-m3"), "{error}");
        assert!(!"cortex-m0+".parse::<Core>().unwrap().has_itm());
        assert_eq!(Core::of_cpuid(0x410f_d214).map(|core| core.name), Some("cortex-m33"));
        assert_eq!(Core::of_cpuid(0x630f_d214), None, "of somebody else");
    }
}

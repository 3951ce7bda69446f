//! Do samples and branches fall where this image has instructions?

use crate::image::{Image, Place};
use schemars::JsonSchema;
use serde::Serialize;

/// Samples, or branches, by what the image has at their address.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Agreement {
    /// At the start of an instruction, where they belong.
    pub at_instruction: u64,
    /// In code that no symbol lets us walk.
    pub in_unnamed_code: u64,
    /// Inside an instruction: no core executes there.
    pub inside_instruction: u64,
    /// In data between instructions.
    pub in_literal: u64,
    /// Outside the image.
    pub outside: u64,
}

impl Agreement {
    /// All that have an address.
    #[must_use]
    pub const fn total(&self) -> u64 {
        let Self { at_instruction, in_unnamed_code, inside_instruction, in_literal, outside } =
            self;
        *at_instruction + *in_unnamed_code + *inside_instruction + *in_literal + *outside
    }

    /// Enough of them are there, and all but one in a thousand at an instruction: it is most likely the right image.
    #[must_use]
    pub const fn fits(&self) -> bool {
        self.total() >= 100 && 1000 * (self.impossible() + self.outside) <= self.total()
    }

    /// Those that this image cannot have made.
    #[must_use]
    pub const fn impossible(&self) -> u64 {
        self.inside_instruction + self.in_literal
    }
}

/// Looks every address up; each comes with how often it was seen.
#[must_use]
pub fn agreement(counts: impl IntoIterator<Item = (u64, u64)>, image: &Image) -> Agreement {
    let mut agreement = Agreement::default();
    for (address, seen) in counts {
        *match image.place(address) {
            Place::Instruction => &mut agreement.at_instruction,
            Place::Code => &mut agreement.in_unnamed_code,
            Place::InsideInstruction => &mut agreement.inside_instruction,
            Place::Literal => &mut agreement.in_literal,
            Place::Outside => &mut agreement.outside,
        } += seen;
    }
    agreement
}

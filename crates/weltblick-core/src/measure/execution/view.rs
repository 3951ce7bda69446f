//! What of a recording is shown: a part of it, and some of its code.

use crate::flow::{Block, Moment, Only, Sink};
use crate::image::{FunctionId, Image};
use rustc_hash::FxHashSet;

/// Chooses what is shown of what ran.
#[derive(Debug, Clone)]
pub struct View {
    part: Only<()>,
    /// These functions, and what is in none; all code without a choice.
    functions: Option<FxHashSet<Option<FunctionId>>>,
    /// By block number: whether its function is chosen.
    known: Vec<Option<bool>>,
}

impl View {
    /// A part, of all its code. Blocks must begin at its edges: see
    /// [`Code::cut_at`](crate::flow::Code::cut_at).
    #[must_use]
    pub const fn new(part: Only<()>) -> Self {
        Self { part, functions: None, known: Vec::new() }
    }

    /// The same, of these functions only; `None` is code that lies in no function.
    #[must_use]
    pub fn of(self, functions: impl IntoIterator<Item = Option<FunctionId>>) -> Self {
        Self { functions: Some(functions.into_iter().collect()), ..self }
    }

    /// Whether the code at an address is shown where it runs inside the part.
    #[must_use]
    pub fn has(&self, address: u64, image: &Image) -> bool {
        let function = image.function_at(address);
        self.functions.as_ref().is_none_or(|functions| functions.contains(&function))
    }

    /// Whether a block that runs now is shown.
    pub(super) fn shows(&mut self, block: &Block, image: &Image) -> bool {
        self.part.ran(block, false);
        self.part.is_inside() && self.is_chosen(block, image)
    }

    pub(super) fn at(&mut self, offset: u64) {
        self.part.at(offset);
    }

    pub(super) fn moment(&mut self, offset: u64, moment: &Moment) {
        self.part.moment(offset, moment);
    }

    fn is_chosen(&mut self, block: &Block, image: &Image) -> bool {
        let number = block.id.0 as usize;
        if let Some(&Some(known)) = self.known.get(number) {
            return known;
        }
        if number >= self.known.len() {
            self.known.resize((number + 1).next_power_of_two(), None);
        }
        let chosen = self.has(block.start, image);
        self.known[number] = Some(chosen);
        chosen
    }
}

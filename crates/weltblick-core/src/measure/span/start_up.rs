//! From reset to the firmware's own `main`, where a trace begins early enough.

use crate::flow::{Block, Gap, Moment, Sink};
use crate::image::Image;
use crate::stats::Ticks;

/// The exception number of reset.
const RESET: u16 = 1;
/// Where the firmware's own code begins.
const MAIN: &str = "main";

/// A sink that times the start-up.
#[derive(Debug)]
pub struct StartUp {
    /// The reset handler's first instruction, and that of `main`.
    places: Option<[u64; 2]>,
    state: State,
    instructions: u64,
    /// Cycles up to the last count.
    cycles: u64,
    /// Nothing ran since it.
    at_once: bool,
    /// What came out.
    pub found: Option<(u64, Option<Ticks>)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// Nothing ran yet.
    Before,
    Running,
    /// `main` was reached; its time is known at the next count.
    Reached,
    Over,
}

impl StartUp {
    /// Of this image.
    #[must_use]
    pub fn new(image: &Image) -> Self {
        let main = image.functions_named(MAIN).first().map(|&id| image.function(id).range.start);
        let reset = image.vector(RESET).map(|vector| vector.address & !1);
        Self {
            places: reset.zip(main).map(|(reset, main)| [reset, main]),
            state: State::Before,
            instructions: 0,
            cycles: 0,
            at_once: true,
            found: None,
        }
    }

    /// Where blocks must begin for it to see.
    #[must_use]
    pub fn place(&self) -> Option<u64> {
        self.places.map(|[_, main]| main)
    }
}

impl Sink for StartUp {
    #[inline(always)]
    fn ran(&mut self, block: &Block, _: bool) {
        if self.state == State::Over {
            return;
        }
        match (self.state, self.places) {
            (State::Before, Some([reset, _])) if block.start == reset => {
                self.state = State::Running;
                self.cycles = 0;
            }
            (State::Before, _) => self.state = State::Over,
            (State::Running, Some([_, main])) if block.start == main => {
                let exact = self.at_once.then(|| Ticks::exact(self.cycles));
                self.found = Some((self.instructions, exact));
                self.state = if self.at_once { State::Over } else { State::Reached };
            }
            _ => {}
        }
        self.instructions += u64::from(block.instructions);
        self.at_once = false;
    }

    fn ran_part(&mut self, _: &Block, _: u64, instructions: u32) {
        self.instructions += u64::from(instructions);
        self.at_once = false;
        if self.state == State::Before {
            self.state = State::Over;
        }
    }

    fn moment(&mut self, _: u64, moment: &Moment) {
        match *moment {
            Moment::Cycles(Some(cycles)) => {
                let before = self.cycles;
                self.cycles += u64::from(cycles);
                self.at_once = true;
                if let (State::Reached, Some((_, ticks))) = (self.state, &mut self.found) {
                    *ticks = Some(Ticks { low: before, high: self.cycles });
                    self.state = State::Over;
                }
            }
            Moment::Cycles(None) | Moment::Gap(_) if self.state != State::Over => {
                // Nothing before the first instruction is missing from the start-up.
                let begins = self.state == State::Before
                    && matches!(moment, Moment::Gap(Gap::Damaged { .. } | Gap::Unwatched));
                if !begins {
                    self.state = State::Over;
                }
            }
            _ => {}
        }
    }
}

//! The order in which tasks ran.

use super::tracking::{Spell, State, Watcher};

/// Turns that are listed at most.
pub const MOST_TURNS: usize = 1_000_000;

/// A task had the core, and then not.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Turn {
    /// Of which core.
    pub core: u8,
    /// Which.
    pub task: u32,
    /// From when to when, and what it did then.
    pub spell: Spell,
}

/// Every turn, in order.
#[derive(Debug, Default)]
pub struct Order {
    /// The first [`MOST_TURNS`] of them.
    pub turns: Vec<Turn>,
    core: u8,
}

impl Watcher for Order {
    fn turns_to(&mut self, core: u8) {
        self.core = core;
    }

    fn was(&mut self, task: u32, spell: Spell) {
        if spell.state == State::Runs && self.turns.len() < MOST_TURNS {
            self.turns.push(Turn { core: self.core, task, spell });
        }
    }
}

//! The order in which tasks ran.

use super::tracking::{Spell, State, Watcher};

/// Turns that are listed at most.
const MOST_TURNS: usize = 1_000_000;

/// A task had the core, and then not.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Turn {
    /// Which.
    pub task: u32,
    /// From when to when, and what it did then.
    pub spell: Spell,
}

/// Every turn, in order.
#[derive(Debug, Default)]
pub struct Order {
    /// The first of them.
    pub turns: Vec<Turn>,
    /// There are more than are kept.
    pub is_cut: bool,
}

impl Watcher for Order {
    fn was(&mut self, task: u32, spell: Spell) {
        if spell.state != State::Runs {
            return;
        }
        if self.turns.len() < MOST_TURNS {
            self.turns.push(Turn { task, spell });
        } else {
            self.is_cut = true;
        }
    }
}

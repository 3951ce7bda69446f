//! What is known of a function's calls.

use super::tree::Named;
use crate::image::FunctionId;
use crate::stats::{Spread, Ticks};

/// What is known of a function's calls.
#[derive(Debug, Clone, Default)]
pub struct CallFigures {
    /// How often it was called, or entered as a handler.
    pub calls: u64,
    /// How many calls were not seen to their end.
    pub cut: u64,
    /// Those of them that had not ended when the recording did.
    pub open: u64,
    /// How long these had lasted at most, in ticks.
    pub open_for: u64,
    /// Instructions of a call and of what it called.
    pub instructions: Spread,
    /// The same in ticks, without what interrupted it.
    pub own: Spread,
    /// In ticks, from beginning to end.
    pub elapsed: Spread,
    /// Instructions of a call without what it called.
    pub self_instructions: Spread,
    /// The same in ticks, without what interrupted it.
    pub self_own: Spread,
    /// Of some, beginning or end is told apart from sleep by the pace of instructions only.
    pub by_pace: bool,
    /// The longest.
    pub longest: Option<Longest>,
}

/// The longest call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Longest {
    /// How long, in ticks from beginning to end; in instructions where nothing tells time.
    pub ticks: Ticks,
    /// Where its beginning is told, in the origin's bytes.
    pub from: u64,
    /// Where its end is told.
    pub until: u64,
}

impl CallFigures {
    /// Keeps what is longer for certain; of equals the first.
    pub(super) fn keep_longest(&mut self, candidate: Longest) {
        let rank = |longest: &Longest| (longest.ticks.low, longest.ticks.high);
        if self.longest.as_ref().is_none_or(|longest| rank(&candidate) > rank(longest)) {
            self.longest = Some(candidate);
        }
    }
}

/// The figures of every function, by number: no look-up by name or hash stands between a call and them.
#[derive(Debug, Clone, Default)]
pub(super) struct FiguresOf {
    /// That of code without a name, and then those of functions in the order of their numbers.
    all: Vec<Option<Box<CallFigures>>>,
}

impl FiguresOf {
    pub(super) fn of_mut(&mut self, function: Named) -> &mut CallFigures {
        let place = function.0.map_or(0, |FunctionId(number)| number as usize + 1);
        if place >= self.all.len() {
            self.all.resize(place + 1, None);
        }
        self.all[place].get_or_insert_default()
    }

    /// Of those that were called.
    /// Of one function, if it was called.
    pub(super) fn of(&self, function: Named) -> Option<&CallFigures> {
        let place = function.0.map_or(0, |FunctionId(number)| number as usize + 1);
        self.all.get(place)?.as_deref()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (Named, &CallFigures)> {
        let named =
            |place: usize| Named(place.checked_sub(1).map(|number| FunctionId(number as u32)));
        let all = self.all.iter().enumerate();
        all.filter_map(move |(place, figures)| Some((named(place), figures.as_deref()?)))
    }
}

//! All turns that tasks had, so that whoever asks for one of them need not read a long recording again.

use super::seek::Names;
use crate::event::{Event, Position, Sink, Thing};
use crate::measure::tasks::{Activation, Tracking, Watcher};
use crate::point::{End, Occurrence, Which};
use crate::time::Window;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Turns that are kept: a bound on what a long recording can cost.
const MOST: usize = 1 << 19;

/// Turns of tasks, by name and in order.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Turns {
    /// The numbers of tasks, by name.
    numbers: BTreeMap<String, u32>,
    /// When turns began and ended, by the task's number.
    turns: BTreeMap<u32, Vec<[Option<Window>; 2]>>,
    /// There were more turns than are kept.
    pub cut: bool,
}

impl Turns {
    /// How many turns of a task are known; `None` where no task is called so, or has this number.
    #[must_use]
    pub fn count(&self, name: &str) -> Option<usize> {
        self.of(name).map(<[_]>::len)
    }

    /// When a turn began, or ended, if it is there and has a time. Of turns that are not kept, none is the last.
    #[must_use]
    pub fn find(&self, wanted: &Occurrence) -> Option<Window> {
        let turns = self.of(&wanted.name)?;
        let turn = match wanted.which {
            Which::First => turns.first(),
            Which::Number(number) => turns.get(usize::try_from(number).ok()?),
            Which::Last => turns.last().filter(|_| !self.cut),
            Which::Every => None,
        };
        let [began, ended] = *turn?;
        if wanted.end == End::End { ended } else { began }
    }

    fn of(&self, name: &str) -> Option<&[[Option<Window>; 2]]> {
        let number = self.numbers.get(name).copied().or_else(|| name.parse().ok())?;
        let named = self.numbers.values().any(|&known| known == number);
        let turns = self.turns.get(&number).map(Vec::as_slice);
        turns.or(named.then_some(&[]))
    }
}

/// Gathers them: a sink of events.
#[derive(Debug)]
pub struct TurnList {
    names: Names,
    tracking: Tracking<List>,
}

#[derive(Debug, Default)]
struct List {
    turns: BTreeMap<u32, Vec<[Option<Window>; 2]>>,
    room: usize,
    cut: bool,
}

impl Watcher for List {
    fn activated(&mut self, activation: &Activation) {
        match self.room.checked_sub(1) {
            Some(room) => {
                self.room = room;
                let turns = self.turns.entry(activation.task).or_default();
                turns.push([activation.began, activation.ended]);
            }
            None => self.cut = true,
        }
    }
}

impl Default for TurnList {
    fn default() -> Self {
        Self::with_room(MOST)
    }
}

impl TurnList {
    fn with_room(room: usize) -> Self {
        let list = List { room, ..List::default() };
        Self { names: Names::default(), tracking: Tracking::new(list) }
    }

    /// All of them; `text_at` finds texts in the image.
    #[must_use]
    pub fn finish(self, text_at: impl Fn(u64) -> Option<String>) -> Turns {
        let number = |thing: Thing| match thing {
            Thing::Task(number) => Some(number),
            _ => None,
        };
        let named = self.names.list.into_iter().filter_map(|(thing, name)| {
            number(thing).and_then(|number| Some((name.told(&text_at)?, number)))
        });
        let numbers = named.collect();
        let List { turns, cut, .. } = self.tracking.finish();
        Turns { numbers, turns, cut }
    }
}

impl Sink for TurnList {
    fn event(&mut self, position: Position, event: &Event) {
        self.names.event(position, event);
        self.tracking.event(position, event);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{Name, Origin, Statement, Stop};
    use crate::point::Subject;

    /// Two tasks take turns: the first runs for 10 ticks from 100 on, the second for 5, and so on.
    fn turns(room: usize, count: u64) -> Turns {
        let mut list = TurnList::with_room(room);
        let mut tell = |time: u64, statement: Statement| {
            let time = Some(Window::exact(time));
            list.event(Position::new(Origin(0), 0, time), &Event::Stated(statement));
        };
        for (task, name) in [(1, "filter"), (2, "report")] {
            tell(0, Statement::Named(Thing::Task(task), Name::Told(name.into())));
        }
        // Where a recording begins, a turn may have begun before it.
        tell(50, Statement::Runs { task: 1, stack_pointer: None });
        tell(60, Statement::Stops { task: 1, why: Stop::Untold });
        for number in 0..count {
            for (task, after, long) in [(1, 0, 10), (2, 20, 5)] {
                let began = 100 * (number + 1) + after;
                tell(began, Statement::Runs { task, stack_pointer: None });
                tell(began + long, Statement::Stops { task, why: Stop::Untold });
            }
        }
        list.finish(|_| None)
    }

    fn at(turns: &Turns, name: &str, which: Which, end: End) -> Option<u64> {
        let wanted = Occurrence { subject: Subject::Task, name: name.to_owned(), which, end };
        turns.find(&wanted).map(|window| window.latest)
    }

    #[test]
    fn a_turn_is_found_by_name_or_number() {
        let turns = turns(MOST, 4);
        assert_eq!([turns.count("filter"), turns.count("2")], [Some(4); 2]);
        assert_eq!([turns.count("nobody"), turns.count("9")], [None; 2]);
        assert_eq!(at(&turns, "filter", Which::First, End::Begin), Some(100));
        assert_eq!(at(&turns, "filter", Which::Number(2), End::End), Some(310));
        assert_eq!(at(&turns, "report", Which::Last, End::Begin), Some(420));
        assert_eq!(at(&turns, "2", Which::Number(1), End::End), Some(225));
        assert_eq!(at(&turns, "report", Which::Number(4), End::Begin), None);
        assert_eq!(at(&turns, "report", Which::Every, End::Begin), None);
    }

    #[test]
    fn where_not_all_are_kept_none_is_the_last() {
        let turns = turns(3, 4);
        assert!(turns.cut);
        assert_eq!([turns.count("filter"), turns.count("report")], [Some(2), Some(1)]);
        assert_eq!(at(&turns, "filter", Which::Number(1), End::Begin), Some(200));
        assert_eq!(at(&turns, "filter", Which::Last, End::Begin), None);
    }
}

//! A window of time as a recording of its own: what verdicts on it rest on.
//!
//! What was recorded outside of it, and what was wrong there, says nothing about it. What may have happened inside and
//! is not passed on is missing in it: events without a time between one before the window and one in it, events whose
//! time may lie on either side of an edge, and a gap that reaches across one.

use crate::event::{ClockFault, CoreSet, Event, LossReason, Origin, Position, Sink, Statement};
use crate::time::Window;

/// Events without a time that wait for the next with one at most.
const MOST_WAITING: usize = 4096;

/// Where the last event with a time lay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reached {
    Before,
    Inside,
    Behind,
}

/// Passes on what happened in a window, and says where something of that is missing.
#[derive(Debug)]
pub struct Windowed<S> {
    start: u64,
    end: u64,
    reached: Reached,
    /// Of these cores something is missing since the last event with a time, or at it, or lies on either side of the
    /// edge.
    open: CoreSet,
    /// All cores that told of anything.
    cores: CoreSet,
    /// Nothing had a time so far: bytes that are missing before everything are before the window, too.
    undated: bool,
    waiting: Vec<(Position, Event)>,
    /// Where it goes.
    pub sink: S,
}

impl<S: Sink> Windowed<S> {
    /// From tick `start` up to but not including `end`.
    pub const fn new(start: u64, end: u64, sink: S) -> Self {
        let reached = Reached::Before;
        let (open, cores) = (CoreSet::NONE, CoreSet::NONE);
        Self { start, end, reached, open, cores, undated: true, waiting: Vec::new(), sink }
    }

    /// The recording ends: what has no time came after all that has one.
    pub fn finish(&mut self) {
        if self.reached != Reached::Inside || self.waiting.is_empty() {
            return;
        }
        if self.end == u64::MAX {
            for (position, event) in self.waiting.drain(..) {
                self.sink.event(position, &event);
            }
        } else {
            self.missing_behind();
        }
    }

    /// Something is missing between the last event in the window and its end.
    fn missing_behind(&mut self) {
        for core in self.lacking().iter() {
            let position = Position { core, ..Position::new(Origin(0), 0, None) };
            self.sink.event(position, &Event::Unwatched);
        }
    }

    /// The cores of which something may be missing at an edge: all, where events without a time wait there.
    fn lacking(&self) -> CoreSet {
        if self.waiting.is_empty() { self.open } else { self.cores }
    }

    /// Whether something of the event's core is missing behind it.
    const fn note_loss(&mut self, position: Position, event: &Event) {
        if matches!(event, Event::Lost { .. } | Event::Unwatched | Event::LeftOut) {
            self.open.add(position.core);
        } else {
            self.open.remove(position.core);
        }
    }

    fn inside(&mut self, position: Position, event: &Event) {
        match self.reached {
            Reached::Before => {
                let lacking = self.lacking();
                self.waiting.clear();
                self.reached = Reached::Inside;
                self.sink.event(position, event);
                for core in lacking.iter() {
                    self.sink.event(Position { core, ..position }, &Event::Unwatched);
                }
            }
            Reached::Inside => {
                for (position, event) in self.waiting.drain(..) {
                    self.sink.event(position, &event);
                }
                self.sink.event(position, event);
            }
            // One that came late: what else did is not known.
            Reached::Behind => self.sink.event(position, &Event::Unwatched),
        }
        self.note_loss(position, event);
    }

    fn outside(&mut self, position: Position, time: Window, event: &Event) {
        let is_behind = time.earliest >= self.end;
        if is_behind && self.reached == Reached::Inside {
            self.missing_behind();
            self.reached = Reached::Behind;
        }
        self.waiting.clear();
        self.note_loss(position, event);
    }

    /// It may lie in the window, or not.
    fn at_an_edge(&mut self, position: Position, time: Window) {
        if self.reached == Reached::Inside {
            let (earliest, latest) = (time.earliest.max(self.start), time.latest.min(self.end - 1));
            let position = Position { time: Some(Window { earliest, latest }), ..position };
            let why = LossReason::Overflow;
            self.sink.event(position, &Event::Lost { bytes: 0..0, why });
        }
        self.open.add(position.core);
    }
}

impl<S: Sink> Sink for Windowed<S> {
    fn event(&mut self, position: Position, event: &Event) {
        let undated = Position { time: None, ..position };
        self.undated &= position.time.is_none();
        self.cores.add(position.core);
        match event {
            // Who is who holds whenever it was told; so does that clocks contradict each other.
            Event::Stated(
                Statement::Named(..) | Statement::Watches { .. } | Statement::OnlyTurns { .. },
            )
            | Event::ClockFault(
                ClockFault::Stopped | ClockFault::StampsWrapped | ClockFault::NotOneTick,
            )
            | Event::SeveralCores => {
                return self.sink.event(undated, event);
            }
            Event::Lost { .. } if self.undated => return,
            _ => {}
        }
        match position.time {
            Some(time) if time.is_inside(self.start, self.end) => self.inside(position, event),
            Some(time) if time.is_outside(self.start, self.end) => {
                self.outside(position, time, event)
            }
            Some(time) => self.at_an_edge(position, time),
            None if self.waiting.len() < MOST_WAITING => {
                self.waiting.push((position, event.clone()));
            }
            None => self.open.add(position.core),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Default)]
    struct Seen(Vec<String>);

    impl Sink for Seen {
        fn event(&mut self, position: Position, event: &Event) {
            let what = match event {
                Event::Entered { exception } => exception.to_string(),
                Event::Lost { .. } => "lost".into(),
                Event::Unwatched => "missing".into(),
                other => format!("{other:?}"),
            };
            let time = position.time.map_or("?".into(), |time| time.latest.to_string());
            self.0.push(format!("{what}@{time}"));
        }
    }

    /// What is passed on of entries at these times, `..` standing for a loss: from tick 100 up to 200.
    fn seen(entries: &[(u16, Option<[u64; 2]>)]) -> Vec<String> {
        seen_until(200, entries)
    }

    fn seen_until(end: u64, entries: &[(u16, Option<[u64; 2]>)]) -> Vec<String> {
        let mut windowed = Windowed::new(100, end, Seen::default());
        for &(exception, time) in entries {
            let time = time.map(|[earliest, latest]| Window { earliest, latest });
            let event = match exception {
                0 => Event::Lost { bytes: 0..0, why: LossReason::Overflow },
                _ => Event::Entered { exception },
            };
            windowed.event(Position::new(Origin(0), 0, time), &event);
        }
        windowed.finish();
        windowed.sink.0
    }

    const fn at(tick: u64) -> Option<[u64; 2]> {
        Some([tick, tick])
    }

    #[test]
    fn what_is_inside_is_a_recording_of_its_own() {
        let whole = seen(&[(1, at(90)), (2, at(100)), (3, None), (4, at(199)), (5, at(200))]);
        assert_eq!(whole, ["2@100", "3@?", "4@199"]);
        // What was wrong outside says nothing about it.
        let outside = [(0, at(50)), (1, at(60)), (2, at(110)), (5, at(210)), (0, at(220))];
        assert_eq!(seen(&outside), ["2@110"]);
        // Nor does what could not be read before anything had a time.
        assert_eq!(seen(&[(0, None), (0, None), (2, at(110))]), ["2@110"]);
        // What comes last, and has no time, lies in a window that has no end.
        let open = [(2, at(110)), (3, None)];
        assert_eq!(seen_until(u64::MAX, &open), ["2@110", "3@?"]);
        assert_eq!(seen(&open), ["2@110", "missing@?"]);
    }

    #[test]
    fn clocks_that_contradict_each_other_do_so_in_every_window() {
        let seen = |fault| {
            let mut windowed = Windowed::new(100, 200, Seen::default());
            let time = Some(Window { earliest: 50, latest: 50 });
            let position = Position::new(Origin(0), 0, time);
            windowed.event(position, &Event::ClockFault(fault));
            windowed.finish();
            windowed.sink.0
        };
        assert_eq!(seen(ClockFault::Stopped), ["ClockFault(Stopped)@?"]);
        // One that changed before it is another one all through.
        assert_eq!(seen(ClockFault::Changed), [""; 0]);
    }

    #[test]
    fn what_may_be_inside_and_is_not_known_is_missing() {
        for entries in [
            // A gap across the start, an event without a time, one on either side.
            [(1, at(80)), (0, at(90)), (2, at(110)), (3, at(120))],
            [(1, at(80)), (9, None), (2, at(110)), (3, at(120))],
            [(1, at(80)), (9, Some([95, 105])), (2, at(110)), (3, at(120))],
        ] {
            assert_eq!(seen(&entries), ["2@110", "missing@110", "3@120"]);
        }
        // The same at the end.
        assert_eq!(
            seen(&[(2, at(110)), (0, at(190)), (3, at(220))]),
            ["2@110", "lost@190", "missing@?"]
        );
        assert_eq!(seen(&[(2, at(110)), (9, None), (3, at(220))]), ["2@110", "missing@?"]);
        let astride = [(2, at(110)), (9, Some([195, 205])), (3, at(220))];
        assert_eq!(seen(&astride), ["2@110", "lost@199", "missing@?"]);
    }
}

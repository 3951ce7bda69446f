//! Ways between marks: from one event to another, and to more of them on the way.

use crate::event::{Event, Name, Position, Sink, Statement, Thing};
use crate::measure::timeline::Target;
use crate::point::End;

/// What a way passes: the beginning or the end of every run, activation or span of one kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mark {
    /// An interrupt, a task or a span.
    pub target: Target,
    /// Which end of it.
    pub end: End,
    /// What it is called.
    pub name: String,
}

/// Tells a sink of ways as if the firmware stated them as spans. Number 0 is from the first mark to the last;
/// with marks between, number `n` is the lap that ends at mark `n`. A way begins at the last time that its
/// first mark was passed before the second.
#[derive(Debug)]
pub struct Between<S> {
    marks: Vec<Mark>,
    /// Where the way that has begun passed its first marks.
    passed: Vec<Position>,
    /// The first mark was passed again since then.
    again: Option<Position>,
    /// Whether the task of a mark is active; nothing tells after a loss.
    active: Vec<Option<bool>>,
    /// Which marks an event is.
    hits: Vec<bool>,
    named: bool,
    sink: S,
}

impl<S: Sink> Between<S> {
    /// Ways past these marks, two or more.
    pub fn new(marks: Vec<Mark>, sink: S) -> Self {
        let (active, hits) = (vec![None; marks.len()], vec![false; marks.len()]);
        Self { marks, passed: Vec::new(), again: None, active, hits, named: false, sink }
    }

    /// The recording ends: what was told.
    pub fn finish(mut self) -> S {
        // Who only passed the first mark may not have been on his way.
        if self.passed.len() > 1 {
            self.leave();
        }
        self.sink
    }

    fn laps(&self) -> bool {
        self.marks.len() > 2
    }

    fn state(&mut self, position: Position, statement: Statement) {
        self.sink.event(position, &Event::Stated(statement));
    }

    /// Says what the ways are called.
    fn name(&mut self, position: Position) {
        let name = |from: &Mark, until: &Mark| format!("{} .. {}", from.name, until.name);
        let mut names = Vec::new();
        if let [first, .., last] = self.marks.as_slice() {
            names.push(name(first, last));
        }
        if self.laps() {
            names.extend(self.marks.windows(2).map(|pair| name(&pair[0], &pair[1])));
        }
        for (span, name) in (0..).zip(names) {
            let name = Name::Told(name.into());
            self.state(position, Statement::Named(Thing::Span(span), name));
        }
    }

    /// Whether this event is the mark with this number.
    fn passes(&mut self, number: usize, event: &Event) -> bool {
        let Mark { target, end, .. } = self.marks[number];
        let begins = end == End::Begin;
        match (target, event) {
            (Target::Interrupt(wanted), Event::Entered { exception }) => {
                begins && *exception == wanted
            }
            (Target::Interrupt(wanted), Event::Left { exception }) => {
                !begins && *exception == wanted
            }
            (Target::Span(wanted), Event::Stated(Statement::SpanBegan { span })) => {
                begins && *span == wanted
            }
            (Target::Span(wanted), Event::Stated(Statement::SpanEnded { span })) => {
                !begins && *span == wanted
            }
            (Target::Task(wanted), Event::Stated(statement)) => {
                let active = &mut self.active[number];
                match *statement {
                    Statement::Ready { task } if task == wanted => {
                        *active = active.or(Some(false));
                        false
                    }
                    Statement::Runs { task, .. } if task == wanted => {
                        active.replace(true) == Some(false) && begins
                    }
                    Statement::Stops { task, .. } if task == wanted => {
                        active.replace(false) == Some(true) && !begins
                    }
                    _ => false,
                }
            }
            _ => false,
        }
    }

    fn follow(&mut self, position: Position, event: &Event) {
        let mut any = false;
        for number in 0..self.marks.len() {
            self.hits[number] = self.passes(number, event);
            any |= self.hits[number];
        }
        if !any {
            return;
        }
        let next = self.passed.len();
        if next > 0 && self.hits[next] {
            self.passed.push(position);
            if self.passed.len() == self.marks.len() {
                self.tell();
            }
        } else if next > 1
            && self.hits[1]
            && let Some(first) = self.again.take()
        {
            self.passed = vec![first, position];
        }
        if self.hits[0] {
            match self.passed.as_mut_slice() {
                [] => self.passed.push(position),
                [first] => *first = position,
                _ => self.again = Some(position),
            }
        }
    }

    /// A way is complete.
    fn tell(&mut self) {
        let passed = std::mem::take(&mut self.passed);
        self.again = None;
        let mut way = |span: u32, began: Position, ended: Position| {
            self.sink.event(began, &Event::Stated(Statement::SpanBegan { span }));
            self.sink.event(ended, &Event::Stated(Statement::SpanEnded { span }));
        };
        if passed.len() > 2 {
            for (lap, pair) in (1..).zip(passed.windows(2)) {
                way(lap, pair[0], pair[1]);
            }
        }
        if let [first, .., last] = *passed {
            way(0, first, last);
        }
    }

    /// A way that has begun is not followed to its end.
    fn leave(&mut self) {
        if let Some(&first) = self.passed.first() {
            self.state(first, Statement::SpanBegan { span: 0 });
        }
        self.passed.clear();
        self.again = None;
    }
}

impl<S: Sink> Sink for Between<S> {
    fn event(&mut self, position: Position, event: &Event) {
        if !std::mem::replace(&mut self.named, true) {
            self.name(position);
        }
        if matches!(event, Event::Lost { .. } | Event::Unwatched) {
            self.leave();
            self.active.fill(None);
        }
        match event {
            // Those of the firmware have numbers of their own.
            Event::Stated(
                Statement::SpanBegan { .. }
                | Statement::SpanEnded { .. }
                | Statement::Named(Thing::Span(_), _),
            ) => {}
            _ => self.sink.event(position, event),
        }
        if matches!(event, Event::Entered { .. } | Event::Left { .. } | Event::Stated(_)) {
            self.follow(position, event);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin, Stop};
    use crate::measure::span::StatedSpans;
    use crate::time::Window;

    fn mark(target: Target, end: End, name: &str) -> Mark {
        Mark { target, end, name: name.to_owned() }
    }

    /// Names, counts, longest and cut of each way.
    fn told(marks: Vec<Mark>, events: &[(u64, Event)]) -> Vec<(String, u64, Option<u64>, u64)> {
        let mut between = Between::new(marks, StatedSpans::new(1));
        for (time, event) in events {
            let time = Some(Window::exact(*time));
            between.event(Position::new(Origin(0), 0, time), event);
        }
        let mut spans = between.finish();
        spans.finish();
        let row = |span: &crate::measure::span::StatedSpan| {
            let longest = span.elapsed.max().map(|max| max.high);
            (spans.name(span.span, |_| None), span.elapsed.count(), longest, span.cut)
        };
        spans.list().iter().map(row).collect()
    }

    const fn entered(exception: u16) -> Event {
        Event::Entered { exception }
    }

    const fn runs(task: u32) -> Event {
        Event::Stated(Statement::Runs { task, stack_pointer: None })
    }

    const fn stops(task: u32) -> Event {
        Event::Stated(Statement::Stops { task, why: Stop::Sleeps })
    }

    #[test]
    fn from_an_interrupt_to_the_task_that_it_wakes() {
        let marks = vec![
            mark(Target::Interrupt(16), End::Begin, "irq:adc"),
            mark(Target::Task(1), End::Begin, "task:filter"),
            mark(Target::Task(1), End::End, "task:filter.end"),
        ];
        let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
        let events = [
            (0, stops(1)),
            (10, entered(16)),
            (11, Event::Left { exception: 16 }),
            (15, runs(1)),
            // Pre-empted: that is no end, and no beginning.
            (20, runs(2)),
            (25, runs(1)),
            (40, stops(1)),
            // Again before the task runs: it begins anew.
            (50, entered(16)),
            (60, entered(16)),
            (63, runs(1)),
            (64, stops(1)),
            (70, entered(16)),
            (71, lost),
            (72, runs(1)),
        ];
        let name = str::to_owned;
        assert_eq!(
            told(marks, &events),
            [
                (name("irq:adc .. task:filter"), 2, Some(5), 0),
                (name("task:filter .. task:filter.end"), 2, Some(25), 0),
                // Something is missing in the last one.
                (name("irq:adc .. task:filter.end"), 2, Some(30), 1),
            ]
        );
    }

    #[test]
    fn a_way_that_is_never_finished_gives_way_to_the_next() {
        let marks: Vec<Mark> = [16, 17, 18]
            .map(|number| mark(Target::Interrupt(number), End::Begin, &number.to_string()))
            .into();
        let events = [
            (10, entered(16)),
            (20, entered(17)),
            (30, entered(16)), // the way goes on, unless the second comes again
            (35, entered(18)),
            (40, entered(16)),
            (50, entered(17)),
            (60, entered(16)),
            (64, entered(17)),
            (70, entered(18)),
        ];
        let told = told(marks, &events);
        let whole = told.iter().find(|(name, ..)| name == "16 .. 18").unwrap();
        assert_eq!((whole.1, whole.2), (2, Some(25)));
        let first = told.iter().find(|(name, ..)| name == "16 .. 17").unwrap();
        assert_eq!((first.1, first.2), (2, Some(10)));
    }

    #[test]
    fn from_each_time_to_the_next() {
        let tick = || mark(Target::Interrupt(15), End::Begin, "irq:SysTick");
        let events = [(5, entered(15)), (15, entered(15)), (27, entered(15))];
        let told = told(vec![tick(), tick()], &events);
        assert_eq!(told, [("irq:SysTick .. irq:SysTick".to_owned(), 2, Some(12), 0)]);
    }
}

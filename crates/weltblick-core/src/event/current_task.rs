//! A kernel's variable that says which task runs: its values as statements.

use super::statement::{Name, Statement, Stop, Thing};
use super::vocabulary::{Event, Position, Sink};

/// Tasks that are named at most, whatever values a stream tells.
const MOST_NAMED: usize = 4096;

/// Hands all events on to a sink, and with every value that the watched variable takes, which task runs
/// from then on. The value is the task's number; zero is none. Nothing tells why the one before stopped.
#[derive(Debug)]
pub struct CurrentTask<N, S> {
    /// The comparator that watches the variable; none: nothing is added.
    watch: Option<u8>,
    name_of: N,
    sink: S,
    runs: Option<u32>,
    /// Tasks that were named, in order.
    named: Vec<u32>,
}

impl<N: Fn(u32) -> String, S: Sink> CurrentTask<N, S> {
    /// The variable that comparator `watch` watches, if any does; `name_of` its values.
    pub const fn new(watch: Option<u8>, name_of: N, sink: S) -> Self {
        Self { watch, name_of, sink, runs: None, named: Vec::new() }
    }

    fn state(&mut self, position: Position, statement: Statement) {
        self.sink.event(position, &Event::Stated(statement));
    }

    fn runs(&mut self, position: Position, task: u32) {
        let next = Some(task).filter(|&task| task != 0);
        if next == self.runs {
            return;
        }
        if let Some(task) = std::mem::replace(&mut self.runs, next) {
            self.state(position, Statement::Stops { task, why: Stop::Untold });
        }
        let Some(task) = next else { return };
        if let Err(place) = self.named.binary_search(&task)
            && self.named.len() < MOST_NAMED
        {
            self.named.insert(place, task);
            let name = Name::Told((self.name_of)(task).into());
            self.state(position, Statement::Named(Thing::Task(task), name));
            self.state(position, Statement::OnlyTurns { idle: None });
        }
        self.state(position, Statement::Runs { task, stack_pointer: None });
    }
}

impl<N: Fn(u32) -> String, S: Sink> Sink for CurrentTask<N, S> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        self.sink.event(position, event);
        match *event {
            Event::Accessed { watch, value: Some(value), .. } if self.watch == Some(watch) => {
                self.runs(position, value.bits as u32);
            }
            Event::Lost { .. } | Event::Unwatched => self.runs = None,
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{Access, LossReason, Origin, Value};

    #[derive(Default)]
    struct Stated(Vec<String>);

    impl Sink for Stated {
        fn event(&mut self, _: Position, event: &Event) {
            if let Event::Stated(statement) = event {
                self.0.push(match statement {
                    Statement::Named(Thing::Task(task), Name::Told(name)) => {
                        format!("{task}={name}")
                    }
                    Statement::Runs { task, .. } => format!("+{task}"),
                    Statement::Stops { task, why: Stop::Untold } => format!("-{task}"),
                    Statement::OnlyTurns { idle: None } => return,
                    other => format!("{other:?}"),
                });
            }
        }
    }

    fn told(events: &[(u8, u64)]) -> Vec<String> {
        let mut stated = Stated::default();
        let mut current = CurrentTask::new(Some(2), |task| format!("t{task}"), &mut stated);
        for &(watch, bits) in events {
            let position = Position::new(Origin(0), 0, None);
            let event = match watch {
                99 => Event::Lost { bytes: 0..1, why: LossReason::Overflow },
                _ => Event::Accessed {
                    watch,
                    code: None,
                    address: None,
                    value: Some(Value { bits, size: 4 }),
                    access: Some(Access::Write),
                },
            };
            current.event(position, &event);
        }
        stated.0
    }

    #[test]
    fn values_are_tasks() {
        assert_eq!(
            told(&[(2, 5), (2, 5), (1, 7), (2, 6), (2, 0), (2, 5)]),
            ["5=t5", "+5", "-5", "6=t6", "+6", "-6", "+5"]
        );
    }

    #[test]
    fn after_a_loss_nobody_is_known_to_have_stopped() {
        assert_eq!(told(&[(2, 5), (99, 0), (2, 6)]), ["5=t5", "+5", "6=t6", "+6"]);
    }
}

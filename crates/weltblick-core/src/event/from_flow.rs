//! Instruction flow to events: exceptions, as the trace tells them, with the cycles that it counts.

use super::statement::{Name, Statement, Stop, Thing};
use super::vocabulary::{Event, LossReason, Origin, Position, Sink};
use crate::flow::{self, Block, Clocking, EXCEPTION, Gap, Moment, Passage, Passed, Ran, Slowest};
use crate::time::Window;
use crate::wire::Malformed;

/// Events that wait for their time at most; a trace that counts cycles so seldom has none.
const MOST_WAITING: usize = 4096;

/// An event that waits for its time.
#[derive(Debug)]
struct Waiting {
    offset: u64,
    event: Event,
    place: Place,
    /// It is asked for.
    told: bool,
    /// What ran before it since the last count.
    before: Ran,
}

/// Where an event stands among changes of threads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Place {
    /// Nowhere.
    Beside,
    /// A handler takes the core from thread mode.
    ThreadLeft,
    /// Thread mode goes on.
    ThreadBack,
    /// It happened when thread mode last lost the core.
    AsLeft,
    /// It happened when thread mode last went on.
    AsBack,
    /// It happened since then.
    SinceBack,
}

/// A sink of instruction flow that hands on events.
///
/// A cycle count, or a timestamp, says how much time has passed since the one before; what happened in between happened
/// in that window. Where something waited for an interrupt in between, that took the time which the other
/// instructions cannot have taken: no more than twice as long as the slowest that were seen without waiting.
/// After a gap nothing says how long it was: events before and after it lie on different clocks, which a loss
/// says. At the beginning, and after a gap, thread mode is taken to be what runs below
/// the handlers that are seen to be entered: no packet says so.
#[derive(Debug)]
pub struct FlowEvents<S> {
    origin: Origin,
    sink: S,
    /// How much time passes.
    passage: Passage,
    /// Ticks up to the last count, or timestamp.
    cycles: u64,
    waiting: Vec<Waiting>,
    /// Handlers that run or were interrupted, the innermost last.
    active: Vec<u16>,
    /// A handler ended, and what goes on is not known yet.
    ended: bool,
    offset: u64,
    /// How many cycles had passed at a byte that is not reached yet: until then no event has a time.
    gate: Option<(u64, u64)>,
    /// Nothing is wanted after so many cycles.
    until: u64,
    /// Nothing is wanted that no synchronisation confirms; it has come to that.
    only_confirmed: bool,
    ended_before: bool,
    /// It does not show yet which thread goes on: what happens meanwhile is no change of threads.
    held: bool,
    /// What happens now is asked for.
    told: bool,
    /// There was a gap.
    is_behind_gap: bool,
    /// It was not known how much time passed.
    lost_time: bool,
    /// A handler was entered meanwhile.
    interrupted: bool,
    /// When thread mode last lost the core, and when it last went on.
    thread_left: Option<Window>,
    thread_back: Option<Window>,
    /// Since the last count.
    ran: Ran,
    slowest: Slowest,
}

impl<S: Sink> FlowEvents<S> {
    /// Events of `origin`, whose times this carries.
    pub fn new(origin: Origin, clocking: Clocking, sink: S) -> Self {
        Self {
            origin,
            sink,
            passage: Passage::by(clocking),
            cycles: 0,
            waiting: Vec::new(),
            active: Vec::new(),
            ended: false,
            offset: 0,
            gate: None,
            until: u64::MAX,
            only_confirmed: false,
            ended_before: false,
            held: false,
            told: true,
            is_behind_gap: false,
            lost_time: false,
            interrupted: false,
            thread_left: None,
            thread_back: None,
            ran: Ran::default(),
            slowest: Slowest::default(),
        }
    }

    /// The same of a reading that begins shortly before byte `offset`, at which so many `cycles` have
    /// passed, and that ends after `until` of them. Events before the last count before that byte have no time.
    #[must_use]
    pub fn between(self, (offset, cycles): (u64, u64), until: u64) -> Self {
        Self { gate: Some((offset, cycles)), until, ..self }
    }

    /// What carries time.
    pub(crate) const fn clocking(&self) -> Clocking {
        self.passage.clocking()
    }

    /// Only what came up to the last synchronisation that agrees with what ran.
    #[must_use]
    pub fn confirmed(self) -> Self {
        Self { only_confirmed: true, ..self }
    }

    /// The same; so slow instructions were seen before.
    pub(crate) fn knowing(self, slowest: Slowest) -> Self {
        Self { slowest, ..self }
    }

    /// How slow instructions were so far.
    pub(crate) const fn slowest(&self) -> &Slowest {
        &self.slowest
    }

    /// What events are handed to.
    pub const fn sink_mut(&mut self) -> &mut S {
        &mut self.sink
    }

    fn pass_gate(&mut self) {
        if let Some((_, cycles)) = self.gate.take_if(|(offset, _)| *offset <= self.offset) {
            // What happened since the last count belongs to the next one.
            self.cycles = cycles;
        }
    }

    /// The recording ends: what still waits has no time.
    pub fn finish(&mut self) {
        // Behind the last timestamp there may be much: one interval, of which nobody knows how long it is.
        if self.clocking() == Clocking::Timestamps && !self.waiting.is_empty() {
            self.waiting.clear();
            let lost = Event::Lost { bytes: self.offset..self.offset, why: LossReason::Untimed };
            let time = Some(Window::exact(self.cycles));
            self.sink.event(Position::new(self.origin, self.offset, time), &lost);
        }
        self.release(None);
    }

    /// Whether it is open which thread goes on.
    pub const fn hold(&mut self, held: bool) {
        self.held = held;
    }

    /// What happens from here on is asked for, and goes on with what runs; or it is left out.
    pub fn tell(&mut self, told: bool) {
        if !told && self.told && self.cycles > 0 {
            self.wait_in(Place::Beside, Event::LeftOut);
        }
        if std::mem::replace(&mut self.told, told) != told && told {
            let exception = self.active.last().copied().unwrap_or(0);
            self.wait_in(Place::Beside, Event::Resumed { exception });
        }
    }

    /// A task is called so; tasks are told by turns, and this one is idle.
    pub fn task_is_called(&mut self, task: u32, name: String, idle: Option<u32>) {
        let name = Name::Told(name.into());
        let position = Position::new(self.origin, self.offset, None);
        self.sink.event(position, &Event::Stated(Statement::Named(Thing::Task(task), name)));
        self.sink.event(position, &Event::Stated(Statement::OnlyTurns { idle }));
    }

    /// Whether what happens now is asked for.
    #[must_use]
    pub const fn is_telling(&self) -> bool {
        self.told
    }

    /// The turn of a task ended when thread mode last lost the core.
    pub fn turn_ends(&mut self, task: u32) {
        let stops = Statement::Stops { task, why: Stop::Untold };
        self.wait_in(Place::AsLeft, Event::Stated(stops));
    }

    /// What looked like the turn of a task was another's: it ends now, and that one began since then.
    pub fn turn_was_none(&mut self, task: u32) {
        let stops = Statement::Stops { task, why: Stop::Untold };
        self.wait_in(Place::Beside, Event::Stated(stops));
        self.interrupted = true;
    }

    /// The turn of a task goes on.
    pub fn turn_goes_on(&mut self, task: u32) {
        let runs = Statement::Runs { task, stack_pointer: None };
        self.wait_in(Place::Beside, Event::Stated(runs));
    }

    /// The turn of a task began when thread mode last went on; later, if handlers ran while it was open whose
    /// it is.
    pub fn turn_begins(&mut self, task: u32) {
        let runs = Statement::Runs { task, stack_pointer: None };
        let place = if self.interrupted { Place::SinceBack } else { Place::AsBack };
        self.wait_in(place, Event::Stated(runs));
    }

    /// A change of threads, unless it is open which one it is.
    fn wait_by_thread(&mut self, place: Place, event: Event) {
        self.interrupted = self.held;
        self.wait_in(if self.held { Place::Beside } else { place }, event);
    }

    fn wait_in(&mut self, place: Place, event: Event) {
        if self.ended_before {
            return;
        }
        let before = self.ran;
        let told = self.told;
        self.waiting.push(Waiting { offset: self.offset, event, place, told, before });
        if self.waiting.len() >= MOST_WAITING {
            self.release(None);
            // When the rest of this stretch began is not known.
            self.ran.waits = 1;
        }
    }

    fn release(&mut self, time: Option<Window>) {
        let all = std::mem::take(&mut self.ran);
        for Waiting { offset, event, place, told, before } in self.waiting.drain(..) {
            // Timestamps are too seldom, and of another clock maybe, to say what instructions cannot have taken.
            let counted = self.passage.clocking() == Clocking::Cycles;
            let narrow = |time| if counted { self.slowest.narrow(time, before, all) } else { time };
            let time = time.map(narrow);
            let time = match place {
                Place::Beside => time,
                Place::ThreadLeft => {
                    self.thread_left = time;
                    time
                }
                Place::ThreadBack => {
                    self.thread_back = time;
                    time
                }
                Place::AsLeft => self.thread_left.or(time),
                Place::AsBack => self.thread_back.or(time),
                Place::SinceBack => time.map(|time| match self.thread_back {
                    Some(back) => Window { earliest: back.earliest, ..time },
                    None => time,
                }),
            };
            if told {
                self.sink.event(Position::new(self.origin, offset, time), &event);
            }
        }
    }

    fn passed(&mut self, passed: Passed) {
        match passed {
            Passed::Ticks(_) if self.gate.is_some() => self.release(None),
            Passed::Ticks(ticks) => {
                let earliest = self.cycles;
                if self.ran.waits == 0 {
                    self.slowest.learn(self.ran.instructions, ticks);
                }
                self.cycles = self.cycles.saturating_add(ticks);
                self.release(Some(Window { earliest, latest: self.cycles }));
            }
            Passed::Begins => self.begin(),
            Passed::Unknown => self.lose_time(),
        }
    }

    /// The first timestamp, or the first behind a gap: what came before is outside of the time that is known.
    fn begin(&mut self) {
        let ran = std::mem::take(&mut self.ran);
        let is_head = self.cycles == 0 && !self.is_behind_gap;
        let has_missed = ran.instructions > 0 || !self.waiting.is_empty();
        self.waiting.clear();
        (self.thread_left, self.thread_back) = (None, None);
        if is_head && has_missed {
            let lost = Event::Lost { bytes: 0..self.offset, why: LossReason::Untimed };
            self.sink.event(Position::new(self.origin, self.offset, None), &lost);
        }
        self.goes_on();
    }

    /// What runs is known, and since when it does is not.
    fn goes_on(&mut self) {
        self.lost_time = true;
        if let Some(&exception) = self.active.last() {
            self.wait_in(Place::Beside, Event::Resumed { exception });
        }
    }

    /// Whether it was not known how much time passed, since this was asked last.
    pub(crate) const fn take_lost_time(&mut self) -> bool {
        std::mem::replace(&mut self.lost_time, false)
    }

    /// The trace unit did not know how many cycles passed. What ran, and in which handler, is known all the same.
    fn lose_time(&mut self) {
        self.release(None);
        let offset = self.offset;
        let time = self.gate.is_none().then(|| Window::exact(self.cycles));
        let lost = Event::Lost { bytes: offset..offset, why: LossReason::CountUnknown };
        self.sink.event(Position::new(self.origin, offset, time), &lost);
        self.goes_on();
    }

    fn gap(&mut self, gap: Gap) {
        self.release(None);
        self.is_behind_gap = true;
        self.active.clear();
        self.ended = false;
        (self.thread_left, self.thread_back) = (None, None);
        let offset = self.offset;
        let event = match gap {
            Gap::Unwatched => Event::Unwatched,
            Gap::Damaged { bytes, .. } => {
                Event::Lost { bytes: offset..offset + bytes, why: LossReason::FlowGap }
            }
            Gap::CutOff { bytes } => {
                let why = LossReason::Malformed(Malformed::CutOff);
                Event::Lost { bytes: offset..offset + bytes, why }
            }
            _ => Event::Lost { bytes: offset..offset, why: LossReason::FlowGap },
        };
        let time = self.gate.is_none().then(|| Window::exact(self.cycles));
        if !self.told && event == Event::Unwatched {
            return;
        }
        self.sink.event(Position::new(self.origin, offset, time), &event);
    }
}

impl<S: Sink> flow::Sink for FlowEvents<S> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, _: bool) {
        self.ran.instructions += u64::from(block.instructions);
        self.ran.waits += u64::from(block.waits);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.ran.instructions += u64::from(instructions);
        self.ran.waits += u64::from(block.waits_before(until));
    }

    fn arrived(&mut self, _: &Block) {
        if std::mem::take(&mut self.ended) {
            let exception = self.active.last().copied().unwrap_or(0);
            let place = if exception == 0 { Place::ThreadBack } else { Place::Beside };
            self.wait_by_thread(place, Event::Resumed { exception });
        }
    }

    fn at(&mut self, offset: u64) {
        self.offset = offset;
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.offset = offset;
        if self.gate.is_some() {
            self.pass_gate();
        }
        if let Some(passed) = self.passage.of(moment) {
            self.passed(passed);
        }
        match *moment {
            Moment::Entered { exception: Some(exception), .. } => {
                let tail_chained = std::mem::take(&mut self.ended);
                // A core that sleeps on exit does so here.
                self.ran.waits += u64::from(tail_chained);
                self.ran.instructions += EXCEPTION;
                let in_thread = self.active.is_empty() && !tail_chained;
                self.active.push(exception);
                let place = if in_thread { Place::ThreadLeft } else { Place::Beside };
                self.wait_by_thread(place, Event::Entered { exception });
            }
            Moment::Left => {
                self.ran.instructions += EXCEPTION;
                self.ended = true;
                // The end of a handler whose entry was not seen: nobody knows whose.
                if let Some(exception) = self.active.pop() {
                    self.wait_in(Place::Beside, Event::Left { exception });
                }
            }
            Moment::Gap(gap) => self.gap(gap),
            Moment::Unconfirmed if self.only_confirmed => {
                self.finish();
                self.ended_before = true;
            }
            Moment::Unconfirmed => {}
            // A debugger halts the core, for as long as it likes.
            Moment::Entered { exception: None, .. } => self.ran.waits += 1,
            Moment::Cycles(_)
            | Moment::Time { .. }
            | Moment::Context { .. }
            | Moment::Overdue
            | Moment::Confirmed => {}
        }
    }

    fn has_enough(&self) -> bool {
        self.cycles > self.until
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::flow::Sink as _;

    #[derive(Default)]
    struct Told(Vec<(Option<Window>, Event)>);

    impl Sink for Told {
        fn event(&mut self, position: Position, event: &Event) {
            self.0.push((position.time, event.clone()));
        }
    }

    /// A handler each ten bytes, and a cycle count behind its entry and its end.
    fn tell(events: &mut FlowEvents<&mut Told>, bytes: std::ops::Range<u64>) {
        for offset in bytes.step_by(10) {
            let exception = Some(16);
            events.moment(offset, &Moment::Entered { exception, returns_to: 0 });
            events.moment(offset + 1, &Moment::Cycles(Some(30)));
            events.moment(offset + 2, &Moment::Left);
            events.moment(offset + 3, &Moment::Cycles(Some(70)));
        }
    }

    #[test]
    fn from_the_middle_on_events_are_those_of_the_whole() {
        let (mut whole, mut near) = (Told::default(), Told::default());
        let mut events = FlowEvents::new(Origin(0), Clocking::Cycles, &mut whole);
        tell(&mut events, 0..1000);
        events.finish();
        // At byte 500 fifty handlers have come and gone; reading begins at byte 450.
        let mut events =
            FlowEvents::new(Origin(0), Clocking::Cycles, &mut near).between((500, 5000), 7000);
        tell(&mut events, 450..720);
        assert!(events.has_enough());
        events.finish();
        let timed: Vec<_> = near.0.into_iter().filter(|(time, _)| time.is_some()).collect();
        assert_eq!(timed.len(), 44);
        let first = whole.0.iter().position(|(time, _)| time.is_some_and(|t| t.earliest >= 5000));
        assert_eq!(timed, whole.0[first.unwrap()..][..44]);
    }

    #[test]
    fn an_unknown_count_loses_the_time_and_nothing_else() {
        let mut told = Told::default();
        let mut events = FlowEvents::new(Origin(0), Clocking::Cycles, &mut told);
        events.moment(0, &Moment::Entered { exception: Some(16), returns_to: 0 });
        events.moment(1, &Moment::Cycles(Some(30)));
        events.moment(2, &Moment::Cycles(None));
        events.moment(3, &Moment::Left);
        events.moment(4, &Moment::Cycles(Some(10)));
        events.finish();
        let known: Vec<Event> = told.0.into_iter().map(|(_, event)| event).collect();
        assert_eq!(
            known,
            [
                Event::Entered { exception: 16 },
                Event::Lost { bytes: 2..2, why: LossReason::CountUnknown },
                Event::Resumed { exception: 16 },
                Event::Left { exception: 16 },
            ]
        );
    }

    #[test]
    fn a_turn_that_was_anothers_ends_where_that_shows() {
        let mut told = Told::default();
        let mut events = FlowEvents::new(Origin(0), Clocking::Cycles, &mut told);
        events.moment(0, &Moment::Entered { exception: Some(14), returns_to: 0 });
        events.moment(1, &Moment::Cycles(Some(30)));
        events.moment(2, &Moment::Left);
        events.ended = false;
        events.wait_by_thread(Place::ThreadBack, Event::Resumed { exception: 0 });
        events.turn_begins(1);
        events.moment(3, &Moment::Cycles(Some(10)));
        events.turn_was_none(1);
        events.turn_begins(2);
        events.moment(4, &Moment::Cycles(Some(20)));
        events.finish();
        let window = |earliest, latest| Some(Window { earliest, latest });
        let stated: Vec<_> = told
            .0
            .into_iter()
            .filter_map(|(time, event)| match event {
                Event::Stated(Statement::Runs { task, .. }) => Some((true, task, time)),
                Event::Stated(Statement::Stops { task, .. }) => Some((false, task, time)),
                _ => None,
            })
            .collect();
        // The other one has run since thread mode went on; nobody runs twice at a time.
        assert_eq!(
            stated,
            [(true, 1, window(30, 40)), (false, 1, window(40, 60)), (true, 2, window(30, 60)),]
        );
    }
}

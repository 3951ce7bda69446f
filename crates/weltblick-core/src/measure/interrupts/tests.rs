//! Nestings made at random, held against a reference that knows them from the start.

use super::figures::InterruptFigures;
use super::nesting::{Cut, Nesting, Run, Watcher};
use crate::event::{Event, LossReason, Origin, Position, Sink as _};
use crate::stats::Ticks;
use crate::time::Window;
use proptest::prelude::*;

/// What a core does: runs for a while, is interrupted, may chain into the next handler.
#[derive(Debug, Clone)]
enum Act {
    Run(u64),
    Interrupt(Vec<Handler>),
}

/// A handler and what happens inside; several in a list follow each other without a return.
#[derive(Debug, Clone)]
struct Handler {
    number: u16,
    inside: Vec<Act>,
}

/// A true run.
#[derive(Debug, Clone, PartialEq)]
struct Real {
    number: u16,
    began: u64,
    ended: u64,
    own: u64,
    depth: u16,
    /// Positions of its first and last event in the list of events.
    events: (usize, usize),
}

#[derive(Default)]
struct Story {
    now: u64,
    events: Vec<(u64, Event)>,
    runs: Vec<Real>,
}

impl Story {
    fn tell(&mut self, event: Event) -> usize {
        self.events.push((self.now, event));
        self.events.len() - 1
    }

    /// Plays acts inside `below` (0: thread mode). Returns own cycles, and how deep it went.
    fn play(&mut self, acts: &[Act], below: u16) -> (u64, u16) {
        let (mut own, mut depth) = (0, 0);
        for act in acts {
            match act {
                Act::Run(cycles) => {
                    self.now += cycles;
                    own += cycles;
                }
                Act::Interrupt(handlers) => {
                    for handler in handlers {
                        self.now += 6;
                        // The way into the first is stacking, which the one below pays.
                        if std::ptr::eq(handler, &handlers[0]) {
                            own += 6;
                        }
                        let exception = handler.number;
                        let first = self.tell(Event::Entered { exception });
                        let began = self.now;
                        let (inner_own, inner_depth) = self.play(&handler.inside, exception);
                        let last = self.tell(Event::Left { exception });
                        depth = depth.max(inner_depth + 1);
                        self.runs.push(Real {
                            number: exception,
                            began,
                            ended: self.now,
                            own: inner_own,
                            depth: inner_depth,
                            events: (first, last),
                        });
                    }
                    self.now += 10;
                    self.tell(Event::Resumed { exception: below });
                }
            }
        }
        (own, depth)
    }
}

/// Handlers by level: only a lower number interrupts a higher one, so no one interrupts himself.
fn acts(level: u16) -> BoxedStrategy<Vec<Act>> {
    let run = (1_u64..500).prop_map(Act::Run);
    if level <= 1 {
        return prop::collection::vec(run, 0..3).boxed();
    }
    let handler = (1..level)
        .prop_flat_map(|number| acts(number).prop_map(move |inside| Handler { number, inside }));
    let interrupt = prop::collection::vec(handler, 1..3).prop_map(Act::Interrupt);
    prop::collection::vec(prop_oneof![2 => run, 3 => interrupt], 0..4).boxed()
}

#[derive(Default)]
struct Seen {
    runs: Vec<Run>,
    cut: usize,
    contradictions: usize,
    hidden: u64,
    gaps: Vec<Window>,
}

impl Watcher for Seen {
    fn ran(&mut self, run: &Run) {
        self.runs.push(*run);
    }
    fn cut(&mut self, why: Cut) {
        match why {
            Cut::Run(_) => self.cut += 1,
            Cut::Contradiction => self.contradictions += 1,
            Cut::Gap | Cut::GapGoesOn | Cut::Slip => {}
        }
    }
    fn missing(&mut self, gap: Window) {
        self.gaps.push(gap);
    }
    fn hid(&mut self, longest: u64) {
        self.hidden = self.hidden.max(longest);
    }
}

/// Feeds the events without those in `gap`.
fn feed(events: &[(u64, Event)], gap: Option<(usize, usize)>) -> Seen {
    feed_to(Seen::default(), events, gap.as_slice())
}

/// The same to anybody who looks on.
fn feed_to<W: Watcher>(watcher: W, events: &[(u64, Event)], gaps: &[(usize, usize)]) -> W {
    let mut nesting = Nesting::new(1.0, watcher);
    let at = |cycle| Position::new(Origin(0), 0, Some(Window::exact(cycle)));
    for (number, (cycle, event)) in events.iter().enumerate() {
        if gaps.iter().any(|(from, _)| number == *from) {
            let why = LossReason::Overflow;
            nesting.event(at(*cycle), &Event::Lost { bytes: 0..0, why });
        }
        if !gaps.iter().any(|(from, until)| (*from..*until).contains(&number)) {
            nesting.event(at(*cycle), event);
        }
    }
    nesting.finish()
}

fn story(days: &[Vec<Act>]) -> Story {
    let mut story = Story::default();
    // The recording begins in thread mode, as the first event says.
    story.tell(Event::Resumed { exception: 0 });
    for day in days {
        story.now += 100;
        story.play(day, 0);
    }
    story
}

proptest! {
    #[test]
    fn every_run_is_what_it_was(days in prop::collection::vec(acts(6), 1..6)) {
        let story = story(&days);
        let seen = feed(&story.events, None);
        prop_assert_eq!((seen.cut, seen.contradictions), (0, 0));
        prop_assert_eq!(seen.runs.len(), story.runs.len());
        for (run, real) in seen.runs.iter().zip(&story.runs) {
            prop_assert_eq!(run.exception, real.number);
            prop_assert_eq!(run.began, Some(Window::exact(real.began)));
            prop_assert_eq!(run.ended, Some(Window::exact(real.ended)));
            prop_assert_eq!(run.own, Ticks::exact(real.own));
            prop_assert_eq!(run.depth, real.depth);
        }
    }

    #[test]
    fn a_loss_makes_no_run_up_and_takes_no_more_than_it_must(
        days in prop::collection::vec(acts(6), 1..6),
        from in any::<prop::sample::Index>(),
        length in 1_usize..12,
    ) {
        let story = story(&days);
        let from = from.index(story.events.len());
        let gap = (from, (from + length).min(story.events.len()));
        let seen = feed(&story.events, Some(gap));
        prop_assert_eq!(seen.contradictions, 0, "the loss was told");
        // Whatever touches the gap has no duration; everything else has its own.
        let whole: Vec<&Real> = story
            .runs
            .iter()
            .filter(|real| real.events.1 < gap.0 || real.events.0 >= gap.1)
            .collect();
        prop_assert_eq!(seen.runs.len(), whole.len());
        for (run, real) in seen.runs.iter().zip(whole) {
            prop_assert_eq!(run.exception, real.number);
            prop_assert_eq!(run.began, Some(Window::exact(real.began)));
            prop_assert_eq!(run.own, Ticks::exact(real.own));
        }
        // However long those were that touch it: it is known how long they were at most.
        let touching = story.runs.iter().filter(|real| real.events.1 >= gap.0 && real.events.0 < gap.1);
        let longest = touching.map(|real| real.ended - real.began).max().unwrap_or(0);
        prop_assert!(longest <= seen.hidden, "{longest} of {}", seen.hidden);
        if gap.1 + 1 < story.events.len() {
            let around = |at: usize| story.events[at].0;
            let (earliest, latest) = (gap.0.checked_sub(1).map_or(0, around), around(gap.1));
            prop_assert_eq!(&seen.gaps, &[Window { earliest, latest }]);
            // And not by more than the rest of the day: then thread mode goes on.
            let days_end = story.events[gap.1..].iter().find(|(_, event)| *event == Event::Resumed { exception: 0 });
            let day_began = story.events[..gap.0].iter().rfind(|(_, event)| *event == Event::Resumed { exception: 0 });
            if let Some((end, _)) = days_end {
                prop_assert!(seen.hidden <= end - day_began.map_or(0, |(begin, _)| *begin));
            }
        }
    }

    #[test]
    fn figures_are_those_of_a_list_of_runs(days in prop::collection::vec(acts(6), 1..12)) {
        let story = story(&days);
        let figures = feed_to(InterruptFigures::new(2), &story.events, &[]);
        let all: u64 = story.runs.iter().map(|real| real.own).sum();
        prop_assert_eq!(figures.rows().map(|row| row.busy).sum::<u64>(), all);
        let deepest = story.runs.iter().map(|real| real.depth + 1).max().unwrap_or(0);
        prop_assert_eq!(figures.deepest, deepest);
        for row in figures.rows() {
            let runs: Vec<&Real> =
                story.runs.iter().filter(|real| real.number == row.exception).collect();
            prop_assert_eq!((row.entries, row.cut), (runs.len() as u64, 0));
            let elapsed: Vec<u64> = runs.iter().map(|real| real.ended - real.began).collect();
            let own: Vec<u64> = runs.iter().map(|real| real.own).collect();
            let starts = runs.windows(2).map(|pair| pair[1].began - pair[0].began);
            let period: Vec<u64> = starts.collect();
            let changes = period.windows(2).map(|pair| pair[1].abs_diff(pair[0]));
            let jitter: Vec<u64> = changes.collect();
            for (spread, list) in [
                (&row.elapsed, elapsed), (&row.own, own), (&row.period, period), (&row.jitter, jitter),
            ] {
                prop_assert_eq!(spread.count(), list.len() as u64);
                let exact = |ticks: Option<&u64>| ticks.map(|ticks| Ticks::exact(*ticks));
                prop_assert_eq!(spread.min(), exact(list.iter().min()));
                prop_assert_eq!(spread.max(), exact(list.iter().max()));
                if let Some(mean) = spread.mean() {
                    let truly = list.iter().sum::<u64>() as f64 / list.len() as f64;
                    prop_assert!((mean.middle() - truly).abs() <= 1e-9 * truly.max(1.0));
                }
            }
            prop_assert_eq!(row.depth, runs.iter().map(|real| real.depth).max().unwrap_or(0));
            let worst = row.worst_elapsed.list();
            prop_assert_eq!(worst.first().map(|bad| bad.ticks), row.elapsed.max());
            // Each run held up what was below it, or followed another handler over it.
            let over: u64 = row.over.iter().map(|over| over.count + over.followed).sum();
            prop_assert_eq!(over, row.entries);
        }
    }

    #[test]
    fn what_hides_in_gaps_is_not_longer_than_what_is_told(
        days in prop::collection::vec(acts(6), 1..8),
        gaps in prop::collection::vec((any::<prop::sample::Index>(), 1_usize..12), 1..4),
    ) {
        let story = story(&days);
        let gap = |(at, length): (prop::sample::Index, usize)| {
            let at = at.index(story.events.len());
            (at, at + length)
        };
        let gaps: Vec<(usize, usize)> = gaps.into_iter().map(gap).collect();
        let figures = feed_to(InterruptFigures::new(1), &story.events, &gaps);
        prop_assert_eq!(figures.contradictions(), 0);
        for row in figures.rows() {
            let runs = story.runs.iter().filter(|real| real.number == row.exception);
            let longest = runs.clone().map(|real| real.ended - real.began).max().unwrap_or(0);
            let known = row.elapsed.max().map_or(0, |max| max.high).max(figures.hidden());
            prop_assert!(longest <= known, "{longest} of {known}");
            let starts: Vec<u64> = runs.map(|real| real.began).collect();
            let apart = starts.windows(2).map(|pair| pair[1] - pair[0]).max().unwrap_or(0);
            let known = row.period.max().map_or(0, |max| max.high).max(row.bridges.longest());
            prop_assert!(apart <= known, "{apart} apart, of {known}");
            // One that is not seen whole was asked for after the start before it.
            let hides = |real: &Real| {
                gaps.iter().any(|gap| real.events.1 >= gap.0 && real.events.0 < gap.1)
            };
            let runs: Vec<&Real> =
                story.runs.iter().filter(|real| real.number == row.exception).collect();
            let hidden = runs.windows(2).filter(|pair| hides(pair[1]));
            let waited = hidden.map(|pair| pair[1].ended - pair[0].began).max().unwrap_or(0);
            prop_assert!(waited <= row.bridges.longest_wait(), "{waited}");
        }
    }

    #[test]
    fn nothing_that_a_stream_says_does_harm(
        events in prop::collection::vec((0_u8..4, 0_u16..5, 0_u64..1000), 0..200),
    ) {
        let mut now = 0;
        let events: Vec<(u64, Event)> = events
            .into_iter()
            .map(|(kind, exception, after)| {
                now += after;
                let event = match kind {
                    0 => Event::Entered { exception },
                    1 => Event::Left { exception },
                    2 => Event::Resumed { exception },
                    _ => Event::Lost { bytes: 0..1, why: LossReason::Overwritten },
                };
                (now, event)
            })
            .collect();
        let seen = feed(&events, None);
        for run in &seen.runs {
            let elapsed = run.elapsed().unwrap();
            prop_assert!(run.own.high <= elapsed.high, "{run:?}");
        }
    }
}

#[test]
fn what_interrupts_itself_is_a_contradiction() {
    let enter = |exception| Event::Entered { exception };
    let events = [(0, Event::Resumed { exception: 0 }), (1, enter(16)), (2, enter(16))];
    let seen = feed(&events, None);
    assert_eq!((seen.contradictions, seen.cut, seen.runs.len()), (1, 2, 0));
}

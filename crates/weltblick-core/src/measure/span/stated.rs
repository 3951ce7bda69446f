//! Spans that the firmware states: from where it says that one begins to where it says that it ends.

use crate::event::{CoreSet, Event, Name, Parked, Position, Sink, Statement, Thing};
use crate::measure::bridges::Bridges;
use crate::measure::gap::GapWatch;
use crate::measure::interrupts::between;
use crate::measure::worst::{Bad, Worst};
use crate::stats::{Spread, Ticks};
use crate::time::Window;
use rustc_hash::FxHashMap;

/// Spans at most; further ones are left out, and told.
const MOST_SPANS: usize = 1024;
/// Spans with percentiles at most.
const MOST_DETAILED: usize = 64;

/// Figures of one span, in ticks.
#[derive(Debug, Clone)]
pub struct StatedSpan {
    /// Its number.
    pub span: u32,
    /// The cores that stated it.
    cores: CoreSet,
    /// From begin to end.
    pub elapsed: Spread,
    /// From begin to begin.
    pub period: Spread,
    /// From one such period to the next, the difference.
    pub jitter: Spread,
    /// How often it began.
    pub count: u64,
    /// Something is missing inside, or it began again before it ended: without a duration.
    pub cut: u64,
    /// Its number was another span's, too: figures are of both.
    pub reused: bool,
    /// Of these, began again before it ended: which end belongs to which is unknown.
    pub overlapping: u64,
    /// Open when the recording began, and when it ended.
    pub open_count: [u64; 2],
    /// The longest that was seen of an open one, in ticks.
    pub open_elapsed: u64,
    /// The longest.
    pub worst: Worst,
    /// Across gaps, from begin to begin.
    pub bridges: Bridges,
    /// One of which something is missing lasted so many ticks at most; `u64::MAX`: nothing tells.
    pub hidden: u64,
    /// Since a gap one may go on that began then, or later, unseen.
    hidden_since: Option<u64>,
    open: Option<Window>,
    last: Option<Window>,
    last_period: Option<Ticks>,
}

/// Figures of all spans.
#[derive(Debug, Clone)]
pub struct StatedSpans {
    list: Vec<StatedSpan>,
    names: FxHashMap<u32, Name>,
    keep: usize,
    /// Places where something is missing.
    pub gaps: u64,
    /// Ticks in which it may be, at most.
    pub gap_ticks: u64,
    last: Option<Window>,
    /// The core whose events come now.
    core: u8,
    now: OfCore,
    others: Parked<OfCore>,
    /// What is known of a span that was not stated so far.
    unseen: StatedSpan,
    /// Statements about more spans than are followed.
    pub left_out: u64,
}

/// What is known of one core.
#[derive(Debug, Clone, Default)]
struct OfCore {
    gaps: GapWatch,
    last: Option<Window>,
}

impl StatedSpan {
    fn new(span: u32, detailed: bool, keep: usize) -> Self {
        let spread = || Spread::new(detailed);
        Self {
            span,
            cores: CoreSet::NONE,
            elapsed: spread(),
            period: spread(),
            jitter: spread(),
            count: 0,
            cut: 0,
            reused: false,
            overlapping: 0,
            open_count: [0; 2],
            open_elapsed: 0,
            worst: Worst::new(keep),
            bridges: Bridges::default(),
            hidden: 0,
            hidden_since: None,
            open: None,
            last: None,
            last_period: None,
        }
    }

    fn began(&mut self, now: Option<Window>) {
        self.count += 1;
        let again = u64::from(self.open.take().is_some());
        (self.cut, self.overlapping) = (self.cut + again, self.overlapping + again);
        self.open = now;
        // Before that it had ended.
        self.hidden_since = None;
        match (self.last, now) {
            (Some(last), Some(now)) => {
                let period = between(last, now);
                self.period.add(period);
                if let Some(before) = self.last_period.replace(period) {
                    self.jitter.add(period.difference(before));
                }
            }
            (None, Some(now)) => self.bridges.reach(now),
            (_, None) => {}
        }
        self.last = now;
    }

    /// It ended; nothing was missing since `whole_since`, if nothing was so far.
    fn ended(&mut self, now: Option<Window>, whole_since: Option<u64>) {
        let hidden_since = self.hidden_since.take();
        let Some((began, ended)) = self.open.take().zip(now) else {
            self.cut += 1;
            if let (Some(first), Some(now), 0) = (whole_since, now, self.overlapping) {
                self.open_count[0] += 1;
                self.open_elapsed = self.open_elapsed.max(now.earliest.saturating_sub(first));
            }
            if let Some(since) = hidden_since {
                self.hid(since, now.map_or(u64::MAX, |now| now.latest));
            }
            return;
        };
        let ticks = between(began, ended);
        let number = self.elapsed.count();
        self.elapsed.add(ticks);
        self.worst.add(ticks, |ticks| Bad {
            core: 0,
            ticks,
            number,
            requested: None,
            began,
            ended,
        });
    }

    /// Whether a loss on this core may have swallowed a statement of it.
    fn may_be_of(&self, core: u8) -> bool {
        self.cores.is_empty() || self.cores.has(core)
    }

    /// What is missing of it lies from the one to the other.
    fn hid(&mut self, since: u64, until: u64) {
        self.hidden = self.hidden.max(until.saturating_sub(since));
    }

    fn finish(&mut self, end: Option<Window>) {
        if self.hidden_since.is_some() {
            self.hidden = u64::MAX;
        }
        let Some((began, end)) = self.open.take().zip(end) else { return };
        self.cut += 1;
        self.open_count[1] += 1;
        self.open_elapsed = self.open_elapsed.max(between(began, end).low);
    }

    /// From its last beginning to the end of the recording, in ticks.
    #[must_use]
    pub fn silence(&self, end: Window) -> Ticks {
        let mut bridges = self.bridges;
        bridges.silence(self.last, end)
    }

    /// Something is missing, and no time is lost; or nothing tells how much.
    fn interrupt(&mut self, since: Option<u64>) {
        let open = self.open.take();
        self.cut += u64::from(open.is_some());
        let (last, period) = (self.last.take(), self.last_period.take());
        let Some(since) = since else {
            self.hidden = u64::MAX;
            return self.bridges.lose();
        };
        self.bridges.cut(last, period);
        let began = open.map(|began| began.earliest);
        let earliest = began.into_iter().chain(self.hidden_since).fold(since, u64::min);
        self.hidden_since = Some(earliest);
    }

    /// What is missing lies in this window.
    fn missing(&mut self, gap: Window) {
        self.bridges.missing(gap);
        if let Some(since) = self.hidden_since {
            self.hid(since, gap.latest);
        }
    }
}

impl StatedSpans {
    /// Nothing seen yet; so many of the longest of each are remembered.
    #[must_use]
    pub fn new(keep: usize) -> Self {
        Self {
            list: Vec::new(),
            names: FxHashMap::default(),
            keep,
            gaps: 0,
            gap_ticks: 0,
            last: None,
            core: 0,
            now: OfCore::default(),
            others: Parked::default(),
            unseen: StatedSpan::new(0, false, 0),
            left_out: 0,
        }
    }

    /// The recording has ended: what is open has no end.
    pub fn finish(&mut self) {
        let others: Vec<u8> = self.others.iter().map(|(core, _)| core).collect();
        for core in others.into_iter().chain([self.core]) {
            self.turn_to(core);
            if let Some(gap) = self.now.gaps.at_end() {
                self.missing(gap);
            }
        }
        let end = self.last;
        self.list.iter_mut().for_each(|span| span.finish(end));
    }

    /// Every span, in the order in which they were first seen.
    #[must_use]
    pub fn list(&self) -> &[StatedSpan] {
        &self.list
    }

    /// What a span is called; `text_at` finds names in the image.
    #[must_use]
    pub fn name(&self, span: u32, text_at: impl Fn(u64) -> Option<String>) -> String {
        let told = self.names.get(&span).and_then(|name| name.told(text_at));
        told.unwrap_or_else(|| format!("span {span}"))
    }

    /// A statement without a time, where others have times: it lies somewhere between those around it, as if it had
    /// been lost, but for that it was.
    #[cold]
    fn undated(&mut self, event: &Event) {
        self.gaps += 1;
        let since = self.now.gaps.begin(Window::exact(self.now.gaps.last()));
        self.interrupt(Some(since));
        if let Event::Stated(Statement::SpanBegan { span }) = event
            && let Some(span) = self.span(*span)
        {
            span.count += 1;
        }
    }

    fn turn_to(&mut self, core: u8) {
        if core != self.core {
            self.others.exchange(self.core, &mut self.now, core, OfCore::default);
            self.core = core;
        }
    }

    /// Something of the core is missing: of the spans that it states, and of those that no core stated so far.
    fn interrupt(&mut self, since: Option<u64>) {
        let core = self.core;
        for span in self.list.iter_mut().chain([&mut self.unseen]) {
            if span.may_be_of(core) {
                span.interrupt(since);
            } else if since.is_none() {
                span.hidden = u64::MAX;
            }
        }
    }

    /// What is missing of the core lies in this window. A span of others may have been there once, unseen.
    fn missing(&mut self, gap: Window) {
        let core = self.core;
        for span in self.list.iter_mut().chain([&mut self.unseen]) {
            if span.may_be_of(core) {
                span.missing(gap);
            } else {
                span.hid(gap.earliest, gap.latest);
            }
        }
    }

    fn span(&mut self, span: u32) -> Option<&mut StatedSpan> {
        let at = self.list.iter().position(|known| known.span == span);
        let at = match at {
            Some(at) => at,
            None if self.list.len() == MOST_SPANS => {
                self.left_out += 1;
                return None;
            }
            None => {
                let detailed = self.list.len() < MOST_DETAILED;
                let StatedSpan { bridges, hidden, hidden_since, .. } = self.unseen;
                let new = StatedSpan::new(span, detailed, self.keep);
                self.list.push(StatedSpan { bridges, hidden, hidden_since, ..new });
                self.list.len() - 1
            }
        };
        let core = self.core;
        let span = self.list.get_mut(at)?;
        span.cores.add(core);
        Some(span)
    }
}

impl Sink for StatedSpans {
    fn event(&mut self, position: Position, event: &Event) {
        self.turn_to(position.core);
        if let Some(gap) = self.now.gaps.pass(position, event) {
            self.missing(gap);
        }
        let has_no_time = position.time.is_none() && self.now.gaps.first().is_some();
        match event {
            Event::Stated(Statement::SpanBegan { .. } | Statement::SpanEnded { .. })
                if has_no_time =>
            {
                self.undated(event);
            }
            Event::Stated(Statement::SpanBegan { span }) => {
                self.span(*span).into_iter().for_each(|span| span.began(position.time));
            }
            Event::Stated(Statement::SpanEnded { span }) => {
                let whole_since = self.now.gaps.first().filter(|_| self.gaps == 0);
                if let Some(span) = self.span(*span) {
                    span.ended(position.time, whole_since);
                }
            }
            Event::Stated(Statement::Named(Thing::Span(span), name))
                if self.names.len() < MOST_SPANS =>
            {
                let before = self.names.insert(*span, name.clone());
                if before.is_some_and(|before| before != *name)
                    && let Some(span) = self.span(*span)
                {
                    span.reused = true;
                }
            }
            // Before the first moment and behind the last nothing is missing of the recording.
            Event::Lost { why, .. }
                if why.is_end() || position.time.is_none() && self.last.is_none() => {}
            Event::Lost { .. } | Event::Unwatched => {
                self.gaps += 1;
                let gap =
                    self.now.last.zip(position.time).map(|(last, now)| between(last, now).high);
                // Nothing tells how long one without a time is.
                self.gap_ticks = self.gap_ticks.saturating_add(gap.unwrap_or(u64::MAX));
                let keeps_time = matches!(event, Event::Lost { why, .. } if !why.loses_bytes());
                let loss = position.time.filter(|_| keeps_time);
                let since = loss.map(|loss| self.now.gaps.begin(loss));
                self.interrupt(since);
            }
            _ => {}
        }
        self.now.last = position.time.or(self.now.last);
        self.last = position.time.or(self.last);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{LossReason, Origin};
    use proptest::prelude::*;

    #[test]
    fn durations_have_both_ends_and_nothing_missing_inside() {
        let mut spans = StatedSpans::new(1);
        let began = |span| Event::Stated(Statement::SpanBegan { span });
        let ended = |span| Event::Stated(Statement::SpanEnded { span });
        let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
        for (time, event) in [
            (5, ended(1)), // it had begun before
            (10, began(1)),
            (20, began(2)),
            (50, ended(1)),
            (110, began(1)),
            (120, lost),
            (150, ended(1)),
            (210, began(1)),
            (290, ended(1)),
            (310, began(1)),
            (320, began(1)), // again before it ended
            (325, ended(1)),
        ] {
            let time = Some(Window::exact(time));
            spans.event(Position::new(Origin(0), 0, time), &event);
        }
        let [one, two] = spans.list() else { panic!("{spans:?}") };
        assert_eq!((one.count, one.elapsed.count(), one.cut), (5, 3, 4));
        assert_eq!(
            (one.elapsed.max(), one.elapsed.min()),
            (Some(Ticks::exact(80)), Some(Ticks::exact(5)))
        );
        // 100 before the gap; 100 and 10 after it.
        assert_eq!((one.period.count(), one.period.min()), (3, Some(Ticks::exact(10))));
        assert_eq!(one.worst.list()[0].began, Window::exact(210));
        assert_eq!((two.count, two.elapsed.count(), two.cut, spans.gaps), (1, 0, 1, 1));
        assert_eq!((spans.gap_ticks, one.overlapping, one.open_count), (10, 1, [1, 0]));
        // From 110 to 150 at most, and from begin to begin from there to 210.
        assert_eq!((one.hidden, one.bridges.longest(), two.hidden), (40, 100, 130));
        // One that lasts longer than any before it when the recording ends.
        for (time, event) in [(400, began(1)), (490, began(2))] {
            let time = Some(Window::exact(time));
            spans.event(Position::new(Origin(0), 0, time), &event);
        }
        spans.finish();
        let one = &spans.list()[0];
        assert_eq!((one.open_count, one.cut, one.open_elapsed), ([1, 1], 5, 90));
    }

    proptest! {
        #[test]
        fn what_hides_in_gaps_is_not_longer_than_what_is_told(
            steps in prop::collection::vec((0_usize..3, 0_u64..50), 10..150),
            gaps in prop::collection::vec((any::<prop::sample::Index>(), 1_usize..10), 1..4),
        ) {
            // Each step begins a span, or ends it.
            let (mut now, mut open) = (0, [None; 3]);
            let mut events = Vec::new();
            let mut truly: [Vec<(u64, u64)>; 3] = Default::default();
            for (number, pause) in steps {
                now += pause + 1;
                let span = number as u32;
                let statement = match open[number].take() {
                    Some(began) => {
                        truly[number].push((began, now));
                        Statement::SpanEnded { span }
                    }
                    None => {
                        open[number] = Some(now);
                        Statement::SpanBegan { span }
                    }
                };
                events.push((now, Event::Stated(statement)));
            }
            let gap = |(at, length): (prop::sample::Index, usize)| {
                let at = at.index(events.len());
                at..at + length
            };
            let gaps: Vec<_> = gaps.into_iter().map(gap).collect();
            let mut spans = StatedSpans::new(1);
            for (at, (now, event)) in events.iter().enumerate() {
                let time = Some(Window::exact(*now));
                let position = Position::new(Origin(0), 0, time);
                if gaps.iter().any(|gap| gap.start == at) {
                    let lost = Event::Lost { bytes: 0..0, why: LossReason::Dropped };
                    spans.event(position, &lost);
                }
                if !gaps.iter().any(|gap| gap.contains(&at)) {
                    spans.event(position, event);
                }
            }
            spans.finish();
            for span in spans.list() {
                let truly = &truly[span.span as usize];
                let longest = truly.iter().map(|(began, end)| end - began).max().unwrap_or(0);
                let seen = span.elapsed.max().map_or(0, |max| max.high);
                prop_assert!(longest <= seen.max(span.hidden), "{longest} {seen} {}", span.hidden);
                let apart = truly.windows(2).map(|pair| pair[1].0 - pair[0].0).max().unwrap_or(0);
                let seen = span.period.max().map_or(0, |max| max.high);
                prop_assert!(apart <= seen.max(span.bridges.longest()), "{apart} {seen}");
            }
        }
    }
}

//! Event counters of the debug block: how much each has counted.
//!
//! A packet says that a counter wrapped; the counters have eight bits (DDI 0403E, C1.8.2). Where a recording begins and
//! ends they may stand anywhere, so what they counted is known to 255 more and 255 less.

use super::known::Part;
use super::recording::Recording;
use crate::event::{Event, Origin, Position, Sink};
use crate::stats::Ticks;
use crate::wire::itm::Counters;
use schemars::JsonSchema;
use serde::Serialize;

/// Events from one wrap to the next.
const WRAP: u64 = 256;
/// What each counts, by its bit in a packet; the last is paced by the cycle counter, and counts as it is set up.
const COUNTED: [&str; 6] = [
    "further cycles of instructions that take several, and stalls of fetches",
    "cycles of entering and leaving handlers",
    "cycles asleep",
    "further cycles of loads and stores",
    "instructions that took no cycle",
    "periods of the cycle counter's tap",
];
/// The last of them.
const TAP: usize = 5;

/// How often each counter of the first source that has some wrapped: those of several cores are not one.
#[derive(Debug, Clone, Default)]
pub struct EventCounters {
    source: Option<(Origin, u8)>,
    /// Another source had some, too.
    pub others: bool,
    wraps: [u64; COUNTED.len()],
    /// Counters of the performance monitor of Armv8.1-M: their low eight bits wrapped.
    monitor: [u64; 8],
}

impl Sink for EventCounters {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        if !matches!(event, Event::Counted(_) | Event::CountedPmu(_)) {
            return;
        }
        let source = (position.origin, position.core);
        if *self.source.get_or_insert(source) != source {
            self.others = true;
            return;
        }
        match event {
            Event::Counted(Counters(bits)) => add(&mut self.wraps, *bits),
            Event::CountedPmu(bits) => add(&mut self.monitor, *bits),
            _ => {}
        }
    }
}

fn add(wraps: &mut [u64], bits: u8) {
    for (bit, wraps) in wraps.iter_mut().enumerate() {
        *wraps += u64::from(bits >> bit & 1);
    }
}

/// What one counter has counted.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CounterRow {
    /// `CPI`, `Exc`, `Sleep`, `LSU`, `Fold`, `Cyc`, or `PMU 0` to `PMU 7`.
    pub counter: String,
    /// What it counts.
    pub counts: String,
    /// How often it wrapped.
    pub wraps: u64,
    /// What it counted by that: 256 each time. Absent for `Cyc`, which wraps as often as it is set up to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub events: Option<u64>,
    /// At least so many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub events_low: Option<u64>,
    /// At most so many; absent where nothing bounds what is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub events_high: Option<u64>,
    /// Events, or wraps of `Cyc`, a second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// At least so many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate_low: Option<f64>,
    /// At most so many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate_high: Option<f64>,
    /// Of one that counts cycles: its part of all core cycles.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<Part>,
}

/// Clocks and losses of the recording.
#[derive(Debug, Clone, Copy)]
pub struct Context<'a> {
    /// What was recorded, and what is missing.
    pub recording: &'a Recording,
    /// Ticks of the recording's clock for each core cycle.
    pub ticks_per_cycle: f64,
    /// Ticks a second.
    pub hertz: Option<f64>,
}

impl Context<'_> {
    /// Whether something is missing, so that a counter may have wrapped unseen.
    fn lacks_something(&self) -> bool {
        !self.recording.losses.is_empty() || self.recording.unwatched > 0
    }

    /// How long the recording is, if that is known.
    fn span(&self) -> Option<Ticks> {
        self.recording.span_between().filter(|_| !self.recording.time_slipped)
    }

    fn row(&self, counter: String, counts: &str, wraps: u64) -> CounterRow {
        let is_tap = counter == Counters::NAMES[TAP];
        let counts_cycles = Counters::NAMES[..TAP].contains(&counter.as_str());
        let unit = if is_tap { 1 } else { WRAP };
        let events = wraps * unit;
        let open = unit - 1;
        // No counter of the debug block counts twice in one cycle.
        let cycles = self.span().map(|span| (span.high as f64 / self.ticks_per_cycle) as u64 + 1);
        let high = match self.lacks_something() {
            true => cycles.filter(|_| counts_cycles),
            false => Some(events + open),
        };
        let low = events.saturating_sub(open);
        let seconds =
            |ticks: u64| Some(ticks as f64 / self.hertz?).filter(|seconds| *seconds > 0.0);
        let span = self.span();
        let longest = span.and_then(|span| seconds(span.high));
        let shortest = span.and_then(|span| seconds(span.low));
        let share = |cycles: u64| {
            let part = |events: u64| (events as f64 / cycles.max(1) as f64).min(1.0);
            let [share, share_low] = [events, low].map(part);
            Part { share, share_low, share_high: high.map_or(1.0, part) }
        };
        CounterRow {
            counter,
            counts: counts.into(),
            wraps,
            events: (!is_tap).then_some(events),
            events_low: (!is_tap).then_some(low),
            events_high: high.filter(|_| !is_tap),
            rate: longest.map(|seconds| events as f64 / seconds),
            rate_low: longest.map(|seconds| low as f64 / seconds),
            rate_high: high.zip(shortest).map(|(high, seconds)| high as f64 / seconds),
            share: cycles.filter(|_| counts_cycles && counts.contains("cycles")).map(share),
        }
    }
}

impl EventCounters {
    /// Each counter that wrapped.
    #[must_use]
    pub fn rows(&self, context: &Context<'_>) -> Vec<CounterRow> {
        let block = Counters::NAMES.iter().zip(COUNTED).zip(self.wraps);
        let block = block.map(|((name, counts), wraps)| ((*name).to_owned(), counts, wraps));
        let monitor = (0..).zip(self.monitor);
        let monitor =
            monitor.map(|(n, wraps): (u32, u64)| (format!("PMU {n}"), "as it is set up", wraps));
        block
            .chain(monitor)
            .filter(|(_, _, wraps)| *wraps > 0)
            .map(|(name, counts, wraps)| context.row(name, counts, wraps))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::LossReason;
    use crate::time::Window;
    use proptest::prelude::*;

    /// A counter that counts in so many cycles after each other, or not, seen from some of them on.
    fn rows(counts: &[bool], from: usize, lost: Option<usize>) -> Vec<CounterRow> {
        let mut seen = (EventCounters::default(), Recording::default());
        let mut counter = 0_u8;
        let at = |cycle: usize| Position::new(Origin(0), 0, Some(Window::exact(cycle as u64)));
        for (cycle, counted) in counts.iter().enumerate() {
            let wraps = *counted && counter == u8::MAX;
            counter = counter.wrapping_add(u8::from(*counted));
            if cycle == from || cycle + 1 == counts.len() {
                seen.event(at(cycle), &Event::Asleep);
            }
            if lost == Some(cycle) {
                seen.event(at(cycle), &Event::Lost { bytes: 0..0, why: LossReason::Overflow });
            }
            if wraps && cycle >= from && lost.is_none_or(|lost| cycle > lost) {
                seen.event(at(cycle), &Event::Counted(Counters(1 << 2)));
            }
        }
        let context = Context { recording: &seen.1, ticks_per_cycle: 1.0, hertz: Some(1e6) };
        seen.0.rows(&context)
    }

    proptest! {
        /// What was counted lies between the bounds, wherever the recording begins, and whatever is missing.
        #[test]
        fn what_was_counted_lies_between_the_bounds(
            part in 0.0..1.0_f64,
            length in 2_000..9_000_usize,
            from in 0..1_500_usize,
            lost in prop::option::of(0.0..1.0_f64),
            seed in any::<u64>(),
        ) {
            let mut state = seed;
            let counts: Vec<bool> = (0..length).map(|_| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                ((state >> 33) as f64 / f64::from(1_u32 << 31)) < part
            }).collect();
            let lost = lost.map(|part| from + (part * (length - from) as f64) as usize);
            let truth = counts[from..].iter().filter(|counted| **counted).count() as u64;
            for row in rows(&counts, from, lost) {
                prop_assert_eq!(&row.counter, "Sleep");
                prop_assert!(row.events_low.unwrap() <= truth, "{} {:?}", truth, row);
                prop_assert!(row.events_high.is_some_and(|high| truth <= high), "{} {:?}", truth, row);
                let share = row.share.unwrap();
                let part = truth as f64 / (length - from) as f64;
                prop_assert!(share.share_low <= part && part <= share.share_high + 1e-3);
                let second = (length - from) as f64 / 1e6;
                prop_assert!(row.rate_high.unwrap() * second * 1.01 >= truth as f64);
            }
        }
    }

    #[test]
    fn counters_of_two_sources_are_not_added_up() {
        let mut seen = (EventCounters::default(), Recording::default());
        for (origin, at) in [(0, 0), (1, 10), (0, 5000)] {
            let position = Position::new(Origin(origin), 0, Some(Window::exact(at)));
            seen.event(position, &Event::Counted(Counters(1)));
        }
        let context = Context { recording: &seen.1, ticks_per_cycle: 1.0, hertz: None };
        assert_eq!((seen.0.rows(&context)[0].wraps, seen.0.others), (2, true));
    }

    #[test]
    fn the_tap_counts_as_it_is_set_up() {
        let mut seen = (EventCounters::default(), Recording::default());
        for at in [0, 4096, 8192] {
            let position = Position::new(Origin(0), 0, Some(Window::exact(at)));
            seen.event(position, &Event::Counted(Counters(1 << TAP)));
        }
        let context = Context { recording: &seen.1, ticks_per_cycle: 1.0, hertz: None };
        let rows = seen.0.rows(&context);
        assert_eq!((rows[0].counter.as_str(), rows[0].wraps), ("Cyc", 3));
        assert!(rows[0].events.is_none() && rows[0].rate.is_none() && rows[0].share.is_none());
    }
}

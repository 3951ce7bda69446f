//! Handlers that run, though no packet says that they were entered.
//!
//! Where exception trace is switched off for a while, the core seems to be in thread mode; samples say where it is. A
//! handler's code is not called by others, or hardly ever: many samples in it, while none is said to run, mean that
//! entries are missing, and nothing says where.

use super::diagnosis::{Finding, Weight, doubt_as_finding};
use crate::event::{Event, Position, Sink};
use crate::figure::Doubt;
use crate::image::Image;
use crate::measure::timing::Timing;
use crate::time::Window;
use std::collections::BTreeMap;
use std::ops::Range;

/// Exceptions nest no deeper: there are so many priorities.
const MOST_ACTIVE: usize = 256;
/// So few in a row may be samples of a handler that is just being entered or left, or of one that somebody calls: then
/// an exception packet comes next.
const FEW: u64 = 4;

/// Counts samples in handlers, by whether one is said to run.
#[derive(Debug, Clone, Default)]
pub struct Unannounced {
    /// The handlers' code, in order, and whose it is.
    handlers: Vec<(Range<u64>, Vec<u16>)>,
    /// Exceptions that run, the innermost last.
    active: Vec<u16>,
    /// Whether these are known.
    known: bool,
    announced: u64,
    /// Of longer rows.
    unannounced: u64,
    /// Since the last exception packet.
    row: u64,
    /// When that began, and when the first and the last of longer rows were, in ticks.
    since: Option<u64>,
    within: Option<[u64; 2]>,
}

impl Unannounced {
    /// Nothing was seen yet.
    #[must_use]
    pub fn new(image: &Image) -> Self {
        let mut handlers: BTreeMap<u64, (Range<u64>, Vec<u16>)> = BTreeMap::new();
        for number in 11..512 {
            if let Some(handler) = image.vector(number).and_then(|vector| vector.handler) {
                let range = image.function(handler).range.clone();
                let of = handlers.entry(range.start).or_insert((range, Vec::new()));
                of.1.push(number);
            }
        }
        Self { handlers: handlers.into_values().collect(), ..Self::default() }
    }

    /// How many samples lie in handlers of which nothing says that they run, where these are too many for chance.
    #[must_use]
    pub fn samples(&self) -> Option<u64> {
        let all = self.unannounced + if self.row > FEW { self.row } else { 0 };
        // Where exceptions are not traced at all, nobody takes it for thread mode.
        (all > 0 && self.announced > 0).then_some(all)
    }

    /// What speaks against a recording with these clocks for it.
    #[must_use]
    pub fn doubt(&self, timing: &Timing<'_>) -> Option<Doubt> {
        let samples = self.samples()?;
        Some(Doubt::Unannounced { samples, within: timing.interval(self.within) })
    }

    /// What `inspect` says of them.
    #[must_use]
    pub fn finding(&self, timing: &Timing<'_>) -> Option<Finding> {
        Some(doubt_as_finding(Weight::Fault, &self.doubt(timing)?))
    }

    fn sample(&mut self, pc: u64, time: Option<Window>) {
        let place = self.handlers.partition_point(|(range, _)| range.end <= pc);
        let Some((_, numbers)) = self.handlers.get(place).filter(|(range, _)| range.contains(&pc))
        else {
            return;
        };
        if numbers.iter().any(|number| self.active.contains(number)) {
            self.announced += 1;
            return;
        }
        self.row += 1;
        let now = time.map(|time| time.latest);
        if self.row == 1 {
            self.since = now;
        } else if self.row > FEW
            && let Some((since, now)) = self.since.zip(now)
        {
            let from = self.within.map_or(since, |[from, _]| from);
            self.within = Some([from, now]);
        }
    }

    /// An exception packet: they are traced, here.
    const fn end_row(&mut self) {
        if self.row > FEW {
            self.unannounced += self.row;
        }
        self.row = 0;
    }

    fn resumed(&mut self, exception: u16) {
        match self.active.iter().position(|active| *active == exception) {
            Some(place) => self.active.truncate(place + 1),
            None => {
                self.active.clear();
                self.active.extend((exception != 0).then_some(exception));
            }
        }
    }
}

impl Sink for Unannounced {
    #[inline(always)]
    fn event(&mut self, position: Position, event: &Event) {
        match *event {
            Event::Sample { pc } if self.known => self.sample(pc, position.time),
            Event::Entered { exception } => {
                self.end_row();
                self.active.truncate(MOST_ACTIVE);
                self.active.push(exception);
            }
            Event::Left { .. } => self.end_row(),
            // From here on it is known who is below.
            Event::Resumed { exception } => {
                self.end_row();
                self.resumed(exception);
                self.known = true;
            }
            Event::Lost { .. } | Event::Unwatched => {
                self.end_row();
                self.active.clear();
                self.known = false;
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::Origin;

    #[test]
    fn handlers_that_nobody_announces_are_noticed() {
        let image = Image::parse(include_bytes!("../../../../../demo/buoy/wave-buoy.elf")).unwrap();
        let tick = image.vector(15).unwrap().address;
        let seen = |rounds: u64, silent_from: u64| {
            let mut unannounced = Unannounced::new(&image);
            let at = Position::new(Origin(0), 0, None);
            for round in 0..rounds {
                if round < silent_from {
                    unannounced.event(at, &Event::Entered { exception: 15 });
                }
                unannounced.event(at, &Event::Sample { pc: tick + 2 });
                if round < silent_from {
                    unannounced.event(at, &Event::Left { exception: 15 });
                    unannounced.event(at, &Event::Resumed { exception: 0 });
                }
                unannounced.event(at, &Event::Sample { pc: 0x0800_0a08 });
            }
            unannounced.samples()
        };
        assert_eq!(seen(100, 100), None);
        assert_eq!(seen(100, 98), None, "so few say nothing");
        assert_eq!(seen(100, 10), Some(90));
        assert_eq!(seen(100, 0), None, "no exception is traced");
    }
}

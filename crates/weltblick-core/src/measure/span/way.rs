//! Passages of points, paired into occurrences of the way from the first to the last.

use crate::stats::{Bounds, Durations};
use crate::time::{Frequency, Window};

/// Values of the cycle counter: it wraps.
const COUNTER: f64 = 4_294_967_296.0;
/// Host and core clocks may differ by this much; and the host may see a passage a little late.
const CLOCKS_APART: f64 = 1.02;

/// A point was passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Passage {
    /// The cycle counter of the core, if it has one.
    pub cycles: Option<u32>,
    /// When, in nanoseconds on the host's clock.
    pub time: Option<Window>,
    /// Where in the stream.
    pub offset: u64,
}

/// Once the whole way.
#[derive(Debug, Clone, PartialEq)]
pub struct Occurrence {
    /// Its number, from 0; those that were cut count.
    pub number: u64,
    /// Where it began.
    pub from: Passage,
    /// How long each leg took.
    pub legs: Vec<Bounds>,
    /// How long all of it took.
    pub total: Bounds,
}

/// The way from the first station to the last, and how long it took each time.
#[derive(Debug)]
pub struct Way {
    clock: Option<Frequency>,
    /// Passages of the occurrence that has begun.
    open: Vec<Passage>,
    begun: u64,
    /// Of each leg, each time that the whole way was passed.
    pub legs: Vec<Durations>,
    /// Of the whole way.
    pub total: Durations,
    /// It was begun, and begun again before it ended.
    pub unfinished: u64,
    /// Something was not recorded on the way.
    pub cut: u64,
    /// It took longer than the cycle counter counts.
    pub too_long: u64,
    /// The cycle counter says more than the host waited.
    pub contradicted: u64,
    /// The longest ones, longest first.
    pub worst: Vec<Occurrence>,
    keep: usize,
    /// Durations are the host's, not the core's.
    pub by_host: bool,
}

impl Way {
    /// A way of so many stations (two or more), on a core of this clock. The `keep` longest
    /// occurrences are remembered.
    #[must_use]
    pub fn new(stations: usize, clock: Option<Frequency>, keep: usize) -> Self {
        Self {
            clock,
            open: Vec::with_capacity(stations),
            begun: 0,
            legs: vec![Durations::default(); stations.saturating_sub(1)],
            total: Durations::default(),
            unfinished: 0,
            cut: 0,
            too_long: 0,
            contradicted: 0,
            worst: Vec::new(),
            keep,
            by_host: false,
        }
    }

    /// Point `at` was passed; `stations` are the points of the way. The last one may be the first of
    /// the next occurrence too.
    pub(super) fn pass(&mut self, stations: &[u8], at: u8, passage: Passage) {
        let next = self.open.len();
        if next > 0 && stations.get(next) == Some(&at) {
            self.open.push(passage);
            if next + 1 < stations.len() {
                return;
            }
            self.conclude();
        }
        if stations.first() == Some(&at) {
            self.unfinished += u64::from(!self.open.is_empty());
            self.open.clear();
            self.open.push(passage);
            self.begun += 1;
        }
    }

    /// Something is missing: what is open has no duration.
    pub(super) fn cut(&mut self) {
        self.cut += u64::from(!self.open.is_empty());
        self.open.clear();
    }

    /// How often it was begun.
    #[must_use]
    pub const fn begun(&self) -> u64 {
        self.begun
    }

    fn conclude(&mut self) {
        let passages = std::mem::take(&mut self.open);
        let legs: Option<Vec<Bounds>> =
            passages.windows(2).map(|pair| self.between(pair[0], pair[1])).collect();
        // Why not, is counted.
        let Some(legs) = legs else { return };
        let sum = |side: fn(&Bounds) -> f64| legs.iter().map(side).sum();
        let mut total = Bounds { low: sum(|leg| leg.low), high: sum(|leg| leg.high) };
        if self.by_host
            && let Some(whole) = by_host(passages[0], passages[passages.len() - 1])
        {
            total = whole;
        }
        for (durations, &leg) in self.legs.iter_mut().zip(&legs) {
            durations.add(leg);
        }
        self.total.add(total);
        self.remember(Occurrence { number: self.begun - 1, from: passages[0], legs, total });
    }

    /// How long it took from one passage to the next; `None` if nothing certain says so.
    fn between(&mut self, from: Passage, to: Passage) -> Option<Bounds> {
        let cycles = from.cycles.zip(to.cycles).zip(self.clock);
        let Some(((start, end), clock)) = cycles else {
            self.by_host = true;
            let host = by_host(from, to);
            self.too_long += u64::from(host.is_none());
            return host;
        };
        let (cycles, hertz) = (f64::from(end.wrapping_sub(start)), clock.hertz());
        // The core ran no longer than the host waited.
        let host = from.time.zip(to.time);
        let most =
            host.map(|(from, to)| to.latest.saturating_sub(from.earliest) as f64 * 1e-9 * hertz);
        if most.is_some_and(|most| most >= COUNTER) {
            self.too_long += 1;
            return None;
        }
        if most.is_some_and(|most| cycles > CLOCKS_APART * most) {
            self.contradicted += 1;
            return None;
        }
        Some(Bounds::exact(cycles * 1e9 / hertz))
    }

    fn remember(&mut self, occurrence: Occurrence) {
        let longer = |other: &Occurrence| other.total.middle() >= occurrence.total.middle();
        let at = self.worst.partition_point(longer);
        if at < self.keep {
            self.worst.truncate(self.keep - 1);
            self.worst.insert(at, occurrence);
        }
    }
}

/// By the host's clock, which saw each passage in a window.
fn by_host(from: Passage, to: Passage) -> Option<Bounds> {
    let (from, to) = from.time.zip(to.time)?;
    Some(Bounds {
        low: to.earliest.saturating_sub(from.latest) as f64,
        high: to.latest.saturating_sub(from.earliest) as f64,
    })
}

//! What happened inside a stretch of time: the worst cases explained, in a second reading.

use super::worst::Bad;
use crate::event::Parked;
use crate::time::Window;
use std::collections::BTreeMap;

/// A part of a stretch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// From request to start.
    Waiting,
    /// From start to end.
    Running,
}

/// What ran, and for how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Part {
    /// How often.
    pub times: u64,
    /// How long in all, in ticks.
    pub ticks: u64,
}

/// Who has the core.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Actor {
    /// An exception's handler; 0 is all of thread mode, where nothing tells tasks apart.
    Exception(u16),
    /// A task.
    Task(u32),
    /// The kernel, between the end of one task and the beginning of another.
    Kernel,
    /// The hardware: it enters, leaves or changes handlers.
    Switching,
}

/// What ran in it, as a key.
type Key = (Phase, Actor);

/// One stretch, from a request (or start) to an end.
#[derive(Debug, Clone)]
pub struct Stretch {
    /// Whose.
    pub subject: Actor,
    /// What is explained.
    pub bad: Bad,
    /// By phase: who ran.
    pub parts: BTreeMap<(Phase, Actor), Part>,
}

impl Stretch {
    fn new(subject: Actor, bad: Bad) -> Self {
        Self { subject, bad, parts: BTreeMap::new() }
    }

    /// Where it starts, begins to run, and ends.
    fn marks(&self) -> [u64; 3] {
        let start = self.bad.requested.map_or(self.bad.began.latest, Window::middle);
        [start, self.bad.began.latest, self.bad.ended.latest]
    }

    fn add(&mut self, key: Key, from: u64, until: u64) {
        let [start, began, ended] = self.marks();
        let (start, end) = if key.0 == Phase::Waiting { (start, began) } else { (began, ended) };
        let (from, until) = (from.max(start), until.min(end));
        if until > from {
            let part = self.parts.entry(key).or_default();
            part.times += 1;
            part.ticks += until - from;
        }
    }
}

/// Looks into stretches, in a second reading of the same events.
#[derive(Debug, Default)]
pub struct Dissection {
    /// The core whose events come now.
    core: u8,
    now: OfCore,
    others: Parked<OfCore>,
}

/// The stretches of one core.
#[derive(Debug, Default)]
struct OfCore {
    /// By start.
    stretches: Vec<Stretch>,
    /// All before this one have ended.
    first: usize,
}

impl Dissection {
    /// Of these cases.
    #[must_use]
    pub fn new(cases: impl IntoIterator<Item = (Actor, Bad)>) -> Self {
        let mut new = Self::default();
        for (subject, bad) in cases {
            new.turn_to(bad.core);
            new.now.stretches.push(Stretch::new(subject, bad));
        }
        new.turn_to(0);
        let cores = new.others.iter_mut().chain([&mut new.now]);
        cores.for_each(|core| core.stretches.sort_by_key(Stretch::marks));
        new
    }

    /// What comes next is of this core.
    pub(crate) fn turn_to(&mut self, core: u8) {
        if core != self.core {
            self.others.exchange(self.core, &mut self.now, core, OfCore::default);
            self.core = core;
        }
    }

    /// There is nothing to look into.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.now.stretches.is_empty() && self.others.iter().all(|(_, of)| of.stretches.is_empty())
    }

    /// What was found, by start.
    #[must_use]
    pub fn into_stretches(mut self) -> Vec<Stretch> {
        let others = self.others.iter_mut().flat_map(|core| std::mem::take(&mut core.stretches));
        let mut all: Vec<Stretch> = std::mem::take(&mut self.now.stretches);
        all.extend(others);
        all.sort_by_key(Stretch::marks);
        all
    }

    /// The actor had the core from the one to the other.
    #[inline]
    pub fn did(&mut self, actor: Actor, from: Window, until: Window) {
        let OfCore { stretches, first } = &mut self.now;
        let (from, until) = (from.latest, until.latest);
        while stretches.get(*first).is_some_and(|stretch| stretch.marks()[2] < from) {
            *first += 1;
        }
        for stretch in &mut stretches[*first..] {
            if stretch.marks()[0] >= until {
                break;
            }
            stretch.add((Phase::Waiting, actor), from, until);
            stretch.add((Phase::Running, actor), from, until);
        }
    }
}

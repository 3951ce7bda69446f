//! The exceptions that one source of a recording tells of.

use crate::event::{Event, Position, Sink};
use crate::time::Window;

/// Exceptions that are kept at most: what comes later is placed by what was before, or not at all.
const MOST: usize = 1 << 20;
/// Stretches that are kept at most.
const MOST_STRETCHES: usize = 1 << 16;
/// A later time is none.
const LATEST: u64 = 1 << 60;

/// An exception was entered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Entered {
    /// Its number.
    pub(super) exception: u16,
    /// Others may be missing between the one before and this one.
    pub(super) after_hole: bool,
    /// When, in cycles.
    pub(super) time: Window,
}

/// A stretch in which no time is missing.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Stretch {
    /// Its first cycle.
    pub(super) from: u64,
    /// Its last.
    pub(super) until: u64,
    /// What was entered in it, in order.
    pub(super) entered: Vec<Entered>,
}

/// A sink of events that keeps when exceptions were entered.
#[derive(Debug)]
pub struct Witness {
    stretches: Vec<Stretch>,
    kept: usize,
    /// Exceptions may be missing before the next one.
    hole: bool,
    /// What comes now is not kept, and lies behind a gap.
    closed: bool,
}

impl Default for Witness {
    fn default() -> Self {
        Self { stretches: vec![Stretch::default()], kept: 0, hole: false, closed: false }
    }
}

impl Witness {
    /// Whether no more is kept.
    const fn is_full(&self) -> bool {
        self.kept >= MOST || self.stretches.len() >= MOST_STRETCHES
    }

    /// What it saw, from one gap to the next.
    pub(super) fn stretches(&self) -> &[Stretch] {
        &self.stretches
    }

    fn jump(&mut self, time: Option<Window>) {
        let Some(now) = self.stretches.last_mut() else { return };
        let at = time.map_or(now.until, |time| time.latest).max(now.until);
        now.until = at;
        self.hole = false;
        if now.entered.is_empty() && now.from == at {
            return;
        }
        self.stretches.push(Stretch { from: at, until: at, entered: Vec::new() });
    }
}

impl Sink for Witness {
    fn event(&mut self, position: Position, event: &Event) {
        let time = position.time.filter(|time| time.latest < LATEST);
        let jumps = match event {
            Event::Lost { why, .. } => why.loses_bytes(),
            _ => *event == Event::Unwatched,
        };
        if jumps && !self.closed {
            self.closed = self.is_full();
            return self.jump(time);
        }
        self.hole |= matches!(event, Event::Lost { .. });
        let is_full = self.is_full();
        let Some(now) = self.stretches.last_mut() else { return };
        if let Some(time) = time {
            now.until = now.until.max(time.latest);
        }
        let &Event::Entered { exception } = event else { return };
        let Some(time) = time.filter(|_| !is_full) else {
            self.hole = true;
            return;
        };
        let after_hole = std::mem::take(&mut self.hole);
        now.entered.push(Entered { exception, after_hole, time });
        self.kept += 1;
    }
}

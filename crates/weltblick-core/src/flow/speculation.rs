//! Elements that may turn out not to have happened (IHI 0064, "Speculation").
//!
//! A trace unit that traces speculatively sends elements before it knows that they will be executed,
//! and says later how many of the oldest are certain (commit) and how many of the newest did not
//! happen (cancel). Trace units of M-profile cores never do.

use crate::wire::etmv4::{Atoms, Packet};
use std::collections::VecDeque;

/// Elements that may wait: a bound on what a crafted stream can cost.
const MOST: usize = 4096;

/// Packets that wait to be certain, in order; atoms one by one.
#[derive(Debug, Default)]
pub(super) struct Waiting {
    packets: VecDeque<(u64, Packet)>,
    /// How many of them may be committed or cancelled (P0 elements).
    elements: u32,
    /// Elements that were sent before reading began.
    unseen: u32,
    /// How many may wait at most (`MAXSPEC`).
    depth: u32,
}

/// Too many wait: these commits are not what a trace unit sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct TooMany;

/// Whether commits and cancels count it: a P0 element.
const fn counts(packet: &Packet) -> bool {
    matches!(
        packet,
        Packet::Atoms(_) | Packet::Exception(_) | Packet::ExceptionReturn | Packet::Q { .. }
    )
}

impl Waiting {
    /// What waits, and how it is counted.
    pub(super) fn state(&self) -> (Vec<(u64, Packet)>, [u32; 3]) {
        let counts = [self.elements, self.unseen, self.depth];
        (self.packets.iter().copied().collect(), counts)
    }

    pub(super) fn new(depth: u32) -> Self {
        Self { depth, ..Self::default() }
    }

    /// Whether anything is ever uncertain.
    #[inline(always)]
    pub(super) const fn is_needed(&self) -> bool {
        self.depth > 0
    }

    /// Reading begins, or everything before is gone; so many elements were sent before.
    pub(super) fn begin(&mut self, unseen: u32) {
        self.packets.clear();
        self.elements = 0;
        self.unseen = unseen;
    }

    /// Whether it follows what is being read.
    pub(super) fn is_empty(&self) -> bool {
        self.packets.is_empty()
    }

    /// One more; more than may wait makes the oldest certain.
    pub(super) fn add(
        &mut self,
        offset: u64,
        packet: Packet,
        certain: &mut impl FnMut(u64, Packet),
    ) -> Result<(), TooMany> {
        match packet {
            Packet::Atoms(Atoms { bits, count }) => {
                for place in 0..count {
                    let one = Atoms { bits: bits >> place & 1, count: 1 };
                    self.packets.push_back((offset, Packet::Atoms(one)));
                }
                self.elements += u32::from(count);
            }
            other => {
                self.elements += u32::from(counts(&other));
                self.packets.push_back((offset, other));
            }
        }
        if let Some(more) = (self.elements + self.unseen).checked_sub(self.depth) {
            self.commit(more, certain);
        }
        if self.packets.len() > MOST { Err(TooMany) } else { Ok(()) }
    }

    /// So many of the oldest are certain.
    pub(super) fn commit(&mut self, count: u32, certain: &mut impl FnMut(u64, Packet)) {
        let before = count.min(self.unseen);
        self.unseen -= before;
        let mut left = count - before;
        while left > 0 {
            let Some((offset, packet)) = self.packets.pop_front() else { break };
            if counts(&packet) {
                left -= 1;
                self.elements -= 1;
            }
            certain(offset, packet);
        }
        // What stands before the next uncertain element depends on none.
        while self.packets.front().is_some_and(|(_, packet)| !counts(packet)) {
            let Some((offset, packet)) = self.packets.pop_front() else { break };
            certain(offset, packet);
        }
    }

    /// So many of the newest did not happen, nor what depends on them. Times and counts did.
    pub(super) fn cancel(&mut self, count: u32) {
        let mut kept = Vec::new();
        let mut left = count;
        while left > 0 {
            let Some((offset, packet)) = self.packets.pop_back() else { break };
            if counts(&packet) {
                left -= 1;
                self.elements -= 1;
            } else if !matches!(packet, Packet::Address(_) | Packet::Context(_)) {
                kept.push((offset, packet));
            }
        }
        self.unseen = self.unseen.saturating_sub(left);
        self.packets.extend(kept.into_iter().rev());
    }

    /// The newest atom is the opposite of what it said; where its target followed, that is gone too.
    pub(super) fn mispredict(&mut self) {
        let newest =
            self.packets.iter_mut().rev().find(|(_, packet)| matches!(packet, Packet::Atoms(_)));
        if let Some((_, Packet::Atoms(atoms))) = newest {
            atoms.bits ^= 1;
        }
    }

    /// All that wait: nothing will be said about them any more.
    pub(super) fn flush(&mut self, certain: &mut impl FnMut(u64, Packet)) {
        self.commit(self.elements + self.unseen, certain);
        self.begin(0);
    }
}

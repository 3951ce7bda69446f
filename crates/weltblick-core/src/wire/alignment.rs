//! Where packets start, in protocols that synchronise by a run of zeros that `0x80` ends.

use super::Malformed;
use std::ops::Range;

/// Bytes of a packet that may be held: no protocol's packet is longer.
pub(super) const LONGEST: usize = 24;

/// Why no packet was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stop {
    /// Its end has not arrived.
    NotYet,
    /// It is none.
    Bad(Malformed),
    /// Zeros where a header was due: a synchronisation, if it is sound.
    Zeros,
}

/// What a decoder knows about where packets start. A few words of state, no allocation.
#[derive(Debug, Clone)]
pub(super) struct Alignment {
    /// Where the next pushed byte stands in the stream.
    pub(super) offset: u64,
    /// A packet whose end has not arrived.
    held: [u8; LONGEST],
    pub(super) held_len: usize,
    /// Zero bytes directly before `offset`, in packets or not.
    zeros: u64,
    pub(super) mode: Mode,
}

impl PartialEq for Alignment {
    fn eq(&self, other: &Self) -> bool {
        let held = |side: &Self| side.held[..side.held_len].to_vec();
        (self.offset, self.zeros, self.mode) == (other.offset, other.zeros, other.mode)
            && held(self) == held(other)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Mode {
    /// The next byte is a header.
    Packets,
    /// A run of zeros began at `start`, where a header was due.
    Zeros { start: u64 },
    /// Looking for a synchronisation.
    Lost { start: u64, why: Malformed },
}

/// Bytes that are no packet, and why.
pub(super) type Loss = (Range<u64>, Malformed);

impl Alignment {
    pub(super) const fn new(offset: u64, mode: Mode) -> Self {
        Self { offset, held: [0; LONGEST], held_len: 0, zeros: 0, mode }
    }

    /// Bytes are missing here, for some reason: the half packet is lost, and so is everything up to
    /// the next synchronisation.
    pub(super) fn interrupt(&mut self, why: Malformed) {
        self.abandon(why);
        match &mut self.mode {
            // What is lost outweighs what nobody wanted.
            Mode::Lost { why: before @ Malformed::Unwanted, .. } => *before = why,
            Mode::Lost { .. } => {}
            mode => *mode = Mode::Lost { start: self.offset, why },
        }
        self.zeros = 0;
    }

    /// Ends the stream: what is still open is lost.
    pub(super) fn finish(mut self) -> Option<Loss> {
        self.abandon(Malformed::CutOff);
        match self.mode {
            Mode::Lost { start, why } if start < self.offset => Some((start..self.offset, why)),
            _ => None,
        }
    }

    /// Turns a half packet or an open run of zeros into the start of a loss.
    fn abandon(&mut self, why: Malformed) {
        let start = match self.mode {
            Mode::Packets if self.held_len > 0 => self.offset - self.held_len as u64,
            Mode::Zeros { start } => start,
            Mode::Packets | Mode::Lost { .. } => return,
        };
        self.held_len = 0;
        self.mode = Mode::Lost { start, why };
    }

    /// Packets cannot be read on from `start`, where the next byte stands or a held packet began.
    /// Returns how many bytes of `tail`, which was not read, are taken nevertheless.
    pub(super) fn stop(&mut self, stop: Stop, start: u64, tail: &[u8]) -> usize {
        match stop {
            Stop::Zeros => self.mode = Mode::Zeros { start },
            Stop::Bad(why) => self.mode = Mode::Lost { start, why },
            Stop::NotYet => {
                self.held[self.held_len..self.held_len + tail.len()].copy_from_slice(tail);
                self.held_len += tail.len();
                self.settle(tail);
                return tail.len();
            }
        }
        self.held_len = 0;
        0
    }

    /// The held packet with as much of `rest` as it may need, and where it began.
    pub(super) fn held_with(&mut self, rest: &[u8]) -> (&[u8], u64) {
        let had = self.held_len;
        let take = rest.len().min(LONGEST - had);
        self.held[had..had + take].copy_from_slice(&rest[..take]);
        (&self.held[..had + take], self.offset - had as u64)
    }

    /// Inside a run of zeros that began where a header was due: how many bytes it took, and the
    /// synchronisation, if that is one.
    pub(super) fn read_zeros(
        &mut self,
        rest: &[u8],
        start: u64,
        needed: u64,
    ) -> (usize, Option<Range<u64>>) {
        let run = rest.iter().take_while(|&&byte| byte == 0).count();
        self.settle(&rest[..run]);
        match rest.get(run) {
            None => (run, None),
            Some(0x80) if self.zeros >= needed => {
                self.settle(&rest[run..=run]);
                self.mode = Mode::Packets;
                (run + 1, Some(start..self.offset))
            }
            Some(_) => {
                self.mode = Mode::Lost { start, why: Malformed::BrokenSync };
                (run, None)
            }
        }
    }

    /// Looks for a synchronisation of so many zeros: how many bytes it took, and where the
    /// synchronisation stands, if it was found.
    pub(super) fn hunt(
        &mut self,
        rest: &[u8],
        start: u64,
        needed: u64,
    ) -> (usize, Option<Range<u64>>) {
        for (at, &byte) in rest.iter().enumerate() {
            if byte == 0x80 && self.zeros >= needed {
                let end = self.offset + at as u64;
                let sync = end.saturating_sub(needed).max(start);
                self.offset = end + 1;
                self.zeros = 0;
                self.mode = Mode::Packets;
                return (at + 1, Some(sync..end + 1));
            }
            self.zeros = if byte == 0 { self.zeros.saturating_add(1) } else { 0 };
        }
        self.offset += rest.len() as u64;
        (rest.len(), None)
    }

    /// Accounts for bytes as read: moves the offset, and counts the zeros at the end, which may turn
    /// out to be the first of a synchronisation.
    pub(super) fn settle(&mut self, read: &[u8]) {
        let zeros = read.iter().rev().take_while(|&&byte| byte == 0).count();
        let before = if zeros == read.len() { self.zeros } else { 0 };
        self.zeros = before.saturating_add(zeros as u64);
        self.offset += read.len() as u64;
    }
}

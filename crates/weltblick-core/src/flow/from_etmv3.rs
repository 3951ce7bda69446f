//! ETMv3 packets to executed instructions.

use super::follower::mismatch;
use super::piece::Etmv3State;
use super::stepper::Stepper;
use super::{Code, Gap, Mismatch, Moment, Sink};
use crate::image::Image;
use crate::wire::etmv3::{
    Atoms, Branch, Exception, InstructionSet, Packet, Reason, Settings, Start,
};
use crate::wire::{self, Malformed};
use std::ops::Range;

/// Where a handler returns to whose predecessor's end was not told: where exception return values lie,
/// and no code.
const NOWHERE: u64 = 0xffff_ffff;

/// What ran, as an ETMv3 tells it: a sink of its packets.
///
/// * Addresses count only after an I-sync packet: before, they may be differences from what was never
///   read. The same holds after damage, and after packets that contradict the image. Code outside the
///   image is no contradiction; it goes on at the next address inside.
/// * A periodic I-sync packet may stand for the branch packet of an indirect branch before it.
/// * An exception may cancel the last instruction. Therefore the newest atom waits for the packet behind
///   it; where that is missing, nobody can say whether it happened, and it is not told.
/// * A return from an exception is told between the branch and its address, or behind both: either way it
///   is the same.
/// * Cycles that the atoms tell are handed on block by block, and where exceptions are entered and left.
#[derive(Debug)]
pub struct Etmv3Flow<'a> {
    stepper: Stepper<'a>,
    held: Held,
    /// A timestamp that came behind the held atom, and where.
    stamp: Option<(u64, u64)>,
    /// Cycles since those that were told last.
    cycles: u32,
    /// Cycles are told before the next atom: an exception came in, or ended.
    tells_soon: bool,
    /// An I-sync packet was read since the last damage.
    informed: bool,
    /// The gap that is open was told of.
    told: bool,
    /// So was code outside the image, in it.
    outside: bool,
    /// A synchronisation just said where execution is.
    placed: bool,
    /// Branches say where they went, also where that is fixed.
    broadcasts: bool,
    offset: u64,
}

/// The newest atom.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Held {
    Nothing,
    /// E, and cycles up to it.
    Ran(u32),
    /// N.
    Skipped(u32),
}

impl<'a> Etmv3Flow<'a> {
    /// At the start of a recording.
    #[must_use]
    pub fn new(image: &'a Image, settings: &Settings) -> Self {
        Self {
            stepper: Stepper::new(Code::new(image, false).with_conditions()),
            held: Held::Nothing,
            stamp: None,
            cycles: 0,
            tells_soon: false,
            informed: false,
            told: true,
            outside: false,
            placed: false,
            broadcasts: settings.branch_broadcast(),
            offset: 0,
        }
    }

    /// Tells what runs to `sink`.
    pub const fn feeding<'f, S: Sink>(&'f mut self, sink: &'f mut S) -> Feeding<'f, 'a, S> {
        Feeding { flow: self, sink }
    }

    /// The blocks that were reached so far.
    #[must_use]
    pub const fn code(&self) -> &Code<'a> {
        self.stepper.code()
    }

    /// Blocks begin at these addresses, and none runs across them. Before anything was followed.
    pub fn cut_at(&mut self, addresses: &[u64]) {
        self.stepper.cut_at(addresses);
    }

    /// Cycles are handed on instruction by instruction. Before anything was followed.
    pub const fn time_each_instruction(&mut self) {
        self.stepper.cut_everywhere();
    }

    /// The blocks, when all is read.
    #[must_use]
    pub fn into_code(self) -> Code<'a> {
        self.stepper.into_code()
    }

    /// All that what comes later is read by.
    #[must_use]
    pub fn state(&self) -> Etmv3State {
        Etmv3State {
            place: self.stepper.place(),
            held: match self.held {
                Held::Nothing => (0, 0),
                Held::Ran(cycles) => (1, cycles),
                Held::Skipped(cycles) => (2, cycles),
            },
            stamp: self.stamp,
            cycles: self.cycles,
            flags: [self.tells_soon, self.informed, self.told, self.outside, self.placed],
        }
    }

    /// Bytes are missing at `offset`, or were not recorded by choice.
    pub fn gap(&mut self, offset: u64, gap: Gap, sink: &mut impl Sink) {
        self.informed = false;
        self.open(offset, gap, sink);
    }

    /// The end of the recording: nothing cancels what still waits.
    pub fn finish(&mut self, sink: &mut impl Sink) {
        self.release(sink);
        self.stepper.lose(sink);
        self.tell_cycles(sink);
    }

    /// A gap begins, and is told of even where another is open: each has its reason.
    fn open(&mut self, offset: u64, gap: Gap, sink: &mut impl Sink) {
        // What is missing may have cancelled it.
        if gap != Gap::Unwatched {
            self.held = Held::Nothing;
        }
        self.release(sink);
        self.stepper.lose(sink);
        self.tell_cycles(sink);
        self.told = true;
        sink.moment(offset, &Moment::Gap(gap));
    }

    /// Packets that contradict the image; only the first of a stretch is told.
    #[cold]
    fn contradict(&mut self, what: Mismatch, sink: &mut impl Sink) {
        let outside = matches!(what, Mismatch::Outside(_));
        self.informed &= outside;
        if !self.told || outside && !self.outside {
            self.told = true;
            self.outside = outside;
            sink.moment(self.offset, &mismatch(what));
        }
    }

    fn packet(&mut self, offset: u64, packet: Packet, sink: &mut impl Sink) {
        match packet {
            Packet::Atoms(atoms) => self.atoms(offset, atoms, sink),
            Packet::Branch(branch) => self.branch(offset, branch, sink),
            Packet::Start(start) => self.start(offset, start, sink),
            Packet::ExceptionReturn => {
                self.release(sink);
                self.left(offset, sink);
            }
            Packet::Timestamp { value, .. } => self.time(offset, value, sink),
            Packet::CycleCount(cycles) => self.untold_cycles(offset, cycles, sink),
            Packet::Context(id) => {
                sink.moment(offset, &Moment::Context { id, non_secure: false });
            }
            Packet::Async
            | Packet::Vmid(_)
            | Packet::ExceptionEntry
            | Packet::Trigger
            | Packet::Data(_)
            | Packet::Ignore => {}
        }
    }

    #[inline(always)]
    fn atoms(&mut self, offset: u64, atoms: Atoms, sink: &mut impl Sink) {
        let Atoms { bits, count, cycles, cycle_each } = atoms;
        self.offset = offset;
        self.placed = false;
        if cycles > 0 {
            return self.atoms_with_cycles(atoms, sink);
        }
        let mut ran = 0;
        match std::mem::replace(&mut self.held, Held::Nothing) {
            Held::Ran(0) if self.stamp.is_none() && self.cycles == 0 => ran = 1,
            Held::Nothing => {}
            held => {
                self.held = held;
                self.release(sink);
            }
        }
        debug_assert!(!cycle_each, "no cycle before the first atom, and one before others");
        sink.at(offset);
        // Whole runs of E atoms; the last atom waits.
        let mut place = 0;
        while place + 1 < u32::from(count) {
            let run = (!(bits >> place)).trailing_zeros().min(u32::from(count) - 1 - place);
            ran += run;
            place += run;
            if place + 1 < u32::from(count) {
                self.step(ran, true, sink);
                ran = 0;
                place += 1;
            }
        }
        self.step(ran, false, sink);
        if count > 0 {
            let last = bits >> (count - 1) & 1 == 1;
            self.held = if last { Held::Ran(self.cycles) } else { Held::Skipped(self.cycles) };
        }
    }

    /// So many instructions ran, and perhaps one was skipped behind them.
    #[inline(always)]
    fn step(&mut self, ran: u32, skipped: bool, sink: &mut impl Sink) {
        let mut result = self.stepper.run(ran, sink);
        if skipped && result.is_ok() {
            result = self.stepper.skip(sink);
        }
        if let Err(what) = result {
            self.contradict(what, sink);
        }
    }

    /// Atom by atom: cycles lie between them.
    fn atoms_with_cycles(&mut self, atoms: Atoms, sink: &mut impl Sink) {
        let Atoms { bits, count, cycles, cycle_each } = atoms;
        sink.at(self.offset);
        self.cycles = self.cycles.saturating_add(u32::from(cycles));
        for place in 0..count {
            self.release(sink);
            if place > 0 && cycle_each {
                self.cycles = self.cycles.saturating_add(1);
            }
            if std::mem::take(&mut self.tells_soon) {
                // Its own cycle is no part of what entry or return took.
                let own = u32::from(cycle_each || place == 0);
                self.tell_cycles_but(own, sink);
            }
            let ran = bits >> place & 1 == 1;
            self.held = if ran { Held::Ran(self.cycles) } else { Held::Skipped(self.cycles) };
        }
    }

    /// The held atom is certain.
    #[inline(always)]
    fn release(&mut self, sink: &mut impl Sink) {
        if matches!(self.held, Held::Ran(_)) && self.stamp.is_none() && self.stepper.step_inside() {
            self.held = Held::Nothing;
            return;
        }
        self.release_last(sink);
    }

    /// The same where a block may end, or something else is to be told.
    #[inline(never)]
    fn release_last(&mut self, sink: &mut impl Sink) {
        let (result, cycles) = match std::mem::replace(&mut self.held, Held::Nothing) {
            Held::Nothing => (Ok(()), 0),
            Held::Ran(cycles) => (self.stepper.run(1, sink), cycles),
            Held::Skipped(cycles) => (self.stepper.skip(sink), cycles),
        };
        if let Err(what) = result {
            self.contradict(what, sink);
        }
        // A block ended: its time is known.
        if cycles > 0 && !self.stepper.is_inside() {
            self.cycles = self.cycles.saturating_sub(cycles);
            sink.moment(self.offset, &Moment::Cycles(Some(cycles)));
        }
        if let Some((offset, value)) = self.stamp.take() {
            sink.moment(offset, &Moment::Time { value, cycles: None });
        }
    }

    /// A timestamp: behind the atom that waits.
    fn time(&mut self, offset: u64, value: u64, sink: &mut impl Sink) {
        if self.held == Held::Nothing {
            return sink.moment(offset, &Moment::Time { value, cycles: None });
        }
        if self.stamp.is_some() {
            self.release(sink);
            return sink.moment(offset, &Moment::Time { value, cycles: None });
        }
        self.stamp = Some((offset, value));
    }

    fn tell_cycles(&mut self, sink: &mut impl Sink) {
        self.tell_cycles_but(0, sink);
    }

    /// All but the last so many.
    fn tell_cycles_but(&mut self, own: u32, sink: &mut impl Sink) {
        let cycles = self.cycles.saturating_sub(own);
        self.cycles -= cycles;
        if cycles > 0 {
            sink.moment(self.offset, &Moment::Cycles(Some(cycles)));
        }
    }

    /// Cycles that passed while nothing was traced; 0: too many to be counted.
    fn untold_cycles(&mut self, offset: u64, cycles: u32, sink: &mut impl Sink) {
        self.release(sink);
        if cycles == 0 {
            return sink.moment(offset, &Moment::Cycles(None));
        }
        self.cycles = self.cycles.saturating_add(cycles);
    }

    fn branch(&mut self, offset: u64, branch: Branch, sink: &mut impl Sink) {
        let Branch { address, set, exception } = branch;
        if exception.is_some_and(|exception| exception.cancels) {
            self.held = Held::Nothing;
        }
        self.release(sink);
        self.offset = offset;
        if !self.informed {
            return;
        }
        sink.at(offset);
        let result = match exception.filter(Exception::is_taken) {
            _ if set != InstructionSet::Thumb => Err(Mismatch::Outside(address)),
            Some(exception) => {
                self.enter(offset, exception, sink);
                self.stepper.arrive(address, sink)
            }
            None if exception.is_none() && self.is_not_asked() => {
                self.stepper.lose(sink);
                Err(Mismatch::NotAsked(address))
            }
            None => self.stepper.address(address, sink),
        };
        self.conclude(result, sink);
    }

    /// The image says where execution is, and no branch before it left that open: then bytes are missing before this
    /// one, and where it leads is where execution was going anyhow.
    fn is_not_asked(&self) -> bool {
        !self.broadcasts && !self.placed && self.stepper.position().is_some()
    }

    fn conclude(&mut self, result: Result<(), Mismatch>, sink: &mut impl Sink) {
        match result {
            Ok(()) => (self.told, self.outside) = (false, false),
            Err(what) => self.contradict(what, sink),
        }
    }

    fn enter(&mut self, offset: u64, exception: Exception, sink: &mut impl Sink) {
        let returns_to = self.stepper.position().unwrap_or(NOWHERE);
        self.stepper.leave(sink);
        self.tell_cycles(sink);
        self.tells_soon = true;
        let exception = exception.m_profile_number();
        sink.moment(offset, &Moment::Entered { exception, returns_to });
    }

    /// A handler ended; perhaps it was told already where that leads.
    fn left(&mut self, offset: u64, sink: &mut impl Sink) {
        let already = self.stepper.position().filter(|_| self.stepper.is_at_start());
        self.tell_cycles(sink);
        self.tells_soon = true;
        sink.moment(offset, &Moment::Left);
        if let Some(address) = already {
            let result = self.stepper.arrive(address, sink);
            self.conclude(result, sink);
        }
    }

    fn start(&mut self, offset: u64, start: Start, sink: &mut impl Sink) {
        if start.reason != Reason::Periodic {
            self.begin(offset, start.reason, sink);
        }
        self.release(sink);
        self.offset = offset;
        if let Some(cycles) = start.cycles {
            self.untold_cycles(offset, cycles, sink);
        }
        self.informed = true;
        let Some(address) = start.address else { return };
        sink.at(offset);
        let result = if start.set == InstructionSet::Thumb {
            self.stepper.address(address, sink)
        } else {
            Err(Mismatch::Outside(address))
        };
        self.placed = result.is_ok();
        self.conclude(result, sink);
        if self.placed {
            sink.agreed(self.stepper.code());
        }
    }

    /// Trace begins here: what ran before was not traced.
    fn begin(&mut self, offset: u64, reason: Reason, sink: &mut impl Sink) {
        let known = !self.stepper.is_lost();
        match reason {
            Reason::Overflow => self.open(offset, Gap::Overflow, sink),
            _ if known => self.open(offset, Gap::Unwatched, sink),
            _ => {
                self.stepper.lose(sink);
                self.tell_cycles(sink);
            }
        }
    }
}

/// A flow that feeds a sink.
#[derive(Debug)]
pub struct Feeding<'f, 'a, S> {
    flow: &'f mut Etmv3Flow<'a>,
    sink: &'f mut S,
}

impl<S: Sink> wire::Sink<Packet> for Feeding<'_, '_, S> {
    #[inline(always)]
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        let Self { flow, sink } = self;
        match packet {
            Packet::Atoms(atoms) => flow.atoms(at.start, atoms, sink),
            other => flow.packet(at.start, other, sink),
        }
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        let bytes = at.end - at.start;
        let gap = match why {
            Malformed::Unwanted => Gap::Unwatched,
            Malformed::CutOff => Gap::CutOff { bytes },
            why => Gap::Damaged { why, bytes },
        };
        self.flow.gap(at.start, gap, self.sink);
    }
}

//! An embedded trace macrocell of architecture version 3.5 (IHI 0014) beside an Armv7-M core: what it
//! makes of executed instructions.
//!
//! It is set up by its registers, as a debugger would. The comparators of the DWT are its inputs. It
//! traces instructions only.

mod atoms;
mod packet;
mod registers;

use super::step::{Segment, Step, Told};
use crate::core::Branch;
use packet::{Encoder, Taken};
use registers::Registers;

/// Atoms that wait at most.
const MOST_ATOMS: usize = 16;

/// More cycles than these are told by a packet of their own: the core slept.
const MOST_IDLE: u64 = 128;

/// What implementations do differently.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Manners {
    /// Every second exception comes in so late that the next instruction was traced: it is cancelled.
    pub cancels: bool,
    /// A synchronisation right behind an indirect branch stands for its branch packet.
    pub sync_is_target: bool,
    /// A return from an exception is told behind the address that it leads to.
    pub return_after_address: bool,
    /// Some instructions share the cycle of the one before.
    pub folds: bool,
    /// Branch packets have the original encoding.
    pub original_branches: bool,
}

/// The trace unit.
#[derive(Debug, Clone, Default)]
pub struct Etm {
    /// What this implementation does where the architecture leaves room.
    manners: Manners,
    told: Told,
    registers: Registers,
    encoder: Encoder,
    /// A start point was reached, or none is needed.
    started: bool,
    active: bool,
    /// The buffer was full.
    overflowed: bool,
    /// It has synchronised since it was switched on.
    synchronised: bool,
    since_sync: u64,
    /// Where a branch leads, which is to be told.
    target: Option<u32>,
    /// The cycle up to which atoms tell.
    counted: u64,
    executed: u64,
    exceptions: u64,
}

impl Etm {
    /// A trace unit that is not set up, with its own way of doing things.
    #[must_use]
    pub fn new(manners: Manners) -> Self {
        Self { manners, ..Self::default() }
    }

    /// What it told, in order.
    #[must_use]
    pub fn segments(&self) -> &[Segment] {
        &self.told.0
    }

    pub(crate) const fn listens(&self) -> bool {
        self.registers.on()
    }

    pub(super) const fn trace_id(&self) -> u8 {
        (self.registers.trace_id & 0x7f) as u8
    }

    pub(super) const fn read(&self, offset: u32) -> u32 {
        self.registers.read(offset)
    }

    pub(super) fn write(&mut self, offset: u32, value: u32) {
        if self.registers.write(offset, value) {
            self.started = self.registers.starts_on();
            self.active = false;
            self.synchronised = false;
            self.overflowed = false;
            self.encoder.cycle_accurate = self.registers.cycle_accurate();
            self.encoder.original = self.manners.original_branches;
        }
        if !self.registers.on() {
            self.flush();
        }
    }

    pub(super) fn take(&mut self) -> Vec<u8> {
        let bytes = self.encoder.take();
        self.since_sync += bytes.len() as u64;
        bytes
    }

    pub(super) fn finish(&mut self) {
        self.flush();
    }

    pub(super) fn executed(&mut self, step: &Step, room: bool) {
        let [start, stop] = self.registers.points();
        self.started |= step.comparators & start != 0;
        let traced = self.started && self.registers.chooses(step.comparators);
        self.started &= step.comparators & stop == 0 || self.registers.starts_on();
        if !traced {
            self.settle_target();
            self.flush();
            self.active = false;
            return;
        }
        if !self.has_room(room) {
            return;
        }
        if self.active {
            self.synchronise_if_due(step);
        } else {
            self.begin(step);
        }
        self.settle_target();
        self.tell(step);
        self.executed = step.number + 1;
        if self.encoder.waiting() >= MOST_ATOMS {
            self.flush();
        }
    }

    fn has_room(&mut self, room: bool) -> bool {
        if !room {
            self.overflowed = true;
            self.active = false;
            self.target = None;
            self.encoder.drop_all();
        }
        room
    }

    /// The first instruction after a stretch that was not traced.
    fn begin(&mut self, step: &Step) {
        let overflowed = std::mem::take(&mut self.overflowed);
        if !self.synchronised {
            self.encoder.alignment();
            self.since_sync = 0;
            self.synchronised = true;
        }
        self.encoder.start(if overflowed { 2 } else { 1 }, step.pc);
        self.active = true;
        self.counted = step.cycle - 1;
        self.target = None;
        self.told.begin(step.number);
    }

    fn synchronise_if_due(&mut self, step: &Step) {
        let period = self.registers.sync_period();
        if period == 0 || self.since_sync < period {
            return;
        }
        if self.manners.sync_is_target {
            self.target = None;
        }
        self.settle_target();
        self.flush();
        self.encoder.alignment();
        self.encoder.start(0, step.pc);
        if self.registers.timestamps() {
            self.encoder.timestamp(step.cycle);
        }
        self.since_sync = 0;
    }

    fn tell(&mut self, step: &Step) {
        let (ran, leads) = match step.branch {
            Branch::None => (step.passed, false),
            Branch::Direct { taken, .. } => (taken, taken && self.registers.broadcasts()),
            Branch::Indirect { taken, .. } => (taken, taken && !step.returns),
        };
        let cycles = self.cycles(step);
        self.encoder.atom(cycles, ran);
        if leads {
            self.target = Some(step.next);
        }
    }

    /// Cycles since the atom before.
    fn cycles(&mut self, step: &Step) -> u64 {
        let cycles = step.cycle - self.counted;
        if self.manners.folds && cycles == 1 && step.number.is_multiple_of(5) {
            return 0; // the next one has one more
        }
        self.counted = step.cycle;
        cycles
    }

    /// Tells where the last branch led.
    fn settle_target(&mut self) {
        if let Some(target) = self.target.take() {
            self.flush();
            self.encoder.branch(target, None);
        }
    }

    fn flush(&mut self) {
        self.encoder.flush();
        self.told.sure(self.executed);
    }

    /// Cycles that passed without an instruction.
    fn idle(&mut self, cycle: u64) {
        self.flush();
        let cycles = cycle.saturating_sub(self.counted);
        self.counted = self.counted.max(cycle);
        match (self.registers.cycle_accurate(), cycles) {
            (false, _) => {}
            (true, ..=MOST_IDLE) => self.encoder.idle(cycles),
            (true, _) => self.encoder.cycle_count(cycles),
        }
    }

    pub(super) fn entered(&mut self, cycle: u64, number: u16, handler: u32, room: bool) {
        if self.active && self.has_room(room) {
            self.settle_target();
            self.idle(cycle);
            self.exceptions += 1;
            let cancels = self.manners.cancels && self.exceptions.is_multiple_of(2);
            if cancels {
                self.encoder.atom(0, true);
            }
            self.encoder.branch(handler & !1, Some(Taken { number, cancels }));
        }
    }

    pub(super) fn chained(&mut self, cycle: u64, number: u16, handler: u32, room: bool) {
        if self.active && self.has_room(room) {
            self.idle(cycle);
            self.encoder.exception_return();
            self.encoder.branch(handler & !1, Some(Taken { number, cancels: false }));
        }
    }

    pub(super) fn returned(&mut self, cycle: u64, address: u32, room: bool) {
        if self.active && self.has_room(room) {
            self.idle(cycle);
            if self.manners.return_after_address {
                self.encoder.branch(address, None);
                self.encoder.exception_return();
            } else {
                self.encoder.exception_return();
                self.target = Some(address);
            }
        }
    }
}

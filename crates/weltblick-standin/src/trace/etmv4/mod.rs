//! An embedded trace macrocell of architecture version 4 (IHI 0064) beside an Armv7-M core: what it
//! makes of executed instructions.
//!
//! It is set up by its registers, as a debugger would. The comparators of the DWT are its inputs. It
//! traces instructions only, without speculation; commits are packets of their own (and there are
//! none).

mod atoms;
mod packet;
mod registers;

use super::step::{Segment, Step, Told};
use crate::core::Branch;
use packet::Encoder;
use registers::Registers;

/// `TRCIDR0` to 2: branch broadcast, cycle counts, return stack, 64-bit timestamps, commit mode 1;
/// version 4.0; 32-bit addresses.
const IDR0: u32 = 0x2800_06a1;
const IDR1: u32 = 0x4100_f400;
const IDR2: u32 = 0x0000_0004;

/// Atoms that wait at most.
const MOST_ATOMS: usize = 24;
/// Entries of the return stack.
const STACK: usize = 3;

/// What implementations do differently.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Manners {
    /// The address that a tail-chained exception carries.
    pub tail_chain: TailChain,
    /// After an overflow it synchronises before it goes on.
    pub overflow_synchronises: bool,
}

/// The address that a tail-chained exception carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TailChain {
    /// The exception return value.
    ReturnValue,
    /// The address that is returned to at the end of the chain.
    Stacked,
    /// The same, as if instructions might have run before it.
    StackedAfter,
}

impl Default for Manners {
    fn default() -> Self {
        Self { tail_chain: TailChain::ReturnValue, overflow_synchronises: true }
    }
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
    stack: Vec<u32>,
    last_count: u64,
    /// Nothing ran since the last branch.
    at_target: bool,
    /// How many instructions had been executed after the last one with an atom, and after the last
    /// one at all.
    with_atom: u64,
    executed: u64,
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

    /// Whether it must be told what executes.
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
        }
        if !self.registers.on() {
            self.encoder.flush();
        }
    }

    /// Takes the bytes that are to be sent.
    pub(super) fn take(&mut self) -> Vec<u8> {
        let bytes = self.encoder.take();
        self.since_sync += bytes.len() as u64;
        bytes
    }

    /// Sends what still waits.
    pub(super) fn finish(&mut self) {
        self.flush();
    }

    /// An instruction was executed; `room`: the buffer can take what it makes.
    pub(super) fn executed(&mut self, step: &Step, room: bool) {
        let [start, stop] = self.registers.points();
        self.started |= step.comparators & start != 0;
        let traced = self.started && self.registers.chooses(step.comparators);
        self.started &= step.comparators & stop == 0;
        self.executed = step.number + 1;
        if !traced {
            self.flush();
            self.active = false;
            return;
        }
        if !self.has_room(room) {
            return;
        }
        if !self.active {
            self.begin(step);
        }
        self.tell(step);
        if step.branch != Branch::None {
            self.count(step.cycle);
            if !step.returns {
                self.synchronise_if_due(step);
            }
        }
        if self.encoder.waiting() >= MOST_ATOMS {
            self.flush();
        }
    }

    /// Whether there is room; without it everything that waits is gone.
    fn has_room(&mut self, room: bool) -> bool {
        if !room {
            self.overflowed = true;
            self.active = false;
            self.encoder.drop_all();
        }
        room
    }

    fn tell(&mut self, step: &Step) {
        match step.branch {
            Branch::None => self.at_target = false,
            Branch::Direct { taken, link } => {
                self.atom(taken);
                if taken && link {
                    self.push(step.behind);
                }
                if taken && self.registers.broadcasts() {
                    self.flush();
                    self.encoder.address(step.next);
                }
            }
            Branch::Indirect { taken, link } => {
                self.atom(taken);
                if taken && !step.returns {
                    self.indirect(step.next);
                }
                if taken && link {
                    self.push(step.behind);
                }
            }
        }
    }

    fn atom(&mut self, taken: bool) {
        self.encoder.atom(taken);
        self.with_atom = self.executed;
        self.at_target = true;
    }

    /// Where an indirect branch goes, unless the return stack says it.
    fn indirect(&mut self, target: u32) {
        if self.registers.return_stack() && self.stack.last() == Some(&target) {
            self.stack.pop();
            return;
        }
        self.flush();
        self.encoder.address(target);
    }

    fn push(&mut self, address: u32) {
        if self.stack.len() == STACK {
            self.stack.remove(0);
        }
        self.stack.push(address);
    }

    /// Atoms that wait are sent: up to the last of them everything is certain.
    fn flush(&mut self) {
        if self.encoder.waiting() > 0 {
            self.encoder.flush();
            let until = self.with_atom;
            self.told.sure(until);
        }
    }

    /// The first instruction after a stretch that was not traced.
    fn begin(&mut self, step: &Step) {
        let overflowed = std::mem::take(&mut self.overflowed);
        if overflowed {
            self.encoder.overflow();
        }
        if !self.synchronised || overflowed && self.manners.overflow_synchronises {
            self.synchronise(step.cycle);
        }
        self.encoder.trace_on();
        self.encoder.address_with_context(step.pc);
        self.stack.clear();
        self.active = true;
        self.at_target = true;
        self.last_count = step.cycle;
        self.with_atom = step.number;
        self.told.begin(step.number);
    }

    fn synchronise(&mut self, cycle: u64) {
        self.flush();
        self.encoder.alignment();
        self.encoder.trace_info(self.registers.cycle_counts(), self.registers.threshold());
        if self.registers.timestamps() {
            self.encoder.timestamp(cycle);
        }
        self.synchronised = true;
        self.since_sync = 0;
    }

    /// After a branch whose target is known.
    fn synchronise_if_due(&mut self, step: &Step) {
        if self.registers.sync_period().is_some_and(|period| self.since_sync >= period) {
            self.synchronise(step.cycle);
            self.encoder.address_with_context(step.next);
            self.stack.clear();
        }
    }

    fn count(&mut self, cycle: u64) {
        let threshold = self.registers.threshold();
        let cycles = cycle - self.last_count;
        if self.registers.cycle_counts() && cycles >= u64::from(threshold) {
            self.flush();
            self.encoder.cycle_count(cycles, threshold);
            self.last_count = cycle;
        }
    }

    /// An exception is entered; execution would go on at `returns_to`.
    pub(super) fn entered(
        &mut self,
        cycle: u64,
        number: u16,
        returns_to: u32,
        handler: u32,
        room: bool,
    ) {
        if self.active && self.has_room(room) {
            self.flush();
            let told = self.executed;
            self.told.sure(told);
            let at_target = self.at_target;
            self.exception(number, returns_to, at_target, handler);
            self.count(cycle);
        }
    }

    /// A handler's end led into another handler. `value` is the exception return value, `stacked` the
    /// address that is returned to at the end of the chain.
    pub(super) fn chained(
        &mut self,
        number: u16,
        value: u32,
        stacked: u32,
        handler: u32,
        room: bool,
    ) {
        if self.active && self.has_room(room) {
            self.left();
            let (address, at_target) = match self.manners.tail_chain {
                TailChain::ReturnValue => (value, true),
                TailChain::Stacked => (stacked, true),
                TailChain::StackedAfter => (stacked, false),
            };
            self.exception(number, address, at_target, handler);
        }
    }

    /// A handler ended, and execution goes on at `address`.
    pub(super) fn returned(&mut self, address: u32, room: bool) {
        if self.active && self.has_room(room) {
            self.left();
            self.encoder.address(address);
            self.at_target = true;
        }
    }

    fn left(&mut self) {
        self.flush();
        self.encoder.exception_return();
    }

    fn exception(&mut self, number: u16, address: u32, at_target: bool, handler: u32) {
        // The first eight interrupts follow the system exceptions, the others have their own block.
        let kind = if number < 24 { number } else { number - 16 + 0x200 };
        self.encoder.exception(kind, at_target);
        self.encoder.address(address);
        self.encoder.address_with_context(handler);
        self.at_target = true;
    }
}

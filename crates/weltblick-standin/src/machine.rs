//! The whole microcontroller: core, memory, interrupts, peripherals and trace on one clock.

use crate::core::{Branch, Effect, Instruction, Registers, branch, cycles, execute};
use crate::memory::{Bus as _, BusFault, Flash, Memory};
use crate::model::Model;
use crate::nvic::SVCALL;
use crate::peripheral::Peripherals;
use crate::program::{Program, ProgramError};
use crate::system::System;
use crate::trace::{Link, Step, TraceUnit};
use crate::truth::Truth;
use thiserror::Error;

/// Flash and RAM: what the demo firmware needs and room beside it.
const FLASH_SIZE: u32 = 512 * 1024;
const RAM_BASE: u32 = 0x2000_0000;
const RAM_SIZE: u32 = 128 * 1024;

/// `DWT_PCSR`: where the core is.
const PC_SAMPLE_REGISTER: u32 = 0xe000_101c;
/// What it reads as while the core stands.
const NO_PC: u32 = 0xffff_ffff;

/// How a machine is set up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Setup {
    /// The core that it passes for.
    pub model: Model,
    /// Core cycles per second.
    pub core_clock: u64,
    /// Bits per second of the trace link.
    pub link_bit_rate: u64,
    /// Bytes that the trace unit can hold.
    pub link_buffer: u64,
    /// Chooses the weather, and with it the data.
    pub seed: u64,
}

impl Default for Setup {
    fn default() -> Self {
        Self {
            model: Model::default(),
            core_clock: 47_972_352,
            link_bit_rate: 4_000_000,
            link_buffer: 224,
            seed: 1,
        }
    }
}

/// Why a run ended.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Stop {
    /// The cycle limit was reached.
    #[error("the cycle limit was reached")]
    Limit,
    /// A breakpoint instruction.
    #[error("breakpoint {code} at {pc:#010x}")]
    Breakpoint {
        /// Its number.
        code: u8,
        /// Where.
        pc: u32,
    },
    /// An instruction that this core does not execute.
    #[error("{code:#010x} at {pc:#010x} is no instruction that the stand-in executes")]
    Undefined {
        /// Where.
        pc: u32,
        /// Its two halfwords, the first in the upper half.
        code: u32,
    },
    /// An access to nothing.
    #[error("at {pc:#010x}: {fault}")]
    Bus {
        /// The instruction.
        pc: u32,
        /// The access.
        fault: BusFault,
    },
    /// A breakpoint that a debugger set.
    #[error("a breakpoint at {pc:#010x}")]
    Break {
        /// Where: this instruction comes next.
        pc: u32,
    },
    /// The firmware, or a debugger, asked for a reset.
    #[error("a reset is asked for")]
    Reset,
    /// A branch to an address without the thumb bit.
    #[error("at {pc:#010x}: branch to {target:#010x}, which lacks the thumb bit")]
    NotThumb {
        /// The branch.
        pc: u32,
        /// Where it went.
        target: u32,
    },
    /// The core sleeps and nothing will ever wake it.
    #[error("asleep at {pc:#010x} for ever")]
    AsleepForEver {
        /// After the instruction that put it to sleep.
        pc: u32,
    },
}

/// A microcontroller that runs.
#[derive(Debug)]
pub struct Machine {
    /// The core's registers.
    pub regs: Registers,
    system: System,
    truth: Truth,
    seed: u64,
    /// It sleeps until something wakes it.
    asleep: bool,
    /// Where a debugger wants it to stop.
    breaks: Vec<u32>,
    /// A debugger holds the core.
    stands: bool,
}

impl Machine {
    /// A machine with `program` in its flash, held in reset.
    ///
    /// # Errors
    ///
    /// If the program does not fit.
    pub fn new(program: &Program, setup: Setup) -> Result<Self, ProgramError> {
        let base = program.base() & !0xfff;
        let mut flash = Flash::new(base, FLASH_SIZE);
        for (address, bytes) in &program.segments {
            flash
                .program(*address, bytes)
                .ok_or(ProgramError::DoesNotFit { address: *address, size: bytes.len() })?;
        }
        let word = |address| flash.memory().read(address, 4).unwrap_or(0);
        let regs = Registers::reset(word(base), word(base + 4));
        let link = Link::new(setup.core_clock, setup.link_bit_rate, setup.link_buffer);
        let ram = Memory::new(RAM_BASE, RAM_SIZE);
        let peripherals = Peripherals::new(setup.seed);
        let trace = TraceUnit::new(link, setup.core_clock, setup.model);
        let system = System::new(flash, ram, peripherals, trace, setup.model.cpuid());
        let truth = Truth::new(base, FLASH_SIZE);
        Ok(Self {
            regs,
            system,
            truth,
            seed: setup.seed,
            asleep: false,
            breaks: Vec::new(),
            stands: false,
        })
    }

    /// Resets core and peripherals. Memory, the debug registers and the clock go on.
    pub fn reset(&mut self) {
        self.system.reset(self.seed);
        let base = self.system.vector_base;
        let word = |address| self.system.flash.memory().read(address, 4).unwrap_or(0);
        self.regs = Registers::reset(word(base), word(base + 4));
        self.asleep = false;
        self.truth.reset();
    }

    /// Whether the firmware, or a debugger, asked for a reset.
    #[must_use]
    pub const fn wants_reset(&self) -> bool {
        self.system.reset_wanted
    }

    /// Whether the core sleeps.
    #[must_use]
    pub const fn is_asleep(&self) -> bool {
        self.asleep
    }

    /// A debugger holds the core, or lets it run: a core that stands tells no PC sample.
    pub const fn hold(&mut self, stands: bool) {
        self.stands = stands;
    }

    /// Sets or takes away a breakpoint.
    pub fn set_break(&mut self, address: u32, on: bool) {
        self.breaks.retain(|&other| other != address);
        if on {
            self.breaks.push(address);
        }
    }

    /// The trace unit, to take its bytes or to disturb its link.
    pub const fn trace_mut(&mut self) -> &mut TraceUnit {
        &mut self.system.trace
    }

    /// Cycles since reset.
    #[must_use]
    pub const fn cycle(&self) -> u64 {
        self.system.cycle
    }

    /// Keeps the address of every instruction from now on as part of the truth.
    pub fn keep_addresses(&mut self) {
        self.truth.keep_addresses();
    }

    /// The truth so far.
    #[must_use]
    pub const fn truth(&self) -> &Truth {
        &self.truth
    }

    /// The trace unit.
    #[must_use]
    pub const fn trace(&self) -> &TraceUnit {
        &self.system.trace
    }

    /// Ends the trace and takes its bytes.
    pub fn take_trace(&mut self) -> Vec<u8> {
        self.system.trace.finish()
    }

    /// Reads memory or a register as a debugger does.
    ///
    /// # Errors
    ///
    /// If nothing answers.
    pub fn peek(&mut self, address: u32, bytes: u32) -> Result<u32, BusFault> {
        if address == PC_SAMPLE_REGISTER {
            return Ok(if self.stands { NO_PC } else { self.regs.pc });
        }
        self.unwatched(|system| system.read(address, bytes))
    }

    /// A debugger's accesses are no accesses of the core.
    fn unwatched<T>(&mut self, access: impl FnOnce(&mut System) -> T) -> T {
        self.system.watching = false;
        let result = access(&mut self.system);
        self.system.watching = self.system.trace.watches();
        result
    }

    /// Writes memory or a register as a debugger does.
    ///
    /// # Errors
    ///
    /// If nothing answers.
    pub fn poke(&mut self, address: u32, bytes: u32, value: u32) -> Result<(), BusFault> {
        self.unwatched(|system| system.write(address, bytes, value))
    }

    /// Runs until so many cycles have passed since it was made, or until something stops it.
    pub fn run(&mut self, limit: u64) -> Stop {
        while self.system.cycle < limit {
            let went = if self.asleep { self.sleep(limit) } else { self.step() };
            if let Err(stop) = went {
                return stop;
            }
            if !self.breaks.is_empty() && !self.asleep && self.breaks.contains(&self.regs.pc) {
                return Stop::Break { pc: self.regs.pc };
            }
        }
        Stop::Limit
    }

    /// Executes one instruction, takes one exception, or sleeps up to the next event.
    ///
    /// # Errors
    ///
    /// Why it cannot go on.
    pub fn step(&mut self) -> Result<(), Stop> {
        if self.asleep {
            return self.sleep(u64::MAX);
        }
        if self.system.reset_wanted {
            return Err(Stop::Reset);
        }
        if self.system.cycle >= self.system.next_event {
            self.system.meet_events();
        }
        if self.system.attention && self.take_exception() {
            return Ok(());
        }
        let pc = self.regs.pc;
        let Some(instruction) = self.system.flash.fetch(pc) else { return Err(self.undefined(pc)) };
        self.truth.executed(pc);
        if self.system.watching {
            self.system.pc = pc;
        }
        if self.system.mtb.listens() || self.system.trace.etm().listens() {
            return self.step_traced(pc, instruction);
        }
        match execute(&mut self.regs, instruction, &mut self.system) {
            Ok((cycles, Effect::None)) => {
                self.spend(pc, cycles);
                Ok(())
            }
            Ok((cycles, effect)) => {
                self.spend(pc, cycles);
                self.apply(pc, effect)
            }
            Err(fault) => Err(Stop::Bus { pc, fault }),
        }
    }

    /// The same while the micro trace buffer or the instruction trace unit listens.
    #[cold]
    fn step_traced(&mut self, pc: u32, instruction: Instruction) -> Result<(), Stop> {
        let comparators = self.system.executes(pc);
        let half = |address| self.system.flash.memory().read(address, 2).unwrap_or(0);
        let barrier = half(pc) == 0xf3bf && half(pc + 2) >> 4 & 0xf == 0b0110;
        let branch = branch(&self.regs, instruction, barrier);
        let passed = self.regs.it == 0 || self.regs.holds(self.regs.it >> 4);
        let behind = pc + u32::from(instruction.length);
        let (cycles, effect) = execute(&mut self.regs, instruction, &mut self.system)
            .map_err(|fault| Stop::Bus { pc, fault })?;
        self.spend(pc, cycles);
        let (next, returns) = match effect {
            Effect::ExceptionReturn(value) => (value, true),
            _ => (self.regs.pc, false),
        };
        if self.system.mtb.listens() && (returns || next != behind) {
            self.system.branched(pc, next, false);
        }
        if self.system.trace.etm().listens() {
            if !passed && branch == Branch::None {
                self.truth.passed_over.push(self.truth.instructions - 1);
            }
            self.system.trace.executed(&Step {
                number: self.truth.instructions - 1,
                pc,
                behind,
                next,
                branch,
                passed,
                returns,
                cycle: self.system.cycle,
                comparators,
            });
        }
        self.apply(pc, effect)
    }

    #[inline]
    fn spend(&mut self, pc: u32, cycles: u32) {
        self.system.cycle += u64::from(cycles);
        self.truth.spend(pc, u64::from(cycles));
        if self.system.trace.due() < self.system.cycle {
            self.system.trace.advance(self.system.cycle, Some(pc));
        }
    }

    #[cold]
    fn undefined(&mut self, pc: u32) -> Stop {
        let half = |address| self.system.flash.memory().read(address, 2).unwrap_or(0);
        Stop::Undefined { pc, code: half(pc) << 16 | half(pc.wrapping_add(2)) }
    }

    fn apply(&mut self, pc: u32, effect: Effect) -> Result<(), Stop> {
        match effect {
            Effect::None => {}
            Effect::ExceptionReturn(value) => {
                self.return_from_exception(value).map_err(|fault| Stop::Bus { pc, fault })?;
            }
            Effect::Supervisor => {
                self.system.nvic.request(SVCALL, self.system.cycle);
                self.system.attention = true;
            }
            Effect::Sleep => self.asleep = true,
            Effect::Breakpoint(code) => return Err(Stop::Breakpoint { code, pc }),
            Effect::NotThumb(target) => return Err(Stop::NotThumb { pc, target }),
        }
        Ok(())
    }

    /// Sleeps until an exception would be taken if nothing were masked, or until `limit`.
    fn sleep(&mut self, limit: u64) -> Result<(), Stop> {
        self.asleep = true;
        while !self.system.nvic.wakes(self.regs.basepri) {
            let until = self.system.next_event.min(limit);
            if self.system.next_event == u64::MAX {
                return Err(Stop::AsleepForEver { pc: self.regs.pc });
            }
            let until = until.max(self.system.cycle);
            self.truth.sleep(until - self.system.cycle);
            self.system.cycle = until;
            self.system.trace.advance(until, None);
            if until < self.system.next_event {
                return Ok(());
            }
            self.system.meet_events();
        }
        self.asleep = false;
        Ok(())
    }

    /// Enters the most urgent exception, if one is more urgent than what runs.
    fn take_exception(&mut self) -> bool {
        let regs = &self.regs;
        let Some(exception) = self.system.nvic.next(regs.primask, regs.faultmask, regs.basepri)
        else {
            self.system.attention = self.system.nvic.any_pending();
            return false;
        };
        let return_value = self.push_frame();
        let from = self.regs.pc;
        let handler = self.handler(exception);
        self.system.trace.handler_entered(self.system.cycle, exception, from, handler);
        self.start_handler(exception, from, return_value, cycles::ENTRY);
        true
    }

    /// Saves the caller's registers (B1.5.6). Returns the exception return value.
    fn push_frame(&mut self) -> u32 {
        let regs = &mut self.regs;
        let unaligned = regs.r[13] >> 2 & 1;
        let frame = (regs.r[13] - 32) & !7;
        let words = [
            regs.r[0],
            regs.r[1],
            regs.r[2],
            regs.r[3],
            regs.r[12],
            regs.r[14],
            regs.pc,
            regs.xpsr() | unaligned << 9,
        ];
        let value = match (regs.ipsr, regs.process_stack) {
            (0, true) => 0xffff_fffd,
            (0, false) => 0xffff_fff9,
            _ => 0xffff_fff1,
        };
        regs.r[13] = frame;
        for (address, word) in (frame..).step_by(4).zip(words) {
            // A stack that leaves RAM is the firmware's fault; the frame is lost as on hardware.
            let _ = self.system.ram.write(address, 4, word);
        }
        value
    }

    /// Where the vector table says that a handler starts, thumb bit and all.
    fn handler(&self, exception: u16) -> u32 {
        let vector = self.system.vector_base + 4 * u32::from(exception);
        self.system.flash.memory().read(vector, 4).unwrap_or(0)
    }

    /// Enters a handler: from ordinary code, or from another handler's end (`from` is then its
    /// exception return value).
    fn start_handler(&mut self, exception: u16, from: u32, return_value: u32, cost: u32) {
        let requested = self.system.nvic.enter(exception);
        let handler = self.handler(exception);
        let regs = &mut self.regs;
        regs.use_process_stack(false);
        regs.ipsr = exception;
        regs.it = 0;
        regs.exclusive = None;
        regs.r[14] = return_value;
        regs.pc = handler & !1;
        if self.system.mtb.listens() {
            self.system.branched(from, handler, true);
        }
        self.spend(handler & !1, cost);
        let cycle = self.system.cycle;
        self.truth.entered(exception, requested, cycle);
        self.system.trace.exception(cycle, exception, 1);
    }

    /// Leaves a handler: into the next one that waits (tail-chaining), else back.
    fn return_from_exception(&mut self, value: u32) -> Result<(), BusFault> {
        let left = self.regs.ipsr;
        let cycle = self.system.cycle;
        self.system.nvic.leave(left);
        self.truth.left(cycle);
        self.system.trace.exception(cycle, left, 2);
        self.regs.faultmask = false;
        if cycle >= self.system.next_event {
            self.system.meet_events();
        }
        let basepri = self.regs.basepri;
        if let Some(next) = self.system.nvic.next(self.regs.primask, false, basepri) {
            let addresses = [value, self.stacked_address(value)];
            let handler = self.handler(next);
            self.system.trace.handler_chained(cycle, next, addresses, handler);
            self.start_handler(next, value, value, cycles::TAIL_CHAIN);
            return Ok(());
        }
        self.pop_frame(value)?;
        if self.system.mtb.listens() {
            self.system.branched(value, self.regs.pc, true);
        }
        self.system.trace.handler_returned(cycle, self.regs.pc);
        self.spend(self.regs.pc, cycles::RETURN);
        let (cycle, now) = (self.system.cycle, self.regs.ipsr);
        self.system.trace.exception(cycle, now, 3);
        self.system.attention = self.system.nvic.any_pending();
        Ok(())
    }

    /// The address that the innermost frame returns to.
    fn stacked_address(&mut self, value: u32) -> u32 {
        let frame = if value & 0xf == 0xd { self.regs.process_sp() } else { self.regs.main_sp() };
        self.system.ram.read(frame.wrapping_add(24), 4).unwrap_or(0)
    }

    /// Restores what `push_frame` saved (B1.5.8).
    fn pop_frame(&mut self, value: u32) -> Result<(), BusFault> {
        let regs = &mut self.regs;
        let process = value & 0xf == 0xd;
        let frame = if process { regs.process_sp() } else { regs.main_sp() };
        let mut words = [0; 8];
        for (address, word) in (frame..).step_by(4).zip(&mut words) {
            *word = self.system.read(address, 4)?;
        }
        let [r0, r1, r2, r3, r12, lr, pc, xpsr] = words;
        regs.set_sp(process, frame + 32 + (xpsr >> 9 & 1) * 4);
        regs.use_process_stack(process);
        (regs.r[0], regs.r[1], regs.r[2], regs.r[3]) = (r0, r1, r2, r3);
        (regs.r[12], regs.r[14], regs.pc) = (r12, lr, pc & !1);
        regs.set_xpsr(xpsr & !(1 << 9));
        regs.exclusive = None;
        Ok(())
    }
}

//! Everything that the core reads and writes, on one clock.

use crate::memory::{Bus, BusFault, Flash, Memory};
use crate::nvic::{FIRST_INTERRUPT, Nvic, PENDSV, SYSTICK, SysTick};
use crate::peripheral::Peripherals;
use crate::trace::{Mtb, TraceUnit};

/// Registers of the micro trace buffer: one CoreSight component.
const MTB: u32 = 0xe004_3000;
const MTB_END: u32 = 0xe004_3fff;

/// Memory, interrupts, peripherals and trace.
#[derive(Debug)]
pub(crate) struct System {
    pub(crate) flash: Flash,
    pub(crate) ram: Memory,
    pub(crate) nvic: Nvic,
    systick: SysTick,
    peripherals: Peripherals,
    pub(crate) trace: TraceUnit,
    cpuid: u32,
    pub(crate) mtb: Mtb,
    pub(crate) vector_base: u32,
    pub(crate) cycle: u64,
    /// The cycle of the next event that may request an exception.
    pub(crate) next_event: u64,
    /// Something changed that may bring an exception forward.
    pub(crate) attention: bool,
    /// A comparator watches what the core accesses.
    pub(crate) watching: bool,
    /// The instruction that runs, while something is watched.
    pub(crate) pc: u32,
    /// The firmware, or a debugger, asked for a reset.
    pub(crate) reset_wanted: bool,
}

impl System {
    pub(crate) fn new(
        flash: Flash,
        ram: Memory,
        peripherals: Peripherals,
        trace: TraceUnit,
        cpuid: u32,
    ) -> Self {
        Self {
            vector_base: flash.memory().base(),
            flash,
            ram,
            nvic: Nvic::default(),
            systick: SysTick::default(),
            peripherals,
            trace,
            cpuid,
            mtb: Mtb::default(),
            cycle: 0,
            next_event: u64::MAX,
            attention: false,
            watching: false,
            pc: 0,
            reset_wanted: false,
        }
    }

    /// Lets timers and peripherals do what is due, and requests their exceptions.
    pub(crate) fn meet_events(&mut self) {
        let cycle = self.cycle;
        while self.systick.due() <= cycle {
            let due = self.systick.due();
            if self.systick.advance(cycle) {
                self.nvic.request(SYSTICK, due);
            }
        }
        while self.peripherals.due() <= cycle {
            let due = self.peripherals.due();
            let nvic = &mut self.nvic;
            self.peripherals.advance(due, |line| nvic.request(FIRST_INTERRUPT + line, due));
        }
        self.plan();
    }

    /// When the next event comes.
    fn plan(&mut self) {
        self.next_event = self.systick.due().min(self.peripherals.due());
        self.attention = true;
    }

    /// Registers of the system control space (B3.2) and SysTick.
    #[allow(clippy::match_overlapping_arm, reason = "special registers before their block")]
    fn read_system(&mut self, address: u32) -> Option<u32> {
        match address {
            0xe000_e010..=0xe000_e01c => Some(self.systick.read(address - 0xe000_e010, self.cycle)),
            0xe000_e100..=0xe000_e5ff => Some(self.nvic.read(address - 0xe000_e100)),
            0xe000_ed00 => Some(self.cpuid),
            0xe000_ed04 => Some(
                u32::from(self.nvic.is_pending(PENDSV)) << 28
                    | u32::from(self.nvic.is_pending(SYSTICK)) << 26,
            ),
            0xe000_ed08 => Some(self.vector_base),
            0xe000_ed18..=0xe000_ed23 => {
                Some(self.nvic.priorities(4 + (address as usize - 0xe000_ed18)))
            }
            0xe000_ed00..=0xe000_ed8f => Some(0),
            MTB..=MTB_END => Some(self.mtb.register(address - MTB, self.ram.base())),
            _ => None,
        }
    }

    #[allow(clippy::match_overlapping_arm, reason = "special registers before their block")]
    fn write_system(&mut self, address: u32, bytes: u32, value: u32) -> Option<()> {
        let cycle = self.cycle;
        match address {
            0xe000_e010..=0xe000_e01c => self.systick.write(address - 0xe000_e010, value, cycle),
            0xe000_e100..=0xe000_e5ff => {
                self.nvic.write(address - 0xe000_e100, bytes, value, cycle)
            }
            0xe000_ed04 => self.control_interrupts(value),
            0xe000_ed08 => self.vector_base = value & !0x7f,
            // AIRCR: a reset, with the key that makes it count.
            0xe000_ed0c => self.reset_wanted |= value >> 16 == 0x05fa && value & 0b100 != 0,
            0xe000_ed18..=0xe000_ed23 => {
                self.nvic.set_priorities(4 + (address as usize - 0xe000_ed18), bytes, value);
            }
            0xe000_ed00..=0xe000_ed8f => {}
            MTB..=MTB_END => self.mtb.set_register(address - MTB, value),
            _ => return None,
        }
        self.plan();
        Some(())
    }

    /// `ICSR`: software requests PendSV and SysTick, or takes them back.
    fn control_interrupts(&mut self, value: u32) {
        let set = |bit: u32| value >> bit & 1 == 1;
        if set(28) {
            self.nvic.request(PENDSV, self.cycle);
        }
        if set(27) {
            self.nvic.withdraw(PENDSV);
        }
        if set(26) {
            self.nvic.request(SYSTICK, self.cycle);
        }
        if set(25) {
            self.nvic.withdraw(SYSTICK);
        }
    }

    #[cold]
    fn read_slowly(&mut self, address: u32) -> Option<u32> {
        match address >> 28 {
            0x4 => {
                let value = self.peripherals.read(address, self.cycle);
                self.plan();
                value
            }
            0xe => self.trace.read(address, self.cycle).or_else(|| self.read_system(address)),
            _ => None,
        }
    }

    #[cold]
    fn write_slowly(&mut self, address: u32, bytes: u32, value: u32) -> Option<()> {
        match address >> 28 {
            0x4 => {
                self.peripherals.write(address, value, self.cycle)?;
                self.plan();
                Some(())
            }
            0xe => {
                let traced = self.trace.write(address, bytes, value, self.cycle);
                self.watching = self.trace.watches();
                traced.or_else(|| self.write_system(address, bytes, value))
            }
            _ => None,
        }
    }

    /// The core executes the instruction at `pc` while it is traced: which comparators match it.
    #[cold]
    pub(crate) fn executes(&mut self, pc: u32) -> u32 {
        let comparators = self.trace.matching(pc);
        if self.mtb.listens() {
            self.mtb.matched(comparators);
        }
        comparators
    }

    /// The program flow jumped.
    #[cold]
    pub(crate) fn branched(&mut self, source: u32, destination: u32, exceptional: bool) {
        let Some((offset, words)) = self.mtb.branch(source, destination, exceptional) else {
            return;
        };
        let start = self.ram.base().wrapping_add(offset);
        for (address, word) in (start..).step_by(4).zip(words) {
            // A buffer that leaves RAM is whoever set it up's fault.
            let _ = self.ram.write(address, 4, word);
        }
    }

    #[cold]
    fn watched(&mut self, address: u32, bytes: u32, value: u32, write: bool) {
        self.trace.accessed(self.cycle, self.pc, address, bytes, value, write);
    }

    /// What a reset puts back: interrupts, timers, peripherals. Debug registers and RAM stay.
    pub(crate) fn reset(&mut self, seed: u64) {
        self.nvic = Nvic::default();
        self.systick = SysTick::default();
        self.peripherals = Peripherals::new(seed);
        self.vector_base = self.flash.memory().base();
        self.next_event = u64::MAX;
        self.attention = false;
        self.reset_wanted = false;
    }
}

impl Bus for System {
    #[inline]
    fn read(&mut self, address: u32, bytes: u32) -> Result<u32, BusFault> {
        let value = self
            .ram
            .read(address, bytes)
            .or_else(|| self.flash.memory().read(address, bytes))
            .or_else(|| self.read_slowly(address))
            .ok_or(BusFault { what: "read", address })?;
        if self.watching {
            self.watched(address, bytes, value, false);
        }
        Ok(value)
    }

    #[inline]
    fn write(&mut self, address: u32, bytes: u32, value: u32) -> Result<(), BusFault> {
        if self.watching {
            self.watched(address, bytes, value, true);
        }
        self.ram
            .write(address, bytes, value)
            .or_else(|| self.write_slowly(address, bytes, value))
            .ok_or(BusFault { what: "write", address })
    }
}

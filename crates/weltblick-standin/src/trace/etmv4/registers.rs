//! The registers of the trace unit (IHI 0064, "Register descriptions"), as far as they do something.

/// What is set up.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Registers {
    on: bool,
    pub(super) config: u32,
    sync_period: u32,
    threshold: u32,
    pub(super) trace_id: u32,
    view: u32,
    start_stop: u32,
    selectors: [u32; 2],
}

impl Registers {
    /// It was switched on (`TRCPRGCTLR.EN`).
    pub(super) const fn on(&self) -> bool {
        self.on
    }

    /// The return stack is on (`TRCCONFIGR.RS`).
    pub(super) const fn return_stack(&self) -> bool {
        self.config >> 12 & 1 == 1
    }

    /// Cycle counts are on (`CCI`).
    pub(super) const fn cycle_counts(&self) -> bool {
        self.config >> 4 & 1 == 1
    }

    /// Timestamps are on (`TS`).
    pub(super) const fn timestamps(&self) -> bool {
        self.config >> 11 & 1 == 1
    }

    /// Every taken branch tells its target (`BB`).
    pub(super) const fn broadcasts(&self) -> bool {
        self.config >> 3 & 1 == 1
    }

    /// Bytes between synchronisations.
    pub(super) const fn sync_period(&self) -> Option<u64> {
        match self.sync_period & 0x1f {
            0 => None,
            power => Some(1 << power),
        }
    }

    /// Fewer cycles are not counted.
    pub(super) const fn threshold(&self) -> u32 {
        self.threshold & 0xfff
    }

    /// It traces before any start point is reached (`TRCVICTLR.SSSTATUS`).
    pub(super) const fn starts_on(&self) -> bool {
        self.view >> 9 & 1 == 1
    }

    /// Comparators of the core that start it, and that stop it.
    pub(super) const fn points(&self) -> [u32; 2] {
        [self.start_stop & 0xff, self.start_stop >> 16 & 0xff]
    }

    /// Whether the event that chooses what is traced holds for these comparators: selector 1 always
    /// does, others watch inputs from the core (`TRCRSCTLRn`, group 1: bits 7:0 choose; bit 20
    /// inverts).
    pub(super) const fn chooses(&self, comparators: u32) -> bool {
        let number = (self.view & 0x1f) as usize;
        match number {
            2 | 3 => {
                let selector = self.selectors[number - 2];
                (selector & 0xff & comparators != 0) != (selector >> 20 & 1 == 1)
            }
            _ => number == 1,
        }
    }

    pub(super) const fn read(&self, offset: u32) -> u32 {
        match offset {
            0x004 => self.on as u32,
            // Idle, and the programmers' model is stable.
            0x00c => 0b10 | !self.on as u32,
            0x010 => self.config,
            0x034 => self.sync_period,
            0x038 => self.threshold,
            0x040 => self.trace_id,
            0x080 => self.view,
            0x08c => self.start_stop,
            0x208 => self.selectors[0],
            0x20c => self.selectors[1],
            0x1e0 => super::IDR0,
            0x1e4 => super::IDR1,
            0x1e8 => super::IDR2,
            _ => 0,
        }
    }

    /// Writes one; whether it was switched on.
    pub(super) const fn write(&mut self, offset: u32, value: u32) -> bool {
        match offset {
            0x004 => {
                let before = self.on;
                self.on = value & 1 == 1;
                return self.on && !before;
            }
            0x010 => self.config = value,
            0x034 => self.sync_period = value,
            0x038 => self.threshold = value,
            0x040 => self.trace_id = value,
            0x080 => self.view = value,
            0x08c => self.start_stop = value,
            0x208 => self.selectors[0] = value,
            0x20c => self.selectors[1] = value,
            _ => {}
        }
        false
    }
}

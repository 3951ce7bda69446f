//! The registers of the trace unit (IHI 0014, "Programmers' model"), as far as they do something.

/// `ETMIDR`: version 3.5, alternative branch encoding, 32-bit Thumb instructions are one.
const ID: u32 = 0x4114_f250;
/// `ETMCCER`: timestamps of 48 bits, in binary.
const CODE_EXTENSION: u32 = 0x1854_1800;

/// `ETMCR`.
mod control {
    pub(super) const POWER_DOWN: u32 = 1;
    pub(super) const BRANCH_OUTPUT: u32 = 1 << 8;
    pub(super) const PROGRAMMING: u32 = 1 << 10;
    pub(super) const CYCLE_ACCURATE: u32 = 1 << 12;
    pub(super) const TIMESTAMPS: u32 = 1 << 28;
}

/// What is set up.
#[derive(Debug, Clone, Copy)]
pub(super) struct Registers {
    control: u32,
    /// `ETMTRIGGER`: kept, and of no effect.
    trigger: u32,
    /// `ETMTEEVR`: what is traced.
    enable_event: u32,
    /// `ETMTECR1`.
    enable_control: u32,
    /// `ETMTESSEICR`: comparators that start and stop it.
    start_stop: u32,
    sync_period: u32,
    pub(super) trace_id: u32,
}

impl Default for Registers {
    fn default() -> Self {
        Self {
            control: control::POWER_DOWN | control::PROGRAMMING,
            trigger: 0,
            enable_event: 0,
            enable_control: 0,
            start_stop: 0,
            sync_period: 1024,
            trace_id: 0,
        }
    }
}

impl Registers {
    pub(super) const fn on(&self) -> bool {
        self.control & (control::POWER_DOWN | control::PROGRAMMING) == 0
    }

    pub(super) const fn cycle_accurate(&self) -> bool {
        self.control & control::CYCLE_ACCURATE != 0
    }

    pub(super) const fn timestamps(&self) -> bool {
        self.control & control::TIMESTAMPS != 0
    }

    pub(super) const fn broadcasts(&self) -> bool {
        self.control & control::BRANCH_OUTPUT != 0
    }

    /// Bytes between synchronisations; 0: none.
    pub(super) const fn sync_period(&self) -> u64 {
        self.sync_period as u64
    }

    /// It traces before any start point is reached: start and stop points are not used.
    pub(super) const fn starts_on(&self) -> bool {
        self.enable_control >> 25 & 1 == 0
    }

    /// Comparators of the core that start it, and that stop it.
    pub(super) const fn points(&self) -> [u32; 2] {
        if self.starts_on() {
            return [0; 2];
        }
        [self.start_stop & 0xf, self.start_stop >> 16 & 0xf]
    }

    /// Whether the event that chooses what is traced holds for these comparators: resource A, or its
    /// opposite.
    pub(super) const fn chooses(&self, comparators: u32) -> bool {
        let holds = match self.enable_event & 0x7f {
            0x6f => true,
            number @ 0x20..=0x23 => comparators >> (number - 0x20) & 1 == 1,
            _ => false,
        };
        holds != (self.enable_event >> 14 & 0b111 == 1)
    }

    pub(super) const fn read(&self, offset: u32) -> u32 {
        match offset {
            0x000 => self.control,
            0x008 => self.trigger,
            0x010 => (self.control & control::PROGRAMMING) >> 9,
            0x020 => self.enable_event,
            0x024 => self.enable_control,
            0x1e0 => self.sync_period,
            0x1e4 => ID,
            0x1e8 => CODE_EXTENSION,
            0x1f0 => self.start_stop,
            0x200 => self.trace_id,
            _ => 0,
        }
    }

    /// Writes one; whether it was switched on.
    pub(super) const fn write(&mut self, offset: u32, value: u32) -> bool {
        match offset {
            0x000 => {
                let before = self.on();
                self.control = value;
                return self.on() && !before;
            }
            0x008 => self.trigger = value,
            0x020 => self.enable_event = value,
            0x024 => self.enable_control = value,
            0x1e0 => self.sync_period = value,
            0x1f0 => self.start_stop = value,
            0x200 => self.trace_id = value,
            _ => {}
        }
        false
    }
}

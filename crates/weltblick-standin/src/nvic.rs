//! Which exception is taken when (DDI 0403E, B1.5 and B3.4), and the SysTick timer.

/// System exceptions and 32 interrupts.
pub const EXCEPTIONS: usize = 48;
/// The exception number of interrupt 0.
pub const FIRST_INTERRUPT: u16 = 16;
/// `SVCall`.
pub const SVCALL: u16 = 11;
/// `PendSV`.
pub const PENDSV: u16 = 14;
/// `SysTick`.
pub const SYSTICK: u16 = 15;

/// Priorities have four bits, the upper ones.
const PRIORITY_MASK: u8 = 0xf0;

/// Pending, enabled and active exceptions, and their priorities.
#[derive(Debug, Clone)]
pub struct Nvic {
    /// Bit n: exception n.
    pending: u64,
    active: u64,
    enabled: u64,
    priority: [u8; EXCEPTIONS],
    /// When each pending exception was requested.
    requested: [u64; EXCEPTIONS],
}

impl Default for Nvic {
    fn default() -> Self {
        Self {
            pending: 0,
            active: 0,
            // System exceptions cannot be disabled here.
            enabled: 0xffff,
            priority: [0; EXCEPTIONS],
            requested: [0; EXCEPTIONS],
        }
    }
}

impl Nvic {
    /// Requests an exception at a cycle. A request that is pending already keeps its time.
    pub const fn request(&mut self, exception: u16, cycle: u64) {
        let bit = 1 << exception;
        if self.pending & bit == 0 {
            self.requested[exception as usize] = cycle;
        }
        self.pending |= bit;
    }

    /// Takes a request back.
    pub const fn withdraw(&mut self, exception: u16) {
        self.pending &= !(1 << exception);
    }

    /// Whether any exception is requested at all.
    #[must_use]
    pub const fn any_pending(&self) -> bool {
        self.pending & self.enabled != 0
    }

    /// The exception to take now, if one is more urgent than what runs.
    #[must_use]
    pub fn next(&self, primask: bool, faultmask: bool, basepri: u8) -> Option<u16> {
        self.most_urgent()
            .filter(|&(priority, _)| priority < self.running_priority(primask, faultmask, basepri))
            .map(|(_, exception)| exception)
    }

    /// Whether a sleeping core wakes: as for taking an exception, but masked ones wake too.
    #[must_use]
    pub fn wakes(&self, basepri: u8) -> bool {
        self.next(false, false, basepri).is_some()
    }

    /// The requested exception of lowest priority number, then lowest exception number.
    fn most_urgent(&self) -> Option<(i16, u16)> {
        let mut open = self.pending & self.enabled;
        let mut best: Option<(i16, u16)> = None;
        while open != 0 {
            let exception = open.trailing_zeros() as u16;
            open &= open - 1;
            let candidate = (self.priority_of(exception), exception);
            best = Some(best.map_or(candidate, |best| best.min(candidate)));
        }
        best
    }

    fn priority_of(&self, exception: u16) -> i16 {
        match exception {
            2 => -2,
            3 => -1,
            _ => i16::from(self.priority[usize::from(exception)]),
        }
    }

    fn running_priority(&self, primask: bool, faultmask: bool, basepri: u8) -> i16 {
        let mut running = 256;
        let mut active = self.active;
        while active != 0 {
            running = running.min(self.priority_of(active.trailing_zeros() as u16));
            active &= active - 1;
        }
        if basepri & PRIORITY_MASK != 0 {
            running = running.min(i16::from(basepri & PRIORITY_MASK));
        }
        if primask {
            running = running.min(0);
        }
        if faultmask {
            running = running.min(-1);
        }
        running
    }

    /// An exception is entered: no longer pending, now active. Returns when it was requested.
    pub const fn enter(&mut self, exception: u16) -> u64 {
        self.pending &= !(1 << exception);
        self.active |= 1 << exception;
        self.requested[exception as usize]
    }

    /// An exception is left.
    pub const fn leave(&mut self, exception: u16) {
        self.active &= !(1 << exception);
    }

    /// Reads a register of the NVIC's own block, by offset from `0xE000E100`.
    #[must_use]
    pub fn read(&self, offset: u32) -> u32 {
        let interrupts = |bits: u64| (bits >> FIRST_INTERRUPT) as u32;
        match offset {
            0x000 | 0x080 => interrupts(self.enabled),
            0x100 | 0x180 => interrupts(self.pending),
            0x200 => interrupts(self.active),
            0x300..0x320 => {
                let first = usize::from(FIRST_INTERRUPT) + (offset as usize & 0x1c);
                u32::from_le_bytes(std::array::from_fn(|byte| self.priority[first + byte]))
            }
            _ => 0,
        }
    }

    /// Writes 1 or 4 bytes to a register of the NVIC's own block.
    pub fn write(&mut self, offset: u32, bytes: u32, value: u32, cycle: u64) {
        let bits = u64::from(value) << FIRST_INTERRUPT;
        match offset {
            0x000 => self.enabled |= bits,
            0x080 => self.enabled &= !bits,
            0x100 => {
                let mut new = bits;
                while new != 0 {
                    self.request(new.trailing_zeros() as u16, cycle);
                    new &= new - 1;
                }
            }
            0x180 => self.pending &= !bits,
            0x300..0x320 => {
                let first = usize::from(FIRST_INTERRUPT) + (offset as usize - 0x300);
                self.set_priorities(first, bytes, value);
            }
            _ => {}
        }
    }

    /// Sets the priorities of 1 to 4 neighbouring exceptions.
    pub fn set_priorities(&mut self, first: usize, bytes: u32, value: u32) {
        for (slot, byte) in (first..EXCEPTIONS).zip(value.to_le_bytes()).take(bytes as usize) {
            self.priority[slot] = byte & PRIORITY_MASK;
        }
    }

    /// The priorities of four neighbouring exceptions, as a register shows them.
    #[must_use]
    pub fn priorities(&self, first: usize) -> u32 {
        u32::from_le_bytes(std::array::from_fn(|byte| {
            self.priority.get(first + byte).copied().unwrap_or(0)
        }))
    }

    /// Whether an exception is pending.
    #[must_use]
    pub const fn is_pending(&self, exception: u16) -> bool {
        self.pending >> exception & 1 == 1
    }
}

/// The system timer (B3.3): counts core cycles down, and requests SysTick at zero.
#[derive(Debug, Clone, Default)]
pub struct SysTick {
    enabled: bool,
    interrupt: bool,
    reload: u32,
    /// The cycle at which the counter next reaches zero.
    due: u64,
    counted: bool,
}

impl SysTick {
    /// When it next asks for the core's attention.
    #[must_use]
    pub const fn due(&self) -> u64 {
        if self.enabled && self.reload > 0 { self.due } else { u64::MAX }
    }

    /// Brings it to `cycle`. Returns whether SysTick is to be requested.
    pub const fn advance(&mut self, cycle: u64) -> bool {
        if cycle < self.due() {
            return false;
        }
        self.due += self.reload as u64 + 1;
        self.counted = true;
        self.interrupt
    }

    /// Reads a register by offset from `0xE000E010`.
    pub const fn read(&mut self, offset: u32, cycle: u64) -> u32 {
        match offset {
            0x0 => {
                let value = self.enabled as u32 | (self.interrupt as u32) << 1 | 1 << 2;
                let flag = (self.counted as u32) << 16;
                self.counted = false;
                value | flag
            }
            0x4 => self.reload,
            0x8 if self.enabled => self.due.saturating_sub(cycle) as u32,
            _ => 0,
        }
    }

    /// Writes a register.
    pub const fn write(&mut self, offset: u32, value: u32, cycle: u64) {
        match offset {
            0x0 => {
                self.enabled = value & 1 == 1;
                self.interrupt = value & 2 == 2;
                self.due = cycle + self.reload as u64 + 1;
            }
            0x4 => self.reload = value & 0x00ff_ffff,
            0x8 => {
                self.due = cycle + self.reload as u64 + 1;
                self.counted = false;
            }
            _ => {}
        }
    }
}

//! The core's registers.

/// What the core is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// Ordinary code.
    Thread,
    /// An exception's handler.
    Handler,
}

/// Registers and flags (DDI 0403E, B1.4).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Registers {
    /// R0 to R15. While an instruction executes, R15 reads as its address plus 4.
    pub r: [u32; 16],
    /// Where the next instruction is.
    pub pc: u32,
    /// Negative.
    pub n: bool,
    /// Zero.
    pub z: bool,
    /// Carry.
    pub c: bool,
    /// Overflow.
    pub v: bool,
    /// Saturation, sticky.
    pub q: bool,
    /// The IT block's state (A7.3.3); 0 outside.
    pub it: u8,
    /// The exception number, 0 in thread mode.
    pub ipsr: u16,
    /// The stack pointer that R13 is not.
    pub other_sp: u32,
    /// R13 is the process stack pointer.
    pub process_stack: bool,
    /// Unprivileged thread mode (kept, not enforced).
    pub unprivileged: bool,
    /// Interrupts are masked.
    pub primask: bool,
    /// Faults are masked too.
    pub faultmask: bool,
    /// Interrupts of this priority and below are masked; 0: none.
    pub basepri: u8,
    /// The address that an exclusive load marked.
    pub exclusive: Option<u32>,
}

impl Registers {
    /// As after reset: stack pointer and program counter from the vector table.
    #[must_use]
    pub const fn reset(sp: u32, pc: u32) -> Self {
        let mut r = [0; 16];
        r[13] = sp & !3;
        r[14] = 0xffff_ffff;
        Self {
            r,
            pc: pc & !1,
            n: false,
            z: false,
            c: false,
            v: false,
            q: false,
            it: 0,
            ipsr: 0,
            other_sp: 0,
            process_stack: false,
            unprivileged: false,
            primask: false,
            faultmask: false,
            basepri: 0,
            exclusive: None,
        }
    }

    /// Thread or handler mode.
    #[must_use]
    pub const fn mode(&self) -> Mode {
        if self.ipsr == 0 { Mode::Thread } else { Mode::Handler }
    }

    /// The program status register, all three views together.
    #[must_use]
    pub fn xpsr(&self) -> u32 {
        self.apsr()
            | u32::from(self.it & 0b11) << 25
            | u32::from(self.it >> 2) << 10
            | 1 << 24
            | u32::from(self.ipsr)
    }

    /// The flags alone.
    #[must_use]
    pub fn apsr(&self) -> u32 {
        let flags = [self.n, self.z, self.c, self.v, self.q];
        (27..).zip(flags.iter().rev()).map(|(bit, &flag)| u32::from(flag) << bit).sum()
    }

    /// Sets the flags from a status register's value.
    pub const fn set_apsr(&mut self, value: u32) {
        self.n = value >> 31 & 1 == 1;
        self.z = value >> 30 & 1 == 1;
        self.c = value >> 29 & 1 == 1;
        self.v = value >> 28 & 1 == 1;
        self.q = value >> 27 & 1 == 1;
    }

    /// Sets flags, IT state and exception number.
    pub const fn set_xpsr(&mut self, value: u32) {
        self.set_apsr(value);
        self.it = (value >> 25 & 0b11) as u8 | (value >> 10 & 0x3f) as u8 * 4;
        self.ipsr = (value & 0x1ff) as u16;
    }

    /// Makes R13 the process (or main) stack pointer, and keeps the other.
    pub const fn use_process_stack(&mut self, process: bool) {
        if self.process_stack != process {
            std::mem::swap(&mut self.r[13], &mut self.other_sp);
            self.process_stack = process;
        }
    }

    /// The main stack pointer, in use or not.
    #[must_use]
    pub const fn main_sp(&self) -> u32 {
        if self.process_stack { self.other_sp } else { self.r[13] }
    }

    /// The process stack pointer, in use or not.
    #[must_use]
    pub const fn process_sp(&self) -> u32 {
        if self.process_stack { self.r[13] } else { self.other_sp }
    }

    /// Sets the main (or process) stack pointer, in use or not.
    pub const fn set_sp(&mut self, process: bool, value: u32) {
        if self.process_stack == process {
            self.r[13] = value & !3;
        } else {
            self.other_sp = value & !3;
        }
    }

    /// Whether a condition (A7.3) holds.
    #[must_use]
    pub const fn holds(&self, condition: u8) -> bool {
        let base = match condition >> 1 {
            0 => self.z,
            1 => self.c,
            2 => self.n,
            3 => self.v,
            4 => self.c && !self.z,
            5 => self.n == self.v,
            6 => self.n == self.v && !self.z,
            _ => return true,
        };
        base != (condition & 1 == 1)
    }

    /// Moves the IT block on by one instruction (A7.3.3).
    pub const fn advance_it(&mut self) {
        self.it = if self.it & 0b111 == 0 { 0 } else { self.it & 0xe0 | self.it << 1 & 0x1f };
    }
}

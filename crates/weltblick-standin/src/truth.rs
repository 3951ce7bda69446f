//! What really happened: the figures that Weltblick must find from the trace alone.

/// Exact figures of a run.
#[derive(Debug, Clone)]
pub struct Truth {
    base: u32,
    /// Cycles by halfword of flash: of the instruction that runs, or that an exception entry leads
    /// to.
    cycles: Vec<u64>,
    /// Cycles asleep.
    pub asleep: u64,
    /// Cycles in all.
    pub total: u64,
    /// Every exception, in the order of entry.
    pub exceptions: Vec<ExceptionRecord>,
    /// Indexes into `exceptions` of those that are active, innermost last.
    active: Vec<usize>,
    /// Instructions executed.
    pub instructions: u64,
    /// The address of each, in order, where that is kept.
    pub addresses: Option<Vec<u32>>,
    /// Numbers of traced instructions that had no effect, since their condition failed; branches
    /// aside.
    pub passed_over: Vec<u64>,
}

/// One run of a handler.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ExceptionRecord {
    /// The exception number.
    pub number: u16,
    /// When the hardware asked for it.
    pub requested: u64,
    /// When its first instruction could run.
    pub entered: u64,
    /// When it ended; `None` while it runs.
    pub left: Option<u64>,
}

impl Truth {
    pub(crate) fn new(base: u32, size: u32) -> Self {
        Self {
            base,
            cycles: vec![0; size as usize / 2],
            asleep: 0,
            total: 0,
            exceptions: Vec::new(),
            active: Vec::new(),
            instructions: 0,
            addresses: None,
            passed_over: Vec::new(),
        }
    }

    /// A reset: everything starts again.
    pub(crate) fn reset(&mut self) {
        let keeps = self.addresses.is_some();
        *self = Self::new(self.base, 2 * self.cycles.len() as u32);
        self.addresses = keeps.then(Vec::new);
    }

    pub(crate) fn keep_addresses(&mut self) {
        // Numbers of instructions are places in the list.
        self.addresses = Some(vec![0; self.instructions as usize]);
    }

    #[inline]
    pub(crate) fn executed(&mut self, pc: u32) {
        self.instructions += 1;
        if let Some(addresses) = &mut self.addresses {
            addresses.push(pc);
        }
    }

    #[inline]
    pub(crate) fn spend(&mut self, pc: u32, cycles: u64) {
        self.total += cycles;
        if let Some(slot) = self.cycles.get_mut((pc.wrapping_sub(self.base) / 2) as usize) {
            *slot += cycles;
        }
    }

    pub(crate) const fn sleep(&mut self, cycles: u64) {
        self.total += cycles;
        self.asleep += cycles;
    }

    pub(crate) fn entered(&mut self, number: u16, requested: u64, entered: u64) {
        self.active.push(self.exceptions.len());
        self.exceptions.push(ExceptionRecord { number, requested, entered, left: None });
    }

    pub(crate) fn left(&mut self, cycle: u64) {
        if let Some(index) = self.active.pop() {
            self.exceptions[index].left = Some(cycle);
        }
    }

    /// Cycles spent in a range of addresses.
    #[must_use]
    pub fn cycles_in(&self, start: u32, end: u32) -> u64 {
        let slot = |address: u32| {
            ((address.saturating_sub(self.base) / 2) as usize).min(self.cycles.len())
        };
        let (from, to) = (slot(start), slot(end));
        if from >= to { 0 } else { self.cycles[from..to].iter().sum() }
    }
}

//! A micro trace buffer (CoreSight MTB, programmers' model): every branch becomes two words in the
//! core's own RAM.
//!
//! Its start and stop inputs are the comparators of the DWT, chosen by `MTB_TSTART` and `MTB_TSTOP`
//! as on the MTB-M33. `AUTOHALT` is not built in.

/// `MASTER` bits.
mod master {
    pub(super) const ON: u32 = 1 << 31;
    pub(super) const STOP_INPUT: u32 = 1 << 6;
    pub(super) const START_INPUT: u32 = 1 << 5;
    pub(super) const MASK: u32 = 0x1f;
}

/// `POSITION`: the pointer, and whether it has wrapped.
const POINTER: u32 = 0xffff_fff8;
const WRAPPED: u32 = 1 << 2;
/// `FLOW`: it stops itself at the watermark.
const STOPS_ITSELF: u32 = 1;

/// The buffer's registers; what it writes lies in RAM.
#[derive(Debug, Clone, Default)]
pub(crate) struct Mtb {
    position: u32,
    master: u32,
    flow: u32,
    /// Comparators that start and that stop it, one bit each.
    inputs: [u32; 2],
    /// The next packet is the first since it was started.
    starts: bool,
}

/// Two words, and where they go: an offset in RAM.
pub(crate) type Written = (u32, [u32; 2]);

impl Mtb {
    /// Whether it must be told of instructions and branches.
    #[inline]
    pub(crate) const fn listens(&self) -> bool {
        self.master & (master::ON | master::START_INPUT) != 0
    }

    /// Comparators, one bit each, matched the instruction that executes now.
    pub(crate) fn matched(&mut self, comparators: u32) {
        if self.master & master::START_INPUT != 0 && comparators & self.inputs[0] != 0 {
            self.switch(self.master | master::ON);
        }
        if self.master & master::STOP_INPUT != 0 && comparators & self.inputs[1] != 0 {
            self.switch(self.master & !master::ON);
        }
    }

    /// A branch; what is to be written for it.
    pub(crate) fn branch(
        &mut self,
        source: u32,
        destination: u32,
        exceptional: bool,
    ) -> Option<Written> {
        if self.master & master::ON == 0 {
            return None;
        }
        let starts = std::mem::take(&mut self.starts);
        let words = [source & !1 | u32::from(exceptional), destination & !1 | u32::from(starts)];
        let at = self.position & POINTER;
        let size = 16_u32 << (self.master & master::MASK).min(27);
        let next = at & !(size - 1) | (at + 8) & (size - 1);
        let wrapped = if next < at { WRAPPED } else { self.position & WRAPPED };
        self.position = next | wrapped;
        if self.flow & STOPS_ITSELF != 0 && next == self.flow & POINTER {
            self.switch(self.master & !master::ON);
        }
        Some((at, words))
    }

    fn switch(&mut self, value: u32) {
        self.starts |= value & !self.master & master::ON != 0;
        self.master = value;
    }

    /// Reads a register at its offset; `base` is where the RAM lies.
    pub(crate) const fn register(&self, offset: u32, base: u32) -> u32 {
        match offset {
            0x000 => self.position,
            0x004 => self.master,
            0x008 => self.flow,
            0x00c => base,
            0x010 => self.inputs[0],
            0x014 => self.inputs[1],
            _ => 0,
        }
    }

    /// Writes a register at its offset.
    pub(crate) fn set_register(&mut self, offset: u32, value: u32) {
        match offset {
            0x000 => self.position = value & (POINTER | WRAPPED),
            0x004 => self.switch(value),
            0x008 => self.flow = value,
            0x010 => self.inputs[0] = value & 0xf,
            0x014 => self.inputs[1] = value & 0xf,
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wraps_inside_its_part_of_the_ram() {
        let mut mtb = Mtb::default();
        mtb.set_register(0x000, 0x1000);
        mtb.set_register(0x004, master::ON | 1);
        let places: Vec<_> = (0..5).map(|n| mtb.branch(n, 8, false).unwrap().0).collect();
        assert_eq!(places, [0x1000, 0x1008, 0x1010, 0x1018, 0x1000]);
        assert_eq!(mtb.register(0x000, 0), 0x1008 | WRAPPED);
    }

    #[test]
    fn the_first_packet_after_a_start_says_so() {
        let mut mtb = Mtb::default();
        assert!(mtb.branch(2, 4, false).is_none());
        mtb.set_register(0x004, master::ON | 4);
        assert_eq!(mtb.branch(0x10, 0x20, false), Some((0, [0x10, 0x21])));
        assert_eq!(mtb.branch(0x30, 0x40, true), Some((8, [0x31, 0x40])));
    }

    #[test]
    fn comparators_start_and_stop_it() {
        let mut mtb = Mtb::default();
        mtb.set_register(0x010, 0b01);
        mtb.set_register(0x014, 0b10);
        mtb.set_register(0x004, master::START_INPUT | master::STOP_INPUT | 4);
        assert!(mtb.listens() && mtb.branch(2, 4, false).is_none());
        mtb.matched(0b01);
        assert!(mtb.branch(2, 4, false).is_some());
        mtb.matched(0b10);
        assert!(mtb.branch(2, 4, false).is_none());
    }

    #[test]
    fn a_watermark_stops_it() {
        let mut mtb = Mtb::default();
        mtb.set_register(0x008, 0x10 | STOPS_ITSELF);
        mtb.set_register(0x004, master::ON | 4);
        assert_eq!((0..5).filter(|_| mtb.branch(2, 4, false).is_some()).count(), 2);
    }
}

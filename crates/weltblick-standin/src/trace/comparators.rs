//! The comparators of the DWT: `DWT_COMPn`, `DWT_MASKn`, `DWT_FUNCTIONn`, in the codes of Armv7-M (DDI 0403E,
//! table C1-14) and of Armv8-M (DDI 0553, `DWT_FUNCTIONn`).

/// How many are built in.
pub(super) const COUNT: usize = 4;

/// The codes of Armv7-M.
mod v7 {
    /// The accessing instruction.
    pub(super) const CODE: u32 = 0b0001;
    /// The value, or value and instruction, of any access.
    pub(super) const ANY: [u32; 2] = [0b0010, 0b0011];
    /// The value, or value and instruction, of reads.
    pub(super) const READ: [u32; 2] = [0b1100, 0b1110];
    /// The value, or value and instruction, of writes.
    pub(super) const WRITE: [u32; 2] = [0b1101, 0b1111];
    /// An instruction: other units see it.
    pub(super) const INSTRUCTION: u32 = 0b1000;
    /// The offset of the address too.
    pub(super) const EMIT_RANGE: u32 = 1 << 5;
}

/// The codes of Armv8-M: `MATCH`, and what follows from `ACTION`.
mod v8 {
    pub(super) const INSTRUCTION: u32 = 0b0010;
    /// The upper end of a range of instructions that the comparator before begins.
    pub(super) const INSTRUCTION_LIMIT: u32 = 0b0011;
    /// A data address; then one with its value. The low bits say which accesses: any, writes, reads.
    pub(super) const ADDRESS: u32 = 0b0100;
    pub(super) const ADDRESS_WITH_VALUE: u32 = 0b1100;
    pub(super) const SEND: u32 = 0b10;
    pub(super) const SEND_CODE: u32 = 0b11;
}

/// One of them.
#[derive(Debug, Clone, Copy, Default)]
struct Comparator {
    compare: u32,
    mask: u32,
    function: u32,
}

/// What an access makes a comparator send.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Sends {
    pub(super) code: bool,
    pub(super) address: bool,
    pub(super) value: bool,
}

/// All of them.
#[derive(Debug, Clone, Default)]
pub(super) struct Comparators {
    is_v8: bool,
    each: [Comparator; COUNT],
}

impl Comparator {
    const fn holds(&self, address: u32) -> bool {
        (address ^ self.compare) >> (self.mask & 0x1f) == 0
    }

    fn sends_v7(&self, address: u32, write: bool) -> Sends {
        let [value_only, with_code] = if write { v7::WRITE } else { v7::READ };
        let code = self.function & 0xf;
        if !self.holds(address) {
            return Sends::default();
        }
        let value = code == value_only || code == with_code || v7::ANY.contains(&code);
        Sends {
            code: code == v7::CODE || code == with_code || code == v7::ANY[1],
            address: value && self.function & v7::EMIT_RANGE != 0,
            value,
        }
    }

    /// The size of what is watched stands in the function register: a power of two, up to four bytes.
    fn sends_v8(&self, address: u32, write: bool) -> Sends {
        let size = self.function >> 10 & 0b11;
        let (kind, access) = (self.function & 0b1100, self.function & 0b11);
        let is_meant = access == 0 || access == if write { 1 } else { 2 };
        if (address ^ self.compare) >> size != 0 || !is_meant {
            return Sends::default();
        }
        let action = self.function >> 4 & 0b11;
        Sends {
            code: action == v8::SEND_CODE && matches!(kind, v8::ADDRESS | v8::ADDRESS_WITH_VALUE),
            address: false,
            value: action >= v8::SEND && kind == v8::ADDRESS_WITH_VALUE,
        }
    }
}

impl Comparators {
    pub(super) fn new(is_v8: bool) -> Self {
        Self { is_v8, ..Self::default() }
    }

    /// A register, by its offset from the first one's.
    pub(super) const fn read(&self, offset: u32) -> u32 {
        let comparator = &self.each[offset as usize / 16];
        match offset & 0xc {
            0x0 => comparator.compare,
            // Armv8-M has no masks.
            0x4 if !self.is_v8 => comparator.mask,
            0x8 => comparator.function,
            _ => 0,
        }
    }

    pub(super) const fn write(&mut self, offset: u32, value: u32) {
        let comparator = &mut self.each[offset as usize / 16];
        match offset & 0xc {
            0x0 => comparator.compare = value,
            0x4 if !self.is_v8 => comparator.mask = value,
            0x8 => comparator.function = value,
            _ => {}
        }
    }

    /// Which of them watch the instruction at `pc`, one bit each.
    pub(super) fn matching(&self, pc: u32) -> u32 {
        (0..COUNT).filter(|&n| self.watches_instruction(n, pc)).fold(0, |bits, n| bits | 1 << n)
    }

    fn watches_instruction(&self, number: usize, pc: u32) -> bool {
        let comparator = &self.each[number];
        let code = comparator.function & 0xf;
        if !self.is_v8 {
            return code == v7::INSTRUCTION && comparator.holds(pc);
        }
        let is_limit =
            |n: usize| self.each.get(n).is_some_and(|c| c.function & 0xf == v8::INSTRUCTION_LIMIT);
        match code {
            // With a limit behind it, it only begins the range.
            v8::INSTRUCTION => !is_limit(number + 1) && comparator.compare == pc,
            v8::INSTRUCTION_LIMIT => {
                number > 0 && (self.each[number - 1].compare..=comparator.compare).contains(&pc)
            }
            _ => false,
        }
    }

    /// Whether any watches data.
    pub(super) fn watch_data(&self) -> bool {
        self.each.iter().any(|comparator| {
            let code = comparator.function & 0xf;
            if self.is_v8 { code >= v8::ADDRESS } else { ![0, v7::INSTRUCTION].contains(&code) }
        })
    }

    /// What an access at `address` makes each of them send.
    pub(super) fn sends(&self, number: usize, address: u32, write: bool) -> Sends {
        let comparator = &self.each[number];
        if self.is_v8 {
            comparator.sends_v8(address, write)
        } else {
            comparator.sends_v7(address, write)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn v8(registers: &[[u32; 2]]) -> Comparators {
        let mut comparators = Comparators::new(true);
        for (number, [compare, function]) in (0..).zip(registers) {
            comparators.write(16 * number, *compare);
            comparators.write(16 * number + 4, 8);
            comparators.write(16 * number + 8, *function);
        }
        comparators
    }

    #[test]
    fn a_limit_speaks_for_a_range_of_instructions() {
        let found = v8(&[[0x100, 0b0010], [0x11e, 0b0011], [0x200, 0b0010]]);
        let matching = [0xfe, 0x100, 0x11e, 0x120, 0x200].map(|pc| found.matching(pc));
        assert_eq!(matching, [0, 0b10, 0b10, 0, 0b100]);
        assert!(!found.watch_data());
    }

    #[test]
    fn accesses_send_what_match_and_action_say() {
        // A word whose writes are sent with the instruction; a halfword of which reads are.
        let found = v8(&[
            [0x2000_0000, 2 << 10 | 0b11 << 4 | 0b1101],
            [0x40, 1 << 10 | 0b10 << 4 | 0b1110],
        ]);
        let sends = |number, address, write| {
            let Sends { code, address: _, value } = found.sends(number, address, write);
            (code, value)
        };
        assert_eq!(sends(0, 0x2000_0003, true), (true, true));
        assert_eq!(sends(0, 0x2000_0004, true), (false, false));
        assert_eq!(sends(0, 0x2000_0000, false), (false, false));
        assert_eq!(sends(1, 0x41, false), (false, true));
        assert!(found.watch_data() && found.read(4) == 0, "there are no masks");
    }
}

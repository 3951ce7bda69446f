//! Packets as bytes (IHI 0014, "Trace port protocol"): what an M-profile trace unit sends.

use super::atoms::{Atom, cycle_accurate, plain};

/// Bytes to come, and what they may leave out because it was sent before.
#[derive(Debug, Clone, Default)]
pub(super) struct Encoder {
    out: Vec<u8>,
    address: u32,
    timestamp: u64,
    /// Atoms that were not sent yet, the oldest first.
    atoms: Vec<Atom>,
    pub(super) cycle_accurate: bool,
    /// Branches have the original encoding.
    pub(super) original: bool,
}

/// What a branch packet says about an exception.
#[derive(Debug, Clone, Copy)]
pub(super) struct Taken {
    /// The exception number.
    pub(super) number: u16,
    /// The last atom did not happen.
    pub(super) cancels: bool,
}

impl Encoder {
    pub(super) fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.out)
    }

    pub(super) fn waiting(&self) -> usize {
        self.atoms.len()
    }

    /// Everything that was not sent is gone.
    pub(super) fn drop_all(&mut self) {
        self.out.clear();
        self.atoms.clear();
    }

    pub(super) fn atom(&mut self, cycles: u64, ran: bool) {
        self.atoms.push(Atom { cycles, ran });
    }

    /// Sends the atoms that wait.
    pub(super) fn flush(&mut self) {
        let mut atoms = std::mem::take(&mut self.atoms);
        let mut rest = atoms.as_mut_slice();
        while !rest.is_empty() {
            let (header, used) =
                if self.cycle_accurate { cycle_accurate(rest) } else { plain(rest) };
            self.out.push(header);
            rest = &mut rest[used..];
        }
    }

    fn raw(&mut self, bytes: &[u8]) {
        self.flush();
        self.out.extend_from_slice(bytes);
    }

    pub(super) fn alignment(&mut self) {
        self.raw(&[0, 0, 0, 0, 0, 0x80]);
    }

    /// I-sync; reason 0: periodic, 1: trace on, 2: overflow, 3: the core left debug state.
    pub(super) fn start(&mut self, reason: u8, address: u32) {
        self.raw(&[0x08, 1 | reason << 5]);
        self.out.extend((address | 1).to_le_bytes());
        self.address = address;
    }

    /// Cycles without an instruction.
    pub(super) fn idle(&mut self, mut cycles: u64) {
        self.flush();
        while cycles > 0 {
            let now = cycles.min(8);
            self.out.push(super::atoms::idle(now));
            cycles -= now;
        }
    }

    pub(super) fn cycle_count(&mut self, cycles: u64) {
        self.raw(&[0x04]);
        let mut rest = cycles;
        while rest > 0x7f {
            self.out.push(rest as u8 | 0x80);
            rest >>= 7;
        }
        self.out.push(rest as u8);
    }

    pub(super) fn exception_return(&mut self) {
        self.raw(&[0x76]);
    }

    /// A timestamp of 48 bits: the low ones up to the highest that changed, seven a byte.
    pub(super) fn timestamp(&mut self, value: u64) {
        self.raw(&[0x42]);
        let value = value & 0xffff_ffff_ffff;
        let mut changed = value ^ self.timestamp;
        let mut rest = value;
        for place in 0..7 {
            changed >>= 7;
            let goes_on = changed != 0 && place < 6;
            self.out.push(rest as u8 & 0x7f | u8::from(goes_on) << 7);
            rest >>= 7;
            if !goes_on {
                break;
            }
        }
        self.timestamp = value;
    }

    /// A branch packet: the low bits of a Thumb address up to the highest that changed.
    pub(super) fn branch(&mut self, address: u32, taken: Option<Taken>) {
        self.flush();
        let halves = address >> 1;
        let changed = 32 - (halves ^ self.address >> 1).leading_zeros();
        let most: [u32; 4] = if self.original { [6, 13, 20, 27] } else { [6, 12, 19, 26] };
        let fits = most.iter().position(|&bits| changed <= bits).unwrap_or(4);
        let length = match taken {
            None => fits,
            Some(_) if self.original => 4,
            // The bit that announces it is in the second byte at the earliest.
            Some(_) => fits.max(1),
        };
        self.out.push(1 | (halves as u8 & 0x3f) << 1 | u8::from(length > 0) << 7);
        let mut rest = halves >> 6;
        for place in 1..=length {
            let last = place == length;
            self.out.push(match (place, last) {
                (4, _) => 0x10 | rest as u8 & 0xf,
                (_, true) if self.original => rest as u8 & 0x7f,
                (_, true) => rest as u8 & 0x3f,
                (_, false) => 0x80 | rest as u8 & 0x7f,
            });
            rest >>= 7;
        }
        self.address = address;
        if let Some(taken) = taken {
            let announced = if self.original { 0xc0 } else { 0x40 };
            if let Some(last) = self.out.last_mut() {
                *last |= announced;
            }
            self.exception(taken);
        }
    }

    fn exception(&mut self, taken: Taken) {
        let kind = exception_type(taken.number);
        let first = (kind as u8 & 0xf) << 1 | u8::from(taken.cancels) << 5;
        if kind > 0xf {
            self.out.extend([first | 0x80, (kind >> 4) as u8]);
        } else {
            self.out.push(first);
        }
    }
}

/// The type of an M-profile core's exception number: the first eight interrupts have types among those
/// of system exceptions.
const fn exception_type(number: u16) -> u16 {
    match number {
        16 => 8,
        17..=23 => number - 16,
        1 => 17,
        2 => 10,
        3 => 19,
        4 => 13,
        5 => 21,
        6 => 9,
        other => other,
    }
}

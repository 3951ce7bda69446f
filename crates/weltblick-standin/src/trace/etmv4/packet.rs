//! Packets as bytes (IHI 0064, "Descriptions of trace packets"): what an M-profile trace unit sends.

/// Bytes to come, and what they may leave out because it was sent before.
#[derive(Debug, Clone, Default)]
pub(super) struct Encoder {
    out: Vec<u8>,
    /// The newest address, and the two before it.
    sent: [u32; 3],
    timestamp: u64,
    /// Atoms that were not sent yet, the oldest first.
    atoms: Vec<bool>,
}

impl Encoder {
    /// Takes the bytes so far.
    pub(super) fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.out)
    }

    /// How many atoms wait.
    pub(super) fn waiting(&self) -> usize {
        self.atoms.len()
    }

    /// Everything that was not sent is gone.
    pub(super) fn drop_all(&mut self) {
        self.out.clear();
        self.atoms.clear();
    }

    pub(super) fn atom(&mut self, taken: bool) {
        self.atoms.push(taken);
    }

    /// Sends the atoms that wait.
    pub(super) fn flush(&mut self) {
        let mut rest = self.atoms.as_slice();
        while !rest.is_empty() {
            let (header, used) = super::atoms::pack(rest);
            self.out.push(header);
            rest = &rest[used..];
        }
        self.atoms.clear();
    }

    fn raw(&mut self, bytes: &[u8]) {
        self.flush();
        self.out.extend_from_slice(bytes);
    }

    /// Seven bits a byte, and whether more follow.
    fn continued(&mut self, mut value: u64) {
        while value > 0x7f {
            self.out.push(value as u8 | 0x80);
            value >>= 7;
        }
        self.out.push(value as u8);
    }

    pub(super) fn alignment(&mut self) {
        self.raw(&[0; 11]);
        self.out.push(0x80);
    }

    pub(super) fn overflow(&mut self) {
        self.raw(&[0x00, 0x05]);
    }

    /// Trace info: whatever is said from here on does not refer to what was said before.
    pub(super) fn trace_info(&mut self, cycle_counts: bool, threshold: u32) {
        self.raw(&[0x01]);
        if cycle_counts {
            // An INFO and a CYCT section.
            self.out.extend([0b1001, 0b1]);
            self.continued(u64::from(threshold));
        } else {
            self.out.push(0);
        }
        self.sent = [0; 3];
        self.timestamp = 0;
    }

    pub(super) fn trace_on(&mut self) {
        self.raw(&[0x04]);
    }

    /// A timestamp: the low bits up to the highest one that changed.
    pub(super) fn timestamp(&mut self, value: u64) {
        self.raw(&[0x02]);
        let changed = 64 - (value ^ self.timestamp).leading_zeros();
        // Seven bits a byte; the ninth has eight.
        let bytes = changed.max(1).div_ceil(7).min(9);
        for place in 0..bytes {
            let bits = (value >> (7 * place)) as u8;
            let last = place + 1 == bytes;
            self.out.push(match (place, last) {
                (8, _) => bits,
                (_, true) => bits & 0x7f,
                (_, false) => bits | 0x80,
            });
        }
        self.timestamp = value;
    }

    /// An exception: its type, and whether anything ran since the last branch.
    pub(super) fn exception(&mut self, kind: u16, at_target: bool) {
        let shape = if at_target { 1 << 6 } else { 1 };
        let first = shape | (kind as u8 & 0x1f) << 1;
        self.raw(&[0x06]);
        if kind > 0x1f {
            self.out.extend([first | 0x80, (kind >> 5) as u8]);
        } else {
            self.out.push(first);
        }
    }

    pub(super) fn exception_return(&mut self) {
        self.raw(&[0x07]);
    }

    /// A T32 address in its shortest form.
    pub(super) fn address(&mut self, address: u32) {
        let address = address & !1;
        let newest = self.sent[0];
        if let Some(entry) = self.sent.iter().position(|&sent| sent == address && sent != 0) {
            self.raw(&[0x90 + entry as u8]);
        } else if newest >> 8 == address >> 8 {
            self.raw(&[0x96, (address >> 1) as u8 & 0x7f]);
        } else if newest >> 16 == address >> 16 {
            self.raw(&[0x96, (address >> 1) as u8 | 0x80, (address >> 8) as u8]);
        } else {
            self.raw(&[0x9b]);
            self.long(address);
        }
        self.note(address);
    }

    /// A T32 address with a context: secure or not, handlers at level 1, no IDs.
    pub(super) fn address_with_context(&mut self, address: u32) {
        self.raw(&[0x83]);
        self.long(address);
        self.out.push(0x01);
        self.note(address & !1);
    }

    fn long(&mut self, address: u32) {
        let [low, second, third, high] = address.to_le_bytes();
        self.out.extend([low >> 1, second, third, high]);
    }

    fn note(&mut self, address: u32) {
        let [first, second, _] = self.sent;
        self.sent = [address, first, second];
    }

    /// Cycles since the count before, which are no fewer than the threshold.
    pub(super) fn cycle_count(&mut self, cycles: u64, threshold: u32) {
        let more = cycles - u64::from(threshold);
        match more {
            0..=3 => self.raw(&[0x10 | more as u8]),
            4..=15 => self.raw(&[0x0c, more as u8]),
            16..=0xf_ffff => {
                self.raw(&[0x0e]);
                self.continued(more);
            }
            // The counter wrapped: nobody knows.
            _ => self.raw(&[0x0f]),
        }
    }
}

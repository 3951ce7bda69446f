//! An embedded trace buffer: RAM that takes formatter frames instead of the port (CoreSight ETB,
//! programmers' model). Pointers and depth count words.

use super::tpiu::Formatter;

/// Words of RAM.
const DEPTH: usize = 1024;

/// The buffer.
#[derive(Debug, Clone)]
pub(super) struct Etb {
    ram: Vec<u32>,
    /// Bytes that do not fill a word yet.
    partial: Vec<u8>,
    read: usize,
    write: usize,
    /// It has wrapped since capture began.
    full: bool,
    on: bool,
    formatter: Formatter,
    formatter_control: u32,
}

impl Default for Etb {
    fn default() -> Self {
        Self {
            ram: vec![0; DEPTH],
            partial: Vec::new(),
            read: 0,
            write: 0,
            full: false,
            on: false,
            formatter: Formatter::new(),
            formatter_control: 0,
        }
    }
}

impl Etb {
    /// Whether it takes trace.
    #[must_use]
    pub(super) const fn is_on(&self) -> bool {
        self.on
    }

    /// Takes bytes of source `id`.
    pub(super) fn take(&mut self, id: u8, bytes: &[u8]) {
        self.formatter.write(id, bytes);
        let frames = self.formatter.take();
        self.store(&frames);
    }

    fn store(&mut self, frames: &[u8]) {
        self.partial.extend_from_slice(frames);
        let words = self.partial.len() / 4;
        for word in self.partial[..4 * words].chunks_exact(4) {
            self.ram[self.write] = u32::from_le_bytes([word[0], word[1], word[2], word[3]]);
            self.write = (self.write + 1) % DEPTH;
            self.full |= self.write == 0;
        }
        self.partial.drain(..4 * words);
    }

    /// Reads a register at its offset.
    pub(super) fn register(&mut self, offset: u32) -> u32 {
        match offset {
            0x004 => DEPTH as u32,
            // Full, and the formatter is empty.
            0x00c => u32::from(self.full) | u32::from(!self.on) << 3,
            0x010 => {
                let word = self.ram[self.read];
                self.read = (self.read + 1) % DEPTH;
                word
            }
            0x014 => self.read as u32,
            0x018 => self.write as u32,
            0x020 => u32::from(self.on),
            // The formatter has stopped.
            0x300 => u32::from(!self.on) << 1,
            0x304 => self.formatter_control,
            _ => 0,
        }
    }

    /// Writes a register at its offset.
    pub(super) fn set_register(&mut self, offset: u32, value: u32) {
        match offset {
            0x014 => self.read = value as usize % DEPTH,
            0x018 => self.write = value as usize % DEPTH,
            0x020 => self.switch(value & 1 == 1),
            // A manual flush is done at once.
            0x304 => self.formatter_control = value & !(1 << 6),
            _ => {}
        }
    }

    fn switch(&mut self, on: bool) {
        if on && !self.on {
            self.full = false;
            self.formatter = Formatter::new();
            self.partial.clear();
        }
        if !on && self.on {
            self.formatter.complete();
            let rest = self.formatter.take();
            self.store(&rest);
        }
        self.on = on;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keeps_the_newest_frames() {
        let mut etb = Etb::default();
        etb.set_register(0x020, 1);
        etb.take(1, &[0xaa; 100]);
        etb.set_register(0x020, 0);
        assert_eq!((etb.register(0x00c) & 1, etb.register(0x018) % 4), (0, 0));
        let words = etb.register(0x018);
        etb.set_register(0x014, 0);
        // The first byte of the first frame names source 1.
        assert_eq!(etb.register(0x010) & 0xff, 0x03);
        assert!((26..32).contains(&words), "{words}");
        etb.set_register(0x020, 1);
        etb.take(1, &[0xbb; 8000]);
        etb.set_register(0x020, 0);
        assert_eq!(etb.register(0x00c) & 1, 1);
    }
}

//! The classic mistakes, made on purpose.

use std::str::FromStr;

/// What goes wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// Bytes go missing on the way, a few at a time.
    Drop,
    /// Bits flip on the way.
    Corrupt,
    /// The receiver stops listening again and again, and the target's buffer overflows.
    Stall,
    /// The connection breaks, and can be made again.
    Disconnect,
    /// The target runs on another clock than the registers were computed for.
    Clock,
    /// The trace arrives only after the target has run for a while, from inside a packet.
    Late,
}

impl Fault {
    /// Every fault and its name.
    pub const ALL: [(Self, &'static str); 6] = [
        (Self::Drop, "drop"),
        (Self::Corrupt, "corrupt"),
        (Self::Stall, "stall"),
        (Self::Disconnect, "disconnect"),
        (Self::Clock, "clock"),
        (Self::Late, "late"),
    ];
}

impl FromStr for Fault {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let known = Self::ALL.iter().find(|(_, name)| *name == text).map(|&(fault, _)| fault);
        known.ok_or_else(|| {
            let names: Vec<&str> = Self::ALL.iter().map(|&(_, name)| name).collect();
            format!("`{text}` is no fault; there are {}", names.join(", "))
        })
    }
}

/// One byte in so many is hit.
const RARITY: u32 = 20_000;
/// A late trace starts after so many bytes: inside a packet of the usual five.
const LATE_BYTES: usize = 30_003;

/// Damages bytes on their way.
#[derive(Debug)]
pub(super) struct Wire {
    fault: Option<Fault>,
    noise: u64,
    seen: usize,
}

impl Wire {
    pub(super) const fn new(fault: Option<Fault>) -> Self {
        Self { fault, noise: 0x2545_f491_4f6c_dd1d, seen: 0 }
    }

    fn next(&mut self) -> u32 {
        self.noise = self
            .noise
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.noise >> 33) as u32
    }

    /// What arrives of `bytes`.
    pub(super) fn carry(&mut self, bytes: Vec<u8>) -> Vec<u8> {
        let before = self.seen;
        self.seen += bytes.len();
        match self.fault {
            Some(Fault::Drop) => self.drop(&bytes),
            Some(Fault::Corrupt) => self.corrupt(bytes),
            Some(Fault::Late) if before < LATE_BYTES => {
                bytes[(LATE_BYTES - before).min(bytes.len())..].to_vec()
            }
            _ => bytes,
        }
    }

    fn drop(&mut self, bytes: &[u8]) -> Vec<u8> {
        let mut kept = Vec::with_capacity(bytes.len());
        let mut gone = 0;
        for &byte in bytes {
            if gone == 0 && self.next().is_multiple_of(RARITY) {
                gone = 1 + self.next() % 12;
            }
            if gone == 0 {
                kept.push(byte);
            } else {
                gone -= 1;
            }
        }
        kept
    }

    fn corrupt(&mut self, mut bytes: Vec<u8>) -> Vec<u8> {
        for byte in &mut bytes {
            if self.next().is_multiple_of(RARITY) {
                *byte ^= 1 << (self.next() % 8);
            }
        }
        bytes
    }
}

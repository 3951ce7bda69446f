//! What packets leave behind for those after them: the page of stimulus ports, the bits of global timestamps.

use super::Packet;

/// Bits of a global timestamp's low packet, at most (DDI 0403E, D4.2.5).
const LOW_BITS: u8 = 26;

/// What later packets of a stream mean by those before them.
#[derive(Debug, Clone, Default)]
pub struct Carried {
    page: u32,
    global: Option<u64>,
}

impl Carried {
    /// Takes what a packet leaves behind. A page stays, also across synchronisations.
    #[inline]
    pub fn take(&mut self, packet: &Packet) {
        match *packet {
            Packet::Extension { hardware: false, value } => self.page = value,
            Packet::GlobalTimeLow { bits, width, .. } => {
                let mask = (1_u64 << width) - 1;
                let known = self.global.map(|global| global & !mask | u64::from(bits) & mask);
                // Nothing to complete yet: only a low packet of full width stands alone.
                self.global = known.or((width == LOW_BITS).then_some(u64::from(bits)));
            }
            Packet::GlobalTimeHigh { bits, .. } => {
                let low = self.global.unwrap_or(0) & ((1 << LOW_BITS) - 1);
                self.global = Some(bits << LOW_BITS | low);
            }
            _ => {}
        }
    }

    /// The number of a stimulus port, its page included.
    #[inline]
    #[must_use]
    pub const fn port(&self, port: u8) -> u32 {
        self.page.saturating_mul(32).saturating_add(port as u32)
    }

    /// The last global timestamp, as far as it was sent.
    #[must_use]
    pub const fn global(&self) -> Option<u64> {
        self.global
    }
}

//! What packets leave out because it was said before.

use super::packet::{Address, Context, InstructionSet, TraceInfo};

/// The state that packets are differences from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct History {
    /// The last three addresses, the newest first.
    addresses: [(u64, InstructionSet); 3],
    pub(super) context: Context,
    pub(super) timestamp: u64,
    /// The threshold of cycle counts.
    pub(super) threshold: u32,
}

impl History {
    /// A trace info packet: everything starts anew.
    pub(super) fn begin(&mut self, info: &TraceInfo) {
        *self = Self { threshold: info.threshold, ..Self::default() };
    }

    /// The newest address.
    pub(super) const fn newest(&self) -> u64 {
        self.addresses[0].0
    }

    /// One of the last three.
    pub(super) const fn address(&self, entry: u8) -> (u64, InstructionSet) {
        self.addresses[entry as usize]
    }

    /// Notes an address, and its context.
    pub(super) fn note(&mut self, address: &Address) {
        let [first, second, _] = self.addresses;
        self.addresses = [(address.value, address.set), first, second];
        if let Some(context) = address.context {
            self.context = context;
        }
    }
}

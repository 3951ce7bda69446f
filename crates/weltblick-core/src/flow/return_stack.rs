//! The return stack (IHI 0064, "Return stack"): where calls will return to, so that the trace unit
//! need not say.

/// Entries that are kept. Trace units have fewer: what they forget first they never refer to.
const DEPTH: usize = 16;

/// A ring of return addresses.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct ReturnStack {
    entries: [u64; DEPTH],
    /// Where the next entry goes.
    top: usize,
    filled: usize,
}

impl ReturnStack {
    #[inline(always)]
    pub(super) fn push(&mut self, address: u64) {
        self.entries[self.top % DEPTH] = address;
        self.top = (self.top + 1) % DEPTH;
        self.filled = (self.filled + 1).min(DEPTH);
    }

    pub(super) fn peek(&self) -> Option<u64> {
        (self.filled > 0).then(|| self.entries[(self.top + DEPTH - 1) % DEPTH])
    }

    pub(super) fn pop(&mut self) -> Option<u64> {
        let address = self.peek()?;
        self.top = (self.top + DEPTH - 1) % DEPTH;
        self.filled -= 1;
        Some(address)
    }

    pub(super) fn clear(&mut self) {
        self.filled = 0;
    }
}

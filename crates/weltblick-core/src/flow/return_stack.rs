//! The return stack (IHI 0064, "Return stack"): where calls will return to, so that the trace unit
//! need not say.

/// Entries that are kept. Trace units have fewer: what they forget first they never refer to.
const DEPTH: usize = 16;
/// Handlers on top of each other that are told apart.
const NESTED: usize = 16;
/// Every entry belongs to what runs, as far as anybody knows.
const ALL: u32 = u32::MAX;

/// A ring of return addresses.
#[derive(Debug, Clone, Copy)]
pub(super) struct ReturnStack {
    entries: [u64; DEPTH],
    /// Where the next entry goes.
    top: usize,
    filled: usize,
    since: Since,
    /// How many of the newest entries were pushed by the handler that runs: it returns to no others.
    own: u32,
    /// The same of what it interrupted, the outermost first.
    below: [u32; NESTED],
    handlers: usize,
}

impl Default for ReturnStack {
    fn default() -> Self {
        Self {
            entries: [0; DEPTH],
            top: 0,
            filled: 0,
            since: Since::default(),
            own: ALL,
            below: [0; NESTED],
            handlers: 0,
        }
    }
}

/// What happened since a piece of the recording began that is read beside others: see
/// [`ReturnStack::mark`].
#[derive(Debug, Clone, Copy, Default)]
struct Since {
    /// More was asked for than there was.
    missed: bool,
    /// It was emptied: nothing was known any more.
    emptied: bool,
    /// The most entries.
    deepest: usize,
}

impl ReturnStack {
    #[inline(always)]
    pub(super) fn push(&mut self, address: u64) {
        self.entries[self.top % DEPTH] = address;
        self.top = (self.top + 1) % DEPTH;
        self.filled = (self.filled + 1).min(DEPTH);
        self.since.deepest = self.since.deepest.max(self.filled);
        self.own = self.own.saturating_add(1);
    }

    /// A handler begins.
    pub(super) fn enter(&mut self) {
        if self.handlers == NESTED {
            return self.forget_handlers();
        }
        self.below[self.handlers] = self.own;
        self.handlers += 1;
        self.own = 0;
    }

    /// The handler that runs ends.
    pub(super) fn leave(&mut self) {
        match self.handlers.checked_sub(1) {
            Some(handlers) => (self.handlers, self.own) = (handlers, self.below[handlers]),
            None => self.own = ALL,
        }
    }

    /// Whether the newest entry was pushed by what runs.
    pub(super) const fn is_own(&self) -> bool {
        self.own > 0
    }

    pub(super) fn peek(&mut self) -> Option<u64> {
        self.since.missed |= self.filled == 0 && !self.since.emptied;
        (self.filled > 0).then(|| self.entries[(self.top + DEPTH - 1) % DEPTH])
    }

    pub(super) fn pop(&mut self) -> Option<u64> {
        let address = self.peek()?;
        self.top = (self.top + DEPTH - 1) % DEPTH;
        self.filled -= 1;
        if self.own != ALL {
            self.own = self.own.saturating_sub(1);
        }
        Some(address)
    }

    pub(super) fn clear(&mut self) {
        self.filled = 0;
        self.since.emptied = true;
        self.forget_handlers();
    }

    const fn forget_handlers(&mut self) {
        (self.handlers, self.own) = (0, ALL);
    }

    /// Whose entries these are: how many of each handler, the outermost first.
    pub(super) fn owners(&self) -> Vec<u32> {
        self.below[..self.handlers].iter().copied().chain([self.own]).collect()
    }

    /// A piece begins: entries that were pushed before reading began are not known.
    pub(super) fn mark(&mut self) {
        self.since = Since { deepest: self.filled, ..Since::default() };
    }

    /// The entries, the oldest first.
    pub(super) fn entries(&self) -> Vec<u64> {
        let oldest = self.top + DEPTH - self.filled;
        (0..self.filled).map(|place| self.entries[(oldest + place) % DEPTH]).collect()
    }

    /// Entries that are older than those at the mark, now that they are known; the oldest first. Whether
    /// what was read since is the same with them.
    pub(super) fn put_below(&mut self, older: &[u64]) -> bool {
        let Since { missed, emptied, deepest } = self.since;
        // Who asked for what was not there lost his way, and emptied it.
        let same = !missed || older.is_empty();
        if emptied || !same {
            return same;
        }
        // What the ring would have overwritten.
        let gone = (older.len() + deepest).saturating_sub(DEPTH);
        let all: Vec<u64> = older.iter().skip(gone).copied().chain(self.entries()).collect();
        let own = self.own;
        (self.top, self.filled) = (0, 0);
        all.iter().for_each(|&address| self.push(address));
        self.own = own;
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn handlers_own_what_they_pushed() {
        let mut stack = ReturnStack::default();
        stack.push(0x100);
        stack.enter();
        assert!(!stack.is_own());
        stack.push(0x200);
        assert!(stack.is_own());
        assert_eq!(stack.pop(), Some(0x200));
        assert!(!stack.is_own());
        stack.leave();
        assert!(stack.is_own());
        assert_eq!(stack.peek(), Some(0x100));
        // Deeper than anybody nests, nobody knows.
        (0..=NESTED).for_each(|_| stack.enter());
        assert!(stack.is_own());
    }

    #[derive(Debug, Clone, Copy)]
    enum Do {
        Push(u64),
        Pop,
        Peek,
        Clear,
    }

    fn act(stack: &mut ReturnStack, action: Do) -> Option<u64> {
        match action {
            Do::Push(address) => {
                stack.push(address);
                None
            }
            Do::Pop => stack.pop(),
            Do::Peek => stack.peek(),
            Do::Clear => {
                stack.clear();
                None
            }
        }
    }

    fn action() -> impl Strategy<Value = Do> {
        prop_oneof![
            20 => (0_u64..1000).prop_map(Do::Push),
            18 => Just(Do::Pop),
            2 => Just(Do::Peek),
            1 => Just(Do::Clear),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        /// Who knew only the newest entries when a piece began says the same as who knew all, or says that
        /// it does not; and knows all in the end.
        #[test]
        fn what_a_piece_did_not_know_changes_nothing_or_is_told(
            before in prop::collection::vec(action(), 0..60),
            piece in prop::collection::vec(action(), 0..60),
            known in 0_usize..=DEPTH,
        ) {
            let mut all = ReturnStack::default();
            before.into_iter().for_each(|action| { act(&mut all, action); });
            let entries = all.entries();
            let (older, newer) = entries.split_at(entries.len().saturating_sub(known));
            let mut part = ReturnStack::default();
            newer.iter().for_each(|&address| part.push(address));
            part.mark();
            let mut agrees = true;
            for action in piece {
                agrees &= act(&mut all, action) == act(&mut part, action);
            }
            let same = part.put_below(older);
            prop_assert!(agrees || !same);
            if same {
                prop_assert_eq!(part.entries(), all.entries());
            }
        }
    }
}

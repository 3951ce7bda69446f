//! Counting a long instruction trace in pieces, beside each other on several cores.
//!
//! Whoever counts a piece begins to read shortly before it, and so knows at its beginning what there is to
//! know: at a synchronisation everything is said anew. That is compared, not believed: two pieces are joined
//! only if the second began exactly as the reader of the first ends. So the result is what one reader of all
//! would count. Only the return stack is not said again. What a reader cannot know of it are entries that are
//! older than what it read; if it asked for one of them, its piece is not joined either.

use super::counts::{BlockCounts, Tally};
use crate::capture::{FlowLine, State};

/// One piece of a recording.
#[derive(Debug)]
pub struct FlowPiece<'a> {
    line: FlowLine<'a>,
    counts: BlockCounts,
    begin: Option<Begin>,
}

/// How things stood where a piece begins.
#[derive(Debug)]
struct Begin {
    state: Option<State>,
    /// What is known of the return stack, the oldest first.
    stack: Vec<u64>,
}

impl<'a> FlowPiece<'a> {
    /// Nothing was read yet.
    #[must_use]
    pub fn new(line: FlowLine<'a>) -> Self {
        Self { line, counts: BlockCounts::default(), begin: None }
    }

    /// Whether such a line can be read in pieces.
    #[must_use]
    pub fn is_possible(line: &FlowLine<'_>) -> bool {
        line.state().is_some()
    }

    /// Bytes before the piece: nothing in them counts.
    pub fn run_in(&mut self, bytes: &[u8]) {
        self.line.push_into(bytes, &mut ());
    }

    /// The piece begins here.
    pub fn begin(&mut self) {
        let stack = self.line.begin_piece();
        self.begin = Some(Begin { state: self.line.state(), stack });
    }

    /// The next bytes of the piece.
    pub fn push(&mut self, bytes: &[u8]) {
        self.line.push_into(bytes, &mut self.counts);
    }

    /// Joins this piece, which is read, to the one before it, which is joined to all before. `false` if it
    /// does not go on from there: then the one before must read these bytes, too.
    #[must_use]
    pub fn join(&mut self, before: &mut Self) -> bool {
        let Some(Begin { state: Some(state), stack }) = &self.begin else { return false };
        let whole = before.line.return_stack();
        if before.line.state().as_ref() != Some(state) || !whole.ends_with(stack) {
            return false;
        }
        let older = &whole[..whole.len() - stack.len()];
        self.line.etmv4_mut().is_none_or(|flow| flow.put_below(older))
            && self.line.flush_for(&mut before.line, &mut before.counts)
    }

    /// What it counted, by address.
    #[must_use]
    pub fn into_tally(self) -> Tally {
        self.counts.into_tally(self.line.code())
    }

    /// The same for the last piece, with which the recording ends.
    #[must_use]
    pub fn finish(self) -> Tally {
        let Self { line, mut counts, .. } = self;
        let code = line.finish(&mut counts);
        counts.into_tally(&code)
    }
}

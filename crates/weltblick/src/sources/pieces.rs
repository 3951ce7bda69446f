//! Counting what ran of a long instruction trace, on as many cores as there are.

use super::Capture;
use super::read::{Files, Progress};
use anyhow::{Context as _, Result, anyhow};
use std::ops::{ControlFlow, Range};
use std::thread;
use weltblick_core::capture::{Anchor, FlowLine};
use weltblick_core::measure::execution::{BlockCounts, FlowPiece, Tally};

/// Bytes of a piece, and how many before it are read to know how things stand there.
const PIECE: u64 = 16 << 20;
const RUN_IN: u64 = 256 << 10;
/// After so many pieces in a row that could not be joined, one reader reads on: it will be so again.
const MOST_IN_VAIN: usize = 4;

/// Shorter recordings are read before another thread would have begun to be of use.
const WORTH_SHARING: u64 = 4 << 20;

fn cores() -> usize {
    thread::available_parallelism().map_or(1, usize::from)
}

impl Capture {
    /// How often every instruction ran. The same whether one core counts or several.
    pub(crate) fn count_flow(&self) -> Result<Tally> {
        if let Some(files) = self.long_flow().filter(|_| cores() > 1) {
            return self.count_pieces(&files, cores());
        }
        let mut counts = BlockCounts::default();
        let code = self.replay_flow_into(&[], &mut counts)?;
        Ok(counts.into_tally(&code))
    }

    /// Whether there are two cores, and an instruction trace that is long enough to share it out between them.
    pub(crate) fn is_worth_two_cores(&self) -> bool {
        let Some((stream, _)) = self.manifest.flow() else { return false };
        let files = Files::of(self.inputs_of(stream));
        cores() > 1 && files.is_some_and(|files| files.length >= WORTH_SHARING)
    }

    /// The files of an instruction trace that is worth counting in pieces.
    fn long_flow(&self) -> Option<Files> {
        let (stream, _) = self.manifest.flow()?;
        let files = Files::of(self.inputs_of(stream)).filter(|files| files.length >= 2 * PIECE)?;
        let possible =
            self.gaps_of(stream).is_empty() && FlowPiece::is_possible(&self.flow_line(0)?);
        possible.then_some(files)
    }

    /// A line from byte `offset` of the instruction trace on.
    fn flow_line(&self, offset: u64) -> Option<FlowLine<'_>> {
        let (stream, source) = self.manifest.flow()?;
        let (spec, image) = (&self.manifest.streams[stream], self.image().ok()?);
        if offset == 0 {
            return FlowLine::new(spec, source, image);
        }
        FlowLine::starting_at(spec, source, image, Anchor::at(offset))
    }

    fn count_pieces(&self, files: &Files, cores: usize) -> Result<Tally> {
        let length = files.length;
        let mut tally = Tally::default();
        let mut before: Option<FlowPiece<'_>> = None;
        let mut progress = Progress::new(Some(length));
        let ranges: Vec<Range<u64>> = (0..length.div_ceil(PIECE))
            .map(|number| number * PIECE..((number + 1) * PIECE).min(length))
            .collect();
        let mut in_vain = 0;
        for wave in ranges.chunks(cores) {
            if let (Some(before), true) = (&mut before, in_vain >= MOST_IN_VAIN) {
                for range in wave {
                    read(files, range, |bytes| before.push(bytes))?;
                    progress.add(range.end - range.start);
                }
                continue;
            }
            let counted = thread::scope(|scope| {
                let threads: Vec<_> = wave
                    .iter()
                    .map(|range| scope.spawn(move || self.count_piece(files, range)))
                    .collect();
                threads
                    .into_iter()
                    .map(|thread| thread.join().map_err(|_| anyhow!("a reader stopped"))?)
                    .collect::<Result<Vec<_>>>()
            })?;
            for (range, mut piece) in wave.iter().zip(counted) {
                before = Some(match before.take() {
                    None => piece,
                    Some(mut before) => {
                        if piece.join(&mut before) {
                            tally.merge(before.into_tally());
                            in_vain = 0;
                            piece
                        } else {
                            read(files, range, |bytes| before.push(bytes))?;
                            in_vain += 1;
                            before
                        }
                    }
                });
                progress.add(range.end - range.start);
            }
        }
        progress.finish();
        if let Some(last) = before {
            tally.merge(last.finish());
        }
        Ok(tally)
    }

    fn count_piece(&self, files: &Files, range: &Range<u64>) -> Result<FlowPiece<'_>> {
        let start = range.start.saturating_sub(RUN_IN);
        let line = self.flow_line(start).context("the instruction trace cannot be read")?;
        let mut piece = FlowPiece::new(line);
        read(files, &(start..range.start), |bytes| piece.run_in(bytes))?;
        piece.begin();
        read(files, range, |bytes| piece.push(bytes))?;
        Ok(piece)
    }
}

/// Hands all bytes of a part to `take`.
fn read(files: &Files, part: &Range<u64>, mut take: impl FnMut(&[u8])) -> Result<()> {
    files.read(part.clone(), |bytes| {
        take(bytes);
        ControlFlow::Continue(())
    })
}

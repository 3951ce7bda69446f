//! Counting what ran of a long instruction trace, on as many cores as there are.

use super::Capture;
use super::read::Input;
use anyhow::{Context as _, Result, anyhow};
use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom};
use std::ops::Range;
use std::path::Path;
use std::thread;
use weltblick_core::capture::FlowLine;
use weltblick_core::measure::execution::{BlockCounts, FlowPiece, Tally};

/// Bytes of a piece, and how many before it are read to know how things stand there.
const PIECE: u64 = 16 << 20;
const RUN_IN: u64 = 256 << 10;
/// Bytes that are read at once.
const CHUNK: usize = 1 << 18;

impl Capture {
    /// How often every instruction ran. The same whether one core counts or several.
    pub(crate) fn count_flow(&self) -> Result<Tally> {
        let cores = thread::available_parallelism().map_or(1, usize::from);
        if let Some((path, length)) = self.long_flow().filter(|_| cores > 1) {
            return self.count_pieces(&path, length, cores);
        }
        let mut counts = BlockCounts::default();
        let code = self.replay_flow(&mut counts)?;
        Ok(counts.into_tally(&code))
    }

    /// The file of an instruction trace that is worth more than one core.
    fn long_flow(&self) -> Option<(std::path::PathBuf, u64)> {
        let (stream, _) = self.manifest.flow()?;
        let ([Input::File(path)], []) = (self.inputs_of(stream), self.gaps_of(stream)) else {
            return None;
        };
        let length = std::fs::metadata(path).ok()?.len();
        let possible = FlowPiece::is_possible(&self.flow_line(0)?);
        (possible && length >= 2 * PIECE).then(|| (path.clone(), length))
    }

    /// A line from byte `offset` of the instruction trace on.
    fn flow_line(&self, offset: u64) -> Option<FlowLine<'_>> {
        let (stream, source) = self.manifest.flow()?;
        let (spec, image) = (&self.manifest.streams[stream], self.image().ok()?);
        if offset == 0 {
            return FlowLine::new(spec, source, image);
        }
        FlowLine::starting_at(spec, source, image, offset)
    }

    fn count_pieces(&self, path: &Path, length: u64, cores: usize) -> Result<Tally> {
        let mut tally = Tally::default();
        let mut before: Option<FlowPiece<'_>> = None;
        let mut progress = super::read::Progress::new(Some(length));
        let ranges: Vec<Range<u64>> = (0..length.div_ceil(PIECE))
            .map(|number| number * PIECE..((number + 1) * PIECE).min(length))
            .collect();
        for wave in ranges.chunks(cores) {
            let counted = thread::scope(|scope| {
                let count = |range: &Range<u64>| {
                    let range = range.clone();
                    scope.spawn(move || self.count_piece(path, range))
                };
                let threads: Vec<_> = wave.iter().map(count).collect();
                threads
                    .into_iter()
                    .map(|thread| thread.join().map_err(|_| anyhow!("a reader stopped"))?)
                    .collect::<Result<Vec<_>>>()
            })?;
            for (range, mut piece) in wave.iter().zip(counted) {
                before = Some(match before.take() {
                    None => piece,
                    Some(before) if piece.join(&before) => {
                        tally.merge(before.into_tally());
                        piece
                    }
                    Some(mut before) => {
                        read(path, range.clone(), |bytes| before.push(bytes))?;
                        before
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

    fn count_piece(&self, path: &Path, range: Range<u64>) -> Result<FlowPiece<'_>> {
        let start = range.start.saturating_sub(RUN_IN);
        let line = self.flow_line(start).context("the instruction trace cannot be read")?;
        let mut piece = FlowPiece::new(line);
        read(path, start..range.start, |bytes| piece.run_in(bytes))?;
        piece.begin();
        read(path, range, |bytes| piece.push(bytes))?;
        Ok(piece)
    }
}

/// Reads a part of a file.
fn read(path: &Path, range: Range<u64>, mut take: impl FnMut(&[u8])) -> Result<()> {
    let name = || path.display().to_string();
    let mut file = File::open(path).with_context(name)?;
    file.seek(SeekFrom::Start(range.start)).with_context(name)?;
    let mut file = file.take(range.end - range.start);
    let mut buffer = vec![0; CHUNK];
    loop {
        match file.read(&mut buffer) {
            Ok(0) => return Ok(()),
            Ok(count) => take(&buffer[..count]),
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error).with_context(name),
        }
    }
}

//! Reading a file or standard input in chunks, with progress for the patient.

use anyhow::{Context as _, Result};
use indicatif::{ProgressBar, ProgressStyle};
use std::fs::File;
use std::io::{self, IsTerminal as _, Read, Seek as _, SeekFrom};
use std::ops::{ControlFlow, Range};
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// Bytes read at once.
const CHUNK: usize = 256 * 1024;
/// Work shorter than this shows no progress bar.
const PATIENCE: Duration = Duration::from_secs(1);

/// Where the bytes of a stream come from.
#[derive(Debug, Clone)]
pub(crate) enum Input {
    /// A file.
    File(PathBuf),
    /// Standard input.
    StandardInput,
}

impl Input {
    /// Hands all bytes to `take`, chunk by chunk, until it breaks off.
    pub(crate) fn read(&self, take: impl FnMut(&[u8]) -> ControlFlow<()>) -> Result<()> {
        match self {
            Self::File(path) => {
                let name = || format!("{}", path.display());
                let file = File::open(path).with_context(name)?;
                let size = file.metadata().ok().map(|metadata| metadata.len());
                read_all(file, size, take).with_context(name)
            }
            Self::StandardInput => {
                read_all(io::stdin().lock(), None, take).context("standard input")
            }
        }
    }
}

fn read_all(
    from: impl Read,
    size: Option<u64>,
    mut take: impl FnMut(&[u8]) -> ControlFlow<()>,
) -> Result<()> {
    let mut progress = Progress::new(size);
    in_chunks(from, |bytes| {
        take(bytes)?;
        progress.add(bytes.len() as u64);
        ControlFlow::Continue(())
    })?;
    progress.finish();
    Ok(())
}

/// The files of a stream, as one row of bytes.
#[derive(Debug)]
pub(super) struct Files {
    /// Each with the number of its first byte.
    files: Vec<(PathBuf, u64)>,
    pub(super) length: u64,
}

impl Files {
    /// `None` if bytes come from elsewhere.
    pub(super) fn of(inputs: &[Input]) -> Option<Self> {
        let (mut files, mut length) = (Vec::new(), 0);
        for input in inputs {
            let Input::File(path) = input else { return None };
            files.push((path.clone(), length));
            length += std::fs::metadata(path).ok()?.len();
        }
        Some(Self { files, length })
    }

    /// Hands a part of them to `take`, chunk by chunk, until it breaks off; whoever reads parts shows progress
    /// himself.
    pub(super) fn read(
        &self,
        part: Range<u64>,
        mut take: impl FnMut(&[u8]) -> ControlFlow<()>,
    ) -> Result<()> {
        let mut at = part.start;
        for (number, (path, first)) in self.files.iter().enumerate() {
            let end = self.files.get(number + 1).map_or(self.length, |(_, next)| *next);
            let until = part.end.min(end);
            if at >= until {
                continue;
            }
            let name = || path.display().to_string();
            let mut file = File::open(path).with_context(name)?;
            file.seek(SeekFrom::Start(at - first)).with_context(name)?;
            let mut ended = false;
            in_chunks(file.take(until - at), |bytes| {
                let flow = take(bytes);
                ended |= flow.is_break();
                flow
            })
            .with_context(name)?;
            if ended {
                break;
            }
            at = until;
        }
        Ok(())
    }
}

fn in_chunks(mut from: impl Read, mut take: impl FnMut(&[u8]) -> ControlFlow<()>) -> Result<()> {
    let mut buffer = vec![0; CHUNK];
    loop {
        match from.read(&mut buffer) {
            Ok(0) => return Ok(()),
            Ok(count) => {
                if take(&buffer[..count]).is_break() {
                    return Ok(());
                }
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error.into()),
        }
    }
}

/// A bar on standard error, once it is worth one.
pub(super) struct Progress {
    size: Option<u64>,
    done: u64,
    started: Instant,
    bar: Option<ProgressBar>,
    wanted: bool,
}

impl Progress {
    pub(super) fn new(size: Option<u64>) -> Self {
        let wanted = io::stderr().is_terminal();
        Self { size, done: 0, started: Instant::now(), bar: None, wanted }
    }

    pub(super) fn add(&mut self, bytes: u64) {
        self.done += bytes;
        if !self.wanted {
            return;
        }
        if self.bar.is_none() && self.started.elapsed() > PATIENCE {
            let style = "{bytes} of {total_bytes} read, {msg}";
            let bar = self.size.map_or_else(ProgressBar::no_length, ProgressBar::new);
            if let Ok(style) = ProgressStyle::with_template(style) {
                bar.set_style(style);
            }
            self.bar = Some(bar);
        }
        if let Some(bar) = &self.bar {
            bar.set_position(self.done);
            bar.set_message(self.pace());
        }
    }

    /// How fast it goes, and how much longer it takes.
    fn pace(&self) -> String {
        let per_second = self.done as f64 / self.started.elapsed().as_secs_f64();
        let left = self.size.and_then(|size| size.checked_sub(self.done));
        let to_go = left.map_or_else(String::new, |left| {
            format!(", {:.0} s to go", (left as f64 / per_second).ceil())
        });
        format!("{:.0} MB/s{to_go}", per_second / 1e6)
    }

    pub(super) fn finish(self) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use tempfile::TempDir;

    /// What is read of a part, chunk by chunk, until so many chunks came.
    fn read(files: &Files, part: Range<u64>, chunks: usize) -> Vec<Vec<u8>> {
        let mut read = Vec::new();
        let take = |bytes: &[u8]| {
            read.push(bytes.to_vec());
            if read.len() < chunks { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        };
        files.read(part, take).unwrap();
        read
    }

    #[test]
    fn several_files_are_one_row_of_bytes() {
        let folder = TempDir::new().unwrap();
        let inputs: Vec<Input> = ["abc", "", "d", "efgh"]
            .into_iter()
            .enumerate()
            .map(|(number, text)| {
                let path = folder.path().join(format!("{number}.bin"));
                fs::write(&path, text).unwrap();
                Input::File(path)
            })
            .collect();
        let files = Files::of(&inputs).unwrap();
        assert_eq!(files.length, 8);
        let all = b"abcdefgh";
        for start in 0..=8_usize {
            for end in start..=8 {
                let found = read(&files, start as u64..end as u64, usize::MAX).concat();
                assert_eq!(found, all[start..end], "{start}..{end}");
            }
        }
        // More than there is, and no more than is wanted.
        assert_eq!(read(&files, 6..100, usize::MAX).concat(), b"gh");
        assert_eq!(read(&files, 1..8, 2), [b"bc".to_vec(), b"d".to_vec()]);
        assert!(Files::of(&[Input::StandardInput]).is_none());
        fs::remove_file(folder.path().join("3.bin")).unwrap();
        assert!(files.read(5..8, |_| ControlFlow::Continue(())).is_err());
        assert!(Files::of(&inputs).is_none());
    }
}

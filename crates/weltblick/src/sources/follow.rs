//! Reading a capture that grows while it is read.

use super::capture::Capture;
use super::read::Input;
use super::segments::segments;
use anyhow::{Context as _, Result};
use std::fs::File;
use std::io::{self, Read as _};
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::thread;
use std::time::Duration;
use weltblick_core::capture::Line;
use weltblick_core::event::{Origin, Sink};

/// How long to wait for more.
const PATIENCE: Duration = Duration::from_millis(100);
/// Bytes that are read at once.
const CHUNK: usize = 64 << 10;

impl Capture {
    /// Reads the first stream into events as far as it has come, then waits for more, until `rest`
    /// says that it is enough; it is asked after every piece.
    pub(crate) fn follow(
        &self,
        sink: &mut dyn Sink,
        mut rest: impl FnMut() -> Result<ControlFlow<()>>,
    ) -> Result<()> {
        let mut line = Line::new(&self.manifest.streams[0], Origin(0));
        let mut buffer = vec![0; CHUNK];
        let mut at = 0;
        let mut is_over = false;
        let mut open: Option<(PathBuf, File)> = None;
        let mut files = self.files()?;
        loop {
            if open.is_none()
                && let Some(path) = files.get(at)
            {
                let shown = || path.display().to_string();
                open = Some((path.clone(), File::open(path).with_context(shown)?));
            }
            let read = match &mut open {
                None => 0,
                Some((path, file)) => match file.read(&mut buffer) {
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                    read => read.with_context(|| path.display().to_string())?,
                },
            };
            line.push(&buffer[..read], &mut (), sink);
            if rest()?.is_break() {
                line.finish(&mut (), sink);
                return Ok(());
            }
            if read > 0 {
                continue;
            }
            if is_over {
                (at, open, is_over) = (at + 1, None, false);
                continue;
            }
            files = self.files()?;
            // Before the next file begins nothing more comes to this one: its rest is read first.
            is_over = at + 1 < files.len();
            if !is_over {
                thread::sleep(PATIENCE);
            }
        }
    }

    /// The files of the first stream, as many as there are by now.
    fn files(&self) -> Result<Vec<PathBuf>> {
        let stream = &self.manifest.streams[0];
        let listed;
        let inputs = match &stream.segments {
            Some(name) => {
                listed = segments(&self.name, name)?;
                &listed
            }
            None => &self.inputs[0],
        };
        let path = |input: &Input| match input {
            Input::File(path) => Some(path.clone()),
            Input::StandardInput => None,
        };
        Ok(inputs.iter().filter_map(path).collect())
    }
}

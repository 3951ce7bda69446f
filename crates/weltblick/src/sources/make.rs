//! Making folders: whole or not at all.

use anyhow::{Context as _, Result, bail};
use std::fs;
use std::path::{Path, PathBuf};

/// What to do about a folder that is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Place {
    /// Refuse.
    New,
    /// Put the new one in its place.
    Replace,
}

/// A folder in the making: it appears under its name only when it is finished.
#[derive(Debug)]
pub(crate) struct NewFolder {
    target: PathBuf,
    partial: PathBuf,
    finished: bool,
}

impl NewFolder {
    /// Begins a folder that will be `target`. `marker` is a file that tells that an existing folder
    /// is of the same kind, so that nothing else is ever replaced.
    pub(crate) fn begin(target: &Path, place: Place, marker: &str) -> Result<Self> {
        if target.exists() {
            if place == Place::New {
                bail!(
                    "{}: exists already; choose another --out, or say --replace",
                    target.display()
                );
            }
            let is_empty = fs::read_dir(target).is_ok_and(|mut entries| entries.next().is_none());
            if !is_empty && !target.join(marker).exists() {
                bail!(
                    "{}: not replaced: it has no {marker}, so it is something else",
                    target.display()
                );
            }
        }
        let name = target.file_name().context("--out needs a name of its own")?;
        let mut partial_name = std::ffi::OsString::from(".");
        partial_name.push(name);
        partial_name.push(format!(".partial-{}", std::process::id()));
        let partial = target.with_file_name(partial_name);
        fs::create_dir_all(&partial).with_context(|| partial.display().to_string())?;
        Ok(Self { target: target.to_owned(), partial, finished: false })
    }

    /// Writes a file in it; folders on the way are made.
    pub(crate) fn write(&self, name: impl AsRef<Path>, bytes: impl AsRef<[u8]>) -> Result<()> {
        let path = self.partial.join(name);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).with_context(|| folder.display().to_string())?;
        }
        fs::write(&path, bytes).with_context(|| path.display().to_string())
    }

    /// Makes a folder in it.
    pub(crate) fn make(&self, name: impl AsRef<Path>) -> Result<()> {
        let path = self.partial.join(name);
        fs::create_dir_all(&path).with_context(|| path.display().to_string())
    }

    /// Makes a file in it that is to be filled.
    pub(crate) fn create(&self, name: impl AsRef<Path>) -> Result<fs::File> {
        let path = self.partial.join(name);
        fs::File::create(&path).with_context(|| path.display().to_string())
    }

    /// Copies a file into it, byte for byte.
    pub(crate) fn copy(&self, from: &Path, name: impl AsRef<Path>) -> Result<()> {
        copy(from, &self.partial.join(name))
    }

    /// Gives it its name. What was there before goes.
    pub(crate) fn finish(mut self) -> Result<()> {
        let name = || self.target.display().to_string();
        if self.target.exists() {
            fs::remove_dir_all(&self.target).with_context(name)?;
        }
        fs::rename(&self.partial, &self.target).with_context(name)?;
        self.finished = true;
        Ok(())
    }
}

/// Copies a file, byte for byte; folders on the way are made.
pub(crate) fn copy(from: &Path, to: &Path) -> Result<()> {
    if let Some(folder) = to.parent() {
        fs::create_dir_all(folder).with_context(|| folder.display().to_string())?;
    }
    fs::copy(from, to).with_context(|| from.display().to_string())?;
    Ok(())
}

impl Drop for NewFolder {
    fn drop(&mut self) {
        if !self.finished {
            let _ = fs::remove_dir_all(&self.partial);
        }
    }
}

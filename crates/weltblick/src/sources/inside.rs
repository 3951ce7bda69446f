//! Files of a capture folder, which somebody else may have made: they are files, they are in the folder, and they
//! have a size that fits what they are.

use anyhow::{Context as _, Result, bail};
use std::fs;
use std::path::{Component, Path, PathBuf};

/// The longest text that is read: a manifest, or a journal of a year.
const LONGEST_TEXT: u64 = 64 << 20;

/// The real path of what a manifest names, if it lies in the folder.
///
/// # Errors
///
/// What is wrong with the name, for whoever wrote it.
pub(super) fn resolve(folder: &Path, file: &str) -> Result<PathBuf, String> {
    let real = fs::canonicalize(folder).map_err(|error| error.to_string())?;
    let joined = folder.join(file);
    if Path::new(file).is_absolute() || escapes(Path::new(file)) {
        return Err(format!("`{file}` leaves the capture folder; name a file inside it"));
    }
    let target = fs::canonicalize(&joined)
        .map_err(|_| format!("there is no file `{file}` in the capture folder"))?;
    if !target.starts_with(&real) {
        return Err(format!(
            "`{file}` is a link out of the capture folder; put the file itself there"
        ));
    }
    Ok(joined)
}

/// The real path of a plain file that a manifest names: a pipe would never end, and a device never begin.
pub(super) fn resolve_file(folder: &Path, file: &str) -> Result<PathBuf, String> {
    let path = resolve(folder, file)?;
    match fs::metadata(&path) {
        Ok(found) if found.is_file() => Ok(path),
        _ => Err(format!("`{file}` is no plain file; a capture is made of those")),
    }
}

/// A text of a capture folder; `None` if there is no such file.
pub(crate) fn text(folder: &Path, name: &str) -> Result<Option<String>> {
    let path = folder.join(name);
    if fs::symlink_metadata(&path).is_err_and(|error| error.kind() == std::io::ErrorKind::NotFound)
    {
        return Ok(None);
    }
    let shown = || path.display().to_string();
    // Before a byte of it is read, and perhaps shown.
    let file = resolve_file(folder, name).map_err(|why| anyhow::anyhow!("{}: {why}", shown()))?;
    let length = fs::metadata(&file).with_context(shown)?.len();
    if length > LONGEST_TEXT {
        bail!("{}: {length} bytes; such a file has at most {} MB", shown(), LONGEST_TEXT >> 20);
    }
    fs::read_to_string(&file).with_context(shown).map(Some)
}

fn escapes(path: &Path) -> bool {
    path.components().any(|part| matches!(part, Component::ParentDir))
}

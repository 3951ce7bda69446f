//! What took long to find out, kept in the user's cache folder under all that it depends on.

use super::read::Input;
use anyhow::Result;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::collections::hash_map::DefaultHasher;
use std::fs;
use std::hash::{Hash as _, Hasher as _};
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

/// A file in the cache folder that is longer is none of ours.
const MOST_BYTES: u64 = 1 << 30;

/// Something, and what it depends on.
#[derive(Serialize, Deserialize)]
struct Kept<T> {
    key: String,
    what: T,
}

/// What is kept under this key in files with this extension; else it is made, and kept from now on.
pub(super) fn kept<T: Serialize + DeserializeOwned>(
    folder: &Path,
    extension: &str,
    key: String,
    make: impl FnOnce() -> Result<T>,
) -> Result<T> {
    let file = folder.join(format!("{:016x}.{extension}", hash(&key)));
    if let Some(kept) = read::<T>(&file).filter(|kept| kept.key == key) {
        return Ok(kept.what);
    }
    let kept = Kept { key, what: make()? };
    // Whoever cannot keep it makes it again next time: that is no reason to answer nothing now.
    let _ = write(folder, &file, &kept);
    Ok(kept.what)
}

/// The same; made without being kept where there is no key, or no folder.
pub(super) fn kept_if<T: Serialize + DeserializeOwned>(
    key: Option<String>,
    extension: &str,
    make: impl FnOnce() -> Result<T>,
) -> Result<T> {
    match key.zip(cache_folder()) {
        Some((key, folder)) => kept(&folder, extension, key, make),
        None => make(),
    }
}

/// A file as it is now, and how long it is; `None` for whatever is no file, or has no times.
pub(super) fn state_of(input: &Input) -> Option<(String, u64)> {
    let Input::File(path) = input else { return None };
    let data = fs::metadata(path).ok()?;
    let modified = data.modified().ok()?.duration_since(UNIX_EPOCH).ok()?.as_nanos();
    let path = fs::canonicalize(path).ok()?;
    Some((format!("{} {} {modified}", path.display(), data.len()), data.len()))
}

/// `weltblick` in the user's cache folder.
pub(super) fn cache_folder() -> Option<PathBuf> {
    let absolute =
        |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let cache = absolute("XDG_CACHE_HOME").or_else(|| Some(absolute("HOME")?.join(".cache")))?;
    Some(cache.join("weltblick"))
}

fn hash(text: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    hasher.finish()
}

fn read<T: DeserializeOwned>(file: &Path) -> Option<Kept<T>> {
    let found = fs::metadata(file).ok()?;
    if !found.is_file() || found.len() > MOST_BYTES {
        return None;
    }
    postcard::from_bytes(&fs::read(file).ok()?).ok()
}

/// Appears whole, or not at all.
fn write(folder: &Path, file: &Path, kept: &impl Serialize) -> Result<()> {
    fs::create_dir_all(folder)?;
    let partial = file.with_extension(format!("{}.partial", std::process::id()));
    fs::write(&partial, postcard::to_stdvec(kept)?)?;
    fs::rename(&partial, file)?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::Cell;
    use tempfile::TempDir;

    #[test]
    fn what_is_kept_is_made_once_and_anew_when_it_is_another() {
        let folder = TempDir::new().unwrap();
        let cache = folder.path().join("cache");
        let made = Cell::new(0_u32);
        let ask = |key: &str| {
            let make = || {
                made.set(made.get() + 1);
                Ok(made.get())
            };
            kept(&cache, "number", key.to_owned(), make).unwrap()
        };
        assert_eq!([ask("a"), ask("a"), ask("b"), ask("a")], [1, 1, 2, 1]);
        // A file that cannot be read back, and one that another key has.
        let mut files: Vec<PathBuf> =
            fs::read_dir(&cache).unwrap().map(|file| file.unwrap().path()).collect();
        assert_eq!(files.len(), 2);
        files.sort();
        fs::write(&files[0], [0xff; 3]).unwrap();
        fs::copy(&files[0], &files[1]).unwrap();
        assert_eq!([ask("a"), ask("a"), ask("b")], [3, 3, 4]);
        let other = Kept { key: "b".to_owned(), what: 77_u32 };
        let name = format!("{:016x}.number", hash("a"));
        write(&cache, &cache.join(name), &other).unwrap();
        assert_eq!(ask("a"), 5);
        // Nowhere to keep it: it is made all the same.
        fs::write(folder.path().join("file"), "").unwrap();
        let nowhere = folder.path().join("file/cache");
        assert_eq!(kept(&nowhere, "number", "a".into(), || Ok(9_u32)).unwrap(), 9);
    }

    #[test]
    fn a_file_is_told_apart_by_what_it_is_now() {
        let folder = TempDir::new().unwrap();
        let path = folder.path().join("etm.bin");
        fs::write(&path, [1, 2, 3]).unwrap();
        let (before, length) = state_of(&Input::File(path.clone())).unwrap();
        assert_eq!(length, 3);
        fs::write(&path, [1, 2, 3, 4]).unwrap();
        assert_ne!(state_of(&Input::File(path)).unwrap().0, before);
        assert!(state_of(&Input::StandardInput).is_none());
        assert!(state_of(&Input::File(folder.path().join("none"))).is_none());
    }
}

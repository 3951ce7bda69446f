//! Indexes of long instruction traces, kept in the user's cache folder: made when first needed, and anew when
//! the trace, its settings, the image or this program change.

use super::Capture;
use super::read::Input;
use anyhow::Result;
use serde::{Deserialize, Serialize};
use std::collections::hash_map::DefaultHasher;
use std::fs;
use std::hash::{Hash as _, Hasher as _};
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;
use weltblick_core::measure::execution::{FlowIndex, Indexing};

/// Shorter traces are read faster than their index would be made.
const SHORT: u64 = 32 << 20;
/// A file in the cache folder that is longer is none of ours.
const MOST_BYTES: u64 = 1 << 30;
/// The form of what is kept.
const FORM: u32 = 1;

/// An index, and what it is of.
#[derive(Serialize, Deserialize)]
struct Kept {
    key: String,
    index: FlowIndex,
}

/// The index of a capture's instruction trace: from the cache folder, else made and kept there. `None`
/// where reading all of it is as good: a short trace, several files, or nowhere to keep it.
pub(crate) fn flow_index(capture: &Capture) -> Result<Option<&FlowIndex>> {
    if capture.index.get().is_none() {
        let found = find_or_make(capture)?;
        return Ok(capture.index.get_or_init(|| found).as_ref());
    }
    Ok(capture.index.get().and_then(Option::as_ref))
}

fn find_or_make(capture: &Capture) -> Result<Option<FlowIndex>> {
    let Some((key, folder)) = key(capture).zip(cache_folder()) else { return Ok(None) };
    let file = folder.join(format!("{:016x}.flow", hash(&key)));
    if let Some(kept) = read(&file).filter(|kept| kept.key == key) {
        return Ok(Some(kept.index));
    }
    let mut indexing = Indexing::default();
    let code = capture.replay_flow(&mut indexing)?;
    let kept = Kept { key, index: indexing.finish(&code) };
    // Whoever cannot keep it makes it again next time: that is no reason to answer nothing now.
    let _ = write(&folder, &file, &kept);
    Ok(Some(kept.index))
}

/// What an index depends on.
fn key(capture: &Capture) -> Option<String> {
    let (stream, source) = capture.manifest.flow()?;
    let [Input::File(path)] = capture.inputs_of(stream) else { return None };
    let data = fs::metadata(path).ok().filter(|data| data.len() >= SHORT)?;
    let modified = data.modified().ok()?.duration_since(UNIX_EPOCH).ok()?.as_nanos();
    let path = fs::canonicalize(path).ok()?;
    let mut image = DefaultHasher::new();
    for (range, bytes) in capture.image.as_ref()?.image.code() {
        (range.start, bytes).hash(&mut image);
    }
    let settings = &capture.manifest.streams[stream];
    Some(format!(
        "{FORM} {} {} {} {modified} {:016x} {source} {settings:?}",
        env!("CARGO_PKG_VERSION"),
        path.display(),
        data.len(),
        image.finish(),
    ))
}

fn hash(text: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    hasher.finish()
}

/// `weltblick` in the user's cache folder.
fn cache_folder() -> Option<PathBuf> {
    let absolute =
        |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let cache = absolute("XDG_CACHE_HOME").or_else(|| Some(absolute("HOME")?.join(".cache")))?;
    Some(cache.join("weltblick"))
}

fn read(file: &Path) -> Option<Kept> {
    let length = fs::metadata(file).ok()?.len();
    if length > MOST_BYTES {
        return None;
    }
    postcard::from_bytes(&fs::read(file).ok()?).ok()
}

/// Appears whole, or not at all.
fn write(folder: &Path, file: &Path, kept: &Kept) -> Result<()> {
    fs::create_dir_all(folder)?;
    let partial = file.with_extension(format!("{}.partial", std::process::id()));
    fs::write(&partial, postcard::to_stdvec(kept)?)?;
    fs::rename(&partial, file)?;
    Ok(())
}

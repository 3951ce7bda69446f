//! Indexes of long instruction traces, kept in the user's cache folder: made when first needed, and anew when
//! the trace, its settings, the image or this program change.

use super::Capture;
use super::kept::{cache_folder, kept, state_of};
use anyhow::Result;
use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash as _, Hasher as _};
use weltblick_core::measure::execution::{FlowIndex, Indexing};

/// Shorter traces are read faster than their index would be made.
const SHORT: u64 = 32 << 20;
/// The form of what is kept.
const FORM: u32 = 1;

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
    let make = || {
        let mut indexing = Indexing::default();
        let code = capture.replay_flow(&mut indexing)?;
        Ok(indexing.finish(&code))
    };
    kept(&folder, "flow", key, make).map(Some)
}

/// What all depends on that is kept of a long instruction trace.
pub(super) fn key(capture: &Capture) -> Option<String> {
    let (stream, source) = capture.manifest.flow()?;
    let [file] = capture.inputs_of(stream) else { return None };
    let (file, _) = state_of(file).filter(|(_, length)| *length >= SHORT)?;
    let mut image = DefaultHasher::new();
    for (range, bytes) in capture.image.as_ref()?.image.code() {
        (range.start, bytes).hash(&mut image);
    }
    let settings = &capture.manifest.streams[stream];
    let (version, image) = (env!("CARGO_PKG_VERSION"), image.finish());
    Some(format!("{FORM} {version} {file} {image:016x} {source} {settings:?}"))
}

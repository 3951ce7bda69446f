//! Indexes of long instruction traces, kept in the user's cache folder: made when first needed, and anew when
//! the trace, its settings, the image or this program change.

use super::Capture;
use super::kept::{cache_folder, kept, state_of};
use anyhow::Result;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash as _, Hasher as _};
use weltblick_core::measure::execution::{FlowIndex, Indexing};

/// Shorter traces are read faster than their index would be made.
const SHORT: u64 = 32 << 20;
/// The form of what is kept.
const FORM: u32 = 3;

/// The index of a capture's instruction trace: from the cache folder, else made and kept there. `None`
/// where reading all of it is as good: a short trace, or nowhere to keep it.
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
        let mut line = capture.flow_line_cut(&[])?;
        line.keep_anchors();
        capture.push_flow(&mut line, &mut indexing)?;
        let anchors = line.take_anchors();
        let code = line.finish(&mut indexing);
        Ok(indexing.finish(&code).anchored(anchors))
    };
    kept(&folder, "flow", key, make).map(Some)
}

/// What was found out about a capture's instruction trace, under this extension: from the cache folder, else made,
/// and kept there if the trace is long.
pub(super) fn kept_of<T: Serialize + DeserializeOwned>(
    capture: &Capture,
    extension: &str,
    make: impl FnOnce() -> Result<T>,
) -> Result<T> {
    match key(capture).zip(cache_folder()) {
        Some((key, folder)) => kept(&folder, extension, key, make),
        None => make(),
    }
}

/// What all depends on that is kept of a long instruction trace.
pub(super) fn key(capture: &Capture) -> Option<String> {
    let (stream, source) = capture.manifest.flow()?;
    let files = capture.inputs_of(stream).iter().map(state_of).collect::<Option<Vec<_>>>()?;
    if files.iter().map(|(_, length)| length).sum::<u64>() < SHORT {
        return None;
    }
    let files: Vec<String> = files.into_iter().map(|(file, _)| file).collect();
    let mut image = DefaultHasher::new();
    for (range, bytes) in capture.image.as_ref()?.image.code() {
        (range.start, bytes).hash(&mut image);
    }
    let settings = &capture.manifest.streams[stream];
    let (version, image, files) = (env!("CARGO_PKG_VERSION"), image.finish(), files.join(" "));
    let gaps = capture.gaps_of(stream);
    Some(format!("{FORM} {version} {files} {image:016x} {source} {settings:?} {gaps:?}"))
}

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
const FORM: u32 = 5;

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

/// What all depends on that is kept of a long instruction trace: the image's names, too, for threads are known by
/// functions. `None` for a short one.
pub(super) fn key(capture: &Capture) -> Option<String> {
    let (stream, source) = capture.manifest.flow()?;
    let files = capture.inputs_of(stream).iter().map(state_of).collect::<Option<Vec<_>>>()?;
    if files.iter().map(|(_, length)| length).sum::<u64>() < SHORT {
        return None;
    }
    let files: Vec<String> = files.into_iter().map(|(file, _)| file).collect();
    let (mut image, of) = (DefaultHasher::new(), &capture.image.as_ref()?.image);
    for (range, bytes) in of.code() {
        (range.start, bytes).hash(&mut image);
    }
    for function in of.functions() {
        (&function.range, &function.name).hash(&mut image);
    }
    let settings = &capture.manifest.streams[stream];
    let (version, image, files) = (env!("CARGO_PKG_VERSION"), image.finish(), files.join(" "));
    let gaps = capture.gaps_of(stream);
    Some(format!("{FORM} {version} {files} {image:016x} {source} {settings:?} {gaps:?}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cli::SetupArgs;
    use crate::sources::open_as;
    use std::fs::{self, File};
    use tempfile::TempDir;

    #[test]
    fn what_is_kept_is_of_an_image_with_its_names() {
        let folder = TempDir::new().unwrap();
        let path = |name: &str| folder.path().join(name);
        let elf: &[u8] = include_bytes!("../../../../demo/buoy-flow/wave-buoy.elf");
        let manifest =
            "format = 1\nimage = \"a.elf\"\n[[stream]]\nfile = \"etm.bin\"\nprotocol = \"etmv4\"\n";
        fs::write(path("capture.toml"), manifest).unwrap();
        let trace = File::create(path("etm.bin")).unwrap();
        trace.set_len(SHORT).unwrap();
        let key_with = |elf: &[u8]| {
            fs::write(path("a.elf"), elf).unwrap();
            key(&open_as(folder.path(), &SetupArgs::default()).unwrap())
        };
        let before = key_with(elf);
        assert!(before.is_some() && key_with(elf) == before);
        // The same code, in which a function has another name.
        let name = b"\0telemetry_task\0";
        let at = elf.windows(name.len()).rposition(|bytes| bytes == name).unwrap();
        let renamed = [&elf[..at], b"\0telemetry_work\0", &elf[at + name.len()..]].concat();
        assert_ne!(key_with(&renamed), before);
        trace.set_len(SHORT - 1).unwrap();
        assert_eq!(key_with(elf), None);
    }
}

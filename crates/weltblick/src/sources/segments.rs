//! Numbered segments of a stream, and what the journal says is missing between their bytes.

use super::inside;
use super::read::Input;
use anyhow::{Context as _, Result, bail};
use std::fs;
use std::path::Path;
use weltblick_core::capture::{
    Entry, JOURNAL, Manifest, What, parse_journal, segment_file, segment_number,
};
use weltblick_core::event::LossReason;

/// Bytes that are missing between two bytes of a stream.
#[derive(Debug, Clone, Copy)]
pub(super) struct Gap {
    /// The first byte after it, in the files that are there.
    offset: u64,
    /// Why; `None` if nobody wanted them.
    why: Option<LossReason>,
}

/// A stream's numbered segments, in order. The first ones may have been let go.
pub(super) fn segments(folder: &Path, name: &str) -> Result<Vec<Input>> {
    let shown = || folder.display().to_string();
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).with_context(shown)? {
        let entry = entry.with_context(shown)?;
        let file = entry.file_name();
        if let Some(number) = file.to_str().and_then(|file| segment_number(name, file)) {
            // A link might lead anywhere.
            if entry.file_type().with_context(shown)?.is_file() {
                found.push((number, entry.path()));
            }
        }
    }
    found.sort();
    if let Some(pair) = found.windows(2).find(|pair| pair[0].0 + 1 != pair[1].0) {
        bail!(
            "{}: the segment after {} is missing; bring it back, or name the files that are there with `file`",
            folder.display(),
            segment_file(name, pair[0].0)
        );
    }
    Ok(found.into_iter().map(|(_, path)| Input::File(path)).collect())
}

/// What a folder's journal says; nothing where there is none.
pub(super) fn journal(folder: &Path) -> Result<Vec<Entry>> {
    let path = folder.join(JOURNAL);
    let Some(text) = inside::text(folder, JOURNAL)? else { return Ok(Vec::new()) };
    parse_journal(&text).with_context(|| path.display().to_string())
}

/// Where the journal says that bytes are missing.
pub(super) fn gaps(folder: &Path, manifest: &Manifest, entries: &[Entry]) -> Vec<Vec<Gap>> {
    let of = |name: &str| {
        // Offsets count from the stream's start, also where that was let go.
        let mine = || entries.iter().filter(|entry| entry.stream.as_deref() == Some(name));
        // What stands in the oldest segment that is there: a killed capture may have noted more.
        let oldest = first_segment(folder, name);
        let gone = mine()
            .filter(|entry| entry.what == What::LetGo && entry.detail == oldest)
            .find_map(|entry| entry.offset);
        let gap = |entry: &Entry| {
            let why = match entry.what {
                What::Reconnected => Some(LossReason::Disconnected),
                What::Overwritten => Some(LossReason::Overwritten),
                What::Watched | What::ReadOut => None,
                _ => return None,
            };
            let offset = entry.offset?.checked_sub(gone.unwrap_or(0))?;
            // Before the first read-out nothing is missing; but a buffer that has wrapped, and a
            // window that was opened while the trace was running, start inside a packet.
            (offset > 0 || entry.what != What::ReadOut).then_some(Gap { offset, why })
        };
        mine().filter_map(gap).collect()
    };
    manifest.streams.iter().map(|s| s.segments.as_deref().map_or_else(Vec::new, of)).collect()
}

/// The file of a stream's oldest segment.
fn first_segment(folder: &Path, name: &str) -> Option<String> {
    let entries =
        fs::read_dir(folder).ok()?.filter_map(|entry| entry.ok()?.file_name().into_string().ok());
    let number = entries.filter_map(|file| segment_number(name, &file)).min()?;
    Some(segment_file(name, number))
}

/// What comes next in a stream.
pub(super) enum Piece<'a> {
    /// Bytes.
    Bytes(&'a [u8]),
    /// Bytes are missing here, or were not recorded by choice (`None`).
    Gap(Option<LossReason>),
}

/// Those that come after byte `start`.
pub(super) fn gaps_from(gaps: &[Gap], start: u64) -> &[Gap] {
    &gaps[gaps.partition_point(|gap| gap.offset <= start)..]
}

/// Hands on bytes that start at byte `at` of the stream, and the gaps between them.
pub(super) fn push_between(
    mut bytes: &[u8],
    at: &mut u64,
    gaps: &mut &[Gap],
    mut take: impl FnMut(Piece<'_>),
) {
    while let Some((gap, rest)) = gaps.split_first() {
        let before = gap.offset.saturating_sub(*at);
        if before > bytes.len() as u64 {
            break;
        }
        let (now, later) = bytes.split_at(before as usize);
        take(Piece::Bytes(now));
        take(Piece::Gap(gap.why));
        *at += before;
        bytes = later;
        *gaps = rest;
    }
    take(Piece::Bytes(bytes));
    *at += bytes.len() as u64;
}

#[cfg(test)]
mod tests {
    use super::*;
    use tempfile::TempDir;
    use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
    use weltblick_core::event::{Event, Origin, Position, Sink};

    /// Counts samples, and writes losses down.
    #[derive(Default)]
    struct Seen {
        samples: usize,
        gaps: Vec<Option<LossReason>>,
    }

    impl Sink for Seen {
        fn event(&mut self, _: Position, event: &Event) {
            match event {
                Event::Sample { .. } => self.samples += 1,
                Event::Lost { why, .. } if why.is_unbounded() => self.gaps.push(Some(*why)),
                Event::Unwatched => self.gaps.push(None),
                _ => {}
            }
        }
    }

    fn folder(files: &[(&str, &str)]) -> TempDir {
        let folder = TempDir::new().unwrap();
        for (name, text) in files {
            fs::write(folder.path().join(name), text).unwrap();
        }
        folder
    }

    fn manifest() -> Manifest {
        let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
        let stream = StreamSpec { segments: Some("trace".into()), ..stream };
        Manifest { streams: vec![stream], ..Manifest::default() }
    }

    #[test]
    fn segments_are_read_in_order_and_none_may_be_missing_between() {
        let there = folder(&[
            ("trace.000010.bin", ""),
            ("trace.000009.bin", ""),
            ("trace.000008.bin", ""),
            ("trace.bin", ""),
            ("other.000001.bin", ""),
        ]);
        let names: Vec<String> = segments(there.path(), "trace")
            .unwrap()
            .into_iter()
            .map(|input| match input {
                Input::File(path) => path.file_name().unwrap().to_string_lossy().into_owned(),
                Input::StandardInput => unreachable!("segments are files"),
            })
            .collect();
        assert_eq!(names, ["trace.000008.bin", "trace.000009.bin", "trace.000010.bin"]);
        fs::remove_file(there.path().join("trace.000009.bin")).unwrap();
        let error = segments(there.path(), "trace").unwrap_err().to_string();
        assert!(error.contains("the segment after trace.000008.bin is missing"), "{error}");
    }

    #[cfg(unix)]
    #[test]
    fn a_link_is_no_segment() {
        let there = folder(&[("secret", "")]);
        let target = there.path().join("secret");
        std::os::unix::fs::symlink(target, there.path().join("trace.000000.bin")).unwrap();
        assert!(segments(there.path(), "trace").unwrap().is_empty());
    }

    #[test]
    fn gaps_count_from_what_is_still_there() {
        let written = "\
            {\"ns\":1,\"what\":\"watched\",\"stream\":\"trace\",\"offset\":0}\n\
            {\"ns\":2,\"what\":\"let_go\",\"stream\":\"trace\",\"offset\":100,\"detail\":\"trace.000001.bin\"}\n\
            {\"ns\":3,\"what\":\"reconnected\",\"stream\":\"trace\",\"offset\":150}\n\
            {\"ns\":4,\"what\":\"reconnected\",\"stream\":\"other\",\"offset\":160}\n\
            {\"ns\":5,\"what\":\"watched\",\"stream\":\"trace\",\"offset\":170}\n\
            {\"ns\":6,\"what\":\"let_go\",\"stream\":\"trace\",\"offset\":180,\"detail\":\"trace.000002.bin\"}\n";
        let there = folder(&[("journal.jsonl", written), ("trace.000001.bin", "")]);
        let found = gaps(there.path(), &manifest(), &journal(there.path()).unwrap());
        let found: Vec<_> = found[0].iter().map(|gap| (gap.offset, gap.why)).collect();
        // The capture was killed before it let segment 1 go: its bytes are there.
        assert_eq!(found, [(50, Some(LossReason::Disconnected)), (70, None)]);
        assert!(journal(folder(&[]).path()).unwrap().is_empty(), "no journal, no gaps");
        let broken = folder(&[("journal.jsonl", "{\"ns\":\n")]);
        let error = format!("{:#}", journal(broken.path()).unwrap_err());
        assert!(error.contains("journal.jsonl: line 1:"), "{error}");
    }

    #[test]
    fn gaps_stand_where_they_are_however_the_bytes_are_cut() {
        // Samples of five bytes, and a synchronisation after the gap.
        let sample = [0x17, 0x00, 0x01, 0x00, 0x08];
        let bytes =
            [sample, sample, [0, 0, 0, 0, 0], [0x80, 0x17, 0, 1, 0], [8, 0x17, 0, 1, 0], [8; 5]]
                .concat();
        let gap = Gap { offset: 10, why: Some(LossReason::Disconnected) };
        for cut in 1..=bytes.len() {
            let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
            let (mut line, mut seen) = (Line::new(&stream, Origin(0)), Seen::default());
            let (gaps, mut at) = ([gap], 0);
            let mut gaps = &gaps[..];
            for piece in bytes.chunks(cut) {
                push_between(piece, &mut at, &mut gaps, |piece| match piece {
                    Piece::Bytes(bytes) => line.push(bytes, &mut (), &mut seen),
                    Piece::Gap(why) => line.gap(why, &mut (), &mut seen),
                });
            }
            line.finish(&mut (), &mut seen);
            assert_eq!(at, bytes.len() as u64);
            assert_eq!((seen.samples, seen.gaps), (4, vec![gap.why]), "cut in {cut}s");
        }
    }
}

//! The folder that a capture goes into: numbered segments, a journal, a manifest.
//!
//! Every byte goes to the operating system as soon as it is here, so that a capture that is killed
//! loses nothing that it had received.

use crate::sources::{NewFolder, OpenImage, Place};
use anyhow::{Context as _, Result, bail};
use std::collections::VecDeque;
use std::fs::{self, File, OpenOptions};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::time::Instant;
use weltblick_core::capture::{
    Entry, Framing, JOURNAL, MANIFEST, Manifest, Protocol, StreamSpec, What, segment_file,
};

/// A segment is as long as this, unless less is kept.
const SEGMENT: u64 = 256 << 20;
/// What is kept of the end lies in so many segments at least.
const LEAST_SEGMENTS: u64 = 8;
/// Captures of one series.
const MOST_IN_SERIES: u32 = 100_000;

/// What is kept of a stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Keep {
    /// Everything.
    All,
    /// The first bytes; then the capture ends.
    First(u64),
    /// The last bytes, a little more or less.
    Last(u64),
}

/// An open capture folder.
#[derive(Debug)]
pub(crate) struct Store {
    folder: PathBuf,
    journal: File,
    streams: Vec<Stream>,
    keep: Keep,
    started: Instant,
}

/// One stream's segments.
#[derive(Debug)]
struct Stream {
    name: String,
    /// What a segment may start with: where a reader finds his feet.
    landmark: Landmark,
    file: File,
    number: u32,
    /// Bytes in the segments that are there, oldest first, the open one last.
    sizes: VecDeque<u64>,
    /// Bytes since the beginning.
    offset: u64,
}

/// The folder to write to: `out` itself, or the next of a series.
pub(crate) fn choose_folder(out: &Path, series: bool) -> Result<PathBuf> {
    if !series {
        return Ok(out.to_owned());
    }
    let name = out.file_name().context("--out needs a name of its own")?.to_string_lossy();
    let numbered = |number| out.with_file_name(format!("{name}-{number:03}"));
    let free = (1..MOST_IN_SERIES).map(numbered).find(|folder| !folder.exists());
    free.with_context(|| format!("{}: the series is full", out.display()))
}

impl Store {
    /// Makes the folder with its manifest and a copy of the image, and of files that hold its debug information.
    pub(crate) fn create(
        folder: &Path,
        place: Place,
        manifest: &Manifest,
        image: Option<&OpenImage>,
        keep: Keep,
    ) -> Result<Self> {
        let new = NewFolder::begin(folder, place, MANIFEST)?;
        if let (Some(open), Some(name)) = (image, &manifest.image) {
            new.copy(&open.path, &name.value)?;
            for (from, name) in open.debug_files() {
                new.copy(&from, name)?;
            }
        }
        new.write(MANIFEST, manifest.to_toml())?;
        new.write(JOURNAL, "")?;
        for stream in &manifest.streams {
            if let Some(name) = &stream.segments {
                new.write(segment_file(name, 0), "")?;
            }
        }
        new.finish()?;
        let append = |name: String| {
            let path = folder.join(name);
            OpenOptions::new().append(true).open(&path).with_context(|| path.display().to_string())
        };
        let streams = manifest
            .streams
            .iter()
            .map(|spec| {
                let name = spec.segments.clone().context("a stream without segments")?;
                let file = append(segment_file(&name, 0))?;
                let sizes = VecDeque::from([0]);
                Ok(Stream { name, landmark: landmark(spec), file, number: 0, sizes, offset: 0 })
            })
            .collect::<Result<_>>()?;
        let journal = append(JOURNAL.to_owned())?;
        Ok(Self { folder: folder.to_owned(), journal, streams, keep, started: Instant::now() })
    }

    /// Nanoseconds since the capture's start.
    pub(crate) fn now(&self) -> u64 {
        u64::try_from(self.started.elapsed().as_nanos()).unwrap_or(u64::MAX)
    }

    /// The moment from which the journal counts.
    pub(crate) const fn started(&self) -> Instant {
        self.started
    }

    /// Writes something into the journal.
    pub(crate) fn note(
        &mut self,
        stream: Option<usize>,
        what: What,
        detail: Option<String>,
    ) -> Result<()> {
        let mut entry = Entry { detail, ..Entry::new(self.now(), what) };
        if let Some(stream) = stream.and_then(|stream| self.streams.get(stream)) {
            entry = entry.at(&stream.name, stream.offset);
        }
        self.write_entry(&entry)
    }

    fn write_entry(&mut self, entry: &Entry) -> Result<()> {
        let line = entry.to_line();
        self.journal.write_all(line.as_bytes()).with_context(|| self.told(JOURNAL))
    }

    fn told(&self, file: &str) -> String {
        self.folder.join(file).display().to_string()
    }

    /// Bytes of a stream since its beginning.
    pub(crate) fn offset(&self, stream: usize) -> u64 {
        self.streams.get(stream).map_or(0, |stream| stream.offset)
    }

    /// Bytes of a stream that may still come.
    pub(crate) fn room(&self, stream: usize) -> u64 {
        match self.keep {
            Keep::First(most) => most.saturating_sub(self.offset(stream)),
            Keep::All | Keep::Last(_) => u64::MAX,
        }
    }

    /// Writes bytes of a stream.
    pub(crate) fn append(&mut self, number: usize, bytes: &[u8]) -> Result<()> {
        // A landmark is waited for as long as the kept end is still made of two segments or more.
        let (longest, hard) = match self.keep {
            Keep::Last(most) => ((most / LEAST_SEGMENTS).clamp(1, SEGMENT), (most / 2).max(1)),
            Keep::All | Keep::First(_) => (SEGMENT, 2 * SEGMENT),
        };
        let mut rest = bytes;
        while !rest.is_empty() {
            let stream = self.streams.get_mut(number).context("a stream that nobody named")?;
            let cut = stream.cut(rest, longest, hard);
            let (now, later) = rest.split_at(cut.unwrap_or(rest.len()));
            stream.file.write_all(now).with_context(|| {
                self.folder.join(segment_file(&stream.name, stream.number)).display().to_string()
            })?;
            stream.offset += now.len() as u64;
            if let Some(size) = stream.sizes.back_mut() {
                *size += now.len() as u64;
            }
            if cut.is_some() {
                self.next_segment(number)?;
            }
            rest = later;
        }
        Ok(())
    }

    /// What comes next is a segment of its own, unless the open one is empty.
    pub(crate) fn begin_segment(&mut self, number: usize) -> Result<()> {
        let stream = self.streams.get(number).context("a stream that nobody named")?;
        let is_empty = stream.sizes.back().is_none_or(|&size| size == 0);
        if is_empty { Ok(()) } else { self.next_segment(number) }
    }

    /// Begins the next segment, and lets the oldest go if they are too much.
    fn next_segment(&mut self, number: usize) -> Result<()> {
        let stream = &mut self.streams[number];
        let next = stream.number + 1;
        let path = self.folder.join(segment_file(&stream.name, next));
        stream.file = OpenOptions::new()
            .create_new(true)
            .append(true)
            .open(&path)
            .with_context(|| path.display().to_string())?;
        stream.number = next;
        stream.sizes.push_back(0);
        let Keep::Last(most) = self.keep else { return Ok(()) };
        while stream.sizes.len() > 2
            && stream.sizes.iter().skip(1).sum::<u64>()
                >= most.saturating_sub(most / LEAST_SEGMENTS)
        {
            let oldest = next + 1 - stream.sizes.len() as u32;
            let path = self.folder.join(segment_file(&stream.name, oldest));
            stream.sizes.pop_front();
            // The journal first: a reader finds the entry of the oldest segment that is there.
            let first = stream.offset - stream.sizes.iter().sum::<u64>();
            let ns = u64::try_from(self.started.elapsed().as_nanos()).unwrap_or(u64::MAX);
            let entry = Entry::new(ns, What::LetGo)
                .at(&stream.name, first)
                .detail(segment_file(&stream.name, oldest + 1));
            let line = entry.to_line();
            self.journal
                .write_all(line.as_bytes())
                .with_context(|| self.folder.join(JOURNAL).display().to_string())?;
            fs::remove_file(&path).with_context(|| path.display().to_string())?;
        }
        Ok(())
    }
}

impl Stream {
    /// Where in `bytes` the next segment begins: at a landmark once this one is long enough, or
    /// anywhere once it is as long as `hard`.
    fn cut(&self, bytes: &[u8], longest: u64, hard: u64) -> Option<usize> {
        let size = self.sizes.back().copied().unwrap_or(0);
        let until = (longest.saturating_sub(size)).min(bytes.len() as u64) as usize;
        let Landmark { bytes: landmark, ends_a_segment } = self.landmark;
        let before = if ends_a_segment { landmark.len() } else { 0 };
        let found = bytes[until..]
            .windows(landmark.len())
            .position(|window| window == landmark)
            .map(|at| until + at + before);
        let found = found.filter(|&at| size + at as u64 > 0);
        let hard = hard.max(longest).saturating_sub(size);
        match found {
            Some(at) if at as u64 <= hard => Some(at),
            _ if hard < bytes.len() as u64 => Some(hard as usize),
            _ => None,
        }
    }
}

/// What a segment may start with.
fn landmark(spec: &StreamSpec) -> Landmark {
    let starts = |bytes| Landmark { bytes, ends_a_segment: false };
    match (spec.framing, spec.sources.first().map(|source| &source.protocol)) {
        (Framing::Tpiu(_), _) => starts(&[0xff, 0xff, 0xff, 0x7f]),
        (Framing::None, Some(Protocol::Itm(_))) => starts(&[0, 0, 0, 0, 0, 0x80]),
        (Framing::None, _) => Landmark { bytes: b"\n", ends_a_segment: true },
    }
}

/// Bytes at which a segment may begin, or after which.
#[derive(Debug, Clone, Copy)]
struct Landmark {
    bytes: &'static [u8],
    ends_a_segment: bool,
}

/// Whether a folder may be made here at all, said before anything else is done.
pub(crate) fn check_place(folder: &Path, place: Place) -> Result<()> {
    if folder.exists() && place == Place::New {
        bail!(
            "{}: exists already; choose another --out, say --replace, or number them with --series",
            folder.display()
        );
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use tempfile::TempDir;
    use weltblick_core::capture::{ItmSettings, parse_journal};

    fn manifest() -> Manifest {
        let stream = StreamSpec::itm(Vec::new(), ItmSettings::default());
        let stream = StreamSpec { segments: Some("trace".into()), ..stream };
        Manifest { streams: vec![stream], ..Manifest::default() }
    }

    /// The segments of a folder, by number.
    fn segments(folder: &Path) -> Vec<Vec<u8>> {
        let mut names: Vec<PathBuf> = fs::read_dir(folder)
            .unwrap()
            .map(|entry| entry.unwrap().path())
            .filter(|path| path.extension().is_some_and(|extension| extension == "bin"))
            .collect();
        names.sort();
        names.iter().map(|name| fs::read(name).unwrap()).collect()
    }

    fn store(folder: &Path, keep: Keep) -> Store {
        Store::create(folder, Place::New, &manifest(), None, keep).unwrap()
    }

    #[test]
    fn a_folder_reads_from_its_first_moment() {
        let temporary = TempDir::new().unwrap();
        let folder = temporary.path().join("run");
        let mut store = store(&folder, Keep::All);
        let text = fs::read_to_string(folder.join(MANIFEST)).unwrap();
        assert_eq!(Manifest::parse("m", &text).unwrap(), manifest());
        assert_eq!(segments(&folder), [Vec::<u8>::new()]);
        store.note(Some(0), What::Connected, None).unwrap();
        store.append(0, b"abc").unwrap();
        store.note(Some(0), What::Reconnected, Some("again".into())).unwrap();
        let journal = parse_journal(&fs::read_to_string(folder.join(JOURNAL)).unwrap()).unwrap();
        assert_eq!((journal[0].offset, journal[1].offset), (Some(0), Some(3)));
        assert_eq!((store.offset(0), segments(&folder)), (3, vec![b"abc".to_vec()]));
    }

    #[test]
    fn only_so_much_is_kept_of_the_beginning() {
        let temporary = TempDir::new().unwrap();
        let mut store = store(&temporary.path().join("run"), Keep::First(10));
        assert_eq!(store.room(0), 10);
        store.append(0, b"1234").unwrap();
        assert_eq!(store.room(0), 6);
    }

    #[test]
    fn a_segment_may_be_asked_for() {
        let temporary = TempDir::new().unwrap();
        let folder = temporary.path().join("run");
        let mut store = store(&folder, Keep::All);
        store.begin_segment(0).unwrap();
        store.append(0, b"one").unwrap();
        store.begin_segment(0).unwrap();
        store.append(0, b"two").unwrap();
        assert_eq!(segments(&folder), [b"one".to_vec(), b"two".to_vec()]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]

        #[test]
        fn the_end_is_kept_in_about_the_size_that_was_asked_for(
            pieces in prop::collection::vec(prop::collection::vec(0_u8..3, 1..400), 1..40),
            every in 50_usize..2000,
        ) {
            const MOST: u64 = 2048;
            let temporary = TempDir::new().unwrap();
            let folder = temporary.path().join("run");
            let mut store = store(&folder, Keep::Last(MOST));
            let mut whole = Vec::new();
            for piece in pieces {
                // Synchronisations now and then.
                let piece = if whole.len() / every != (whole.len() + piece.len()) / every {
                    [&piece[..], &[0, 0, 0, 0, 0, 0x80]].concat()
                } else {
                    piece
                };
                store.append(0, &piece).unwrap();
                whole.extend(piece);
            }
            let kept = segments(&folder).concat();
            prop_assert!(whole.ends_with(&kept));
            prop_assert!(kept.len() as u64 >= (whole.len() as u64).min(MOST * 7 / 8));
            prop_assert!(kept.len() as u64 <= 2 * MOST, "{} bytes", kept.len());
        }
    }
}

//! Debug information that a compiler put into files of its own (split DWARF), found by whoever has the files.

use super::sections::{MOST_BYTES, Split};
use super::units::Slice;
use std::collections::{BTreeSet, HashSet};

/// A file with debug information of one unit, as the image refers to it.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct SplitFile {
    /// Its name, as the compiler wrote it: often a path relative to `folder`.
    pub name: String,
    /// Where the compiler ran.
    pub folder: Option<String>,
    /// What the file has to say of itself, too.
    pub id: u64,
}

/// Finds the files with debug information that an image refers to.
///
/// The core reads no files: whoever opens an image knows which it may have.
pub trait DebugFiles: std::fmt::Debug + Send {
    /// The bytes of a file (`.dwo`); `None` if it is not there.
    fn split(&mut self, wanted: &SplitFile) -> Option<Vec<u8>>;

    /// The bytes of the package (`.dwp`) of the image, in which all such files were put together.
    fn package(&mut self) -> Option<Vec<u8>>;
}

/// No files beside the image.
#[derive(Debug, Clone, Copy)]
pub struct NoFiles;

impl DebugFiles for NoFiles {
    fn split(&mut self, _: &SplitFile) -> Option<Vec<u8>> {
        None
    }

    fn package(&mut self) -> Option<Vec<u8>> {
        None
    }
}

/// What an image was split into.
#[derive(Debug)]
pub(super) struct Splits {
    finder: Box<dyn DebugFiles>,
    /// Asked for once.
    package: Option<Option<Box<gimli::DwarfPackage<Slice>>>>,
    missing: BTreeSet<String>,
    /// What was looked for already: many units may refer to one file, which has room for one alone.
    asked: HashSet<SplitFile>,
    /// What may still be unpacked.
    room: u64,
    /// What may still be read: one file may be asked for by many names.
    unread: u64,
}

impl Splits {
    pub(super) fn new(finder: Box<dyn DebugFiles>, room: u64) -> Self {
        let (missing, asked) = (BTreeSet::new(), HashSet::new());
        Self { finder, package: None, missing, asked, room, unread: 2 * MOST_BYTES }
    }

    /// The sections of a file, or those of its part of the package.
    pub(super) fn read(
        &mut self,
        wanted: &SplitFile,
        main: &gimli::Dwarf<Slice>,
    ) -> Option<gimli::Dwarf<Slice>> {
        let found = match self.asked.insert(wanted.clone()) {
            true => self.find(wanted, main),
            false => None,
        };
        if found.is_none() {
            self.note_missing(wanted);
        }
        found
    }

    fn find(
        &mut self,
        wanted: &SplitFile,
        main: &gimli::Dwarf<Slice>,
    ) -> Option<gimli::Dwarf<Slice>> {
        let package = self.package.get_or_insert_with(|| {
            match Split::read(&self.finder.package()?, &mut self.room)? {
                Split::Package(package) => Some(package),
                Split::File(_) => None,
            }
        });
        if let Some(package) = package
            && let Ok(Some(dwarf)) = package.find_cu(gimli::DwoId(wanted.id), main)
        {
            return Some(dwarf);
        }
        if self.unread == 0 {
            return None;
        }
        let bytes = self.finder.split(wanted)?;
        self.unread = self.unread.saturating_sub(bytes.len() as u64);
        match Split::read(&bytes, &mut self.room)? {
            Split::File(mut dwarf) => {
                dwarf.make_dwo(main);
                Some(*dwarf)
            }
            Split::Package(package) => package.find_cu(gimli::DwoId(wanted.id), main).ok()?,
        }
    }

    /// Notes that a file is not there, is another one, or too large.
    pub(super) fn note_missing(&mut self, wanted: &SplitFile) {
        self.missing.insert(wanted.name.clone());
    }

    /// The names of files that were not read, in alphabetical order.
    pub(super) const fn missing(&self) -> &BTreeSet<String> {
        &self.missing
    }
}

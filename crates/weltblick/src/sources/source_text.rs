//! The firmware's source text, from folders that the user names, and from where it is likely to be.

use super::Capture;
use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs;
use std::path::{Component, Path, PathBuf};

/// A source file longer than this is none.
const LONGEST: u64 = 16 << 20;
/// Beside a capture lie perhaps other captures: no more folders are looked into.
const MOST_BESIDE: usize = 64;
/// What is read without being asked for has one of these endings.
const ENDINGS: [&str; 25] = [
    "c", "h", "s", "S", "asm", "inc", "i", "ii", "cc", "cp", "cpp", "cxx", "c++", "C", "hh", "hp",
    "hpp", "hxx", "h++", "H", "ipp", "tpp", "rs", "adb", "zig",
];

/// Source files by the names that the image's line data gives them.
///
/// These names come from the image and may be crafted: a file is only ever read inside of the folders
/// that the user named, links included. In other places only what is called like source is read, and only if the
/// folder that it is in has the right name, too.
#[derive(Debug, Default)]
pub(crate) struct SourceText {
    named: Vec<PathBuf>,
    likely: Vec<PathBuf>,
    texts: HashMap<String, Option<Text>>,
}

/// A file that was found.
#[derive(Debug)]
struct Text {
    path: PathBuf,
    text: String,
    /// Where its lines begin.
    lines: Vec<usize>,
}

impl SourceText {
    /// Texts from these folders alone.
    pub(crate) fn new(named: &[PathBuf]) -> Self {
        Self { named: named.to_vec(), ..Self::default() }
    }

    /// Texts from these folders first, then from those in and beside the capture, the current one, and where the
    /// compiler found them.
    pub(crate) fn around(capture: &Capture, named: &[PathBuf]) -> Self {
        let mut likely = Vec::new();
        let folder = fs::canonicalize(&capture.name).ok();
        if let Some(beside) = folder.as_deref().and_then(Path::parent) {
            likely.extend(folder.iter().filter(|folder| folder.is_dir()).cloned());
            likely.push(beside.to_owned());
            likely.extend(folders_in(beside));
        }
        likely.push(PathBuf::from("."));
        Self { named: named.to_vec(), likely, texts: HashMap::new() }
    }

    /// Whether there is anything to look into.
    pub(crate) fn is_empty(&self) -> bool {
        self.named.is_empty() && self.likely.is_empty()
    }

    /// The text of a file, if one of the folders has it: under its whole name, or under the end of it.
    pub(crate) fn text(&mut self, name: &str) -> Option<&str> {
        Some(self.found(name)?.text.as_str())
    }

    /// Where that was found, from the current folder on if it is in there.
    pub(crate) fn path(&mut self, name: &str) -> Option<&Path> {
        let path = self.found(name)?.path.as_path();
        let current = fs::canonicalize(".").ok();
        Some(current.and_then(|current| path.strip_prefix(current).ok()).unwrap_or(path))
    }

    /// One line of it, counted from 1.
    pub(crate) fn line(&mut self, name: &str, number: u32) -> Option<String> {
        let Text { text, lines, .. } = self.found(name)?;
        let begin = *lines.get((number as usize).checked_sub(1)?)?;
        text[begin..].lines().next().map(str::to_owned)
    }

    fn found(&mut self, name: &str) -> Option<&Text> {
        if !self.texts.contains_key(name) {
            let found = self.find(name);
            self.texts.insert(name.to_owned(), found);
        }
        self.texts.get(name)?.as_ref()
    }

    fn find(&self, name: &str) -> Option<Text> {
        let ending = Path::new(name).extension().and_then(OsStr::to_str);
        let is_source = ending.is_some_and(|ending| ENDINGS.contains(&ending));
        self.named
            .iter()
            .find_map(|root| find(root, name, 1))
            .or_else(|| {
                self.likely.iter().filter(|_| is_source).find_map(|root| find(root, name, 2))
            })
            .or_else(|| read(Path::new(name)).filter(|_| is_source && !self.likely.is_empty()))
    }
}

/// Folders in a folder, those that are hidden aside.
fn folders_in(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let is_hidden =
        |path: &Path| path.file_name().is_none_or(|name| name.to_string_lossy().starts_with('.'));
    let paths = entries.map(|entry| entry.path());
    let mut folders: Vec<PathBuf> =
        paths.filter(|path| path.is_dir() && !is_hidden(path)).collect();
    folders.sort();
    folders.truncate(MOST_BESIDE);
    folders
}

/// A file below `root` that is called like `name`, or like the end of it: of so many parts at least.
fn find(root: &Path, name: &str, least: usize) -> Option<Text> {
    let root = fs::canonicalize(root).ok()?;
    let parts: Vec<&OsStr> = Path::new(name)
        .components()
        .filter_map(|part| match part {
            Component::Normal(part) => Some(part),
            _ => None,
        })
        .collect();
    let ends = 0..=parts.len().checked_sub(least.min(parts.len()).max(1))?;
    ends.into_iter().find_map(|skipped| {
        let file =
            fs::canonicalize(root.join(parts[skipped..].iter().collect::<PathBuf>())).ok()?;
        read(&file).filter(|_| file.starts_with(&root))
    })
}

fn read(file: &Path) -> Option<Text> {
    let metadata = fs::metadata(file).ok()?;
    let is_text = file.is_absolute() && metadata.is_file() && metadata.len() <= LONGEST;
    let text = String::from_utf8_lossy(&is_text.then(|| fs::read(file))?.ok()?).into_owned();
    let ends = text.match_indices('\n').map(|(at, _)| at + 1);
    let lines = std::iter::once(0).chain(ends).collect();
    Some(Text { path: file.to_owned(), text, lines })
}

#[cfg(test)]
mod tests {
    use super::*;
    use tempfile::TempDir;

    #[test]
    fn finds_files_by_the_end_of_their_name_and_never_outside() {
        let folder = TempDir::new().unwrap();
        let inside = folder.path().join("inside");
        fs::create_dir_all(inside.join("src")).unwrap();
        fs::write(inside.join("src/main.c"), "int main;").unwrap();
        fs::write(folder.path().join("secret"), "secret").unwrap();
        std::os::unix::fs::symlink(folder.path().join("secret"), inside.join("link")).unwrap();
        let mut texts = SourceText::new(std::slice::from_ref(&inside));
        assert_eq!(texts.text("/build/buoy/src/main.c"), Some("int main;"));
        assert_eq!(texts.text("../src/main.c"), Some("int main;"));
        for name in ["link", "../secret", "/etc/hostname", "src", ""] {
            assert_eq!(texts.text(name), None, "{name}");
        }
        let absolute = folder.path().join("secret").display().to_string();
        assert_eq!(texts.text(&absolute), None);
    }

    #[test]
    fn looks_where_source_is_likely_to_be_and_there_for_source_alone() {
        let folder = TempDir::new().unwrap();
        let beside = folder.path().join("firmware/src/dsp");
        fs::create_dir_all(&beside).unwrap();
        fs::write(beside.join("filter.c"), "one\ntwo\nthree").unwrap();
        fs::write(folder.path().join("main.c"), "another program").unwrap();
        fs::create_dir_all(folder.path().join("firmware/.ssh")).unwrap();
        fs::write(folder.path().join("firmware/.ssh/key"), "secret").unwrap();
        let mut texts = SourceText {
            likely: folders_in(folder.path()).into_iter().chain([folder.path().into()]).collect(),
            ..SourceText::default()
        };
        assert_eq!(texts.line("/build/src/dsp/filter.c", 2).as_deref(), Some("two"));
        assert_eq!(texts.line("/build/src/dsp/filter.c", 3).as_deref(), Some("three"));
        assert_eq!(texts.line("/build/src/dsp/filter.c", 4), None);
        assert!(texts.path("src/dsp/filter.c").unwrap().ends_with("firmware/src/dsp/filter.c"));
        // A name alone does not say that it is the same file; and a key is no source.
        for name in ["/build/src/main.c", ".ssh/key", "/etc/hostname"] {
            assert_eq!(texts.text(name), None, "{name}");
        }
        // Where the compiler found it.
        let whole = beside.join("filter.c").display().to_string();
        let mut nowhere = SourceText { likely: vec![beside], ..SourceText::default() };
        assert_eq!(nowhere.line(&whole, 1).as_deref(), Some("one"));
    }
}

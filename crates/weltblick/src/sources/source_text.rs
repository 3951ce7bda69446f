//! The firmware's source text, from folders that the user names.

use std::collections::HashMap;
use std::fs;
use std::path::{Component, Path, PathBuf};

/// A source file longer than this is none.
const LONGEST: u64 = 16 << 20;

/// Source files by the names that the image's line data gives them.
///
/// These names come from the image and may be crafted: a file is only ever read inside of the folders
/// that the user named, links included.
#[derive(Debug, Default)]
pub(crate) struct SourceText {
    roots: Vec<PathBuf>,
    texts: HashMap<String, Option<String>>,
}

impl SourceText {
    /// Texts from these folders.
    pub(crate) fn new(roots: &[PathBuf]) -> Self {
        Self { roots: roots.to_vec(), texts: HashMap::new() }
    }

    /// Whether there is anything to look into.
    pub(crate) fn is_empty(&self) -> bool {
        self.roots.is_empty()
    }

    /// The text of a file, if one of the folders has it: under its whole name, or under the end of it.
    pub(crate) fn text(&mut self, name: &str) -> Option<&str> {
        if !self.texts.contains_key(name) {
            let found = self.roots.iter().find_map(|root| find(root, name));
            self.texts.insert(name.to_owned(), found);
        }
        self.texts.get(name)?.as_deref()
    }
}

fn find(root: &Path, name: &str) -> Option<String> {
    let root = fs::canonicalize(root).ok()?;
    let parts: Vec<&std::ffi::OsStr> = Path::new(name)
        .components()
        .filter_map(|part| match part {
            Component::Normal(part) => Some(part),
            _ => None,
        })
        .collect();
    (0..parts.len()).find_map(|skipped| {
        let file =
            fs::canonicalize(root.join(parts[skipped..].iter().collect::<PathBuf>())).ok()?;
        let metadata = fs::metadata(&file).ok()?;
        let inside = file.starts_with(&root) && metadata.is_file() && metadata.len() <= LONGEST;
        let bytes = inside.then(|| fs::read(&file)).and_then(Result::ok)?;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    })
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
}

//! Files with debug information beside an image: where they may be, and reading them.

use std::ffi::OsString;
use std::fs;
use std::path::{Component, Path, PathBuf};
use weltblick_core::image::{DebugFiles, SplitFile};

/// Where `import` and `capture` put such files in a capture folder.
pub(crate) const FOLDER: &str = "debug-info";

/// Files are no larger than this.
const LARGEST: u64 = 256 << 20;

/// The places where the files of one image may be.
#[derive(Debug, Clone)]
pub(crate) struct DebugPlaces {
    image: PathBuf,
    /// The folder that the user named.
    named: Option<PathBuf>,
    /// The user named the image: so its files may be where the compiler left them. Those of an image that a capture
    /// names are in the capture's folder.
    anywhere: bool,
}

impl DebugPlaces {
    /// Those of an image that the user named.
    pub(crate) fn of_named(image: &Path, named: Option<&Path>) -> Self {
        Self { image: image.to_owned(), named: named.map(Path::to_owned), anywhere: true }
    }

    /// Those of an image that a capture names.
    pub(crate) fn of_captured(image: &Path, named: Option<&Path>) -> Self {
        Self { anywhere: false, ..Self::of_named(image, named) }
    }

    fn folder(&self) -> &Path {
        self.image.parent().filter(|folder| *folder != Path::new("")).unwrap_or(Path::new("."))
    }

    /// The file that an image was split into, if it is in one of the places.
    pub(crate) fn locate(&self, wanted: &SplitFile) -> Option<PathBuf> {
        let path = Path::new(&wanted.name);
        let name = path.file_name()?;
        let inside = [PathBuf::from(copied_name(wanted)), path.to_owned(), PathBuf::from(name)];
        let beside = inside.iter().filter(|path| stays(path)).find_map(|path| {
            let found = regular(&self.folder().join(path))?;
            (self.anywhere || is_within(&found, self.folder())).then_some(found)
        });
        let named = || {
            let folder = self.named.as_ref()?;
            inside.iter().filter(|path| stays(path)).find_map(|path| regular(&folder.join(path)))
        };
        let compiled = || {
            let folder = wanted.folder.as_deref().unwrap_or_default();
            self.anywhere.then(|| regular(&Path::new(folder).join(path))).flatten()
        };
        beside.or_else(named).or_else(compiled)
    }

    /// The package of the image, if it is in one of the places.
    pub(crate) fn locate_package(&self) -> Option<PathBuf> {
        let name = package_name(self.image.file_name()?);
        let beside = regular(&self.folder().join(&name));
        let beside = beside.filter(|found| self.anywhere || is_within(found, self.folder()));
        beside.or_else(|| regular(&self.named.as_ref()?.join(&name)))
    }
}

impl DebugFiles for DebugPlaces {
    fn split(&mut self, wanted: &SplitFile) -> Option<Vec<u8>> {
        fs::read(self.locate(wanted)?).ok()
    }

    fn package(&mut self) -> Option<Vec<u8>> {
        fs::read(self.locate_package()?).ok()
    }
}

/// What a file is called in a capture folder: files of several folders may have one name.
pub(crate) fn copied_name(file: &SplitFile) -> String {
    format!("{FOLDER}/{:016x}.dwo", file.id)
}

/// What the package of an image is called.
pub(crate) fn package_name(image: &std::ffi::OsStr) -> OsString {
    let mut name = image.to_owned();
    name.push(".dwp");
    name
}

/// A file, not a device or a pipe that would never end.
fn regular(path: &Path) -> Option<PathBuf> {
    let found = fs::metadata(path).ok()?;
    (found.is_file() && found.len() <= LARGEST).then(|| path.to_owned())
}

/// Whether a path goes nowhere but down.
fn stays(path: &Path) -> bool {
    path.components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir))
}

/// Whether a file is in a folder, links followed.
fn is_within(file: &Path, folder: &Path) -> bool {
    let real = |path: &Path| fs::canonicalize(path).ok();
    real(file).zip(real(folder)).is_some_and(|(file, folder)| file.starts_with(folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wanted(name: &str, folder: Option<&Path>) -> SplitFile {
        let folder = folder.map(|folder| folder.display().to_string());
        SplitFile { name: name.into(), folder, id: 0xb0a7 }
    }

    #[test]
    fn files_of_a_captured_image_are_in_its_folder_only() {
        let temporary = tempfile::tempdir().unwrap();
        let (capture, build) = (temporary.path().join("buoy"), temporary.path().join("build"));
        fs::create_dir_all(&capture).unwrap();
        fs::create_dir_all(build.join("dsp")).unwrap();
        fs::write(build.join("dsp/filter.dwo"), "x").unwrap();
        fs::write(capture.join("kernel.dwo"), "x").unwrap();
        let image = capture.join("wave-buoy.elf");
        let captured = DebugPlaces::of_captured(&image, None);
        let named = DebugPlaces::of_named(&image, None);
        let filter = wanted("dsp/filter.dwo", Some(&build));
        assert_eq!(captured.locate(&filter), None);
        assert_eq!(named.locate(&filter), Some(build.join("dsp/filter.dwo")));
        let searched = DebugPlaces::of_captured(&image, Some(&build));
        assert_eq!(searched.locate(&filter), Some(build.join("dsp/filter.dwo")));
        for places in [&captured, &named] {
            let kernel = places.locate(&wanted("out/kernel.dwo", None));
            assert_eq!(kernel, Some(capture.join("kernel.dwo")));
        }
        let away = wanted("../build/dsp/filter.dwo", Some(&capture));
        assert_eq!(captured.locate(&away), None);
        #[cfg(unix)]
        {
            std::os::unix::fs::symlink(build.join("dsp"), capture.join("dsp")).unwrap();
            assert_eq!(captured.locate(&filter), None, "a link to outside");
        }
    }

    #[cfg(unix)]
    #[test]
    fn devices_and_folders_are_no_files() {
        let places = DebugPlaces::of_named(Path::new("/dev/wave-buoy.elf"), None);
        assert_eq!(places.locate(&wanted("/dev/zero", None)), None);
        assert_eq!(places.locate(&wanted("/", None)), None);
    }
}

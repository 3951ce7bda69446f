//! What fuzzers found worth keeping, read again: nothing panics, and nothing takes long.
//!
//! `fuzz/README.md` says how the corpus came about.

#[path = "../../../fuzz/targets.rs"]
mod targets;

use std::path::Path;
use std::time::{Duration, Instant};

#[test]
fn the_corpus_is_read_without_harm() {
    let corpus = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../fuzz/corpus"));
    let mut folders = 0;
    for folder in std::fs::read_dir(corpus).unwrap().map(|entry| entry.unwrap().path()) {
        let name = folder.file_name().unwrap().to_str().unwrap().to_owned();
        let target = targets::named(&name).unwrap_or_else(|| panic!("no target {name}"));
        for file in std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()) {
            let bytes = std::fs::read(&file).unwrap();
            let began = Instant::now();
            target(&bytes);
            let took = began.elapsed();
            assert!(took < Duration::from_secs(10), "{}: {took:?}", file.display());
        }
        folders += 1;
    }
    assert_eq!(folders, 15, "each target has inputs");
}

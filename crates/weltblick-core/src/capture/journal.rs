//! `journal.jsonl`: what happened to a capture while it was made, one JSON object a line.

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The journal's file name in a capture folder.
pub const JOURNAL: &str = "journal.jsonl";
/// A longer journal is none that `capture` wrote.
const MOST_LINES: usize = 10_000_000;

/// One thing that happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Nanoseconds on the host's clock after the capture's start.
    pub ns: u64,
    /// What happened.
    pub what: What,
    /// The stream that it happened to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<String>,
    /// The byte of the stream, counted from its start, let-go bytes included.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset: Option<u64>,
    /// More, for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// What can happen to a capture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum What {
    /// The capture began; `detail` is the date and time.
    Started,
    /// A source answered.
    Connected,
    /// A source broke off.
    Disconnected,
    /// It answered again; what it sent meanwhile is lost.
    Reconnected,
    /// A register was written.
    RegisterWritten,
    /// The target was reset.
    Reset,
    /// All is set up, before the target was let run.
    Armed,
    /// The target was let run.
    Released,
    /// The target stopped.
    Halted,
    /// A buffer of the target was read out; what follows is its content.
    ReadOut,
    /// A ring in memory was drained; what follows goes on where the last draining ended.
    Drained,
    /// A buffer had wrapped before it was read out: what it held is lost.
    Overwritten,
    /// By choice nothing is kept from here on.
    Unwatched,
    /// Bytes are kept again.
    Watched,
    /// The oldest bytes were let go; `offset` is the first that is kept.
    LetGo,
    /// The priorities of exceptions were read; `detail` has them.
    Priorities,
    /// Somebody pressed a key.
    Mark,
    /// Something was found to be wrong.
    Diagnosed,
    /// Budgets were judged, to see whether there is enough.
    Looked,
    /// The capture ended; `detail` says why.
    Ended,
    /// Something that a later version writes.
    #[serde(other)]
    Unknown,
}

/// A journal that cannot be read.
#[derive(Debug, Error)]
#[error("line {line}: {why}")]
pub struct JournalError {
    /// The line, from 1.
    pub line: usize,
    /// What is wrong with it.
    pub why: String,
}

impl Entry {
    /// An entry without a stream.
    #[must_use]
    pub const fn new(ns: u64, what: What) -> Self {
        Self { ns, what, stream: None, offset: None, detail: None }
    }

    /// Of a stream, at a byte of it.
    #[must_use]
    pub fn at(mut self, stream: &str, offset: u64) -> Self {
        self.stream = Some(stream.to_owned());
        self.offset = Some(offset);
        self
    }

    /// With more for people.
    #[must_use]
    pub fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// Its line, with the newline.
    #[must_use]
    pub fn to_line(&self) -> String {
        let mut line = serde_json::to_string(self).unwrap_or_default();
        line.push('\n');
        line
    }
}

/// Reads a journal. A last line without its newline was cut off and is left out.
///
/// # Errors
///
/// The first line that is no entry.
///
/// ```
/// use weltblick_core::capture::{What, parse_journal};
/// let text = "{\"ns\":5,\"what\":\"reconnected\",\"stream\":\"swo\",\"offset\":4096}\n{\"ns\":7,\"wh";
/// let entries = parse_journal(text).unwrap();
/// assert_eq!((entries.len(), entries[0].what), (1, What::Reconnected));
/// ```
pub fn parse_journal(text: &str) -> Result<Vec<Entry>, JournalError> {
    let lines = text.split_inclusive('\n').filter(|line| line.ends_with('\n'));
    let entry = |(number, line): (usize, &str)| {
        if number >= MOST_LINES {
            return Err(JournalError { line: number + 1, why: "the journal is too long".into() });
        }
        serde_json::from_str(line)
            .map_err(|error| JournalError { line: number + 1, why: error.to_string() })
    };
    lines.enumerate().map(entry).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_written_is_read_again() {
        let entries = [
            Entry::new(0, What::Started).detail("2026-05-04 03:02:01 UTC"),
            Entry::new(12, What::Reconnected).at("swo", 77),
            Entry::new(13, What::Mark).detail("\u{1b}[31m \"quoted\"\n"),
        ];
        let text: String = entries.iter().map(Entry::to_line).collect();
        assert_eq!(parse_journal(&text).unwrap(), entries);
        assert_eq!(text.lines().count(), 3);
    }

    #[test]
    fn later_words_are_not_understood_but_read() {
        let entries = parse_journal("{\"ns\":1,\"what\":\"sang\",\"tune\":3}\n").unwrap();
        assert_eq!(entries[0].what, What::Unknown);
        assert_eq!(parse_journal("{\"ns\":1}\n").unwrap_err().line, 1);
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "([{}\":,a-z0-9\n]|\"ns\":1){0,60}") {
            let _ = parse_journal(&text);
        }
    }
}

//! The next or the previous moment of a kind.

use super::lane::{Entry, LaneKey, What};
use crate::measure::signals::name_in;

/// What a user searches for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    kind: Kind,
    /// A name, or a part of a text; empty: any.
    name: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Interrupt,
    Task,
    Span,
    Object,
    Text,
    Value,
    Lost,
}

const KINDS: [(&str, Kind); 7] = [
    ("irq", Kind::Interrupt),
    ("task", Kind::Task),
    ("span", Kind::Span),
    ("object", Kind::Object),
    ("text", Kind::Text),
    ("value", Kind::Value),
    ("lost", Kind::Lost),
];

impl std::str::FromStr for Wanted {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (kind, name) = text.split_once(':').unwrap_or((text, ""));
        match KINDS.iter().find(|(known, _)| *known == kind) {
            Some(&(_, kind)) => Ok(Self { kind, name: name.to_owned() }),
            None => Err(format!(
                "`{kind}` cannot be searched; write irq, task, span, object, text, value or lost, with a name after a colon: task:telemetry"
            )),
        }
    }
}

impl Wanted {
    /// Whether an entry is meant: a handler or a task that starts, an object that is taken or given,
    /// a text with these letters. A name fits whole.
    fn fits(&self, entry: &Entry, name: &dyn Fn(LaneKey) -> String) -> bool {
        let kind = match (entry.lane, &entry.what) {
            (LaneKey::Interrupt(..), What::Entered) => Kind::Interrupt,
            (LaneKey::Task(_), What::Runs) => Kind::Task,
            (LaneKey::Span(_), What::Begins) => Kind::Span,
            (LaneKey::Object(_), _) => Kind::Object,
            (LaneKey::Value(_) | LaneKey::Accessed(_), _) => Kind::Value,
            (_, What::Lost) => Kind::Lost,
            (LaneKey::Text(_), What::Said(text)) => {
                return self.kind == Kind::Text && text.contains(&self.name);
            }
            _ => return false,
        };
        let is_called =
            |lane: &str| lane == self.name || kind == Kind::Value && name_in(lane) == self.name;
        kind == self.kind && (self.name.is_empty() || is_called(&name(entry.lane)))
    }

    /// The first that fits after `tick`, or the last one before.
    #[must_use]
    pub fn find<'e>(
        &self,
        entries: &'e [Entry],
        tick: u64,
        forwards: bool,
        name: &dyn Fn(LaneKey) -> String,
    ) -> Option<&'e Entry> {
        let fits = |entry: &&Entry| self.fits(entry, name);
        if forwards {
            entries.iter().filter(|entry| entry.time.latest > tick).find(fits)
        } else {
            entries.iter().rev().filter(|entry| entry.time.latest < tick).find(fits)
        }
    }
}

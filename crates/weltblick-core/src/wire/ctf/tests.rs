//! Event traces that are written here, bit by bit, and read back.

mod fragments;
mod hostile;
mod packets;
mod values;

use super::{Damage, Decoder, Missing, Record, Schema, Sink, Value};
use std::ops::Range;

/// What a sink was told.
#[derive(Debug, Clone, PartialEq)]
enum Told {
    Event { at: Range<u64>, name: String, time: Option<u64>, values: Vec<(String, Kept)> },
    Loss(Range<u64>, Damage),
    Missing(u64, Missing),
    Around(Range<u64>),
}

/// A value that does not borrow.
#[derive(Debug, Clone, PartialEq)]
enum Kept {
    Unsigned(u64),
    Signed(i64),
    Float(f64),
    Text(String),
}

struct Recorder<'s>(&'s Schema, Vec<Told>);

impl Sink for Recorder<'_> {
    fn event(&mut self, at: Range<u64>, record: Record<'_>) {
        let values = record.values().map(|(field, value)| {
            let kept = match value {
                Value::Unsigned(value) => Kept::Unsigned(value),
                Value::Signed(value) => Kept::Signed(value),
                Value::Float(value) => Kept::Float(value),
                Value::Text(text) => Kept::Text(String::from_utf8_lossy(text).into_owned()),
            };
            (self.0.field(field).path.clone(), kept)
        });
        let (values, time) = (values.collect(), record.time);
        let name = self.0.events()[record.class].name.clone();
        self.1.push(Told::Event { at, name, time, values });
    }

    fn loss(&mut self, at: Range<u64>, why: Damage) {
        self.1.push(Told::Loss(at, why));
    }

    fn missing(&mut self, offset: u64, _begin: Option<u64>, what: Missing) {
        self.1.push(Told::Missing(offset, what));
    }

    fn around(&mut self, at: Range<u64>) {
        self.1.push(Told::Around(at));
    }
}

/// Reads a file in pieces of `cut` bytes.
fn read(schema: &Schema, bytes: &[u8], cut: usize) -> Vec<Told> {
    let mut recorder = Recorder(schema, Vec::new());
    let mut decoder = Decoder::new(schema, |_| true);
    for piece in bytes.chunks(cut) {
        decoder.push(piece, &mut recorder);
    }
    decoder.finish(&mut recorder);
    recorder.1
}

/// An event's name, time and values.
type Heard<'a> = (&'a str, Option<u64>, &'a [(String, Kept)]);

/// Only the events.
fn events(told: &[Told]) -> Vec<Heard<'_>> {
    let event = |told| match told {
        &Told::Event { ref name, time, ref values, .. } => {
            Some((name.as_str(), time, values.as_slice()))
        }
        _ => None,
    };
    told.iter().filter_map(event).collect()
}

fn schema(text: &str) -> Schema {
    Schema::parse("metadata", text).unwrap_or_else(|fault| panic!("{fault}"))
}

/// Writes bits one by one.
#[derive(Default)]
struct Pen {
    bytes: Vec<u8>,
    at: usize,
}

impl Pen {
    fn align(&mut self, to: usize) {
        self.at = self.at.next_multiple_of(to);
        self.bytes.resize(self.at.div_ceil(8), 0);
    }

    fn number(&mut self, value: u64, size: usize, big: bool) {
        for index in 0..size {
            let bit = if big { size - 1 - index } else { index };
            let inside = if big { 7 - self.at % 8 } else { self.at % 8 };
            if self.at.is_multiple_of(8) {
                self.bytes.push(0);
            }
            self.bytes[self.at / 8] |= ((value >> bit & 1) as u8) << inside;
            self.at += 1;
        }
    }

    fn text(&mut self, text: &str) {
        for byte in text.bytes().chain([0]) {
            self.number(u64::from(byte), 8, false);
        }
    }
}

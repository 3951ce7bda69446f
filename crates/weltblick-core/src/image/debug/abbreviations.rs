//! Tables of abbreviations, each read once.

use super::units::Slice;
use gimli::{Abbreviations, DebugAbbrev, DebugAbbrevOffset, Reader as _, Section as _};
use std::collections::HashMap;
use std::sync::Arc;

/// An abbreviation has no more attributes: entries of a byte could else cost as many as a crafted file likes.
const MOST_ATTRIBUTES: usize = 128;

/// The tables of one file, by offset.
#[derive(Debug)]
pub(super) struct Tables {
    section: DebugAbbrev<Slice>,
    known: HashMap<usize, Option<Arc<Abbreviations>>>,
    /// Bytes that may still be read: tables of a sound file do not overlap.
    room: usize,
}

impl Tables {
    pub(super) fn of(section: DebugAbbrev<Slice>) -> Self {
        let room = 2 * section.reader().len();
        Self { section, known: HashMap::new(), room }
    }

    /// The table at an offset; `None` if it is damaged, or one too many.
    pub(super) fn at(&mut self, offset: DebugAbbrevOffset) -> Option<Arc<Abbreviations>> {
        if let Some(known) = self.known.get(&offset.0) {
            return known.clone();
        }
        let bytes = self.section.reader().bytes().get(offset.0..);
        let length = bytes.and_then(length_of_abbreviations);
        let room = length.and_then(|length| self.room.checked_sub(length));
        let read = room.and_then(|room| {
            self.room = room;
            self.section.abbreviations(offset).ok().map(Arc::new)
        });
        self.known.insert(offset.0, read.clone());
        read
    }
}

/// How many bytes a table of abbreviations takes (DWARF 5, 7.5.3). `None` if it is cut off, or has an abbreviation
/// with more than [`MOST_ATTRIBUTES`].
fn length_of_abbreviations(bytes: &[u8]) -> Option<usize> {
    let mut rest = bytes;
    loop {
        if leb(&mut rest)? == 0 {
            return Some(bytes.len() - rest.len());
        }
        leb(&mut rest)?;
        rest = rest.get(1..)?;
        for attributes in 0.. {
            let (name, form) = (leb(&mut rest)?, leb(&mut rest)?);
            if (name, form) == (0, 0) {
                break;
            }
            if form == u64::from(gimli::DW_FORM_implicit_const.0) {
                leb(&mut rest)?;
            }
            if attributes == MOST_ATTRIBUTES {
                return None;
            }
        }
    }
}

/// A number in LEB128, up to 63 bits of it.
fn leb(bytes: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for place in 0.. {
        let (&byte, rest) = bytes.split_first()?;
        *bytes = rest;
        if place < 9 {
            value |= u64::from(byte & 0x7f) << (7 * place);
        }
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_of_abbreviations_ends_at_its_zero() {
        // Two abbreviations, the second with an implicit constant of two bytes.
        let table = [1, 0x11, 1, 3, 8, 0, 0, 2, 0x24, 0, 0x3e, 0x21, 0x85, 0x01, 0, 0, 0, 9];
        assert_eq!(length_of_abbreviations(&table), Some(table.len() - 1));
        assert_eq!(length_of_abbreviations(&table[..12]), None);
        assert_eq!(length_of_abbreviations(&[0]), Some(1));
        let with = |count: usize| {
            let mut table = vec![1, 0x11, 0];
            table.extend([0x3f, 0x19].repeat(count));
            table.extend([0, 0, 0]);
            length_of_abbreviations(&table)
        };
        assert!(with(MOST_ATTRIBUTES).is_some());
        assert_eq!(with(MOST_ATTRIBUTES + 1), None);
    }
}

//! Bytes of stimulus ports to lines.

use crate::event::{Arguments, CoreSet, Event, LossReason, Position, Sink, Statement};
use crate::time::Window;
use std::collections::BTreeMap;

/// Longer lines are cut into pieces: a stream without line ends must not grow memory.
const LONGEST: usize = 4096;
/// Ports whose lines are kept apart at most; further ones are left out.
const MOST_PORTS: usize = 1024;

/// Where a line came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Source {
    /// A stimulus port.
    Port(u32),
    /// A mark: its format stands in the image.
    Text {
        /// Where.
        format: u64,
        /// What goes into it.
        arguments: Arguments,
    },
}

/// Why a line ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// With a line end.
    Whole,
    /// It is longer than lines are kept, or a number came instead of its end.
    Long,
    /// Something is missing after it.
    Lost,
    /// The recording ends.
    Finished,
}

/// One line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Line<'a> {
    /// Where it came from.
    pub source: Source,
    /// When its first byte was written.
    pub time: Option<Window>,
    /// Its bytes, without the line end; empty for a mark.
    pub bytes: &'a [u8],
    /// It is one write to a port whose bytes are no text.
    pub is_binary: bool,
    /// Why it ends.
    pub end: End,
    /// Something is missing before it.
    pub after_loss: bool,
}

impl Line<'_> {
    /// What was written to a port: its text, or the number of a binary write (`0x0000002a`).
    #[must_use]
    pub fn written(&self) -> String {
        if !self.is_binary {
            return String::from_utf8_lossy(self.bytes).into_owned();
        }
        // Stimulus ports are little-endian.
        let digits: String = self.bytes.iter().rev().map(|byte| format!("{byte:02x}")).collect();
        format!("0x{digits}")
    }
}

/// A line that is being written.
#[derive(Debug, Clone, Default)]
struct Open {
    bytes: Vec<u8>,
    time: Option<Window>,
    after_loss: bool,
    /// Writes so far, and those of them that are no text.
    writes: u64,
    binary: u64,
}

impl Open {
    /// Counts a write. Whether the port's writes are no text: half of them at least. So one damaged write does not make
    /// numbers of a text.
    fn is_binary(&mut self, bytes: &[u8]) -> bool {
        self.writes += 1;
        self.binary += u64::from(!may_be_text(bytes));
        2 * self.binary >= self.writes
    }
}

/// Whether bytes may be a part of a text in UTF-8, cut anywhere.
fn may_be_text(bytes: &[u8]) -> bool {
    let continues = |byte: &&u8| matches!(byte, 0x80..=0xbf);
    let cut = bytes.iter().take(3).take_while(continues).count();
    let is_utf8 = match std::str::from_utf8(&bytes[cut..]) {
        Ok(_) => true,
        Err(error) => error.error_len().is_none(),
    };
    // Control characters that no text has: all but those that move a cursor, ring, or colour.
    let is_control = |byte: &u8| matches!(byte, 0..=6 | 0x0e..=0x1a | 0x1c..=0x1f | 0x7f);
    is_utf8 && !bytes.iter().any(is_control)
}

/// How bytes of stimulus ports are read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Reading {
    /// As text, but for ports whose bytes are none.
    #[default]
    ByTheBytes,
    /// All as text.
    Text,
    /// Each write is a number.
    Numbers,
}

/// Receives lines.
pub trait Lines {
    /// One line.
    fn line(&mut self, line: Line<'_>);
}

impl<F: FnMut(Line<'_>)> Lines for F {
    fn line(&mut self, line: Line<'_>) {
        self(line);
    }
}

/// Puts lines together, port by port, and hands them on.
#[derive(Debug, Clone)]
pub struct Console<F> {
    /// By core and port: what several cores write to one port is several lines.
    ports: BTreeMap<(u8, u32), Open>,
    /// Bytes of more ports than are kept apart.
    pub left_out: u64,
    /// The cores of which something was lost that no line says so far.
    lost: CoreSet,
    reading: Reading,
    /// Receives the lines, in the order of their ends.
    pub tell: F,
}

impl<F: Lines> Console<F> {
    /// Nothing was written yet; `tell` receives the lines in the order of their ends.
    pub const fn new(tell: F) -> Self {
        Self {
            ports: BTreeMap::new(),
            left_out: 0,
            lost: CoreSet::NONE,
            reading: Reading::ByTheBytes,
            tell,
        }
    }

    /// Reads bytes in this way.
    #[must_use]
    pub fn reading(self, reading: Reading) -> Self {
        Self { reading, ..self }
    }

    /// The recording has ended: what was begun is a line too.
    pub fn finish(&mut self) {
        for (&(_, port), open) in &mut self.ports {
            if !open.bytes.is_empty() {
                Self::line(port, open, End::Finished, &mut self.tell);
            }
        }
    }

    /// Something of a core may be missing: what was begun there has no certain end.
    fn lost(&mut self, core: u8) {
        for (&(_, port), open) in self.ports.range_mut((core, 0)..=(core, u32::MAX)) {
            if !open.bytes.is_empty() {
                Self::line(port, open, End::Lost, &mut self.tell);
            }
            open.after_loss = true;
        }
        self.lost.add(core);
    }

    fn line(port: u32, open: &mut Open, end: End, tell: &mut F) {
        let bytes = open.bytes.strip_suffix(b"\r").unwrap_or(&open.bytes);
        let after_loss = std::mem::take(&mut open.after_loss);
        let (source, time, is_binary) = (Source::Port(port), open.time, false);
        tell.line(Line { source, time, bytes, is_binary, end, after_loss });
        open.bytes.clear();
    }

    fn write(&mut self, (core, port): (u8, u32), bytes: &[u8], time: Option<Window>) {
        let key = (core, port);
        if self.ports.len() >= MOST_PORTS && !self.ports.contains_key(&key) {
            self.left_out += bytes.len() as u64;
            return;
        }
        let lost = self.lost.has(core);
        let open =
            self.ports.entry(key).or_insert_with(|| Open { after_loss: lost, ..Open::default() });
        let is_binary = match self.reading {
            Reading::ByTheBytes => open.is_binary(bytes),
            Reading::Text => false,
            Reading::Numbers => true,
        };
        if is_binary {
            // Whether the text before it had ended nobody knows.
            if !open.bytes.is_empty() {
                Self::line(port, open, End::Long, &mut self.tell);
            }
            let (source, end) = (Source::Port(port), End::Whole);
            let after_loss = std::mem::take(&mut open.after_loss);
            self.tell.line(Line { source, time, bytes, is_binary, end, after_loss });
            return;
        }
        for &byte in bytes {
            if open.bytes.is_empty() {
                open.time = time;
            }
            if byte == b'\n' {
                Self::line(port, open, End::Whole, &mut self.tell);
                continue;
            }
            open.bytes.push(byte);
            if open.bytes.len() == LONGEST {
                Self::line(port, open, End::Long, &mut self.tell);
            }
        }
    }
}

impl<F: Lines> Sink for Console<F> {
    #[inline]
    fn event(&mut self, position: Position, event: &Event) {
        match event {
            Event::Said { port, bytes } => {
                self.write((position.core, *port), bytes.as_slice(), position.time);
            }
            Event::Stated(Statement::Text { format, arguments }) => {
                let source = Source::Text { format: *format, arguments: *arguments };
                let after_loss = self.lost.has(position.core);
                self.lost.remove(position.core);
                let time = position.time;
                let (bytes, is_binary, end) = (&[][..], false, End::Whole);
                self.tell.line(Line { source, time, bytes, is_binary, end, after_loss });
            }
            // What another file lacks was not written to this one.
            Event::Lost { why: LossReason::Shared, .. } => {}
            Event::Lost { .. } | Event::Unwatched => self.lost(position.core),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{Bytes, Origin};
    use proptest::prelude::*;

    fn told(feed: impl FnOnce(&mut dyn FnMut(u32, &[u8]), &mut dyn FnMut())) -> Vec<String> {
        let lines = std::cell::RefCell::new(Vec::new());
        let console = std::cell::RefCell::new(Console::new(|line: Line<'_>| {
            let text = line.written();
            lines.borrow_mut().push(format!("{:?} {text} {:?}", line.source, line.end));
        }));
        let position = Position::new(Origin(0), 0, None);
        feed(
            &mut |port, bytes| {
                for part in bytes.chunks(4) {
                    let mut word = [0; 4];
                    word[..part.len()].copy_from_slice(part);
                    let bytes = Bytes::from_word(u32::from_le_bytes(word), part.len() as u8);
                    console.borrow_mut().event(position, &Event::Said { port, bytes });
                }
            },
            &mut || {
                let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
                console.borrow_mut().event(position, &lost);
            },
        );
        console.borrow_mut().finish();
        drop(console);
        lines.into_inner()
    }

    #[test]
    fn ports_do_not_mix_and_losses_end_lines() {
        let lines = told(|say, lose| {
            say(0, b"buoy ");
            say(3, b"other\r\n");
            say(0, b"awake\nrep");
            lose();
            say(0, b"ort\n");
            say(0, b"half");
        });
        let expected = [
            "Port(3) other Whole",
            "Port(0) buoy awake Whole",
            "Port(0) rep Lost",
            "Port(0) ort Whole",
            "Port(0) half Finished",
        ];
        assert_eq!(lines, expected);
    }

    #[test]
    fn what_is_no_text_is_one_number_a_write() {
        let lines = told(|say, _| {
            say(5, &42_u32.to_le_bytes());
            say(5, &0x8000_0041_u32.to_le_bytes());
            say(0, b"buoy awake\n");
            // Damage: one write of many.
            say(0, b"ba\x00\xfftt");
            say(0, b"ery low\n");
            say(5, b"ABCD");
        });
        let expected = [
            "Port(5) 0x0000002a Whole",
            "Port(5) 0x80000041 Whole",
            "Port(0) buoy awake Whole",
            "Port(0) ba\0\u{fffd}ttery low Whole",
            "Port(5) 0x44434241 Whole",
        ];
        assert_eq!(lines, expected);
    }

    proptest! {
        #[test]
        fn nothing_is_added_and_nothing_left_out(
            text in "[a-z\n]{0,200}",
        ) {
            let lines = told(|say, _| say(5, text.as_bytes()));
            let joined: Vec<String> = lines
                .iter()
                .map(|line| line.split(' ').nth(1).unwrap_or_default().to_owned())
                .collect();
            let expected: Vec<&str> = text.strip_suffix('\n').unwrap_or(&text).split('\n').collect();
            prop_assert_eq!(joined, if text.is_empty() { Vec::new() } else { expected });
        }
    }
}

//! `inspect --packets` of an event trace: its events with all their fields, file by file, also those
//! that mean nothing here.

use super::packets::{Request, Wanted};
use crate::show::{self, PacketLine};
use crate::sources::Capture;
use anyhow::Result;
use std::io::{self, Write};
use std::ops::{ControlFlow, Range};
use weltblick_core::capture::EventTrace;
use weltblick_core::time::Window;
use weltblick_core::wire::ctf::{Damage, Decoder, Missing, Record, Sink};

/// Lists events as text lines, or as one JSON object a line.
pub(super) fn list(
    capture: &Capture,
    trace: &EventTrace,
    request: &Request<'_>,
    out: &mut dyn Write,
) -> Result<()> {
    let origin = capture.event_trace_name();
    let mut listing = Listing {
        capture,
        trace,
        wanted: Wanted::new(capture, request.within)?,
        origin: &origin,
        start: 0,
        left: request.top,
        face: show::PacketFace::new(request.format, out),
        failed: None,
    };
    listing.face.heading()?;
    for input in capture.event_files() {
        let mut decoder = Decoder::new(trace.schema(), |_| true);
        let mut length = 0;
        input.read(|bytes| {
            length += bytes.len() as u64;
            decoder.push(bytes, &mut listing);
            match listing.is_full() {
                true => ControlFlow::Break(()),
                false => ControlFlow::Continue(()),
            }
        })?;
        if listing.is_full() {
            break;
        }
        decoder.finish(&mut listing);
        listing.start += length;
    }
    listing.failed.map_or(Ok(()), |error| Err(error.into()))
}

struct Listing<'a> {
    capture: &'a Capture,
    trace: &'a EventTrace,
    wanted: Wanted,
    origin: &'a str,
    /// The byte of the trace with which the file begins.
    start: u64,
    left: usize,
    face: show::PacketFace<'a>,
    failed: Option<io::Error>,
}

impl<'a> Listing<'a> {
    fn is_full(&self) -> bool {
        self.left == 0 || self.failed.is_some()
    }

    fn tell(
        &mut self,
        at: Range<u64>,
        time: Option<Window>,
        write: impl FnOnce(&mut show::PacketFace<'a>, &PacketLine<'_>) -> io::Result<()>,
    ) {
        let at = self.start + at.start..self.start + at.end;
        if self.is_full() || !self.wanted.holds(&at, self.origin, time) {
            return;
        }
        self.left -= 1;
        let clock = self.capture.timestamp_clock();
        let line = PacketLine { origin: self.origin, at, time, clock, image: None };
        self.failed = write(&mut self.face, &line).err();
    }
}

impl Sink for Listing<'_> {
    fn event(&mut self, at: Range<u64>, record: Record<'_>) {
        let (time, schema) = (self.trace.when(&record), self.trace.schema());
        self.tell(at, time, |face, line| face.record(line, schema, &record));
    }

    fn loss(&mut self, at: Range<u64>, why: Damage) {
        self.tell(at, None, |face, line| face.loss(line, why.describe()));
    }

    fn missing(&mut self, offset: u64, _begin: Option<u64>, what: Missing) {
        let why = match what {
            Missing::Events(count) => format!("the tracer dropped {count} events"),
            Missing::Packets(count) => format!("{count} packets never came"),
            Missing::Wraps(count) => format!(
                "the packet ends {count} wraps of its timestamps after its last event: some may have wrapped unseen"
            ),
        };
        self.tell(offset..offset, None, |face, line| face.loss(line, &why));
    }
}

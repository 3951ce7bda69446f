//! The push deframer: frames in, each source's bytes out.

use std::ops::Range;

/// A trace ID, 0 to 127. 0 means "no data", `0x70` to `0x7F` are reserved.
pub type TraceId = u8;

/// Receives what the frames contain, in stream order.
pub trait Sink {
    /// Bytes of the source `id`, whose frame starts at `frame` in the framed stream.
    fn data(&mut self, id: TraceId, bytes: &[u8], frame: u64);
    /// Bytes that are no frame. Every source may have lost bytes here.
    fn loss(&mut self, at: Range<u64>, why: Damage);
    /// A full (four bytes) or half (two bytes) synchronisation.
    fn synchronised(&mut self, at: Range<u64>);
    /// The null source or a reserved ID: `bytes` bytes of padding or of formatter events.
    fn padding(&mut self, _id: TraceId, _bytes: usize) {}
    /// A whole frame that starts at `frame`; its first bytes are those of `id`, if that was said before. What
    /// it contains comes next.
    #[inline(always)]
    fn frame(&mut self, _frame: u64, _id: Option<TraceId>) {}
    /// Bytes in a sound frame at `frame` whose source was named before the stream or a loss.
    fn orphaned(&mut self, _frame: u64, _bytes: usize) {}
}

/// Why bytes could not be read as frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Damage {
    /// No full synchronisation has told where frames start.
    Unsynchronised,
    /// A full synchronisation came before the frame was whole.
    ShortFrame,
    /// An even byte names trace ID `7F`, which no formatter sends.
    ReservedId,
    /// The stream ended inside a frame.
    CutOff,
}

impl Damage {
    /// One line for people.
    #[must_use]
    pub const fn describe(self) -> &'static str {
        match self {
            Self::Unsynchronised => "no frame synchronisation yet",
            Self::ShortFrame => "frame cut short",
            Self::ReservedId => "frame names reserved trace ID 7F",
            Self::CutOff => "stream ends inside a frame",
        }
    }
}

/// Where the first frame of a stream stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Start {
    /// Somewhere: wait for a full synchronisation.
    Anywhere,
    /// At the first byte, as an on-chip trace buffer delivers it.
    AtFrame,
}

const FRAME: usize = 16;

/// A deframer. One frame of state, no allocation.
#[derive(Debug, Clone)]
pub struct Deframer {
    offset: u64,
    /// The source of the next data byte; unknown until one is named, also after a loss.
    id: Option<TraceId>,
    frame: [u8; FRAME],
    len: usize,
    /// Where the frame's first byte stood.
    frame_start: u64,
    /// Bytes `FF` at an even position, which may go on to a synchronisation.
    sync_bytes: u8,
    /// The last three bytes, newest lowest: what may become a full synchronisation.
    last: u32,
    lost: Option<(u64, Damage)>,
    start: Start,
}

impl Deframer {
    /// A deframer at the start of a stream.
    #[must_use]
    pub const fn new(start: Start) -> Self {
        Self {
            offset: 0,
            id: None,
            frame: [0; FRAME],
            len: 0,
            frame_start: 0,
            sync_bytes: 0,
            last: 0,
            lost: match start {
                Start::Anywhere => Some((0, Damage::Unsynchronised)),
                Start::AtFrame => None,
            },
            start,
        }
    }

    /// The same from a frame on that starts at `frame`, and whose first bytes are those of `id`: as
    /// [`Sink::frame`] said when all before it was read.
    #[must_use]
    pub const fn resuming(start: Start, frame: u64, id: Option<TraceId>) -> Self {
        Self { offset: frame, id, frame_start: frame, lost: None, ..Self::new(start) }
    }

    /// Reads the next bytes of the framed stream.
    pub fn push(&mut self, mut bytes: &[u8], sink: &mut impl Sink) {
        while let Some((&byte, rest)) = bytes.split_first() {
            if let Some(frame) = self.whole_frame(bytes) {
                self.frame = frame;
                self.frame_start = self.offset;
                self.offset += FRAME as u64;
                self.last = u32::from_be_bytes([frame[12], frame[13], frame[14], frame[15]]);
                self.unpack(sink);
                bytes = &bytes[FRAME..];
                continue;
            }
            bytes = rest;
            let at = self.offset;
            self.offset += 1;
            self.last = self.last << 8 | u32::from(byte);
            if self.last == 0xffff_ff7f && at >= 3 {
                self.full_sync(sink);
            } else if self.lost.is_none() {
                self.take(byte, at, sink);
            }
        }
    }

    /// The next frame, if it lies in `bytes` as a whole and no synchronisation starts in it: none
    /// of its even bytes is `FF`. Byte by byte gives the same at half the rate.
    #[inline]
    fn whole_frame(&self, bytes: &[u8]) -> Option<[u8; FRAME]> {
        const EVEN: u128 = 0x00ff_00ff_00ff_00ff_00ff_00ff_00ff_00ff;
        const ONES: u128 = 0x0001_0001_0001_0001_0001_0001_0001_0001;
        if self.len > 0 || self.sync_bytes > 0 || self.lost.is_some() {
            return None;
        }
        let frame = bytes.first_chunk::<FRAME>()?;
        let even = u128::from_le_bytes(*frame) & EVEN;
        // An FF carries into the byte above it, which is masked out.
        ((even + ONES) & !EVEN == 0).then_some(*frame)
    }

    /// Ends the stream: an open frame is lost.
    pub fn finish(mut self, sink: &mut impl Sink) {
        let held = self.len > 0 || self.sync_bytes > 0;
        if held && self.lost.is_none() {
            self.lose(self.frame_start, Damage::CutOff);
        }
        if let Some((start, why)) = self.lost
            && start < self.offset
        {
            sink.loss(start..self.offset, why);
        }
    }

    /// Bytes are missing here: an open frame is lost, and so is everything up to the next full
    /// synchronisation, unless the stream is one of buffers that start at a frame.
    pub fn interrupt(&mut self, sink: &mut impl Sink) {
        let held = self.len > 0 || self.sync_bytes > 0;
        if self.lost.is_none() {
            self.lose(if held { self.frame_start } else { self.offset }, Damage::Unsynchronised);
        }
        if self.start == Start::AtFrame
            && let Some((start, why)) = self.lost.take()
            && start < self.offset
        {
            sink.loss(start..self.offset, why);
        }
        self.last = 0;
    }

    fn lose(&mut self, start: u64, why: Damage) {
        self.lost = Some((start, why));
        self.len = 0;
        self.sync_bytes = 0;
        self.id = None;
    }

    /// The four bytes before `offset` are a full synchronisation: a frame starts here.
    fn full_sync(&mut self, sink: &mut impl Sink) {
        let sync = self.offset - 4;
        // Its first bytes looked like the start of a frame: three FF at most are held as data.
        if self.lost.is_none() && self.frame_start < sync && (self.len > 0 || self.sync_bytes > 0) {
            self.lose(self.frame_start, Damage::ShortFrame);
        }
        if let Some((start, why)) = self.lost.take()
            && start < sync
        {
            sink.loss(start..sync, why);
        }
        sink.synchronised(sync..self.offset);
        self.len = 0;
        self.sync_bytes = 0;
        self.frame_start = self.offset;
    }

    /// One byte of a frame, or of a synchronisation inside it.
    fn take(&mut self, byte: u8, at: u64, sink: &mut impl Sink) {
        if self.len == 0 && self.sync_bytes == 0 {
            self.frame_start = at;
        }
        match (self.sync_bytes, byte) {
            (1, 0x7f) => {
                self.sync_bytes = 0;
                sink.synchronised(at - 1..at + 1);
            }
            // FF FF can only go on to a full synchronisation.
            (1.., 0xff) => self.sync_bytes = 2,
            (1.., _) => self.lose(self.frame_start, Damage::ReservedId),
            (0, 0xff) if self.len.is_multiple_of(2) => self.sync_bytes = 1,
            _ => {
                self.frame[self.len] = byte;
                self.len += 1;
                if self.len == FRAME {
                    self.len = 0;
                    self.unpack(sink);
                }
            }
        }
    }

    /// Hands out the data of a whole frame, in runs of one source.
    fn unpack(&mut self, sink: &mut impl Sink) {
        sink.frame(self.frame_start, self.id);
        let auxiliary = self.frame[FRAME - 1];
        let mut run = [0_u8; FRAME];
        let mut len = 0;
        let mut changes_after_next = None;
        for at in 0..FRAME - 1 {
            let byte = self.frame[at];
            let flag = auxiliary >> (at / 2) & 1;
            if at % 2 == 0 && byte & 1 == 1 {
                let id = byte >> 1;
                // Flag set: the byte after this one still belongs to the old source.
                if flag == 1 && at != FRAME - 2 {
                    changes_after_next = Some(id);
                } else {
                    self.flush(&run[..len], sink);
                    len = 0;
                    self.id = Some(id);
                }
                continue;
            }
            run[len] = if at % 2 == 0 { byte | flag } else { byte };
            len += 1;
            if let Some(id) = changes_after_next.take() {
                self.flush(&run[..len], sink);
                len = 0;
                self.id = Some(id);
            }
        }
        self.flush(&run[..len], sink);
    }

    /// Hands out one run of bytes of the current source.
    fn flush(&self, run: &[u8], sink: &mut impl Sink) {
        match self.id {
            _ if run.is_empty() => {}
            Some(id @ 1..=0x6f) => sink.data(id, run, self.frame_start),
            Some(id) => sink.padding(id, run.len()),
            None => sink.orphaned(self.frame_start, run.len()),
        }
    }
}

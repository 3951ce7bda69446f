//! The encoder of the CoreSight formatter's frames, written from IHI 0029, chapter D4, alone.

/// A full synchronisation.
pub const FULL_SYNC: [u8; 4] = [0xff, 0xff, 0xff, 0x7f];
/// A half synchronisation.
pub const HALF_SYNC: [u8; 2] = [0xff, 0x7f];
/// The source that says nothing.
const NULL: u8 = 0;
/// The position of a frame's last even byte.
const LAST_EVEN: usize = 14;

/// Packs bytes of several sources into frames of 16.
///
/// Every call leaves an even position, where the next source can be named: the last byte of an
/// odd run is written together with the change to the next source, whose flag delays it.
#[derive(Debug, Clone, Default)]
pub struct Formatter {
    id: u8,
    out: Vec<u8>,
    frame: Vec<u8>,
    flags: u8,
    /// Bytes between synchronisations that it sends of its own accord, and bytes since the last one.
    every: Option<u64>,
    since: u64,
}

impl Formatter {
    /// A formatter that has named no source yet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Bytes of source `id` (1 to 0x6F).
    pub fn write(&mut self, id: u8, bytes: &[u8]) {
        let Some((&last, most)) = bytes.split_last() else { return };
        if id != self.id {
            self.name(id);
        }
        for &byte in most {
            self.data(byte);
        }
        let at = self.frame.len();
        if at.is_multiple_of(2) && at != LAST_EVEN {
            self.data_before_change(last, NULL);
        } else {
            self.data(last);
        }
    }

    /// Sends a full synchronisation after so many bytes of frames, again and again.
    pub fn synchronise_every(&mut self, bytes: Option<u64>) {
        self.every = bytes;
    }

    /// A full synchronisation; the open frame is completed with the null source first.
    pub fn synchronise(&mut self) {
        self.complete();
        self.out.extend(FULL_SYNC);
        self.since = 0;
    }

    /// A half synchronisation between two bytes of a frame; only at an even position, which every
    /// call leaves. It is no part of the frame, so it goes out at once only at a frame's start.
    pub fn half_synchronise(&mut self) -> bool {
        let between_frames = self.frame.is_empty();
        if between_frames {
            self.out.extend(HALF_SYNC);
        }
        between_frames
    }

    /// Completes the open frame with the null source.
    pub fn complete(&mut self) {
        while !self.frame.is_empty() {
            if self.id == NULL {
                self.data(0);
            } else {
                self.name(NULL);
            }
        }
    }

    /// Takes the frames that are whole.
    pub fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.out)
    }

    /// Names the source of the next byte, at an even position.
    fn name(&mut self, id: u8) {
        debug_assert!(self.frame.len().is_multiple_of(2), "sources change at even positions");
        self.frame.push(id << 1 | 1);
        self.id = id;
        self.close_if_full();
    }

    /// Names the next source, but the byte after the name still belongs to the present one.
    fn data_before_change(&mut self, byte: u8, next: u8) {
        self.flags |= 1 << (self.frame.len() / 2);
        self.frame.push(next << 1 | 1);
        self.id = next;
        self.data(byte);
    }

    fn data(&mut self, byte: u8) {
        let at = self.frame.len();
        if at.is_multiple_of(2) {
            self.frame.push(byte & !1);
            self.flags |= (byte & 1) << (at / 2);
        } else {
            self.frame.push(byte);
        }
        self.close_if_full();
    }

    fn close_if_full(&mut self) {
        if self.frame.len() == LAST_EVEN + 1 {
            self.frame.push(self.flags);
            self.since += self.frame.len() as u64;
            self.out.append(&mut self.frame);
            self.flags = 0;
            if self.every.is_some_and(|every| self.since >= every) {
                self.out.extend(FULL_SYNC);
                self.since = 0;
            }
        }
    }
}

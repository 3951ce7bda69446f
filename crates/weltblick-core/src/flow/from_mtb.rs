//! Branches of a micro trace buffer to executed instructions.

use super::follower::{Follower, mismatch};
use super::{Code, Gap, Mismatch, Moment, Sink};
use crate::image::Image;
use crate::wire::Malformed;
use crate::wire::mtb::{self, Packet, is_exception_return};
use std::ops::Range;

/// Exceptions that a vector table may have.
const EXCEPTIONS: Range<u16> = 1..512;
/// Handlers that are active at once: a core has no more priorities to interrupt each other.
const MOST_ACTIVE: usize = 256;

/// What ran, as a micro trace buffer tells it: a sink of its packets.
///
/// Its packets name places and no exceptions: a handler is known by where the vector table leads. Where
/// several vectors lead to one handler, it counts for the first of them. A return value that leads to the
/// first instruction of a handler is read as a tail-chained exception, unless that is where a handler was
/// interrupted before it ran anything.
#[derive(Debug)]
pub struct MtbFlow<'a> {
    follower: Follower<'a>,
    image: &'a Image,
    /// The gap that is open was told of.
    told: bool,
    /// Something was read.
    begun: bool,
    /// Where handlers that are active return to, the innermost last; `None` where that was not seen.
    interrupted: Vec<Option<u64>>,
}

impl<'a> MtbFlow<'a> {
    /// At the start of a recording.
    #[must_use]
    pub fn new(image: &'a Image) -> Self {
        let follower = Follower::new(Code::new(image, false), false);
        Self { follower, image, told: true, begun: false, interrupted: Vec::new() }
    }

    /// Tells what runs to `sink`.
    pub const fn feeding<'f, S: Sink>(&'f mut self, sink: &'f mut S) -> Feeding<'f, 'a, S> {
        Feeding { flow: self, sink }
    }

    /// The blocks that were reached so far.
    #[must_use]
    pub const fn code(&self) -> &Code<'a> {
        self.follower.code()
    }

    /// Blocks begin at these addresses, and none runs across them. Before anything was followed.
    pub fn cut_at(&mut self, addresses: &[u64]) {
        self.follower.cut_at(addresses);
    }

    /// The blocks, when all is read.
    #[must_use]
    pub fn into_code(self) -> Code<'a> {
        self.follower.into_code()
    }

    /// Bytes are missing at `offset`, or were not recorded by choice.
    pub fn gap(&mut self, offset: u64, gap: Gap, sink: &mut impl Sink) {
        self.lose();
        self.told = true;
        sink.moment(offset, &Moment::Gap(gap));
    }

    fn lose(&mut self) {
        self.follower.lose();
        self.interrupted.clear();
    }

    fn packet(&mut self, offset: u64, packet: Packet, sink: &mut impl Sink) {
        sink.at(offset);
        if packet.starts && std::mem::replace(&mut self.begun, true) && !self.follower.is_lost() {
            self.gap(offset, Gap::Unwatched, sink);
        }
        self.begun = true;
        let (source, destination) = (u64::from(packet.source), u64::from(packet.destination));
        let result = if !packet.exceptional {
            self.branch(source, destination, sink)
        } else if is_exception_return(packet.source) {
            self.returned(offset, source, destination, sink)
        } else {
            let ran = self.follower.run_to_exception(source, sink);
            self.interrupt(Some(source));
            self.enter(offset, source, destination, sink);
            ran.and_then(|()| self.arrive(destination, sink))
        };
        match result {
            Ok(()) => self.told &= self.follower.is_lost(),
            Err(what) => self.contradict(offset, what, sink),
        }
    }

    fn branch(
        &mut self,
        source: u64,
        destination: u64,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        self.follower.run_to_branch(source, sink)?;
        if is_exception_return(destination as u32) {
            return Ok(()); // the next packet says where that leads
        }
        self.arrive(destination, sink)
    }

    fn arrive(&mut self, address: u64, sink: &mut impl Sink) -> Result<(), Mismatch> {
        self.follower.went_to(address, sink)
    }

    /// A handler ended: back to what it interrupted, or into another handler.
    fn returned(
        &mut self,
        offset: u64,
        value: u64,
        destination: u64,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        sink.moment(offset, &Moment::Left);
        let interrupted = self.interrupted.pop().flatten();
        if interrupted != Some(destination) && self.exception_at(destination).is_some() {
            self.interrupt(interrupted);
            self.enter(offset, value, destination, sink);
        }
        self.arrive(destination, sink)
    }

    fn interrupt(&mut self, at: Option<u64>) {
        if self.interrupted.len() == MOST_ACTIVE {
            self.interrupted.remove(0);
        }
        self.interrupted.push(at);
    }

    fn enter(&mut self, offset: u64, returns_to: u64, handler: u64, sink: &mut impl Sink) {
        // A handler that no vector leads to is one all the same: number 0 is no exception's.
        let exception = Some(self.exception_at(handler).unwrap_or(0));
        sink.moment(offset, &Moment::Entered { exception, returns_to });
    }

    fn exception_at(&self, handler: u64) -> Option<u16> {
        EXCEPTIONS.into_iter().find(|&number| {
            self.image.vector(number).is_some_and(|vector| vector.address == handler)
        })
    }

    /// Only the first contradiction of a stretch is told.
    #[cold]
    fn contradict(&mut self, offset: u64, what: Mismatch, sink: &mut impl Sink) {
        self.lose();
        if !self.told || matches!(what, Mismatch::Outside(_)) {
            self.told = true;
            sink.moment(offset, &mismatch(what));
        }
    }
}

/// A flow that feeds a sink.
#[derive(Debug)]
pub struct Feeding<'f, 'a, S> {
    flow: &'f mut MtbFlow<'a>,
    sink: &'f mut S,
}

impl<S: Sink> mtb::Sink for Feeding<'_, '_, S> {
    #[inline]
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        self.flow.packet(at.start, packet, self.sink);
    }

    fn unwritten(&mut self, _: Range<u64>) {}

    fn erased(&mut self, at: Range<u64>) {
        let gap = Gap::Damaged { why: Malformed::Erased, bytes: at.end - at.start };
        self.flow.gap(at.start, gap, self.sink);
    }

    fn cut_off(&mut self, at: Range<u64>) {
        self.flow.gap(at.start, Gap::CutOff { bytes: at.end - at.start }, self.sink);
    }
}

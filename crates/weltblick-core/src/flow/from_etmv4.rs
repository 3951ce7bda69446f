//! ETMv4 packets to executed instructions.

use super::follower::{Follower, mismatch};
use super::piece::{self, Etmv4State};
use super::return_stack::ReturnStack;
use super::speculation::Waiting;
use super::{Code, Gap, Mismatch, Moment, Sink};
use crate::image::Image;
use crate::wire::etmv4::{self, Atoms, Exception, Packet, Returns, Settings};
use crate::wire::{self, Malformed};
use std::ops::Range;

/// What ran, as an ETMv4 tells it: a sink of its packets.
///
/// * It believes addresses only after a trace info packet: before, they may be differences from what
///   was never read. The same holds after damage, and after packets that contradict the image: that is
///   what damage looks like that could be read. Code outside the image is no contradiction; it goes on
///   at the next address inside.
/// * After an overflow or a trace on packet it goes on at the next address, with or without a
///   synchronisation before it.
/// * Instructions after the last branch before a gap may have run; nobody can say, and they are not
///   told.
#[derive(Debug)]
pub struct Etmv4Flow<'a> {
    follower: Follower<'a>,
    waiting: Waiting,
    /// An exception whose return address is to come.
    exception: Option<(u64, Exception)>,
    /// A trace info packet was read since the last damage.
    informed: bool,
    /// The gap that is open was told of.
    told: bool,
    /// So was code outside the image, in it.
    outside: bool,
    /// A trace info packet came, and no address behind it yet: that one says where execution is.
    synchronising: bool,
}

impl<'a> Etmv4Flow<'a> {
    /// At the start of a recording.
    #[must_use]
    pub fn new(image: &'a Image, settings: &Settings) -> Self {
        let code = Code::new(image, settings.waits_are_branches());
        Self {
            follower: Follower::new(code, settings.return_stack()),
            waiting: Waiting::new(settings.speculation()),
            exception: None,
            informed: false,
            told: true,
            outside: false,
            synchronising: false,
        }
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

    /// All that what comes later is read by, but for the return stack.
    #[must_use]
    pub fn state(&self) -> Etmv4State {
        let (waiting, speculation) = self.waiting.state();
        Etmv4State {
            place: self.follower.place(),
            waiting,
            speculation,
            exception: self.exception,
            owners: self.follower.stack().map_or_else(Vec::new, ReturnStack::owners),
            flags: [self.informed, self.told, self.outside, self.synchronising],
        }
    }

    /// A piece of the recording begins here that is read beside others. Returns the addresses that are
    /// known on the return stack, the oldest first.
    pub fn begin_piece(&mut self) -> Vec<u64> {
        if let Some(stack) = self.follower.stack_mut() {
            stack.mark();
        }
        self.return_stack()
    }

    /// The addresses on the return stack, the oldest first.
    #[must_use]
    pub fn return_stack(&self) -> Vec<u64> {
        piece::entries(self.follower.stack())
    }

    /// What stood below them on the return stack when the piece began. Whether what was read since is the
    /// same with it.
    pub fn put_below(&mut self, older: &[u64]) -> bool {
        self.follower.stack_mut().is_none_or(|stack| stack.put_below(older))
    }

    /// Bytes are missing at `offset`, or were not recorded by choice.
    pub fn gap(&mut self, offset: u64, gap: Gap, sink: &mut impl Sink) {
        (self.informed, self.synchronising) = (false, false);
        self.open(offset, gap, sink);
    }

    /// The end of the recording: what still waits is certain, for nothing denies it.
    pub fn finish(&mut self, sink: &mut impl Sink) {
        let mut waiting = std::mem::take(&mut self.waiting);
        waiting.flush(&mut |offset, packet| self.certain(offset, packet, sink));
    }

    /// A gap begins, and is told of even where another is open: each has its reason.
    fn open(&mut self, offset: u64, gap: Gap, sink: &mut impl Sink) {
        self.exception = None;
        self.waiting.begin(0);
        self.follower.lose();
        self.told = true;
        sink.moment(offset, &Moment::Gap(gap));
    }

    /// Packets that contradict the image; only the first of a stretch is told.
    #[cold]
    fn contradict(&mut self, offset: u64, what: Mismatch, sink: &mut impl Sink) {
        let outside = matches!(what, Mismatch::Outside(_));
        self.informed &= outside;
        self.synchronising &= outside;
        if !self.told || outside && !self.outside {
            self.told = true;
            self.outside = outside;
            sink.moment(offset, &mismatch(what));
        }
    }

    /// A packet that may wait to be certain.
    fn uncertain(&mut self, offset: u64, packet: Packet, sink: &mut impl Sink) {
        let mut waiting = std::mem::take(&mut self.waiting);
        let mut certain = |offset, packet| self.certain(offset, packet, sink);
        let result = match packet {
            Packet::Commit(count) => {
                waiting.commit(count, &mut certain);
                Ok(())
            }
            Packet::CycleCount { commit, .. } => {
                waiting.commit(commit, &mut certain);
                certain(offset, packet);
                Ok(())
            }
            Packet::Cancel { atoms, elements, mispredict } => {
                let added = waiting.add(offset, Packet::Atoms(atoms), &mut certain);
                waiting.cancel(elements);
                if mispredict {
                    waiting.mispredict();
                }
                added
            }
            Packet::Mispredict { atoms } => {
                let added = waiting.add(offset, Packet::Atoms(atoms), &mut certain);
                waiting.mispredict();
                added
            }
            Packet::TraceInfo(info) => {
                if waiting.is_empty() {
                    waiting.begin(info.speculation);
                }
                certain(offset, packet);
                Ok(())
            }
            Packet::Overflow | Packet::Discard | Packet::TraceOn => {
                waiting.flush(&mut certain);
                certain(offset, packet);
                Ok(())
            }
            other => waiting.add(offset, other, &mut certain),
        };
        self.waiting = waiting;
        if result.is_err() {
            self.gap(offset, Gap::Missing, sink);
        }
    }

    /// Put together again here, so that it costs nothing where nothing waits.
    #[inline(never)]
    fn uncertain_atoms(&mut self, offset: u64, atoms: Atoms, sink: &mut impl Sink) {
        self.uncertain(offset, Packet::Atoms(atoms), sink);
    }

    #[inline(never)]
    fn uncertain_count(
        &mut self,
        offset: u64,
        commit: u32,
        cycles: Option<u32>,
        sink: &mut impl Sink,
    ) {
        self.uncertain(offset, Packet::CycleCount { commit, cycles }, sink);
    }

    /// A packet whose element happened.
    fn certain(&mut self, offset: u64, packet: Packet, sink: &mut impl Sink) {
        match packet {
            Packet::Atoms(atoms) => self.waited_for(offset, atoms, sink),
            Packet::Address(address) => {
                if let Some(context) = address.context {
                    self.context(offset, context, sink);
                }
                self.address(offset, address.value, sink);
            }
            Packet::Context(context) => self.context(offset, context, sink),
            Packet::Exception(exception) => {
                self.without_address(offset, sink);
                self.exception = self.informed.then_some((offset, exception));
            }
            Packet::ExceptionReturn => {
                self.without_address(offset, sink);
                self.follower.left();
                sink.moment(offset, &Moment::Left);
            }
            Packet::TraceInfo(_) => self.trace_info(sink),
            Packet::TraceOn => self.trace_on(offset, sink),
            Packet::Overflow => self.open(offset, Gap::Overflow, sink),
            Packet::Discard => self.open(offset, Gap::Discarded, sink),
            Packet::CycleCount { cycles, .. } => sink.moment(offset, &Moment::Cycles(cycles)),
            Packet::Timestamp { value, cycles } => {
                sink.moment(offset, &Moment::Time { value, cycles });
            }
            Packet::Q { count, address } => {
                self.open(offset, Gap::Uncounted(count), sink);
                if let Some(address) = address {
                    self.address(offset, address.value, sink);
                }
            }
            Packet::Async
            | Packet::FunctionReturn
            | Packet::Commit(_)
            | Packet::Cancel { .. }
            | Packet::Mispredict { .. }
            | Packet::Event(_)
            | Packet::DataSync(_)
            | Packet::Conditional(_)
            | Packet::Ignore => {}
        }
    }

    /// A synchronisation begins. Where the one before said no address, nothing contradicted it since.
    fn trace_info(&mut self, sink: &mut impl Sink) {
        if std::mem::replace(&mut self.synchronising, true) {
            sink.agreed(self.follower.code());
        }
        self.informed = true;
    }

    #[inline(always)]
    fn atoms(&mut self, offset: u64, atoms: Atoms, sink: &mut impl Sink) {
        if self.exception.is_some() {
            self.without_address(offset, sink);
        }
        sink.at(offset);
        if let Err(what) = self.follower.branches(atoms.bits, atoms.count, sink) {
            self.contradict(offset, what, sink);
        }
    }

    /// Atoms that had to wait until they were certain.
    #[inline(never)]
    fn waited_for(&mut self, offset: u64, atoms: Atoms, sink: &mut impl Sink) {
        self.atoms(offset, atoms, sink);
    }

    fn address(&mut self, offset: u64, address: u64, sink: &mut impl Sink) {
        if !self.informed {
            return;
        }
        sink.at(offset);
        let result = match self.exception.take() {
            Some((at, exception)) => self.enter(at, exception, address, sink),
            None => self.follower.address(address, sink),
        };
        match result {
            Ok(()) => {
                (self.told, self.outside) = (false, false);
                if std::mem::take(&mut self.synchronising) {
                    sink.agreed(self.follower.code());
                }
            }
            Err(what) => self.contradict(offset, what, sink),
        }
    }

    /// An exception, now that its return address is known.
    fn enter(
        &mut self,
        offset: u64,
        exception: Exception,
        address: u64,
        sink: &mut impl Sink,
    ) -> Result<(), Mismatch> {
        let at_target = exception.returns == Returns::AtTarget;
        let result = self.follower.interrupted(address, at_target, sink);
        let number = exception.m_profile_number();
        sink.moment(offset, &Moment::Entered { exception: number, returns_to: address });
        result
    }

    /// An exception packet without the address that must follow it: that is damage.
    #[cold]
    fn without_address(&mut self, offset: u64, sink: &mut impl Sink) {
        if self.exception.take().is_some() {
            let why = Malformed::ReservedPayload;
            self.gap(offset, Gap::Damaged { why, bytes: 0 }, sink);
        }
    }

    fn context(&mut self, offset: u64, context: etmv4::Context, sink: &mut impl Sink) {
        let etmv4::Context { id, non_secure, .. } = context;
        sink.moment(offset, &Moment::Context { id, non_secure });
    }

    /// What ran before was not traced: by choice, unless something else was told already.
    fn trace_on(&mut self, offset: u64, sink: &mut impl Sink) {
        let known = !self.follower.is_lost();
        self.exception = None;
        self.follower.lose();
        if known {
            self.told = true;
            sink.moment(offset, &Moment::Gap(Gap::Unwatched));
        }
    }
}

/// A flow that feeds a sink.
#[derive(Debug)]
pub struct Feeding<'f, 'a, S> {
    flow: &'f mut Etmv4Flow<'a>,
    sink: &'f mut S,
}

impl<S: Sink> wire::Sink<Packet> for Feeding<'_, '_, S> {
    #[inline(always)]
    fn packet(&mut self, at: Range<u64>, packet: Packet) {
        let Self { flow, sink } = self;
        let waits = flow.waiting.is_needed();
        match packet {
            Packet::Atoms(atoms) if waits => flow.uncertain_atoms(at.start, atoms, sink),
            Packet::Atoms(atoms) => flow.atoms(at.start, atoms, sink),
            Packet::CycleCount { commit, cycles } if waits => {
                flow.uncertain_count(at.start, commit, cycles, sink);
            }
            Packet::CycleCount { cycles, .. } => sink.moment(at.start, &Moment::Cycles(cycles)),
            other if waits => flow.uncertain(at.start, other, sink),
            other => flow.certain(at.start, other, sink),
        }
    }

    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        let bytes = at.end - at.start;
        let gap = match why {
            Malformed::Unwanted => Gap::Unwatched,
            Malformed::CutOff => Gap::CutOff { bytes },
            why => Gap::Damaged { why, bytes },
        };
        self.flow.gap(at.start, gap, self.sink);
    }
}

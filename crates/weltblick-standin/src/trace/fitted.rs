//! The instruction trace unit that is built in.

use super::step::{Segment, Step};
use super::{etmv3, etmv4};

/// One of them.
#[derive(Debug, Clone)]
pub enum Fitted {
    /// Architecture version 3.
    Etmv3(etmv3::Etm),
    /// Architecture version 4.
    Etmv4(etmv4::Etm),
}

impl Default for Fitted {
    fn default() -> Self {
        Self::Etmv4(etmv4::Etm::default())
    }
}

/// Calls a method of whichever it is.
macro_rules! either {
    ($fitted:expr, $etm:ident => $call:expr) => {
        match $fitted {
            Fitted::Etmv3($etm) => $call,
            Fitted::Etmv4($etm) => $call,
        }
    };
}

impl Fitted {
    /// Stretches that it told, in order.
    #[must_use]
    pub fn segments(&self) -> &[Segment] {
        either!(self, etm => etm.segments())
    }

    /// Whether it must be told what executes.
    pub(crate) const fn listens(&self) -> bool {
        either!(self, etm => etm.listens())
    }

    pub(super) const fn trace_id(&self) -> u8 {
        either!(self, etm => etm.trace_id())
    }

    pub(super) const fn read(&self, offset: u32) -> u32 {
        either!(self, etm => etm.read(offset))
    }

    pub(super) fn write(&mut self, offset: u32, value: u32) {
        either!(self, etm => etm.write(offset, value));
    }

    /// Takes the bytes that are to be sent.
    pub(super) fn take(&mut self) -> Vec<u8> {
        either!(self, etm => etm.take())
    }

    /// Sends what still waits.
    pub(super) fn finish(&mut self) {
        either!(self, etm => etm.finish());
    }

    /// An instruction was executed; `room`: the buffer can take what it makes.
    pub(super) fn executed(&mut self, step: &Step, room: bool) {
        either!(self, etm => etm.executed(step, room));
    }

    /// An exception is entered; execution would go on at `returns_to`.
    pub(super) fn entered(
        &mut self,
        cycle: u64,
        number: u16,
        returns_to: u32,
        handler: u32,
        room: bool,
    ) {
        match self {
            Self::Etmv3(etm) => etm.entered(cycle, number, handler, room),
            Self::Etmv4(etm) => etm.entered(cycle, number, returns_to, handler, room),
        }
    }

    /// A handler's end led into another handler. `value` is the exception return value, `stacked` the
    /// address that is returned to at the end of the chain.
    pub(super) fn chained(
        &mut self,
        cycle: u64,
        number: u16,
        [value, stacked]: [u32; 2],
        handler: u32,
        room: bool,
    ) {
        match self {
            Self::Etmv3(etm) => etm.chained(cycle, number, handler, room),
            Self::Etmv4(etm) => etm.chained(number, value, stacked, handler, room),
        }
    }

    /// A handler ended, and execution goes on at `address`.
    pub(super) fn returned(&mut self, cycle: u64, address: u32, room: bool) {
        match self {
            Self::Etmv3(etm) => etm.returned(cycle, address, room),
            Self::Etmv4(etm) => etm.returned(address, room),
        }
    }
}

//! What is read out of a target's memory: a buffer on the chip, or a ring that the firmware fills.

use super::buffer::{Buffer, Content};
use super::mtb::Mtb;
use super::ring::Ring;
use crate::sources::stub::{Client, StubError};
use std::str::FromStr;
use weltblick_core::capture::What;

/// What `--read-out` names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Named {
    /// A CoreSight buffer.
    Chip(Buffer),
    /// A micro trace buffer.
    Mtb(Mtb),
    /// A ring in memory, by its symbol.
    Ring(String),
}

impl FromStr for Named {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!(
                "`{text}` is no buffer: write etb:BASE, tmc:BASE or mtb:BASE, such as etb:0xe0042000, or ring:SYMBOL"
            )
        };
        let (kind, rest) = text.split_once(':').ok_or_else(wrong)?;
        Ok(match kind {
            "ring" if rest.is_empty() => return Err(format!("`{text}` needs the ring's symbol")),
            "ring" => Self::Ring(rest.to_owned()),
            "etb" => Self::Chip(Buffer::etb(base(text, rest).ok_or_else(wrong)??)),
            "tmc" => Self::Chip(Buffer::tmc(base(text, rest).ok_or_else(wrong)??)),
            "mtb" => Self::Mtb(Mtb { base: base(text, rest).ok_or_else(wrong)?? }),
            _ => return Err(wrong()),
        })
    }
}

/// Where a component's registers are; `None` if that is no hexadecimal number.
fn base(text: &str, digits: &str) -> Option<Result<u64, String>> {
    let base = u64::from_str_radix(digits.strip_prefix("0x")?, 16).ok()?;
    if !base.is_multiple_of(0x1000) || base > 0xffff_f000 {
        return Some(Err(format!(
            "`{text}`: the registers of a CoreSight component start at a multiple of 0x1000 below 2^32"
        )));
    }
    Some(Ok(base))
}

/// What is read out, looked up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ReadOut {
    Chip(Buffer),
    Mtb(Mtb),
    Ring(Ring),
}

impl ReadOut {
    /// An address of it that can be read without harm.
    pub(super) const fn probe(self) -> u64 {
        match self {
            Self::Chip(buffer) => buffer.base(),
            Self::Mtb(buffer) => buffer.base,
            Self::Ring(ring) => ring.address,
        }
    }

    /// Empties it and lets it take trace. A ring needs no start: it belongs to the firmware.
    pub(super) fn start(self, client: &mut Client) -> Result<(), StubError> {
        match self {
            Self::Chip(buffer) => buffer.start(client),
            Self::Mtb(buffer) => buffer.start(client),
            Self::Ring(_) => Ok(()),
        }
    }

    /// Lets it go on after it was read out.
    pub(super) fn go_on(self, client: &mut Client) -> Result<(), StubError> {
        match self {
            Self::Chip(buffer) => buffer.start(client),
            Self::Mtb(_) | Self::Ring(_) => Ok(()),
        }
    }

    /// Reads what it holds, and what the journal calls that.
    pub(super) fn take(self, client: &mut Client) -> Result<(Content, What), StubError> {
        Ok(match self {
            Self::Chip(buffer) => (buffer.read_out(client)?, What::ReadOut),
            Self::Mtb(buffer) => (buffer.read_out(client)?, What::ReadOut),
            Self::Ring(ring) => (ring.drain(client)?, What::Drained),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_what_users_write() {
        assert_eq!("etb:0xe0042000".parse(), Ok(Named::Chip(Buffer::etb(0xe004_2000))));
        assert_eq!("mtb:0xf0000000".parse(), Ok(Named::Mtb(Mtb { base: 0xf000_0000 })));
        assert_eq!("ring:marks".parse(), Ok(Named::Ring("marks".into())));
        for text in
            ["etb", "etb:1000", "sram:0x0", "mtb:0x10", "tmc:0xfffffffff000", "tmc:0xzz", "ring:"]
        {
            assert!(text.parse::<Named>().is_err(), "{text}");
        }
    }
}

//! Where a micro trace buffer lies in RAM: the program must leave that memory to it.

use super::description::Description;
use super::link::Link;
use super::program::Program;
use crate::image::NotFixed;
use thiserror::Error;

/// Where the RAM of a micro trace buffer usually starts: where the core's own does.
const USUAL_RAM: u64 = 0x2000_0000;
/// Its smallest size: `MASK` 0.
const SMALLEST: u64 = 16;

/// The part of RAM that it writes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct MtbPlace {
    /// From the start of its RAM (`MTB_BASE`).
    pub(super) offset: u64,
    /// A power of two.
    pub(super) bytes: u64,
}

/// Why a micro trace buffer cannot be where it is wanted.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MtbError {
    /// No such variable at a fixed address.
    #[error("`mtb_buffer`")]
    NotFixed(#[from] NotFixed),
    /// A name, and nothing to look it up in.
    #[error("`mtb_buffer` names `{0}`: give --image to look it up, or an address")]
    NoImage(String),
    /// `MASK` counts powers of two.
    #[error("a micro trace buffer holds a power of two of bytes, 16 or more; {0} is none")]
    Size(u64),
    /// The variable is too small.
    #[error(
        "`{name}` has {there} bytes, the buffer is planned with {wanted}: make it larger, or the link's `size` smaller"
    )]
    TooSmall {
        /// The variable.
        name: String,
        /// Its size.
        there: u64,
        /// What is planned.
        wanted: u64,
    },
    /// The pointer wraps at multiples of the size.
    #[error(
        "the buffer must start at a multiple of its {bytes} bytes, and {address:#010x} is none: align the variable (`aligned({bytes})`)"
    )]
    Unaligned {
        /// Where it is.
        address: u64,
        /// Its size.
        bytes: u64,
    },
    /// Below the buffer's RAM.
    #[error(
        "the buffer at {address:#010x} lies below its RAM, which starts at {ram:#010x}: correct `mtb_ram`, it is what MTB_BASE reads"
    )]
    Below {
        /// Where it is.
        address: u64,
        /// Where the RAM starts.
        ram: u64,
    },
}

/// The place of a planned buffer; `None` if there is none.
pub(super) fn place(
    plan: &Description,
    program: Option<Program<'_>>,
) -> Result<Option<MtbPlace>, MtbError> {
    let (Some(_), Some(Link::Buffer { bytes })) = (plan.mtb_base, plan.link) else {
        return Ok(None);
    };
    if !bytes.is_power_of_two() || bytes < SMALLEST {
        return Err(MtbError::Size(bytes));
    }
    let ram = plan.mtb_ram.unwrap_or(USUAL_RAM);
    let address = match &plan.mtb_buffer {
        None => ram,
        Some(name) => match name.strip_prefix("0x").map(|digits| u64::from_str_radix(digits, 16)) {
            Some(Ok(address)) => address,
            _ => variable(name, bytes, program)?,
        },
    };
    let offset = address.checked_sub(ram).ok_or(MtbError::Below { address, ram })?;
    if offset % bytes != 0 {
        return Err(MtbError::Unaligned { address, bytes });
    }
    Ok(Some(MtbPlace { offset, bytes }))
}

/// The address of the variable that makes room for it.
fn variable(name: &str, wanted: u64, program: Option<Program<'_>>) -> Result<u64, MtbError> {
    let program = program.ok_or_else(|| MtbError::NoImage(name.to_owned()))?;
    let found = program.variables.find(name)?;
    if found.size < wanted {
        return Err(MtbError::TooSmall { name: name.to_owned(), there: found.size, wanted });
    }
    Ok(found.address)
}

/// What speaks against the place that was found, each a sentence.
pub(super) fn doubts(
    plan: &Description,
    place: MtbPlace,
    program: Option<Program<'_>>,
) -> Vec<String> {
    if plan.mtb_buffer.is_some() {
        return Vec::new();
    }
    let start = plan.mtb_ram.unwrap_or(USUAL_RAM) + place.offset;
    let end = start + place.bytes;
    let taken = program.and_then(|program| {
        let here = |range: std::ops::Range<u64>| range.start < end && start < range.end;
        program.variables.all().iter().find(|variable| here(variable.range()))
    });
    let overwritten = taken.map_or_else(String::new, |v| format!(", `{}` for one", v.name));
    vec![format!(
        "The buffer overwrites RAM from {start:#010x} to {end:#010x}{overwritten}: reserve an array there, aligned to its size, and name it as `mtb_buffer`."
    )]
}

//! Which comparator watches which variable.

use super::description::{WatchAccess, WatchTrace, Watched};
use crate::image::{NotFixed, Variables};
use thiserror::Error;

/// A comparator's work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Watch {
    /// The variable.
    pub name: String,
    /// Its address.
    pub address: u64,
    /// Bytes: 1, 2 or 4.
    pub size: u32,
    /// What is traced of an access.
    pub trace: WatchTrace,
    /// Which accesses.
    pub on: WatchAccess,
}

/// Why a variable cannot be watched.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum WatchError {
    /// More than there are comparators.
    #[error(
        "{wanted} variables and points are to be watched, but the core has {comparators} comparators; leave {} out", .wanted - .comparators
    )]
    TooMany {
        /// Comparators needed.
        wanted: usize,
        /// Comparators there.
        comparators: usize,
    },
    /// No fixed address.
    #[error(transparent)]
    NotFixed(#[from] NotFixed),
    /// An address cannot be looked up without an image.
    #[error(
        "`{0}` cannot be looked up without the firmware's ELF file: give --image, or an address"
    )]
    NoImage(String),
    /// Larger than a comparator watches.
    #[error(
        "`{name}` is {size} bytes long; a comparator watches 1, 2 or 4: give the address of one element"
    )]
    TooLarge {
        /// The variable.
        name: String,
        /// Its size.
        size: u64,
    },
    /// A number in two words.
    #[error(
        "`{name}` is 8 bytes long; a comparator watches 1, 2 or 4: watch its halves, {address:#010x} and {:#010x}, by one each, or let a debug stub read it (`capture --read {name}`), which gets all 8", .address + 4
    )]
    TwoWords {
        /// The variable.
        name: String,
        /// Where it is.
        address: u64,
    },
    /// Not on its natural boundary.
    #[error(
        "`{name}` lies at {address:#010x}, which is no multiple of its {size} bytes; a comparator cannot watch it"
    )]
    Unaligned {
        /// The variable.
        name: String,
        /// Where it is.
        address: u64,
        /// Its size.
        size: u64,
    },
}

/// Finds every watched variable.
///
/// # Errors
///
/// The first that cannot be watched, and why.
pub fn resolve(
    wanted: &[Watched],
    variables: Option<&Variables>,
) -> Result<Vec<Watch>, WatchError> {
    wanted.iter().map(|watched| one(watched, variables)).collect()
}

fn one(watched: &Watched, variables: Option<&Variables>) -> Result<Watch, WatchError> {
    let name = watched.name.clone();
    let (address, size, count) = match name.strip_prefix("0x") {
        Some(digits) => match u64::from_str_radix(digits, 16) {
            Ok(address) => (address, 4, 1),
            Err(_) => return Err(NotFixed::Unknown { name, hint: String::new() }.into()),
        },
        None => {
            let variables = variables.ok_or_else(|| WatchError::NoImage(name.clone()))?;
            let found = variables.field(&name)?;
            (found.address, found.size, found.count)
        }
    };
    if (size, count) == (8, 1) {
        return Err(WatchError::TwoWords { name, address });
    }
    if !matches!(size, 1 | 2 | 4) {
        return Err(WatchError::TooLarge { name, size });
    }
    if address % size != 0 {
        return Err(WatchError::Unaligned { name, address, size });
    }
    Ok(Watch { name, address, size: size as u32, trace: watched.trace, on: watched.on })
}

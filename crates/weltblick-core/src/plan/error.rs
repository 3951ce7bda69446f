//! Why there is no plan, and what to do instead.

use super::core::Core;
use super::mtb::MtbError;
use super::registers::DivisorError;
use super::watch::WatchError;
use crate::image::NotFixed;
use thiserror::Error;

/// Why there is no plan.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum PlanError {
    /// Something must be said first.
    #[error("{what} is not stated: give {how}")]
    Missing {
        /// What.
        what: &'static str,
        /// An option, or a key of the description.
        how: &'static str,
    },
    /// Nothing to plan.
    #[error(
        "nothing is to be observed: give --pc-sample-period, --interrupt, --watch, --text or --instructions"
    )]
    NothingObserved,
    /// A core without ITM.
    #[error(
        "{core} has no ITM: it cannot send samples, interrupts, variables or text over a trace link; sample it through a debug stub instead (`capture stub:HOST:PORT --sample`)"
    )]
    NoItm {
        /// The core.
        core: Core,
    },
    /// A period that the DWT does not offer.
    #[error(
        "no register gives a sampling period of {period} cycles: the DWT offers multiples of 64 up to 1024 and of 1024 up to 16384{}", .next.map_or_else(String::new, |next| format!("; the next is {next}"))
    )]
    Period {
        /// What was asked for.
        period: u64,
        /// The next longer one.
        next: Option<u64>,
    },
    /// Samples and the cycle event share a counter.
    #[error("PC samples and the event counter `cycle` share POSTCNT: choose one of them")]
    SharedCounter,
    /// A bit rate that the port cannot make.
    #[error(transparent)]
    Divisor(#[from] DivisorError),
    /// A variable that cannot be watched.
    #[error(transparent)]
    Watch(#[from] WatchError),
    /// A ring that is not there.
    #[error(transparent)]
    Ring(#[from] NotFixed),
    /// A point or range of instruction trace that is no place in the code.
    #[error("instruction trace cannot be narrowed to `{point}`: {why}")]
    Point {
        /// What was asked for.
        point: String,
        /// Why not.
        why: String,
    },
    /// A micro trace buffer that cannot be where it is wanted.
    #[error(transparent)]
    Mtb(#[from] MtbError),
    /// A micro trace buffer carries nothing else.
    #[error(
        "a micro trace buffer carries branches only: plan samples, interrupts, variables and text apart, with a link of their own"
    )]
    MtbAlone,
    /// Instruction trace into a link that the core's unit does not feed.
    #[error(
        "{core} traces instructions into a micro trace buffer: give the link `buffer` with its size, and `mtb_base`, where the vendor put its registers"
    )]
    NoMtb {
        /// The core.
        core: Core,
    },
}

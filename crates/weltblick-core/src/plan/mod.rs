//! Before a measurement: what the link can carry, what to write into which register, how long to
//! measure.

mod applied;
mod basis;
mod core;
mod description;
mod error;
mod link;
mod load;
mod measured;
mod measuring;
mod mtb;
mod narrow;
mod program;
mod registers;
mod report;
mod ring;
mod rows;
mod sampling;
#[cfg(test)]
mod tests;
mod watch;

pub use self::core::{Architecture, CORES, Core, InstructionTrace, UnknownCore};
pub use applied::{Applied, Write};
pub use description::{
    Description, EventCounter, Instructions, Interrupt, Observe, Ring, WatchAccess, WatchTrace,
    Watched, core_names, rate,
};
pub use error::PlanError;
pub use link::Link;
pub use load::{Fit, LINK_USE, Load, loads};
pub use measured::Measured;
pub use measuring::samples_needed;
pub use mtb::MtbError;
pub use narrow::{Left, Narrow, TraceUnit};
pub use program::Program;
pub use registers::{
    Divisor, DivisorError, ETM_TRACE_ID, Field, ITM_TRACE_ID, Register, divide, narrowing,
};
pub use report::plan;
pub use ring::{RING_HEADER, RingPlan, plan_ring};
pub use rows::{
    BufferRow, LinkRow, LoadRow, MeasureRow, PlanReport, Proposal, SCHEMA, StretchRow, Wanted,
    WatchRow,
};
pub use sampling::{next_sampling_period, sampling_places};
pub use watch::{Watch, WatchError, resolve};

//! The stand-in microcontroller: runs real firmware, emits the trace that a real target would, and
//! keeps the truth beside it.
//!
//! It is a measuring instrument for Weltblick itself. Decoders are never used here, and encoders
//! never leave: what the tool reads was written by code that shares nothing with the reader.

pub mod core;
pub mod machine;
pub mod memory;
mod model;
pub mod nvic;
pub mod peripheral;
pub mod program;
pub mod recording;
pub mod serve;
mod system;
pub mod trace;
pub mod truth;

pub use machine::{Machine, Stop};
pub use model::{Model, UnknownModel};
pub use program::{Program, ProgramError};
pub use truth::Truth;

//! A capture folder: its manifest, and the line from its streams to events.
//!
//! The core reads no files: a manifest comes as text, streams come as byte slices.

mod line;
#[cfg(test)]
mod line_tests;
mod manifest;
#[cfg(test)]
mod tests;

pub use line::{Line, Tap};
pub use manifest::{
    Framing, ItmSettings, MANIFEST, Manifest, Protocol, SourceSpec, StreamSpec, Target,
};

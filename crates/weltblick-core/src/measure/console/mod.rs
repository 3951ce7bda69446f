//! What the firmware printed: bytes of stimulus ports to lines, with times.

mod format;
mod lines;

pub use format::{Conversion, conversions, format};
pub use lines::{Console, End, Line, Lines, Reading, Source};

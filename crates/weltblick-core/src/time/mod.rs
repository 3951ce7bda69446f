//! Clocks, native ticks and windows of time.
//!
//! Nothing here rounds before it must: positions are whole cycles of the origin's clock, and only
//! what is shown to people becomes seconds.

mod frequency;
mod quantity;
mod window;
mod words;

pub use frequency::Frequency;
pub use quantity::{
    Quantity, QuantityError, Unit, parse_bit_rate, parse_byte_rate, parse_bytes, parse_duration,
    parse_share,
};
pub use window::Window;
pub use words::{duration_ns, range_ns};

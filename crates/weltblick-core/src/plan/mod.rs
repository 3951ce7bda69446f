//! What the hardware can be set to.

mod sampling;

pub use sampling::next_sampling_period;

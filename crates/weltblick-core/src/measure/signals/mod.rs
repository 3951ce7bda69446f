//! What variables were, and what the firmware told: numbers over time.

mod arguments;
mod dictionary;
mod figures;
mod from_text;
mod halves;
mod known;
mod report;
#[cfg(test)]
mod tests;
mod threshold;
mod trend;
mod values;

pub use dictionary::{Dictionary, Level, Watched};
pub use figures::{AccessKey, Key, MOST_SIGNALS, Reading, Signal, Signals, Subject, name_in};
pub use from_text::{FromText, quantity_of};
pub use report::{
    ChartRow, Context, ElementRow, LevelRow, MomentRow, PlaceRow, RateRow, ReadingRow,
    SignalReport, SignalRow, ThresholdRow, ValueRow, each, report,
};
pub use threshold::Threshold;
pub use trend::{Column, Gaps, Trend};
pub use values::{Level as ValueLevel, Moment, Values};

//! What `profile` and `check` share: one pass that counts samples and what weakens them.

use crate::sources::Capture;
use anyhow::Result;
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::profile::{Context, SampleCounts};
use weltblick_core::measure::recording::Recording;

/// Confidence of intervals, and of all verdicts together.
pub(crate) const CONFIDENCE: f64 = 0.95;

/// Samples, the facts of the recording, and how regular its exceptions are.
pub(crate) type Counted = (SampleCounts, Recording, Cadences);

/// What reports need to know of a capture.
pub(crate) fn context<'a>(
    capture: &'a Capture,
    recording: &'a Recording,
    cadences: &'a Cadences,
    cut: u64,
) -> Result<Context<'a>> {
    Ok(Context {
        image: capture.image()?,
        recording,
        cadences,
        stated_period: capture.stated_period(),
        core_clock: capture.manifest.target.core_clock,
        timestamp_clock: capture.timestamp_clock(),
        cut,
        confidence: CONFIDENCE,
    })
}

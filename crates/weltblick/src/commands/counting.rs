//! What `profile` and `check` share: one pass that counts samples and what weakens them.

use crate::sources::Capture;
use anyhow::{Result, bail};
use weltblick_core::measure::cadence::Cadences;
use weltblick_core::measure::profile::{Context, SampleCounts};
use weltblick_core::measure::recording::Recording;
use weltblick_core::measure::timing::Timing;

/// Confidence of intervals, and of all verdicts together.
pub(crate) const CONFIDENCE: f64 = 0.95;

/// Samples, the facts of the recording, and how regular its exceptions are.
pub(crate) type Counted = (SampleCounts, Recording, Cadences);

/// An error where samples are of several cores: each has its own, and a share of both together is a share of nothing.
pub(crate) fn require_one_sampled_core(capture: &Capture, recording: &Recording) -> Result<()> {
    let cores = recording.sampled_cores();
    if cores > 1 {
        bail!(
            "{}: these are samples of {cores} cores, and a profile is of one: write `where = {{ cpu_id = 0 }}`, or as the field is called, into the [[stream.meaning]] of samples",
            capture.name.display()
        );
    }
    Ok(())
}

/// What reports need to know of a capture.
///
/// Samples of several sources cannot be added up: each has its own clock and period, and a share of
/// both together is a share of nothing.
pub(crate) fn context<'a>(
    capture: &'a Capture,
    recording: &'a Recording,
    cadences: &'a Cadences,
    cut: u64,
) -> Result<Context<'a>> {
    if capture.sources() > 1 {
        bail!(
            "{}: this capture has {} sources of samples ({}); import the one to be profiled into a folder of its own",
            capture.name.display(),
            capture.sources(),
            capture.origin_names().join(", ")
        );
    }
    Ok(Context {
        image: capture.image_or_none(),
        timing: Timing { recording, clocks: capture.clocks() },
        cadences,
        cut,
        confidence: CONFIDENCE,
        conduct: capture.conduct(),
    })
}

//! The classic mistakes that the bytes can show, in plain sentences, each with what to do.

mod clock;
mod image;
mod protocol;
mod samples;
mod transport;

pub(super) use protocol::UNREADABLE;
pub(super) use transport::ON_THE_WAY;

use super::agreement::Agreement;
use super::event_trace;
use super::gather::{Counted, Settings, Wire};
use crate::figure::Doubt;
use crate::measure::profile::{Basis, Context};
use crate::measure::timing::Timing;
use schemars::JsonSchema;
use serde::Serialize;

/// How grave a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Weight {
    /// Figures from this recording are wrong or missing.
    Fault,
    /// Figures are weaker than they could be.
    Doubt,
}

/// What is wrong, and what to do.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Finding {
    /// A stable word for programs.
    pub code: String,
    /// How grave it is.
    pub weight: Weight,
    /// What is wrong.
    pub finding: String,
    /// What to do.
    pub advice: String,
    /// The first place in the recording, in nanoseconds since it began; absent where all of it is meant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_ns: Option<f64>,
    /// The last place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until_ns: Option<f64>,
}

/// Everything a question may look at.
struct Evidence<'a> {
    wire: &'a Wire,
    counted: &'a Counted,
    settings: &'a Settings<'a>,
    /// Absent with several sources: samples and time together then say no period.
    timing: Option<Timing<'a>>,
    /// Absent with several sources, and without an image.
    context: Option<&'a Context<'a>>,
    agreement: Option<&'a Agreement>,
}

pub(super) fn diagnose(
    wire: &Wire,
    counted: &Counted,
    settings: &Settings<'_>,
    timing: Option<Timing<'_>>,
    context: Option<&Context<'_>>,
    agreement: Option<&Agreement>,
) -> Vec<Finding> {
    let evidence = Evidence { wire, counted, settings, timing, context, agreement };
    if let Some(finding) = evidence.empty() {
        return vec![finding];
    }
    if settings.conduct.basis != Basis::Sampler {
        return [
            evidence.no_polls(),
            evidence.stops_in_step(),
            evidence.other_image(),
            evidence.disconnected(),
            evidence.overwritten(),
            evidence.no_image(),
            evidence.no_debug_files(),
        ]
        .into_iter()
        .flatten()
        .collect();
    }
    if let Some(trace) = settings.trace {
        let has_clock = settings.clocks.timestamp_clock.is_some();
        let losses = &counted.recording.losses;
        let mut findings = event_trace::findings(trace, &wire.events_seen, losses, has_clock);
        findings.extend(evidence.other_image());
        findings.extend(evidence.no_image());
        findings.extend(evidence.no_debug_files());
        findings.extend(evidence.beats());
        findings.extend(evidence.of_events());
        findings.sort_by_key(|finding| finding.weight);
        return findings;
    }
    // If the bytes are not what they are taken for, nothing else can be said of them.
    // Buffers that wrapped explain by themselves why little can be read.
    let wrapped = evidence.overwritten().is_some();
    if let Some(finding) = evidence.nothing_left() {
        return vec![finding];
    }
    let wrong = evidence.read_wrongly().or_else(|| evidence.not_this_protocol());
    let wrong = wrong.or_else(|| evidence.nowhere_to_begin());
    if let Some(finding) = wrong.filter(|_| !wrapped) {
        return vec![finding];
    }
    let questions = [
        Evidence::overflow,
        Evidence::flow_gaps,
        Evidence::unknown_counts,
        Evidence::disconnected,
        Evidence::overwritten,
        Evidence::unread_windows,
        Evidence::late,
        Evidence::damage,
        Evidence::no_sync,
        Evidence::no_samples,
        Evidence::asleep,
        Evidence::other_image,
        Evidence::clock,
        Evidence::period,
        Evidence::no_timestamps,
        Evidence::no_global_clock,
        Evidence::no_image,
        Evidence::no_debug_files,
    ];
    let mut findings: Vec<Finding> =
        questions.iter().filter_map(|question| question(&evidence)).collect();
    findings.extend(evidence.beats());
    findings.extend(evidence.of_events());
    findings.sort_by_key(|finding| finding.weight);
    findings
}

pub(super) fn fault(code: &str, finding: impl Into<String>, advice: impl Into<String>) -> Finding {
    let (finding, advice) = (finding.into(), advice.into());
    let (from_ns, until_ns) = (None, None);
    Finding { code: code.into(), weight: Weight::Fault, finding, advice, from_ns, until_ns }
}

pub(super) fn doubt(code: &str, finding: impl Into<String>, advice: impl Into<String>) -> Finding {
    Finding { weight: Weight::Doubt, ..fault(code, finding, advice) }
}

/// What speaks against figures, as a finding.
pub(super) fn doubt_as_finding(weight: Weight, doubt: &Doubt) -> Finding {
    Finding {
        code: doubt.code().into(),
        weight,
        finding: sentence(&doubt.why()),
        advice: sentence(&doubt.advice()),
        from_ns: doubt.within().map(|within| within.from_ns),
        until_ns: doubt.within().map(|within| within.until_ns),
    }
}

fn sentence(words: &str) -> String {
    let mut letters = words.chars();
    let first = letters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}

fn percent(part: u64, whole: u64) -> f64 {
    100.0 * part as f64 / whole.max(1) as f64
}

impl Evidence<'_> {
    fn empty(&self) -> Option<Finding> {
        (self.wire.raw_bytes == 0).then(|| {
            fault(
                "empty",
                "The recording is empty: not one byte arrived.",
                "Check that the trace pin is routed and its pin function is set, that the probe listens on it, and that DEMCR.TRCENA and ITM_TCR.ITMENA are set before the target runs.",
            )
        })
    }
}

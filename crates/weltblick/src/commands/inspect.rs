//! `inspect`: what is in a capture, and how far to believe it.

use super::{packets, records};
use crate::cli::{CaptureArgs, Format, OutputArgs};
use crate::outcome::Outcome;
use crate::show::{self, Paint};
use crate::sources::{self, Capture};
use anyhow::Result;
use std::io::Write;
use weltblick_core::judge::PointRange;
use weltblick_core::measure::execution::{BlockCounts, TimeAgreement};
use weltblick_core::measure::inspection::{
    Contradictions, Entries, Finding, InspectReport, Inspection, Settings, Unannounced, Weight,
    cross_check, executed_code,
};
use weltblick_core::measure::interrupts::Nesting;
use weltblick_core::measure::timing::Timing;

/// What is in a capture, and how far to believe it?
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// List the packets themselves, one a line
    #[arg(long)]
    pub(crate) packets: bool,
    /// With --packets: only from A up to B, as times or bytes (`swo@4096..swo@4200`)
    #[arg(long, value_name = "A..B", requires = "packets")]
    pub(crate) within: Option<PointRange>,
    /// With --packets: stop after so many; 0 lists all
    #[arg(long, value_name = "PACKETS", default_value_t = 0, requires = "packets")]
    pub(crate) top: usize,
    /// Exit 1 where a finding makes figures wrong (`!`), 3 where one makes them weaker (`?`)
    #[arg(long, conflicts_with = "packets")]
    pub(crate) strict: bool,
    #[command(flatten)]
    pub(crate) output: OutputArgs,
    #[command(flatten)]
    pub(crate) capture: CaptureArgs,
}

pub(crate) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.schema {
        show::schema::<InspectReport>(out)?;
        return Ok(Outcome::Done);
    }
    let capture = sources::open(&args.capture)?;
    if args.packets {
        let request = packets::Request {
            within: args.within.as_ref(),
            top: if args.top == 0 { usize::MAX } else { args.top },
            format: args.output.format,
        };
        match capture.event_trace() {
            Some(trace) => records::list(&capture, trace, &request, out)?,
            None => packets::list(&capture, &request, out)?,
        }
        return Ok(Outcome::Done);
    }
    let report = examine(&capture)?;
    match args.output.format {
        Format::Json => show::json(&report, out)?,
        Format::Csv => show::inspect::csv(&report, out)?,
        Format::Text => {
            let look = show::inspect::Look {
                paint: Paint::new(args.output.color),
                capture: &capture.name.display().to_string(),
                streams: &capture.stream_lines(),
                image: capture.image.as_ref().map(|open| open.path.display().to_string()),
            };
            show::inspect::text(&report, &look, out)?;
        }
    }
    Ok(if args.strict { strict(&report.findings) } else { Outcome::Done })
}

/// How a pipeline that relies on a recording goes on.
pub(super) fn strict(findings: &[Finding]) -> Outcome {
    match findings.iter().map(|finding| finding.weight).min() {
        None => Outcome::Done,
        Some(Weight::Fault) => Outcome::Broken,
        Some(Weight::Doubt) => Outcome::Undecided,
    }
}

/// Reads all of a capture, and says what is in it and what speaks against it.
pub(super) fn examine(capture: &Capture) -> Result<InspectReport> {
    let mut inspection = Inspection::default();
    inspection.read_files(capture.event_file_starts()?);
    let (wire, counted) = inspection.split();
    let mut entries = Entries::default();
    let mut nesting = Nesting::new(1.0, Contradictions::default());
    let mut unannounced = match &capture.image {
        Some(open) => Unannounced::new(&open.image),
        None => Unannounced::default(),
    };
    capture.replay_tapped(wire, &mut ((counted, &mut unannounced), &mut entries, &mut nesting))?;
    let mut report = inspection.report(&settings(capture));
    if capture.manifest.streams.iter().any(|stream| stream.sources.len() > 1) {
        // Events tell of one source's bytes: they do not add up to the port's.
        report.rate.clear();
    }
    if capture.sources() == 1 && report.reads() {
        report.findings.extend(nesting.finish().finding());
        let recording = inspection.recording();
        let timing = Timing { recording, clocks: capture.clocks() };
        report.findings.extend(unannounced.finding(&timing));
    }
    let of_code = executed_findings(capture, &entries, &report)?;
    report.findings.extend(of_code);
    report.findings.sort_by_key(|finding| finding.weight);
    Ok(report)
}

/// What the instruction trace says against itself, and of exceptions that the ITM told of.
fn executed_findings(
    capture: &Capture,
    itm: &Entries,
    report: &InspectReport,
) -> Result<Vec<Finding>> {
    let Some(open) = capture.image.as_ref().filter(|_| capture.has_flow()) else {
        return Ok(Vec::new());
    };
    let mut sink = (Entries::default(), (TimeAgreement::default(), BlockCounts::default()));
    capture.replay_flow(&mut sink)?;
    let (flow, (times, counts)) = sink;
    let mut findings = executed_code(&times, counts.gaps(), report);
    if capture.manifest.itm().is_some() {
        findings.extend(cross_check(itm, &flow, Some(&open.image)));
    }
    Ok(findings)
}

fn settings(capture: &Capture) -> Settings<'_> {
    Settings {
        image: capture.image.as_ref().map(|open| &open.image),
        stream: capture.manifest.streams.first(),
        sources: capture.sources(),
        clocks: capture.clocks(),
        trace: capture.event_trace(),
        conduct: capture.conduct(),
    }
}

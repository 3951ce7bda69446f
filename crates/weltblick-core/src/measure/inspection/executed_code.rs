//! What an instruction trace says against itself.

use super::diagnosis::{Finding, ON_THE_WAY, Weight, doubt_as_finding};
use super::kinds::Kind;
use super::report::InspectReport;
use crate::figure::Doubt;
use crate::measure::execution::{Gaps, TimeAgreement};

/// What speaks against everything that comes from an instruction trace: its two clocks disagree in so many places, or it
/// synchronises too seldom to find out in time what is wrong in it.
#[must_use]
pub fn trace_doubts(times_disagree: u64, gaps: &Gaps) -> Vec<Doubt> {
    let clocks = (times_disagree > 0).then_some(Doubt::TimesDisagree { places: times_disagree });
    let seldom = gaps.is_seldom_confirmed().then_some(Doubt::SeldomSynchronised);
    clocks.into_iter().chain(seldom).collect()
}

/// What helps where packets contradict an image that is most likely right.
const REGISTERS: &str = "State the trace unit's registers as they were written (trcconfigr or etmcr: return stack, cycle counts). If they are right, bytes were changed between the target and the file.";

/// What helps where branches of a micro trace buffer contradict an image that is most likely right.
const BEGINS_IN_THE_MIDDLE: &str = "A buffer that wrapped begins in its middle: state where (`--register mtb_position=0x..`, or `mtb_position` in the settings: MTB_POSITION as it was read with the dump), or let `capture --read-out mtb:BASE` read it out. Else bytes were changed between the target and the file.";

/// Findings about an instruction trace; verdicts rest on the same doubts. What is said of its bytes and its image
/// already is in `report`.
#[must_use]
pub fn executed_code(times: &TimeAgreement, gaps: &Gaps, report: &InspectReport) -> Vec<Finding> {
    if !report.reads() {
        return Vec::new();
    }
    let weight = |doubt: &Doubt| match doubt {
        Doubt::SeldomSynchronised => Weight::Doubt,
        _ => Weight::Fault,
    };
    let doubts = trace_doubts(times.contradictions(), gaps);
    let mut findings: Vec<Finding> =
        doubts.iter().map(|doubt| doubt_as_finding(weight(doubt), doubt)).collect();
    // The first of them is what packets and image disagree about, with its place.
    if let (1.., Some(disagreement)) = (gaps.mismatches, gaps.doubts().into_iter().next()) {
        findings.push(contradicted(disagreement, report));
    }
    findings
}

/// Packets and image contradict each other: whose fault that is, as far as where branches go says it.
fn contradicted(disagreement: String, report: &InspectReport) -> Finding {
    let general = doubt_as_finding(Weight::Fault, &Doubt::ImageContradicted);
    if !report.image.as_ref().is_some_and(|image| image.agreement.fits()) {
        return Finding { finding: disagreement, ..general };
    }
    let what = if report.samples > 0 { "Samples lie at" } else { "Branches go to" };
    let finding =
        format!("{disagreement} {what} its instructions: most likely the image is right.");
    let is_damaged = report.findings.iter().any(|finding| finding.code == "damaged");
    let is_buffer = report.kinds.iter().any(|row| row.kind == Kind::Branch.name());
    let advice = match (is_damaged, is_buffer) {
        (true, _) => ON_THE_WAY,
        (false, true) => BEGINS_IN_THE_MIDDLE,
        (false, false) => REGISTERS,
    };
    Finding { finding, advice: advice.into(), ..general }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::flow::{Moment, Sink as _};
    use crate::measure::inspection::{Inspection, Settings};
    use crate::measure::profile::Conduct;
    use crate::measure::timing::Clocks;

    fn report() -> InspectReport {
        Inspection::default().report(&Settings {
            image: None,
            stream: None,
            sources: 0,
            clocks: Clocks::default(),
            trace: None,
            conduct: Conduct::default(),
        })
    }

    #[test]
    fn what_nobody_confirms_for_long_is_a_finding_and_a_sound_trace_has_none() {
        let times = TimeAgreement::default();
        assert_eq!(executed_code(&times, &Gaps::default(), &report()), []);
        let seldom = Gaps { overdue: true, ..Gaps::default() };
        let findings = executed_code(&times, &seldom, &report());
        assert_eq!(findings[0].code, "seldom_synchronised");
        assert!(findings[0].finding.starts_with("The trace synchronises too seldom"));
    }

    #[test]
    fn clocks_that_disagree_are_a_fault() {
        let (mut times, mut now) = (TimeAgreement::default(), 1000);
        for round in 0..40 {
            now += if round == 20 { 90_000 } else { 50_000 };
            times.moment(0, &Moment::Cycles(Some(100_000)));
            times.moment(0, &Moment::Time { value: now, cycles: Some(0) });
        }
        let findings = executed_code(&times, &Gaps::default(), &report());
        assert_eq!(
            (findings[0].code.as_str(), findings[0].weight),
            ("times_disagree", Weight::Fault)
        );
    }
}

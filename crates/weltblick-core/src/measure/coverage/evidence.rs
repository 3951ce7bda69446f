//! How far to believe coverage.

use super::rows::Evidence;
use super::seen::Seen;
use crate::flow::Mismatch;
use crate::measure::execution::Gaps;

/// What the figures rest on, and what is missing.
pub(super) fn evidence(seen: &Seen, conditional_instructions: u64) -> Evidence {
    let gaps = &seen.gaps;
    Evidence {
        basis: if seen.lower_bound { "pc_samples" } else { "instruction_flow" }.into(),
        lower_bound: seen.lower_bound || !gaps.is_whole(),
        observed: seen.total,
        overflows: gaps.overflows,
        damaged: gaps.damaged + gaps.untold,
        unwatched: gaps.unwatched,
        mismatches: gaps.mismatches,
        conditional_instructions,
        doubts: doubts(seen, gaps),
    }
}

fn doubts(seen: &Seen, gaps: &Gaps) -> Vec<String> {
    let mut doubts = Vec::new();
    if seen.lower_bound {
        doubts.push(
            "From samples: a lower bound. What no sample found may have run all the same, and \
             samples tell no branches."
                .to_owned(),
        );
    }
    if let Some((offset, mismatch)) = gaps.first_mismatch {
        doubts.push(format!(
            "Packets and image contradict each other {}, first at byte {offset}: {}. Either this is \
             not the image on the target, or bytes are damaged.",
            times(gaps.mismatches),
            describe(mismatch)
        ));
    }
    if gaps.overflows > 0 {
        doubts.push(format!(
            "The trace unit's buffer was full {}: what ran meanwhile is not counted.",
            times(gaps.overflows)
        ));
    }
    if gaps.damaged + gaps.untold > 0 {
        doubts.push(format!(
            "{} of the recording could not be read: what ran meanwhile is not counted.",
            match gaps.damaged + gaps.untold {
                1 => "One stretch".to_owned(),
                more => format!("{more} stretches"),
            }
        ));
    }
    if let Some((offset, address)) = gaps.first_outside {
        doubts.push(format!(
            "Code outside the image ran {}, first at {address:#010x} (byte {offset}): it is in no \
             figure.",
            times(gaps.outside)
        ));
    }
    doubts
}

fn times(count: u64) -> String {
    if count == 1 { "once".into() } else { format!("{count} times") }
}

/// A contradiction in words.
fn describe(mismatch: Mismatch) -> String {
    match mismatch {
        Mismatch::Outside(address) => format!("{address:#010x} is no code of the image"),
        Mismatch::AlwaysTaken(address) => {
            format!("the branch at {address:#010x} always branches, and did not")
        }
        Mismatch::NoBranch(address) => {
            format!("there was a branch, and the image has none from {address:#010x} on")
        }
        Mismatch::NoTarget(address) => {
            format!("nothing tells where the branch at {address:#010x} went")
        }
        Mismatch::NoHandler => "nothing tells where an exception's handler is".into(),
        Mismatch::OtherTarget { expected, told } => {
            format!("execution was at {told:#010x}, where the image leads to {expected:#010x}")
        }
        Mismatch::NotReached { since, told } => {
            format!("an exception came in at {told:#010x}, which {since:#010x} does not lead to")
        }
    }
}

//! What is not known, in words.

use super::counts::Gaps;
use crate::document::times;
use crate::flow::Mismatch;

impl Gaps {
    /// Reasons for doubt, each a sentence.
    #[must_use]
    pub fn doubts(&self) -> Vec<String> {
        let gaps = self;
        let mut doubts = Vec::new();
        if let Some((offset, mismatch)) = gaps.first_mismatch {
            doubts.push(format!(
                "Packets and image contradict each other {}, first at byte {offset}: {}. Either this is \
                 not the image on the target, or bytes are damaged.",
                times(gaps.mismatches),
                describe(mismatch)
            ));
        }
        if gaps.is_seldom_confirmed() {
            doubts.push(
                "The trace synchronises too seldom: what ran is counted, and nothing confirms it."
                    .into(),
            );
        }
        if gaps.overflows > 0 {
            doubts.push(format!(
                "The trace unit's buffer was full {}: what ran meanwhile is not counted.",
                times(gaps.overflows)
            ));
        }
        if gaps.head > 0 {
            doubts.push(format!(
                "{} bytes before the first synchronisation could not be read: what ran then is not counted.",
                gaps.head
            ));
        }
        if gaps.damaged + gaps.untold > 0 {
            doubts.push(format!(
                "{} of the recording is missing, or could not be read: what ran meanwhile is not counted.",
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
}

/// A contradiction in words.
fn describe(mismatch: Mismatch) -> String {
    match mismatch {
        Mismatch::Outside(address) => format!("{address:#010x} is no code of the image"),
        Mismatch::AlwaysTaken(address) => {
            format!("the branch at {address:#010x} always branches, and did not")
        }
        Mismatch::Unconditional(address) => {
            format!("the instruction at {address:#010x} has no condition, and it failed")
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
        Mismatch::NotAsked(address) => format!(
            "a branch went to {address:#010x}, and there is none there that could go anywhere"
        ),
        Mismatch::NotReached { since, told } => {
            format!("an exception came in at {told:#010x}, which {since:#010x} does not lead to")
        }
    }
}

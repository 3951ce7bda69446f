//! How far to believe coverage.

use super::rows::Evidence;
use crate::image::Image;
use crate::measure::execution::Seen;

/// What the figures rest on, and what is missing.
pub(super) fn evidence(seen: &Seen, conditional_instructions: u64) -> Evidence {
    let gaps = &seen.gaps;
    Evidence {
        basis: if seen.lower_bound { "pc_samples" } else { "instruction_flow" }.into(),
        lower_bound: seen.lower_bound || !gaps.is_whole() || gaps.unwatched > 0,
        observed: seen.total,
        overflows: gaps.overflows,
        damaged: gaps.damaged + gaps.untold,
        unwatched: gaps.unwatched,
        mismatches: gaps.mismatches,
        conditional_instructions,
        objections: Vec::new(),
        doubts: doubts(seen),
    }
}

fn doubts(seen: &Seen) -> Vec<String> {
    let samples = "From samples: a lower bound. What no sample found may have run all the same, and \
                   samples tell no branches.";
    let of_samples = seen.lower_bound.then(|| samples.to_owned());
    of_samples.into_iter().chain(seen.gaps.doubts()).collect()
}

/// What debug information that is missing would say: where functions are declared. Lines are in the image itself.
pub(super) fn missing_declarations(image: &Image) -> Option<String> {
    let missing = image.missing_debug_files_in_words()?;
    Some(format!(
        "Debug information is missing: {missing}. A function counts for the file of its first instruction, which may be one that its own includes; `inspect` says what to do."
    ))
}

//! The image: is it the one that ran, and is all of it there.

use super::{Evidence, Finding, doubt, fault, percent};
use crate::capture::EventTrace;
use crate::document::few;
use crate::event::Means;

impl Evidence<'_> {
    pub(super) fn other_image(&self) -> Option<Finding> {
        let agreement = self.agreement?;
        let total = agreement.total();
        if total == 0 {
            return None;
        }
        let advice = "Give the ELF file that is on the target (compare build IDs), and mind boot loaders and code that runs from RAM.";
        let what = if self.settings.sources == 0 { "branches" } else { "samples" };
        let outside = percent(agreement.outside, total);
        let impossible = percent(agreement.impossible(), total);
        if outside > 5.0 {
            return Some(fault(
                "other_image",
                format!(
                    "{outside:.1} % of the {what} lie outside the image: it is not the one that ran, or not all of it."
                ),
                advice,
            ));
        }
        (impossible > 1.0).then(|| {
            fault(
                "other_image",
                format!("{impossible:.1} % of the {what} lie inside instructions or in data: the image is of another build."),
                advice,
            )
        })
    }

    pub(super) fn no_image(&self) -> Option<Finding> {
        // Of an event trace only samples, and texts whose format is in the image, need one.
        let needs = |trace: &EventTrace| {
            let needed = [Means::Sample, Means::FormattedText, Means::Access];
            needed.into_iter().any(|means| trace.translation().has(means))
        };
        let is_needed = self.settings.trace.is_none_or(needs);
        (self.settings.image.is_none() && is_needed).then(|| {
            doubt(
                "no_image",
                "No image is named: addresses cannot be checked or named.",
                "Give the firmware's ELF file: --image, or `image` in the manifest.",
            )
        })
    }

    pub(super) fn no_debug_files(&self) -> Option<Finding> {
        let image = self.settings.image?;
        let (missing, moved) = (image.missing_debug_files(), image.moved_debug_files());
        let all: Vec<&str> = missing.iter().chain(moved).map(String::as_str).collect();
        if all.is_empty() {
            return None;
        }
        let some = few(&all);
        let mut advice = Vec::new();
        if !missing.is_empty() {
            advice.push("Put the files beside the image, or name their folder with --debug-info.");
        }
        if !moved.is_empty() {
            advice.push("Give the ELF file as it was linked, with its debug information in it.");
        }
        Some(doubt(
            "no_debug_files",
            format!(
                "Debug information of the image is missing, of another build or too large: {some}. Which functions were inlined, and the variables and types of that code, are not known."
            ),
            advice.join(" "),
        ))
    }
}

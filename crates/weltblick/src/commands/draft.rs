//! `check --draft`: a budget file from a recording.

use super::check::Args;
use super::measured::with_measured;
use crate::cli::Format;
use crate::outcome::Outcome;
use crate::sources;
use anyhow::{Result, bail};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use weltblick_core::image::{FunctionId, Image};
use weltblick_core::judge::{BudgetFile, Draft, EVERYTHING};
use weltblick_core::measure::execution::{Calls, Named};
use weltblick_core::measure::profile::SampleCounts;

/// How far limits of a draft lie from what was seen, where nobody says.
const HEADROOM: f64 = 0.2;
/// Functions that a draft has limits for: those that ran longest.
const DRAFTED: usize = 5;

/// Writes a budget file instead of judging one.
pub(super) fn run(args: &Args, out: &mut dyn Write) -> Result<Outcome> {
    if args.output.format != Format::Text {
        bail!("a draft is a budget file: leave --format out");
    }
    let capture = sources::open(&args.capture)?.telling_tasks();
    let everything = BudgetFile::parse("draft", EVERYTHING)?;
    let file = with_measured(&capture, &everything, args.within.as_ref(), |measured| {
        let image = capture.image()?;
        let calls = measured.executed.and_then(|executed| executed.calls);
        let functions = match calls {
            Some(calls) => longest(calls),
            None => most_sampled(measured.counts, image),
        };
        let draft = Draft {
            timings: measured.timings,
            image,
            functions: &functions,
            sleeps: measured.counts.batches().count(SampleCounts::ASLEEP) > 0,
            executed: calls.is_some(),
            headroom: args.headroom.unwrap_or(HEADROOM),
        };
        let name = capture.name.display();
        let title = match &args.within {
            Some(within) => format!("{within} of {name}"),
            None => name.to_string(),
        };
        draft.write(&title, |file| Ok(measured.judge(file)?.budgets))
    })?;
    out.write_all(file.as_bytes())?;
    Ok(Outcome::Done)
}

/// The functions with most time of their own, or where nothing tells time, most instructions.
fn longest(calls: &Calls<'_>) -> Vec<FunctionId> {
    // What waits for interrupts is not too long, however long it is.
    let nodes = calls.tree().nodes().iter();
    let waits: BTreeSet<_> =
        nodes.filter(|node| node.waits > 0).filter_map(|node| node.function).collect();
    let named = calls.figures().filter(|(named, _)| !waits.contains(named));
    let named = named.filter_map(|(Named(id), _)| id);
    let mut functions: Vec<_> = named
        .map(|id| {
            let (instructions, time) = calls.tree().own(Named(Some(id)));
            (time.ticks, instructions, id)
        })
        .collect();
    functions.sort_unstable_by(|a, b| b.cmp(a));
    functions.into_iter().take(DRAFTED).map(|(_, _, id)| id).collect()
}

fn most_sampled(counts: &SampleCounts, image: &Image) -> Vec<FunctionId> {
    let mut samples: BTreeMap<FunctionId, u64> = BTreeMap::new();
    for (address, category) in counts.addresses() {
        if let Some(id) = image.function_at(address) {
            *samples.entry(id).or_default() += counts.batches().count(category);
        }
    }
    let mut functions: Vec<_> = samples.into_iter().map(|(id, count)| (count, id)).collect();
    functions.sort_unstable_by(|a, b| b.cmp(a));
    functions.into_iter().take(DRAFTED).map(|(_, id)| id).collect()
}

//! Shares of samples: of a function, and of sleep.
//!
//! The interval of a share is widened by everything that may be otherwise: by samples that may be
//! missing, by time that no sample covers, and by the phases of what recurs that no sample visits.

use super::grouping::{By, Row, RowKind};
use super::{Basis, Context, InStep, SampleCounts};
use crate::figure::{self, Absent, Doubt, Figure, Note, SHARE, Sampled};
use crate::image::{FunctionId, Image};
use crate::measure::known::Found;
use crate::stats::{Bounds, ShareEstimate, estimate_share_with};
use rustc_hash::FxHashMap;

/// A larger part of samples outside the image means that it is not the one that ran.
const MOST_OUTSIDE: f64 = 0.05;
/// Less time than this part without samples is the edges of the recording.
const LITTLE_TIME: f64 = 1e-3;

/// What all shares of one recording have in common.
#[derive(Debug)]
pub struct Shares<'a> {
    counts: &'a SampleCounts,
    context: &'a Context<'a>,
    /// The confidence of each single interval.
    confidence: f64,
    samples: u64,
    missing: Option<u64>,
    /// What the samples keep step with, the worst first.
    in_step: Vec<InStep>,
    /// How many dependent samples say as much as one independent one, by the function where that is most.
    effect: Option<f64>,
    against: Vec<Doubt>,
}

impl<'a> Shares<'a> {
    /// Of a recording, each with an interval of this confidence.
    #[must_use]
    pub fn new(counts: &'a SampleCounts, context: &'a Context<'a>, confidence: f64) -> Self {
        let samples = counts.batches().total();
        let missing = context.timing.missing();
        Self {
            counts,
            context,
            confidence,
            samples,
            missing,
            in_step: context.in_step(),
            effect: largest_effect(counts, context, confidence),
            against: against(counts, context, samples, missing),
        }
    }

    /// For samples that are counted for whoever has the core: none of them lies outside the image.
    pub(super) fn attributed(mut self) -> Self {
        self.against.retain(|doubt| !matches!(doubt, Doubt::OtherImage { .. }));
        self
    }

    /// How long the recording is, in nanoseconds.
    pub(crate) fn duration_ns(&self) -> Option<f64> {
        self.context.timing.duration().map(|duration| duration.ns)
    }

    /// How many samples there are.
    pub(crate) const fn samples(&self) -> u64 {
        self.samples
    }

    /// What the samples keep step with, the worst first.
    pub(super) fn in_step(&self) -> &[InStep] {
        &self.in_step
    }

    /// The share of samples in a function, without what it calls.
    pub(crate) fn function(&self, id: FunctionId) -> Found {
        let image = self.context.image;
        let clones = image.clones_of(id);
        let ranges: Vec<_> =
            [id].iter().chain(&clones).map(|&id| &image.function(id).range).collect();
        let is_mine = |address: &u64| ranges.iter().any(|range| range.contains(address));
        let mine = self.counts.addresses().filter(|(address, _)| is_mine(address));
        let categories: Vec<usize> = mine.map(|(_, category)| category).collect();
        let batches = self.counts.batches();
        // Of samples that were not told apart, any may be this function's.
        let beyond = batches.count(SampleCounts::BEYOND);
        let asked_for = &self.context.conduct.ranges;
        let left_out = !ranges.iter().all(|range| asked_for.hold_all(range));
        let elsewhere = if left_out { batches.count(SampleCounts::ELSEWHERE) } else { 0 };
        let mut found = self.share(&categories, beyond + elsewhere)?;
        if left_out {
            found.doubt(Doubt::LeftOut);
        }
        if ranges.iter().any(|range| image.is_overlaid(range)) {
            found.doubt(Doubt::Overlaid);
        }
        found.evidence.notes.extend(with_clones(image, &clones));
        Ok(found)
    }

    /// The share of a row of the profile; so many samples more may be of any row, for it is unknown whose they are.
    pub(super) fn row(&self, row: &Row, by: By, of_nobody: u64) -> Found {
        let batches = self.counts.batches();
        if row.addresses.is_empty() || row.kind == RowKind::Outside {
            return self.share(&row.categories, 0);
        }
        let beyond = batches.count(SampleCounts::BEYOND);
        if matches!(by, By::Task | By::Interrupt) {
            let unknown = if row.kind == RowKind::Unknown { 0 } else { of_nobody };
            return self.share(&row.categories, beyond + unknown);
        }
        let image = self.context.image;
        let asked_for = &self.context.conduct.ranges;
        let is_left_out = |&address: &u64| {
            let function = image.function_at(address);
            function.is_some_and(|id| !asked_for.hold_all(&image.function(id).range))
        };
        let left_out = !asked_for.is_everything() && row.addresses.iter().any(is_left_out);
        let elsewhere = if left_out { batches.count(SampleCounts::ELSEWHERE) } else { 0 };
        let mut found = self.share(&row.categories, beyond + elsewhere)?;
        if left_out {
            found.doubt(Doubt::LeftOut);
        }
        let is_overlaid = |&address: &u64| image.is_overlaid(&(address..address + 1));
        if image.is_overlaid(&(0..u64::MAX)) && row.addresses.iter().any(is_overlaid) {
            found.doubt(Doubt::Overlaid);
        }
        Ok(found)
    }

    /// The share of samples that found the core asleep.
    pub(crate) fn sleep(&self) -> Found {
        self.share(&[SampleCounts::ASLEEP], 0)
    }

    /// The share of some categories, to which `unknown` more samples may belong.
    fn share(&self, categories: &[usize], unknown: u64) -> Found {
        let Some((hits, estimate)) = self.estimate(categories) else {
            return Err(Absent::new("there are no samples", "turn PC sampling on"));
        };
        let duration_ns = self.duration_ns();
        let (all, missing) = (self.samples, self.missing);
        let basis =
            figure::Basis::Samples { hits, all, worth: estimate.effective_samples, missing };
        let bounds = self.widened(&estimate, unknown);
        let mut found = Figure::between(estimate.share, bounds, self.samples, basis);
        found.possible = SHARE;
        found.evidence.lossy = self.missing != Some(0);
        found.evidence.sampled = Some(Sampled { estimate, duration_ns });
        if estimate.is_assumed {
            found.doubt(Doubt::FewSamples { samples: self.samples });
        }
        let uncovered = self.context.timing.uncovered();
        if uncovered > LITTLE_TIME {
            found.doubt(Doubt::UnwatchedTime { part: uncovered });
        }
        if let Some(InStep { name, every, unvisited, .. }) = self.in_step.first()
            && *unvisited > (estimate.high - estimate.low) / 8.0
        {
            let (with, every, unvisited) = (name.clone(), *every, *unvisited);
            found.doubt(Doubt::InStep { with, every, unvisited });
        }
        self.against.iter().for_each(|doubt| found.doubt(doubt.clone()));
        Ok(found)
    }

    fn estimate(&self, categories: &[usize]) -> Option<(u64, ShareEstimate)> {
        let batches = self.counts.batches();
        let hits = categories.iter().map(|&category| batches.count(category)).sum();
        let per_batch = batches.per_batch(categories);
        let size = batches.batch_size();
        let estimate = estimate_share_with(
            hits,
            self.samples,
            &per_batch,
            size,
            self.confidence,
            self.effect,
        )?;
        Some((hits, estimate))
    }

    /// The interval with everything that may be otherwise counted against and for.
    fn widened(&self, estimate: &ShareEstimate, unknown: u64) -> Bounds {
        let n = self.samples as f64;
        let missing = self.missing.unwrap_or(0) as f64;
        let all = n + missing;
        let unvisited = self.in_step.first().map_or(0.0, |step| step.unvisited);
        let low = estimate.low * n / all - unvisited;
        let high = (estimate.high * n + missing + unknown as f64) / all + unvisited;
        Bounds { low: low.max(0.0), high: high.min(1.0) }
    }
}

/// Names the clones that count with a function.
pub(crate) fn with_clones(image: &Image, clones: &[FunctionId]) -> Option<Note> {
    let names: Vec<String> = clones.iter().map(|&id| image.function(id).name.clone()).collect();
    (!names.is_empty()).then_some(Note::Clones(names))
}

/// The largest design effect of all functions, and of sleep: what a share without hits is taken to have.
fn largest_effect(counts: &SampleCounts, context: &Context<'_>, confidence: f64) -> Option<f64> {
    let batches = counts.batches();
    let mut rows: FxHashMap<Option<FunctionId>, Vec<usize>> = FxHashMap::default();
    for (address, category) in counts.addresses() {
        rows.entry(context.image.function_at(address)).or_default().push(category);
    }
    let effect = |categories: &[usize]| {
        let hits: u64 = categories.iter().map(|&category| batches.count(category)).sum();
        let per_batch = batches.per_batch(categories);
        let size = batches.batch_size();
        let found = estimate_share_with(hits, batches.total(), &per_batch, size, confidence, None)?;
        (!found.is_assumed).then(|| batches.total() as f64 / found.effective_samples)
    };
    let rows = rows.values().map(Vec::as_slice).chain([&[SampleCounts::ASLEEP][..]]);
    rows.filter_map(effect).reduce(f64::max)
}

/// What speaks against every share of this recording.
fn against(
    counts: &SampleCounts,
    context: &Context<'_>,
    samples: u64,
    missing: Option<u64>,
) -> Vec<Doubt> {
    let outside: u64 = counts
        .addresses()
        .filter(|(address, _)| !context.image.is_executable(*address))
        .map(|(_, category)| counts.batches().count(category))
        .sum();
    let is_outside = outside as f64 > MOST_OUTSIDE * samples as f64;
    [
        is_outside.then_some(Doubt::OtherImage { samples: outside }),
        context.conduct.between_points.then_some(Doubt::BetweenPoints),
        context.conduct.intrusive.then_some(Doubt::Stopped),
        (context.conduct.basis == Basis::Stopped).then_some(Doubt::StoppedForSamples),
        missing.is_none().then_some(Doubt::SamplesUncounted),
        context.timing.recording.span().is_none().then_some(Doubt::NoTimestamps),
    ]
    .into_iter()
    .flatten()
    .chain(context.timing.head().filter(|_| !context.conduct.attached))
    .chain(context.timing.doubts(&context.cadences.ticks))
    .collect()
}

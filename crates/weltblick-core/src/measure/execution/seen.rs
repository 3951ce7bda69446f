//! What of a listing ran.

use super::counts::{Gaps, Tally};
use super::listing::{Listed, Listing, Role};
use crate::measure::profile::SampleCounts;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// How often each instruction of a [`Listing`] ran.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Seen {
    /// By instruction: how often it ran, or how many samples found it.
    pub executed: Vec<u64>,
    /// By address: how often a branch did not branch, and did; of another instruction of an IT block,
    /// how often its condition failed, and held. Empty where nothing tells.
    pub ways: FxHashMap<u64, [u64; 2]>,
    /// Instructions of IT blocks are among them.
    pub conditions: bool,
    /// From samples: what was not seen may have run all the same.
    pub lower_bound: bool,
    /// What is not known.
    pub gaps: Gaps,
    /// Instructions that ran, or samples, in all.
    pub total: u64,
}

impl Seen {
    /// What flow tells: exact.
    #[must_use]
    pub fn of_flow(tally: &Tally, listing: &Listing) -> Self {
        // Where counts change: up at the start of a run, down behind it.
        let mut changes: BTreeMap<u64, i128> = BTreeMap::new();
        let mut change = |start: u64, until: u64, count: u64| {
            *changes.entry(start).or_default() += i128::from(count);
            *changes.entry(until).or_default() -= i128::from(count);
        };
        let mut ways: FxHashMap<u64, [u64; 2]> = FxHashMap::default();
        for (run, &[stayed, branched]) in &tally.runs {
            change(run.start, run.until, stayed + branched);
            let way = ways.entry(run.last).or_default();
            *way = [way[0] + stayed, way[1] + branched];
        }
        for (run, &count) in &tally.parts {
            change(run.start, run.until, count);
        }
        let mut changes = changes.into_iter().peekable();
        let mut now = 0;
        let count = |listed: &Listed| {
            while let Some((_, by)) = changes.next_if(|&(at, _)| at <= listed.address) {
                now += by;
            }
            u64::try_from(now).unwrap_or(u64::MAX)
        };
        let executed: Vec<u64> = listing.instructions.iter().map(count).collect();
        if let Some(skipped) = &tally.skipped {
            let passed = listing.instructions.iter().zip(&executed);
            for (listed, &count) in passed.filter(|(l, _)| l.role == Role::Conditional) {
                let skipped = skipped.get(&listed.address).copied().unwrap_or(0);
                ways.insert(listed.address, [skipped, count.saturating_sub(skipped)]);
            }
        }
        Self {
            executed,
            conditions: tally.skipped.is_some(),
            ways,
            lower_bound: false,
            gaps: tally.gaps.clone(),
            total: tally.instructions(),
        }
    }

    /// What samples tell: a lower bound.
    #[must_use]
    pub fn of_samples(counts: &SampleCounts, listing: &Listing) -> Self {
        let mut executed = vec![0; listing.instructions.len()];
        let mut total = 0;
        for (address, category) in counts.addresses() {
            let samples = counts.batches().count(category);
            total += samples;
            if let Some(position) = listing.position(address) {
                executed[position] += samples;
            }
        }
        Self { executed, lower_bound: true, total, ..Self::default() }
    }

    /// Adds what another capture of the same image saw.
    pub fn merge(&mut self, other: Self) {
        self.add_evidence(&other);
        let Self { executed, ways, .. } = other;
        self.executed.resize(self.executed.len().max(executed.len()), 0);
        for (mine, theirs) in self.executed.iter_mut().zip(executed) {
            *mine = mine.saturating_add(theirs);
        }
        for (address, [stayed, branched]) in ways {
            let way = self.ways.entry(address).or_default();
            *way = [way[0].saturating_add(stayed), way[1].saturating_add(branched)];
        }
    }

    /// Adds only what the figures rest on: for captures of other images.
    pub fn add_evidence(&mut self, other: &Self) {
        self.conditions |= other.conditions;
        self.lower_bound |= other.lower_bound;
        self.gaps.merge(other.gaps.clone());
        self.total = self.total.saturating_add(other.total);
    }
}

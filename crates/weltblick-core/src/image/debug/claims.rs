//! Ranges of code that units claim: more than one, where linkers leave debug information of code that they dropped.

use super::units::UnitId;
use std::collections::HashSet;
use std::ops::Range;

/// Of more claims that begin at one address, those of dropped code are taken back at the first question.
const MOST_AT_ONE: usize = 8;

/// Units that are looked at for one address: in a sound file it is one, or as many as lost their code.
pub(super) const MOST_CANDIDATES: usize = 512;

/// A range that a unit says is its code.
#[derive(Debug, Clone)]
pub(super) struct Claim {
    pub(super) range: Range<u64>,
    pub(super) unit: UnitId,
}

/// All claims, by their first address.
#[derive(Debug)]
pub(super) struct Claims {
    all: Vec<Claim>,
    /// How far the claims up to each reach.
    reach: Vec<u64>,
    /// Addresses that more than [`MOST_AT_ONE`] begin at, and that nobody asked for yet.
    crowded: HashSet<u64>,
}

impl Claims {
    pub(super) fn new(mut all: Vec<Claim>) -> Self {
        all.sort_by_key(|claim| (claim.range.start, claim.unit));
        let crowds = all.chunk_by(|a, b| a.range.start == b.range.start);
        let crowds = crowds.filter(|crowd| crowd.len() > MOST_AT_ONE);
        let crowded = crowds.map(|crowd| crowd[0].range.start).collect();
        Self { reach: reach(&all), all, crowded }
    }

    /// One of these addresses that is crowded, the first time that it is asked for.
    pub(super) fn crowd_among(&mut self, mut starts: impl Iterator<Item = u64>) -> Option<u64> {
        starts.find(|start| self.crowded.remove(start))
    }

    /// Takes back claims that begin at an address.
    pub(super) fn retain_at(&mut self, start: u64, mut keep: impl FnMut(&Claim) -> bool) {
        let first = self.all.partition_point(|claim| claim.range.start < start);
        let after = self.all.partition_point(|claim| claim.range.start <= start);
        let kept: Vec<Claim> =
            self.all[first..after].iter().filter(|claim| keep(claim)).cloned().collect();
        self.all.splice(first..after, kept);
        self.reach = reach(&self.all);
    }

    /// Claims to an address, later ones first.
    pub(super) fn to(&self, address: u64) -> impl Iterator<Item = &Claim> {
        let after = self.all.partition_point(|claim| claim.range.start <= address);
        (0..after)
            .rev()
            .take_while(move |&index| self.reach[index] > address)
            .map(|index| &self.all[index])
            .filter(move |claim| claim.range.contains(&address))
            .take(MOST_CANDIDATES)
    }
}

fn reach(claims: &[Claim]) -> Vec<u64> {
    let reach = claims.iter().scan(0, |reach, claim| {
        *reach = claim.range.end.max(*reach);
        Some(*reach)
    });
    reach.collect()
}

//! Functions and their extents, found by address or by name.

use super::names::original;
use rustc_hash::{FxHashMap, FxHashSet};
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// A function's number in its image, in order of address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct FunctionId(pub u32);

/// A function.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Function {
    /// Its name, demangled.
    pub name: String,
    /// Other names of the same address.
    pub aliases: Vec<String>,
    /// Its instructions, and the literals between them.
    pub range: Range<u64>,
}

/// A symbol that may start a function.
#[derive(Debug, Clone)]
pub(super) struct Symbol {
    pub(super) address: u64,
    /// 0 where the symbol does not say.
    pub(super) size: u64,
    pub(super) name: String,
    pub(super) rank: Rank,
    /// Whether its value says that it is called in Thumb state.
    pub(super) is_thumb: bool,
}

/// Which of several symbols at one address names it: the first in this order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Rank {
    GlobalFunction,
    LocalFunction,
    WeakFunction,
    /// A label without type, as assembly leaves them.
    Label,
}

#[derive(Debug, Default)]
pub(super) struct Functions {
    all: Vec<Function>,
    /// Starts of `all`, beside each other for the search.
    starts: Vec<u64>,
    /// Sizes that the symbols of `all` state; 0 where they do not.
    sizes: Vec<u64>,
    by_name: FxHashMap<String, Vec<FunctionId>>,
}

impl Functions {
    /// Gives every symbol its extent: its size, else up to where the next symbol begins or its
    /// section ends. Extents never overlap: a symbol inside another ends it there.
    ///
    /// `ends` is where anything with a name begins, data among the code included; `sections` are the
    /// executable ranges; both sorted.
    pub(super) fn new(mut symbols: Vec<Symbol>, ends: &[u64], sections: &[Range<u64>]) -> Self {
        symbols.retain(|symbol| super::range_holding(sections, symbol.address).is_some());
        drop_labels_inside_functions(&mut symbols);
        symbols.sort_by(|a, b| {
            (a.address, a.rank, a.size == 0, &a.name).cmp(&(
                b.address,
                b.rank,
                b.size == 0,
                &b.name,
            ))
        });
        let mut all: Vec<Function> = Vec::new();
        let mut sizes: Vec<u64> = Vec::new();
        for symbol in symbols {
            match all.last_mut() {
                Some(last) if last.range.start == symbol.address => {
                    if last.name != symbol.name {
                        last.aliases.push(symbol.name);
                    }
                    let size = sizes.last_mut().expect("one size per function");
                    *size = (*size).max(symbol.size);
                }
                _ => {
                    let range = symbol.address..symbol.address;
                    all.push(Function { name: symbol.name, aliases: Vec::new(), range });
                    sizes.push(symbol.size);
                }
            }
        }
        for function in all.iter_mut().filter(|function| function.aliases.len() > 1) {
            let mut seen = FxHashSet::default();
            function.aliases.retain(|alias| seen.insert(alias.clone()));
        }
        set_extents(&mut all, &sizes, ends, sections);
        Self::index(all, sizes)
    }

    fn index(all: Vec<Function>, sizes: Vec<u64>) -> Self {
        let starts = all.iter().map(|function| function.range.start).collect();
        let mut by_name: FxHashMap<String, Vec<FunctionId>> = FxHashMap::default();
        for (id, function) in (0..).map(FunctionId).zip(&all) {
            for name in std::iter::once(&function.name).chain(&function.aliases) {
                by_name.entry(name.clone()).or_default().push(id);
            }
        }
        Self { all, starts, sizes, by_name }
    }

    pub(super) fn all(&self) -> &[Function] {
        &self.all
    }

    pub(super) fn get(&self, id: FunctionId) -> &Function {
        &self.all[id.0 as usize]
    }

    pub(super) fn at(&self, address: u64) -> Option<FunctionId> {
        let after = self.starts.partition_point(|&start| start <= address);
        let index = after.checked_sub(1)?;
        self.all[index].range.contains(&address).then_some(FunctionId(index as u32))
    }

    /// Whether a function is both before and behind `address`, and its symbol says so by its size.
    pub(super) fn is_split_at(&self, address: u64) -> bool {
        let id = self.at(address).filter(|&id| self.get(id).range.start < address);
        id.is_some_and(|id| self.sizes[id.0 as usize] > 0)
    }

    /// Where the next function begins.
    pub(super) fn after(&self, address: u64) -> Option<u64> {
        self.starts.get(self.starts.partition_point(|&start| start <= address)).copied()
    }

    /// What a compiler made of the function of this name besides: `NAME.constprop.0`, `NAME.cold`.
    pub(super) fn clones(&self, name: &str) -> Vec<FunctionId> {
        let clones = self.by_name.iter().filter(|(other, _)| original(other) == Some(name));
        let mut ids: Vec<FunctionId> = clones.flat_map(|(_, ids)| ids.iter().copied()).collect();
        ids.sort_unstable_by_key(|id| id.0);
        ids.dedup();
        ids
    }

    pub(super) fn named(&self, name: &str) -> Vec<FunctionId> {
        self.by_name.get(name).cloned().unwrap_or_default()
    }
}

/// Labels inside the extent of a sized function are places in it, not functions.
fn drop_labels_inside_functions(symbols: &mut Vec<Symbol>) {
    let mut sized: Vec<Range<u64>> = symbols
        .iter()
        .filter(|symbol| symbol.rank != Rank::Label && symbol.size > 0)
        .map(|symbol| symbol.address..symbol.address.saturating_add(symbol.size))
        .collect();
    sized.sort_by_key(|range| (range.start, range.end));
    symbols.retain(|symbol| {
        symbol.rank != Rank::Label
            || super::range_holding(&sized, symbol.address)
                .is_none_or(|range| range.start == symbol.address)
    });
}

fn set_extents(all: &mut [Function], sizes: &[u64], ends: &[u64], sections: &[Range<u64>]) {
    for index in 0..all.len() {
        let start = all[index].range.start;
        let next = all.get(index + 1).map_or(u64::MAX, |next| next.range.start);
        let section_end = super::range_holding(sections, start).map_or(next, |range| range.end);
        let own_end = match sizes[index] {
            0 => ends.get(ends.partition_point(|&end| end <= start)).copied().unwrap_or(u64::MAX),
            size => start.saturating_add(size),
        };
        all[index].range.end = own_end.min(next).min(section_end);
    }
}

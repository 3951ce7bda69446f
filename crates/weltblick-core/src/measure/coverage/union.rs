//! One coverage for several builds of the same source.
//!
//! Addresses mean nothing from one build to the other, so pieces meet by function, file and line. A line
//! ran if it ran in any build. How many instructions, calls and branches it has differs: each of these
//! figures is that of the build in which the line is covered best, for nothing says which instruction of
//! one build is which of the other.

use super::pieces::{Function, Piece, Pieces, Place};
use super::rows::Part;
use rustc_hash::FxHashMap;
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// Why builds cannot be added up.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum OtherSource {
    /// They have no function of the same name and file.
    #[error("no function of the one is in the other")]
    NothingShared,
    /// Most functions begin on other lines.
    #[error(
        "their lines do not mean the same: {function} ({file}) begins on line {first} in one and on line \
         {second} in the other, and {more} more functions moved"
    )]
    Moved {
        /// The first of these functions.
        function: String,
        /// Its source file.
        file: String,
        /// Where it begins in the build before.
        first: u32,
        /// Where it begins in this one.
        second: u32,
        /// How many others do so.
        more: usize,
    },
}

/// A function whatever the build: name, file, and the number of the copy.
type Key = (String, Option<u32>, u32);

impl Pieces {
    /// Adds another build. Says which functions begin on another line, if these are few.
    ///
    /// # Errors
    ///
    /// It is none of the same source: more functions that both have moved than stayed, or there are none.
    pub(super) fn join(&mut self, mut other: Self) -> Result<Option<String>, OtherSource> {
        other.name_files_as(&mut self.files);
        self.branches &= other.branches;
        let mut places: FxHashMap<Key, usize> =
            keys(&self.functions).into_iter().zip(0..).collect();
        let (mut stayed, mut moved) = (0, Vec::new());
        for (key, function) in keys(&other.functions).into_iter().zip(other.functions) {
            match places.get(&key) {
                Some(&at) => {
                    let mine = &mut self.functions[at];
                    match (mine.place, function.place) {
                        (Some((file, mine)), Some((_, theirs))) if mine != theirs => {
                            moved.push((function.name.clone(), file, mine, theirs));
                        }
                        (Some(_), Some(_)) => stayed += 1,
                        _ => {}
                    }
                    mine.join(function);
                }
                None => {
                    places.insert(key, self.functions.len());
                    self.functions.push(function);
                }
            }
        }
        let Some((function, file, first, second)) = moved.first().cloned() else {
            return if stayed > 0 { Ok(None) } else { Err(OtherSource::NothingShared) };
        };
        let (file, more) = (self.files[file as usize].clone(), moved.len() - 1);
        if moved.len() >= stayed {
            return Err(OtherSource::Moved { function, file, first, second, more });
        }
        Ok(Some(format!(
            "{function} ({file}) begins on line {first} in one build and on line {second} in another{}: if \
             the source was changed in between, lines do not mean the same.",
            if more > 0 { format!(", and {more} more functions moved") } else { String::new() }
        )))
    }

    /// Gives the files the numbers that they have in `known`, and new ones where they are not in it.
    fn name_files_as(&mut self, known: &mut Vec<String>) {
        let same = same_files(known, &self.files);
        let number = |(file, same): (String, Option<u32>)| {
            same.unwrap_or_else(|| {
                known.push(file);
                known.len() as u32 - 1
            })
        };
        let numbers: Vec<u32> =
            std::mem::take(&mut self.files).into_iter().zip(same).map(number).collect();
        let renamed = |place: Place| place.map(|(file, line)| (numbers[file as usize], line));
        for function in &mut self.functions {
            function.place = renamed(function.place);
            let lines = std::mem::take(&mut function.lines).into_iter();
            // Two files of one build never become one.
            function.lines = lines.map(|(place, piece)| (renamed(place), piece)).collect();
        }
    }
}

/// What each function is called whatever the build.
fn keys(functions: &[Function]) -> Vec<Key> {
    let mut copies: FxHashMap<(&str, Option<u32>), u32> = FxHashMap::default();
    let mut keys = Vec::with_capacity(functions.len());
    for function in functions {
        let (name, file) = (source_name(&function.name), function.file());
        let copy = copies.entry((name, file)).or_default();
        *copy += 1;
        keys.push((name.to_owned(), file, *copy));
    }
    keys
}

/// The name without what a compiler adds to a function that it copied or cut: `filter.part.0`.
pub(super) fn source_name(name: &str) -> &str {
    const ADDED: [&str; 5] = [".constprop.", ".isra.", ".part.", ".cold", ".lto_priv."];
    let cut = ADDED.iter().filter_map(|added| name.find(added)).min();
    cut.filter(|&at| at > 0).map_or(name, |at| &name[..at])
}

/// For each file, which of the `known` ones it is. The same source may stand in another folder: a file
/// that is not known by its whole path is the one that agrees with it at the end, if only one does.
pub(super) fn same_files(known: &[String], files: &[String]) -> Vec<Option<u32>> {
    let numbers: FxHashMap<&str, u32> = known.iter().map(String::as_str).zip(0..).collect();
    let mut same: Vec<Option<u32>> =
        files.iter().map(|file| numbers.get(file.as_str()).copied()).collect();
    // By the last part of the path, so that not every pair is compared.
    let mut free: FxHashMap<&str, Vec<u32>> = FxHashMap::default();
    let taken: std::collections::BTreeSet<u32> = same.iter().flatten().copied().collect();
    for (file, number) in known.iter().zip(0..).filter(|(_, number)| !taken.contains(number)) {
        free.entry(last_part(file)).or_default().push(number);
    }
    let mut claims: BTreeMap<u32, Vec<usize>> = BTreeMap::new();
    for (at, file) in files.iter().enumerate().filter(|&(at, _)| same[at].is_none()) {
        let candidates = free.get(last_part(file)).into_iter().flatten();
        let mut agreeing: Vec<(usize, u32)> = candidates
            .map(|&number| (agreement(&known[number as usize], file), number))
            .filter(|&(parts, _)| parts > 0)
            .collect();
        agreeing.sort_by_key(|&(parts, number)| (Reverse(parts), number));
        match agreeing[..] {
            [(best, number), (second, _), ..] if best > second => {
                claims.entry(number).or_default().push(at);
            }
            [(_, number)] => claims.entry(number).or_default().push(at),
            _ => {}
        }
    }
    for (number, at) in claims {
        if let [only] = at[..] {
            same[only] = Some(number);
        }
    }
    same
}

fn last_part(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// How many parts of two paths agree at the end: at least two, or one path altogether.
fn agreement(one: &str, other: &str) -> usize {
    let parts = |path: &str| path.split('/').filter(|part| !part.is_empty()).count();
    let agreeing = one.rsplit('/').zip(other.rsplit('/')).take_while(|(a, b)| a == b).count();
    let whole = agreeing >= parts(one).min(parts(other));
    if agreeing >= 2 || whole { agreeing } else { 0 }
}

impl Function {
    fn join(&mut self, other: Self) {
        self.entries = self.entries.saturating_add(other.entries);
        for (place, piece) in other.lines {
            self.lines.entry(place).or_default().join(piece);
        }
    }
}

impl Piece {
    fn join(&mut self, other: Self) {
        if better(other.ways(), self.ways()) {
            self.branches = other.branches;
        }
        self.executions = self.executions.saturating_add(other.executions);
        for (mine, theirs) in
            [(&mut self.instructions, other.instructions), (&mut self.calls, other.calls)]
        {
            if better(theirs, *mine) {
                *mine = theirs;
            }
        }
    }
}

/// Whether a larger part of `one` was covered; of equal ones, whether there is more of it.
fn better(one: Part, other: Part) -> bool {
    let product = |part: Part, by: Part| u128::from(part.covered) * u128::from(by.total.max(1));
    let (mine, theirs) = (product(one, other), product(other, one));
    mine > theirs || (mine == theirs && one.total > other.total)
}

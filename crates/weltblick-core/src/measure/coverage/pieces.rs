//! What was seen, in pieces that have a name: the instructions of one line in one function. Addresses
//! change from build to build; these do not.

use super::choice::Choice;
use super::rows::{Measures, Part};
use crate::image::Image;
use crate::measure::execution::{Listed, ListedFunction, Listing, Role, Seen};
use std::collections::BTreeMap;

/// One build of the source, and what was seen of it.
#[derive(Debug, Clone, Copy)]
pub struct Build<'a> {
    /// Its image.
    pub image: &'a Image,
    /// The instructions of that image.
    pub listing: &'a Listing,
    /// Which of them ran.
    pub seen: &'a Seen,
}

/// A source line: file, by its number in [`Pieces::files`], and line; none without line data.
pub(super) type Place = Option<(u32, u32)>;

/// The pieces of one build, or of several that were joined.
#[derive(Debug, Default)]
pub(super) struct Pieces {
    pub(super) files: Vec<String>,
    pub(super) functions: Vec<Function>,
    /// Branches are told.
    pub(super) branches: bool,
}

/// A function that counts.
#[derive(Debug)]
pub(super) struct Function {
    pub(super) name: String,
    /// Where it begins.
    pub(super) place: Place,
    pub(super) address: u64,
    /// The build that this address is of, by number.
    pub(super) build: u32,
    pub(super) entries: u64,
    pub(super) lines: BTreeMap<Place, Piece>,
}

/// The instructions of one line in one function.
#[derive(Debug, Default)]
pub(super) struct Piece {
    /// The most that any of them ran.
    pub(super) executions: u64,
    pub(super) instructions: Part,
    pub(super) calls: Part,
    pub(super) branches: Vec<Branch>,
}

/// An instruction that may go two ways, where that is told.
#[derive(Debug, Clone, Copy)]
pub(super) struct Branch {
    pub(super) address: u64,
    pub(super) build: u32,
    /// Another instruction of an IT block.
    pub(super) conditional: bool,
    /// How often it did not branch, and did.
    pub(super) ways: [u64; 2],
}

impl Pieces {
    /// The pieces of the build with this number, as far as they are chosen.
    pub(super) fn of(build: &Build<'_>, number: u32, choice: &Choice) -> Self {
        let Build { image, listing, seen } = build;
        let function = |function: &ListedFunction| {
            let name = &image.function(function.id).name;
            let file = function.place.map(|(file, _)| listing.file(file));
            let start = build.image.function(function.id).range.start;
            if !choice.takes(name, file, Some(start)) {
                return None;
            }
            let mut instructions = build.instructions(function, choice).peekable();
            let mut pieces = Function {
                name: name.clone(),
                place: function.place,
                address: instructions.peek()?.0.address,
                build: number,
                entries: seen.executed[function.instructions.start],
                lines: BTreeMap::new(),
            };
            for (listed, count) in instructions {
                let ways = build.ways(listed);
                pieces.lines.entry(listed.line).or_default().add(listed, count, ways, number);
            }
            Some(pieces)
        };
        let functions = listing.functions.iter().filter_map(function).collect();
        Self { files: listing.files.clone(), functions, branches: !seen.lower_bound }
    }
}

impl<'a> Build<'a> {
    /// The instructions of a function that count, and how often each ran.
    fn instructions<'c>(
        &self,
        function: &ListedFunction,
        choice: &'c Choice,
    ) -> impl Iterator<Item = (&'a Listed, u64)> + use<'a, 'c> {
        let listing = self.listing;
        let range = function.instructions.clone();
        let listed = listing.instructions[range.clone()].iter();
        let counted = listed.zip(self.seen.executed[range].iter().copied());
        counted.filter(move |(listed, _)| {
            listed.line.is_none_or(|(file, line)| {
                choice.lines.is_empty() || choice.takes_line(listing.file(file), line)
            })
        })
    }

    /// How often an instruction went each of its two ways, if it has two and that is told.
    fn ways(&self, listed: &Listed) -> Option<[u64; 2]> {
        let told = match listed.role {
            Role::Branch => !self.seen.lower_bound,
            Role::Conditional => self.seen.conditions,
            Role::Plain | Role::Call => false,
        };
        told.then(|| self.seen.ways.get(&listed.address).copied().unwrap_or_default())
    }

    /// How many instructions of IT blocks ran without the trace telling whether their condition held.
    pub(super) fn untold_conditions(&self) -> u64 {
        let told =
            |listed: &Listed| self.seen.ways.get(&listed.address).map_or(0, |[no, yes]| no + yes);
        let counted = self.listing.instructions.iter().zip(&self.seen.executed);
        let untold = counted.filter(|(l, count)| l.role == Role::Conditional && **count > told(l));
        untold.count() as u64
    }
}

impl Function {
    pub(super) fn ran(&self) -> bool {
        self.lines.values().any(|piece| piece.executions > 0)
    }

    pub(super) fn file(&self) -> Option<u32> {
        self.place.map(|(file, _)| file)
    }
}

impl Piece {
    fn add(&mut self, listed: &Listed, count: u64, ways: Option<[u64; 2]>, build: u32) {
        self.executions = self.executions.max(count);
        self.instructions.add(count > 0);
        if listed.role == Role::Call {
            self.calls.add(count > 0);
        }
        let (address, conditional) = (listed.address, listed.role == Role::Conditional);
        self.branches.extend(ways.map(|ways| Branch { address, build, conditional, ways }));
    }

    /// Adds what it has to the measures of what it lies in.
    pub(super) fn add_to(&self, measures: &mut Measures) {
        measures.instructions.join(self.instructions);
        measures.calls.join(self.calls);
        if let Some(branches) = &mut measures.branches {
            branches.join(self.ways());
        }
    }

    /// The ways of its branches that were gone.
    pub(super) fn ways(&self) -> Part {
        let gone = self.branches.iter().flat_map(|branch| branch.ways).filter(|&way| way > 0);
        Part::of(gone.count() as u64, 2 * self.branches.len() as u64)
    }
}

//! What the linker left in the file: debug information is held against it.

use crate::image::functions::{Function, Functions};
use crate::image::names::original;
use crate::image::{Code, range_holding, section_holding};
use std::ops::Range;

/// Linkers give debug information of what they dropped the address 0 or 1, or its place in the dropped section: what
/// begins below this may be such, and is believed only if the symbol table agrees.
pub(in crate::image) const DOUBTFUL: u64 = 1 << 16;

/// Sections and symbols of an image.
#[derive(Debug, Clone, Copy)]
pub(in crate::image) struct Linked<'a> {
    pub(in crate::image) code: &'a [Code],
    pub(in crate::image) literals: &'a [Range<u64>],
    pub(in crate::image) functions: &'a Functions,
}

/// How well a range of debug information fits what was linked; better ones are greater.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Fit {
    /// Its code was dropped.
    Dead,
    /// Another function is there by name.
    OtherName,
    /// Nothing says that it is there or not.
    Possible,
    /// It begins where a symbol begins, and has no name.
    Begins,
    /// It begins where a function begins that has its name besides.
    Named,
    /// It begins where a function of its name begins.
    Called,
}

impl Linked<'_> {
    /// Whether nothing but the symbol table can say that a range which begins here is linked.
    pub(super) const fn is_doubtful(start: u64) -> bool {
        start < DOUBTFUL
    }

    /// How well a range fits that has functions of these names at its beginning.
    pub(super) fn fit(&self, range: &Range<u64>, names: &[String]) -> Fit {
        let section = section_holding(self.code, range.start);
        let fits = section.is_some_and(|code| range.end <= code.range.end);
        if !fits || range_holding(self.literals, range.start).is_some() {
            return Fit::Dead;
        }
        let function = self.functions.at(range.start).map(|id| self.functions.get(id));
        match function {
            Some(function) if function.range.start != range.start => {
                match Self::is_doubtful(range.start) {
                    true => Fit::Dead,
                    false => Fit::OtherName,
                }
            }
            // No unit's code ends within a function.
            Some(_) if names.is_empty() => {
                let ends_within = self.functions.is_split_at(range.end);
                if Self::is_doubtful(range.start) && ends_within { Fit::Dead } else { Fit::Begins }
            }
            Some(function) if names.iter().any(|name| is_name_of(&function.name, name)) => {
                Fit::Called
            }
            Some(function) if names.iter().any(|name| has_alias(function, name)) => Fit::Named,
            Some(_) if Self::is_doubtful(range.start) => Fit::Dead,
            Some(_) => Fit::OtherName,
            None => Fit::Possible,
        }
    }
}

/// Whether a symbol is that of `name`, or of what a compiler made of it.
fn is_name_of(symbol: &str, name: &str) -> bool {
    symbol == name || original(symbol) == Some(name)
}

fn has_alias(function: &Function, name: &str) -> bool {
    function.aliases.iter().any(|symbol| is_name_of(symbol, name))
}

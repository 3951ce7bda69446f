//! Which code counts.

use std::ops::Range;

impl Covered {
    /// All of them.
    pub const ALL: [Self; 5] =
        [Self::Functions, Self::Lines, Self::Instructions, Self::Branches, Self::Calls];

    /// What results call it.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::Functions => "functions",
            Self::Lines => "lines",
            Self::Instructions => "instructions",
            Self::Branches => "branches",
            Self::Calls => "calls",
        }
    }
}

/// What coverage counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Covered {
    /// Functions that ran.
    Functions,
    /// Lines that ran.
    Lines,
    /// Instructions that ran.
    Instructions,
    /// Ways of branches that were gone.
    Branches,
    /// Calls that ran.
    Calls,
}

/// Code that is to be covered: part of all that the image holds.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Choice {
    /// Only functions and files whose name matches one of these, and functions that start in one of these
    /// ranges (`0x08000100..0x08000200`), if there are any.
    pub inside: Vec<String>,
    /// Not those that one of these names.
    pub exclude: Vec<String>,
    /// Not these lines: file and lines, the last included.
    pub lines: Vec<(String, Range<u32>)>,
}

impl Choice {
    /// Whether everything counts.
    #[must_use]
    pub const fn is_everything(&self) -> bool {
        self.inside.is_empty() && self.exclude.is_empty() && self.lines.is_empty()
    }

    /// Whether a function counts, by its name, its file, and where it starts.
    #[must_use]
    pub fn takes(&self, function: &str, file: Option<&str>, start: Option<u64>) -> bool {
        let named = |patterns: &[String]| {
            patterns.iter().any(|pattern| {
                matches(pattern, function)
                    || file.is_some_and(|file| matches_path(pattern, file))
                    || start.is_some_and(|start| holds(pattern, start))
            })
        };
        (self.inside.is_empty() || named(&self.inside)) && !named(&self.exclude)
    }

    /// Whether a line counts.
    #[must_use]
    pub fn takes_line(&self, file: &str, line: u32) -> bool {
        !self.lines.iter().any(|(other, lines)| other == file && lines.contains(&line))
    }
}

/// Whether an address lies in the range that is written so.
fn holds(range: &str, address: u64) -> bool {
    let side = |text: &str| u64::from_str_radix(text.strip_prefix("0x")?, 16).ok();
    let sides = range.split_once("..").and_then(|(from, until)| Some(side(from)?..side(until)?));
    sides.is_some_and(|range| range.contains(&address))
}

/// Whether `text` is what `pattern` says: `*` stands for anything, `?` for one character.
pub(super) fn matches(pattern: &str, text: &str) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) =
        (pattern.chars().collect(), text.chars().collect());
    // The place after the last star, and what it stands for so far: at most one step back each.
    let (mut p, mut t) = (0, 0);
    let mut star = None;
    while t < text.len() {
        match pattern.get(p) {
            Some('*') => {
                star = Some((p + 1, t));
                p += 1;
            }
            Some(&c) if c == '?' || c == text[t] => {
                p += 1;
                t += 1;
            }
            _ => match star {
                Some((after, taken)) => {
                    star = Some((after, taken + 1));
                    p = after;
                    t = taken + 1;
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|&c| c == '*')
}

/// The same for paths: a pattern may leave out folders at the beginning.
fn matches_path(pattern: &str, path: &str) -> bool {
    let starts = std::iter::once(0).chain(path.match_indices('/').map(|(at, _)| at + 1));
    starts.into_iter().any(|start| matches(pattern, &path[start..]))
}

/// The lines of a source text that its comments leave out: `not covered:` and a reason takes out its
/// own line, `not covered from here:` and `not covered up to here` everything between them, these
/// lines included.
///
/// ```
/// use weltblick_core::measure::coverage::left_out;
/// let text = "int x;\n/* not covered from here: only on real hardware */\nf();\n\
///             // not covered up to here\ng(); // not covered: cannot happen\n";
/// assert_eq!(left_out(text), [2..5, 5..6]);
/// ```
#[must_use]
pub fn left_out(text: &str) -> Vec<Range<u32>> {
    let mut ranges = Vec::new();
    let mut open = None;
    let mut number = 0;
    for line in text.lines() {
        number += 1;
        let comment = line.find("//").or_else(|| line.find("/*")).map_or("", |at| &line[at..]);
        if comment.contains("not covered from here:") {
            open.get_or_insert(number);
        } else if comment.contains("not covered up to here") {
            ranges.extend(open.take().map(|start| start..number + 1));
        } else if comment.contains("not covered:") && open.is_none() {
            ranges.push(number..number + 1);
        }
    }
    ranges.extend(open.map(|start| start..number + 1));
    ranges
}

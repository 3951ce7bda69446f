//! The rows of coverage: what is shown and exchanged.

use crate::figure::ObjectionRow;
use schemars::JsonSchema;
use serde::Serialize;

/// How much of something was covered.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema, Default)]
pub struct Part {
    /// How many were.
    pub covered: u64,
    /// How many there are.
    pub total: u64,
    /// The fraction; absent where there are none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<f64>,
    /// Of all code: the true fraction is not less.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share_low: Option<f64>,
    /// Of all code: the true fraction is not more.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share_high: Option<f64>,
}

/// All measures of a piece of code.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema, Default)]
pub struct Measures {
    /// Functions of which any instruction ran.
    pub functions: Part,
    /// Lines of which any instruction ran.
    pub lines: Part,
    /// Instructions that ran.
    pub instructions: Part,
    /// Ways of conditional branches (and, where the trace tells, of instructions in IT blocks) that were gone, two for each; absent where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub branches: Option<Part>,
    /// Calls that ran.
    pub calls: Part,
}

/// How far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Evidence {
    /// `instruction_flow` or `pc_samples`.
    pub basis: String,
    /// What was not seen may have run all the same.
    pub lower_bound: bool,
    /// Instructions that ran, or samples.
    pub observed: u64,
    /// Times that the trace unit's buffer was full.
    pub overflows: u64,
    /// Stretches of the recording that could not be read.
    pub damaged: u64,
    /// Stretches that were not traced by choice.
    pub unwatched: u64,
    /// Contradictions between packets and image.
    pub mismatches: u64,
    /// Instructions in IT blocks that were reached: whether their condition held, the trace does not
    /// tell.
    pub conditional_instructions: u64,
    /// What speaks against the totals, and against which of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// One source file.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct FileRow {
    /// The file; absent for code without line data.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// How much of it was covered.
    #[serde(flatten)]
    pub measures: Measures,
}

/// One function.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct FunctionRow {
    /// Its name.
    pub function: String,
    /// Its source file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line on which it begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// Its address, in hexadecimal.
    pub address: String,
    /// Which build that address is of, from 1; absent where there is only one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build: Option<u64>,
    /// How often its first instruction ran.
    pub entries: u64,
    /// How much of it was covered.
    #[serde(flatten)]
    pub measures: Measures,
}

/// One source line that has code.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LineRow {
    /// The file.
    pub file: String,
    /// The line.
    pub line: u32,
    /// How often it ran: the most of any of its instructions.
    pub executions: u64,
    /// Its instructions that ran.
    pub instructions: Part,
    /// Each of its conditional branches: how often it did not branch, and did.
    pub branches: Vec<[u64; 2]>,
}

/// Code of a function that never ran: all of it, or lines of which no instruction did.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct NeverRow {
    /// The function.
    pub function: String,
    /// The whole function never ran.
    pub whole: bool,
    /// The source file of these lines: of the function, or of what was inlined into it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// First and last lines of each stretch in which nothing ran.
    pub lines: Vec<[u32; 2]>,
    /// How many instructions these lines have.
    pub instructions: u64,
}

/// A branch, or a conditional instruction, that went only one way.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct OneWayRow {
    /// The function.
    pub function: String,
    /// The source file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// The branch's address, in hexadecimal.
    pub address: String,
    /// Which build that address is of, from 1; absent where there is only one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build: Option<u64>,
    /// It is no branch, but another instruction of an IT block: it went the one way where its
    /// condition held, and the other where it did not.
    pub conditional: bool,
    /// How often it branched, or its condition held.
    pub taken: u64,
    /// How often it did not.
    pub not_taken: u64,
}

/// Which code ran.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CoverageReport {
    /// `weltblick/coverage/1`.
    pub schema: String,
    /// How many captures were added up.
    pub captures: u64,
    /// How many builds of the source these were of, in the order in which they were named. Several are
    /// added up by file and line: a line has as many instructions, calls and branches as in the build in
    /// which it is covered best.
    pub builds: u64,
    /// How far to believe it.
    pub evidence: Evidence,
    /// All of it.
    pub total: Measures,
    /// Files, the least covered first.
    pub files: Vec<FileRow>,
    /// Functions, the least covered first.
    pub functions: Vec<FunctionRow>,
    /// Code that never ran, files that are least covered first.
    pub never: Vec<NeverRow>,
    /// Branches that went only one way, in the same order.
    pub one_way: Vec<OneWayRow>,
    /// Every line that has code, by file and line.
    pub lines: Vec<LineRow>,
}

impl Part {
    pub(super) fn of(covered: u64, total: u64) -> Self {
        let share = (total > 0).then(|| covered as f64 / total as f64);
        Self { covered, total, share, ..Self::default() }
    }

    pub(super) fn add(&mut self, ran: bool) {
        *self = Self::of(self.covered + u64::from(ran), self.total + 1);
    }

    pub(super) fn join(&mut self, other: Self) {
        *self = Self::of(self.covered + other.covered, self.total + other.total);
    }
}

impl Measures {
    pub(super) fn join(&mut self, other: &Self) {
        self.functions.join(other.functions);
        self.lines.join(other.lines);
        self.instructions.join(other.instructions);
        self.calls.join(other.calls);
        if let (Some(mine), Some(theirs)) = (&mut self.branches, other.branches) {
            mine.join(theirs);
        }
    }

    /// The least covered first, and among equals the larger.
    pub(super) fn order(&self) -> (u64, std::cmp::Reverse<u64>) {
        let share = self.lines.share.or(self.instructions.share).unwrap_or(1.0);
        ((share * 1e9) as u64, std::cmp::Reverse(self.instructions.total))
    }
}
